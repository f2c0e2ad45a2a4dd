"""What a plug-in of the LV2 standard is given of its host."""

from typing import Any

from cffi import FFI

from kind_echo.renderers.plugins.formats import lv2_abi as abi

OFFERED = {abi.MAP, abi.UNMAP, abi.OPTIONS, abi.WORK, f"{abi.BUFFERS}boundedBlockLength",
           f"{abi.STATE}loadDefaultState"}  # fmt: skip
"""Features that are given."""

HARMLESS = {f"{abi.CORE}{name}" for name in ("hardRTCapable", "isLive", "inPlaceBroken")}
"""Features that say something of the plug-in, and ask for nothing."""


class Features:
    """What a plug-in is given of its host: numbers for names, sizes of blocks, and work that is done at once."""

    def __init__(self, ffi: FFI) -> None:
        self._ffi = ffi
        self._numbers: dict[str, int] = {}
        self._texts: list[Any] = []
        self._instance: Any = None
        self._worker: Any = None
        self._answers: list[bytes] = []
        self.most = 1

        def number(_: Any, uri: Any) -> int:
            return self.number(text_of(ffi, uri))

        def text(_: Any, urid: int) -> Any:
            return self._texts[urid - 1] if 0 < urid <= len(self._texts) else ffi.NULL

        def answer(_: Any, size: int, data: Any) -> int:
            self._answers.append(bytes(ffi.buffer(data, size)[:]) if size else b"")
            return 0

        answer_c = ffi.callback("uint32_t(void *, uint32_t, const void *)", answer)

        def work(_: Any, size: int, data: Any) -> int:
            if self._worker is None:
                return 1
            return int(self._worker.work(self._instance.lv2_handle, answer_c, ffi.NULL, size, data))

        number_c = ffi.callback("LV2_URID(void *, const char *)", number)
        text_c = ffi.callback("const char *(void *, LV2_URID)", text)
        work_c = ffi.callback("uint32_t(void *, uint32_t, const void *)", work)
        self.map = ffi.new("LV2_URID_Map *", {"handle": ffi.NULL, "map": number_c})
        self.unmap = ffi.new("LV2_URID_Unmap *", {"handle": ffi.NULL, "unmap": text_c})
        self._schedule = ffi.new("LV2_Worker_Schedule *", {"handle": ffi.NULL, "schedule_work": work_c})
        self._kept: list[Any] = [number_c, text_c, work_c, answer_c]

    @property
    def listed(self) -> Any:
        """The features as C has them, with the sizes of blocks as they are now."""
        ffi = self._ffi
        sizes = [ffi.new("int32_t *", size) for size in (1, self.most, self.most)]
        names = ("minBlockLength", "maxBlockLength", "nominalBlockLength")
        whole = self.number(f"{abi.ATOM}Int")
        options = ffi.new("LV2_Options_Option[]", len(names) + 1)
        for option, name, size in zip(options, names, sizes, strict=False):
            option.key, option.size, option.type, option.value = self.number(f"{abi.BUFFERS}{name}"), 4, whole, size
        given = {
            abi.MAP: self.map, abi.UNMAP: self.unmap, abi.OPTIONS: options, abi.WORK: self._schedule,
            f"{abi.BUFFERS}boundedBlockLength": ffi.NULL, f"{abi.STATE}loadDefaultState": ffi.NULL,
        }  # fmt: skip
        uris = [ffi.new("char[]", uri.encode()) for uri in given]
        features = [
            ffi.new("LV2_Feature *", {"URI": uri, "data": data}) for uri, data in zip(uris, given.values(), strict=True)
        ]
        listed = ffi.new("LV2_Feature *[]", [*features, ffi.NULL])
        self._kept += [sizes, options, uris, features, listed]
        return ffi.cast("const LV2_Feature *const *", listed)

    def number(self, uri: str) -> int:
        """The number of a name, the same as long as this process lives."""
        if uri not in self._numbers:
            self._texts.append(self._ffi.new("char[]", uri.encode()))
            self._numbers[uri] = len(self._texts)
        return self._numbers[uri]

    def attach(self, instance: Any) -> None:
        """Do the work of this instance."""
        self._instance = instance
        function = instance.lv2_descriptor.extension_data
        found = self._ffi.NULL if function == self._ffi.NULL else function(abi.WORKER.encode())
        self._worker = None if found == self._ffi.NULL else self._ffi.cast("const LV2_Worker_Interface *", found)

    def finish(self, instance: Any) -> None:
        """Hand over what came of work in the last block."""
        if self._worker is None:
            return
        for answer in self._answers:
            if self._worker.work_response != self._ffi.NULL:
                self._worker.work_response(instance.lv2_handle, len(answer), self._ffi.from_buffer(answer or b"\0"))
        self._answers.clear()
        if self._worker.end_run != self._ffi.NULL:
            self._worker.end_run(instance.lv2_handle)


def text_of(ffi: FFI, pointer: Any) -> str:
    """A text of C."""
    return "" if pointer == ffi.NULL else str(ffi.string(pointer).decode("utf-8", "replace"))
