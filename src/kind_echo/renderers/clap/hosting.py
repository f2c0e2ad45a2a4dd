"""A small host: loads one plug-in, sets it, and runs audio through it block by block.

It runs in a process of its own: what a plug-in does to memory, to the terminal or to the clock ends with that.
"""

import functools
import sys
import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from cffi import FFI
from numpy.typing import NDArray

from kind_echo import __version__
from kind_echo.core.registry.errors import KindEchoError
from kind_echo.renderers.clap import abi

Values = Mapping[str, float | int | str]

_TEXT = 256


class HostFailed(KindEchoError):
    """A plug-in could not be loaded, set or run; the reason is told as it is."""


@dataclass(frozen=True)
class PluginParameter:
    """A parameter as the plug-in tells it.

    Attributes:
        name: unique within the plug-in: with its group before it where two have the same.
        text: the default as the plug-in would show it; empty where it does not say.
    """

    id: int
    name: str
    least: float
    greatest: float
    default: float
    stepped: bool
    text: str


@dataclass(frozen=True)
class PluginAbout:
    """What a plug-in says of itself.

    Attributes:
        inputs, outputs: channels of each audio port.
    """

    id: str
    name: str
    version: str
    features: tuple[str, ...]
    inputs: tuple[int, ...]
    outputs: tuple[int, ...]
    parameters: tuple[PluginParameter, ...]
    keeps_state: bool


@functools.cache
def _ffi() -> FFI:
    ffi = FFI()
    ffi.cdef(abi.DECLARATIONS)
    return ffi


class Library:
    """A loaded file of plug-ins. Its functions must not be called after the process has gone on to end."""

    def __init__(self, path: Path) -> None:
        """Load it. Raises HostFailed."""
        self._ffi, self.path = _ffi(), path
        try:
            self._library = self._ffi.dlopen(str(_binary(path)))
            self._entry = self._library.clap_entry
        except (OSError, AttributeError) as error:
            raise HostFailed(f"{path.name} is no plug-in of the CLAP standard that can be loaded: {error}") from error
        if not self._entry.init(str(path).encode()):
            raise HostFailed(f"{path.name} could not be initialised")
        factory = self._entry.get_factory(abi.FACTORY)
        if factory == self._ffi.NULL:
            raise HostFailed(f"{path.name} holds no plug-ins")
        self._factory = self._ffi.cast("clap_plugin_factory_t *", factory)

    def ids(self) -> list[str]:
        """The identifiers of its plug-ins."""
        count = self._factory.get_plugin_count(self._factory)
        found = (self._factory.get_plugin_descriptor(self._factory, index) for index in range(count))
        return [self._text(one.id) for one in found if one != self._ffi.NULL]

    def open(self, plugin_id: str = "") -> "Plugin":
        """A plug-in by its identifier; where none is named, the only one. Raises HostFailed."""
        ids = self.ids()
        if not plugin_id and len(ids) != 1:
            raise HostFailed(f"{self.path.name} holds {len(ids)} plug-ins; name one of {', '.join(ids)}")
        if plugin_id and plugin_id not in ids:
            raise HostFailed(f"{self.path.name} holds no plug-in {plugin_id}, but {', '.join(ids) or 'none'}")
        return Plugin(self._ffi, self._factory, plugin_id or ids[0])

    def _text(self, pointer: Any) -> str:
        return _text(self._ffi, pointer)


class Plugin:
    """One instance."""

    def __init__(self, ffi: FFI, factory: Any, plugin_id: str) -> None:
        """Create and initialise it. Raises HostFailed."""
        self._ffi = ffi
        self._host = _Host(ffi)
        self._plugin = factory.create_plugin(factory, self._host.host, plugin_id.encode())
        if self._plugin == ffi.NULL or not self._plugin.init(self._plugin):
            raise HostFailed(f"{plugin_id} could not be created")
        self._params = self._extension(abi.PARAMS, "clap_plugin_params_t *")
        self._audio_ports = self._extension(abi.PORTS, "clap_plugin_audio_ports_t *")
        self._state = self._extension(abi.STATE, "clap_plugin_state_t *")
        self.id = plugin_id

    def about(self) -> PluginAbout:
        """What it says of itself."""
        told = self._plugin.desc
        features: list[str] = []
        while told.features != self._ffi.NULL and told.features[len(features)] != self._ffi.NULL:
            features.append(_text(self._ffi, told.features[len(features)]))
        return PluginAbout(
            self.id, _text(self._ffi, told.name), _text(self._ffi, told.version), tuple(features),
            self._channels(is_input=True), self._channels(is_input=False), self.parameters(), self._state is not None,
        )  # fmt: skip

    def parameters(self) -> tuple[PluginParameter, ...]:
        """Those that can be set, in the plug-in's order."""
        if self._params is None:
            return ()
        infos = []
        for index in range(self._params.count(self._plugin)):
            info = self._ffi.new("clap_param_info_t *")
            if self._params.get_info(self._plugin, index, info) and not info.flags & (abi.READ_ONLY | abi.HIDDEN):
                infos.append(info)
        names = [_text(self._ffi, info.name) for info in infos]
        return tuple(
            PluginParameter(
                info.id, name if names.count(name) == 1 else f"{_text(self._ffi, info.module)}/{name}",
                info.min_value, info.max_value, info.default_value, bool(info.flags & abi.STEPPED),
                self._shown(info.id, info.default_value),
            )
            for info, name in zip(infos, names, strict=True)
        )  # fmt: skip

    def load_state(self, data: bytes) -> None:
        """Bring it to a state that was saved. Raises HostFailed."""
        if self._state is None:
            raise HostFailed(f"{self.id} keeps no state, so that none can be loaded")
        at = 0

        def read(_: Any, buffer: Any, size: int) -> int:
            nonlocal at
            piece = data[at : at + size]
            self._ffi.memmove(buffer, piece, len(piece))
            at += len(piece)
            return len(piece)

        read_c = self._ffi.callback("int64_t(const clap_istream_t *, void *, uint64_t)", read)

        stream = self._ffi.new("clap_istream_t *", {"ctx": self._ffi.NULL, "read": read_c})
        if not self._state.load(self._plugin, stream):
            raise HostFailed(f"{self.id} refused the state")

    def save_state(self) -> bytes:
        """Its state as it would be kept. Raises HostFailed."""
        if self._state is None:
            raise HostFailed(f"{self.id} keeps no state")
        kept = bytearray()

        def write(_: Any, buffer: Any, size: int) -> int:
            kept.extend(self._ffi.buffer(buffer, size)[:])
            return size

        write_c = self._ffi.callback("int64_t(const clap_ostream_t *, const void *, uint64_t)", write)

        stream = self._ffi.new("clap_ostream_t *", {"ctx": self._ffi.NULL, "write": write_c})
        if not self._state.save(self._plugin, stream):
            raise HostFailed(f"{self.id} saved no state")
        return bytes(kept)

    def chosen(self, values: Values) -> dict[int, float]:
        """Values by the numbers of their parameters; a text is read by the plug-in. Raises HostFailed."""
        known = {one.name: one for one in self.parameters()}
        found = {}
        for name, value in values.items():
            parameter = known.get(name)
            if parameter is None:
                raise HostFailed(f"{self.id} has no parameter {name}, but {', '.join(known) or 'none'}")
            number = self._read(parameter, value) if isinstance(value, str) else float(value)
            if not parameter.least <= number <= parameter.greatest:
                bounds = f"from {parameter.least:g} to {parameter.greatest:g}"
                raise HostFailed(f"{name} is {bounds}, and not {number:g}")
            found[parameter.id] = number
        return found

    def process(
        self, samples: NDArray[np.float32], rate: int, blocks: Sequence[int], values: Values, *, offline: bool
    ) -> tuple[NDArray[np.float32], int]:
        """Run samples through it; what came out, of the same length, and its latency in frames.

        Args:
            samples: shape (frames, channels).
            blocks: frames of one block after the other, over and over.
            values: of parameters by name; set before the first block.
            offline: it may take its time.
        Raises:
            HostFailed: it takes another number of channels, refuses, or says that it failed.
        """
        ports = self._channels(is_input=True), self._channels(is_input=False)
        channels = samples.shape[1]
        if not (ports[0] and ports[1] and ports[0][0] == ports[1][0] == channels):
            raise HostFailed(f"{self.id} takes {_channels_text(*ports)}, and the signal has {channels} channels")
        given = self.chosen(values)
        render = self._extension(abi.RENDER, "clap_plugin_render_t *")
        if render is not None and not render.set(self._plugin, abi.OFFLINE if offline else abi.REAL_TIME):
            raise HostFailed(f"{self.id} refuses to render {'offline' if offline else 'in real time'}")
        if not self._plugin.activate(self._plugin, float(rate), 1, max(blocks)):
            raise HostFailed(f"{self.id} refuses {rate} Hz in blocks of up to {max(blocks)} frames")
        latency = self._number(abi.LATENCY)
        with self._host.on_audio_thread():
            if not self._plugin.start_processing(self._plugin):
                raise HostFailed(f"{self.id} does not start")
            out = self._run(samples, blocks, given, ports)
            self._plugin.stop_processing(self._plugin)
        self._plugin.deactivate(self._plugin)
        return out, latency

    def _run(
        self,
        samples: NDArray[np.float32],
        blocks: Sequence[int],
        given: Mapping[int, float],
        ports: tuple[tuple[int, ...], tuple[int, ...]],
    ) -> NDArray[np.float32]:
        ffi, frames, most = self._ffi, len(samples), max(blocks)
        sides = [[np.zeros((count, most), np.float32) for count in side] for side in ports]
        buffers, kept = zip(*(_buffers(ffi, arrays) for arrays in sides), strict=True)
        events = _Events(ffi, given)
        nothing = _Events(ffi, {})
        out = np.zeros_like(samples)
        at = number = 0
        while at < frames:
            size = min(blocks[number % len(blocks)], frames - at)
            sides[0][0][:, :size] = samples[at : at + size].T
            told = ffi.new("clap_process_t *", {
                "steady_time": at, "frames_count": size, "transport": ffi.NULL,
                "audio_inputs": buffers[0], "audio_outputs": buffers[1],
                "audio_inputs_count": len(ports[0]), "audio_outputs_count": len(ports[1]),
                "in_events": (events if number == 0 else nothing).given, "out_events": nothing.taken,
            })  # fmt: skip
            if self._plugin.process(self._plugin, told) == abi.PROCESS_ERROR:
                raise HostFailed(f"{self.id} says that it failed at {at / max(1, frames):.0%} of the signal")
            out[at : at + size] = sides[1][0][:, :size].T
            at += size
            number += 1
        del kept
        return out

    def _read(self, parameter: PluginParameter, text: str) -> float:
        value = self._ffi.new("double *")
        if self._params.text_to_value(self._plugin, parameter.id, text.encode(), value):
            return float(value[0])
        try:
            return float(text)
        except ValueError:
            raise HostFailed(f"{self.id} does not know what {parameter.name} {text!r} is") from None

    def _shown(self, number: int, value: float) -> str:
        text = self._ffi.new("char[]", _TEXT)
        shown = self._params.value_to_text(self._plugin, number, value, text, _TEXT)
        return _text(self._ffi, text) if shown else ""

    def _channels(self, *, is_input: bool) -> tuple[int, ...]:
        if self._audio_ports is None:
            return ()
        counts = []
        for index in range(self._audio_ports.count(self._plugin, is_input)):
            info = self._ffi.new("clap_audio_port_info_t *")
            if self._audio_ports.get(self._plugin, index, is_input, info):
                counts.append(int(info.channel_count))
        return tuple(counts)

    def _number(self, extension: bytes) -> int:
        found = self._extension(extension, "clap_plugin_number_t *")
        return 0 if found is None else int(found.get(self._plugin))

    def _extension(self, name: bytes, kind: str) -> Any:
        found = self._plugin.get_extension(self._plugin, name)
        return None if found == self._ffi.NULL else self._ffi.cast(kind, found)


class _Host:
    """What a plug-in may ask of its host: who it is, which thread this is, and a place for what it has to say."""

    def __init__(self, ffi: FFI) -> None:
        self._audio = False
        own = threading.get_ident()

        def is_main(_: Any) -> bool:
            return threading.get_ident() == own and not self._audio

        is_main_c = ffi.callback("bool(const clap_host_t *)", is_main)

        def is_audio(_: Any) -> bool:
            return threading.get_ident() == own and self._audio

        is_audio_c = ffi.callback("bool(const clap_host_t *)", is_audio)

        def log(_: Any, severity: int, message: Any) -> None:
            print(f"[{severity}] {_text(ffi, message)}", file=sys.stderr)

        log_c = ffi.callback("void(const clap_host_t *, int32_t, const char *)", log)

        def get_extension(_: Any, name: Any) -> Any:
            return extensions.get(ffi.string(name), ffi.NULL)

        get_extension_c = ffi.callback("const void *(const clap_host_t *, const char *)", get_extension)

        def ignore(_: Any) -> None:
            """It asks to be restarted, run or called back: it is run to the end of the signal as it is."""

        ignore_c = ffi.callback("void(const clap_host_t *)", ignore)

        def ignore_flags(_: Any, flags: int) -> None:
            """Its parameters changed: what was read of them before it ran holds."""

        def ignore_cleared(_: Any, number: int, flags: int) -> None:
            """The same of one of them."""

        rescan_c = ffi.callback("void(const clap_host_t *, uint32_t)", ignore_flags)
        clear_c = ffi.callback("void(const clap_host_t *, uint32_t, uint32_t)", ignore_cleared)
        params = {"rescan": rescan_c, "clear": clear_c, "request_flush": ignore_c}
        threads = {"is_main_thread": is_main_c, "is_audio_thread": is_audio_c}
        extensions = {
            abi.THREADS: ffi.new("clap_host_thread_check_t *", threads),
            abi.LOG: ffi.new("clap_host_log_t *", {"log": log_c}),
            abi.PARAMS: ffi.new("clap_host_params_t *", params),
            # Its latency, tail or state changed: some call this without a look at whether it is there.
            **{
                name: ffi.new("clap_host_changed_t *", {"changed": ignore_c})
                for name in (abi.LATENCY, abi.TAIL, abi.STATE)
            },
        }
        texts = [ffi.new("char[]", text.encode()) for text in ("Kind Echo", "Kind Echo", "", __version__)]
        self.host = ffi.new("clap_host_t *", {
            "clap_version": {"major": 1, "minor": 1, "revision": 10}, "host_data": ffi.NULL,
            "name": texts[0], "vendor": texts[1], "url": texts[2], "version": texts[3],
            "get_extension": get_extension_c,
            "request_restart": ignore_c, "request_process": ignore_c, "request_callback": ignore_c,
        })  # fmt: skip
        # What C holds pointers to must live as long as the host does.
        self._kept = (is_main_c, is_audio_c, log_c, get_extension_c, ignore_c, extensions, texts, rescan_c, clear_c)

    @contextmanager
    def on_audio_thread(self) -> Iterator[None]:
        """This thread is the one of audio until the block ends."""
        self._audio = True
        try:
            yield
        finally:
            self._audio = False


class _Events:
    """Lists of events: parameters that are set, and a place where what the plug-in sends is dropped."""

    def __init__(self, ffi: FFI, values: Mapping[int, float]) -> None:
        events = [
            ffi.new("clap_event_param_value_t *", {
                "header": {"size": ffi.sizeof("clap_event_param_value_t"), "time": 0, "space_id": 0,
                           "type": abi.PARAM_VALUE, "flags": 0},
                "param_id": number, "cookie": ffi.NULL, "note_id": -1, "port_index": -1, "channel": -1, "key": -1,
                "value": value,
            })
            for number, value in values.items()
        ]  # fmt: skip

        def size(_: Any) -> int:
            return len(events)

        size_c = ffi.callback("uint32_t(const clap_input_events_t *)", size)

        def get(_: Any, index: int) -> Any:
            return ffi.cast("clap_event_header_t *", events[index]) if index < len(events) else ffi.NULL

        get_c = ffi.callback("const clap_event_header_t *(const clap_input_events_t *, uint32_t)", get)

        def drop(_: Any, event: Any) -> bool:
            return True

        drop_c = ffi.callback("bool(const clap_output_events_t *, const clap_event_header_t *)", drop)

        self.given = ffi.new("clap_input_events_t *", {"ctx": ffi.NULL, "size": size_c, "get": get_c})
        self.taken = ffi.new("clap_output_events_t *", {"ctx": ffi.NULL, "try_push": drop_c})
        self._kept = events, size_c, get_c, drop_c


def _buffers(ffi: FFI, arrays: Sequence[NDArray[np.float32]]) -> tuple[Any, list[Any]]:
    """The buffers of some ports as C has them, and what must live as long as they do."""
    buffers = ffi.new("clap_audio_buffer_t[]", max(1, len(arrays)))
    kept: list[Any] = []
    for buffer, array in zip(buffers, arrays, strict=False):
        pointers = ffi.new("float *[]", [ffi.cast("float *", ffi.from_buffer(channel)) for channel in array])
        buffer.data32, buffer.data64, buffer.channel_count = pointers, ffi.NULL, len(array)
        buffer.latency, buffer.constant_mask = 0, 0
        kept += [pointers, array]
    return buffers, kept


def _binary(path: Path) -> Path:
    """The library itself: on macOS a plug-in is a folder that holds it."""
    inner = path / "Contents" / "MacOS" / path.stem
    return inner if path.is_dir() and inner.exists() else path


def _channels_text(inputs: Sequence[int], outputs: Sequence[int]) -> str:
    return f"{' and '.join(map(str, inputs)) or 'no'} channels in and {' and '.join(map(str, outputs)) or 'no'} out"


def _text(ffi: FFI, pointer: Any) -> str:
    return "" if pointer == ffi.NULL else str(ffi.string(pointer).decode("utf-8", "replace"))
