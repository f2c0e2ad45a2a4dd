"""Plug-ins of the CLAP standard: loads one, sets it, and runs audio through it block by block.

It runs in a process of its own: what a plug-in does to memory, to the terminal or to the clock ends with that.
"""

import functools
import sys
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
from cffi import FFI

from kind_echo import __version__
from kind_echo.renderers.plugins.formats import clap_abi as abi
from kind_echo.renderers.plugins.model import (
    Block,
    Change,
    HostFailed,
    PluginAbout,
    PluginParameter,
    Setup,
    channels_text,
    distinct_names,
)

_TEXT = 256


@functools.cache
def _ffi() -> FFI:
    ffi = FFI()
    ffi.cdef(abi.DECLARATIONS)
    return ffi


class ClapLibrary:
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
        return [_text(self._ffi, one.id) for one in found if one != self._ffi.NULL]

    def open(self, plugin_id: str) -> "ClapInstance":
        """A new instance. Raises HostFailed."""
        return ClapInstance(self._ffi, self._factory, plugin_id)


class ClapInstance:
    """One instance. Parameters are set at their frame; what a plug-in has beyond its first ports is fed silence."""

    exact = True
    takes_off_latency = False

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
        self._latency = self._steady = 0
        self._sides: tuple[_Side, _Side] | None = None
        self.wrote_input: bool | None = False

    @functools.cache  # noqa: B019 (an instance lives as long as its process)
    def about(self) -> PluginAbout:
        """What it says of itself."""
        told = self._plugin.desc
        features: list[str] = []
        while told.features != self._ffi.NULL and told.features[len(features)] != self._ffi.NULL:
            features.append(_text(self._ffi, told.features[len(features)]))
        ports = self._channels(is_input=True), self._channels(is_input=False)
        alike = bool(ports[0] and ports[1] and ports[0][0] == ports[1][0])
        return PluginAbout(
            self.id, _text(self._ffi, told.name), _text(self._ffi, told.version), tuple(features),
            ports[0], ports[1], (ports[0][0],) if alike else (), self._parameters(), self._state is not None,
        )  # fmt: skip

    def _parameters(self) -> tuple[PluginParameter, ...]:
        """Those that can be set, in the plug-in's order."""
        if self._params is None:
            return ()
        infos = []
        for index in range(self._params.count(self._plugin)):
            info = self._ffi.new("clap_param_info_t *")
            if self._params.get_info(self._plugin, index, info) and not info.flags & (abi.READ_ONLY | abi.HIDDEN):
                infos.append(info)
        names = distinct_names(
            [_text(self._ffi, info.name) for info in infos], [_text(self._ffi, info.module) for info in infos]
        )
        return tuple(
            PluginParameter(
                str(info.id), name, info.min_value, info.max_value, info.default_value, bool(info.flags & abi.STEPPED),
                self._shown(info.id, info.default_value),
                bypass=info.max_value if info.flags & abi.BYPASS else None,
            )
            for info, name in zip(infos, names, strict=True)
        )  # fmt: skip

    def read(self, parameter: PluginParameter, text: str) -> float | None:
        """The value that a text means; None where the plug-in does not know it."""
        value = self._ffi.new("double *")
        known = self._params.text_to_value(self._plugin, int(parameter.key), text.encode(), value)
        return float(value[0]) if known else None

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

    def start(self, setup: Setup) -> None:
        """Activate it. Raises HostFailed: it takes another number of channels, or refuses the rate or the mode."""
        about = self.about()
        if setup.channels not in about.channels:
            takes = channels_text(about.inputs, about.outputs)
            raise HostFailed(f"{self.id} takes {takes}, and the signal has {setup.channels} channels")
        if setup.double and not (self._takes_double(is_input=True) and self._takes_double(is_input=False)):
            raise HostFailed(f"{self.id} takes samples of 32 bits only")
        render = self._extension(abi.RENDER, "clap_plugin_render_t *")
        if render is not None and not render.set(self._plugin, abi.OFFLINE if setup.offline else abi.REAL_TIME):
            raise HostFailed(f"{self.id} refuses to render {'offline' if setup.offline else 'in real time'}")
        if not self._plugin.activate(self._plugin, float(setup.rate), 1, setup.most):
            raise HostFailed(f"{self.id} refuses {setup.rate} Hz in blocks of up to {setup.most} frames")
        found = self._extension(abi.LATENCY, "clap_plugin_number_t *")
        self._latency = 0 if found is None else int(found.get(self._plugin))
        self._sides = (
            _Side(self._ffi, about.inputs, setup.most, double=setup.double),
            _Side(self._ffi, about.outputs, setup.most, double=setup.double),
        )
        self._steady = 0
        with self._host.on_audio_thread():
            if not self._plugin.start_processing(self._plugin):
                raise HostFailed(f"{self.id} does not start")

    def process(self, block: Block, changes: Sequence[Change]) -> Block:
        """What comes out of a block; the array is used again. Raises HostFailed: it says that it failed."""
        assert self._sides is not None
        inputs, outputs = self._sides
        size = block.shape[1]
        inputs.arrays[0][:, :size] = block
        events = _Events(self._ffi, changes) if changes else _no_events(self._ffi)
        told = self._ffi.new("clap_process_t *", {
            "steady_time": self._steady, "frames_count": size, "transport": self._ffi.NULL,
            "audio_inputs": inputs.buffers, "audio_outputs": outputs.buffers,
            "audio_inputs_count": len(inputs.arrays), "audio_outputs_count": len(outputs.arrays),
            "in_events": events.given, "out_events": events.taken,
        })  # fmt: skip
        with self._host.on_audio_thread():
            if self._plugin.process(self._plugin, told) == abi.PROCESS_ERROR:
                raise HostFailed(f"{self.id} says that it failed")
        unchanged = np.array_equal(inputs.arrays[0][:, :size], block, equal_nan=True)
        self.wrote_input = self.wrote_input or not unchanged
        self._steady += size
        out: Block = outputs.arrays[0][:, :size]
        return out

    def reset(self) -> None:
        """Forget all that was processed; parameters stay."""
        with self._host.on_audio_thread():
            self._plugin.reset(self._plugin)

    def latency(self) -> int:
        """Frames that it says it is late by."""
        return self._latency

    def tail(self) -> int | None:
        """Frames for which it says it rings on; None where it does not tell, or rings for ever."""
        found = self._extension(abi.TAIL, "clap_plugin_number_t *")
        frames = None if found is None else int(found.get(self._plugin))
        return None if frames is None or frames >= abi.ENDLESS_TAIL else frames

    def stop(self) -> None:
        """Deactivate it."""
        with self._host.on_audio_thread():
            self._plugin.stop_processing(self._plugin)
        self._plugin.deactivate(self._plugin)

    def _shown(self, number: int, value: float) -> str:
        text = self._ffi.new("char[]", _TEXT)
        shown = self._params.value_to_text(self._plugin, number, value, text, _TEXT)
        return _text(self._ffi, text) if shown else ""

    def _channels(self, *, is_input: bool) -> tuple[int, ...]:
        return tuple(int(info.channel_count) for info in self._ports(is_input=is_input))

    def _takes_double(self, *, is_input: bool) -> bool:
        return all(info.flags & abi.TAKES_DOUBLE for info in self._ports(is_input=is_input))

    def _ports(self, *, is_input: bool) -> list[Any]:
        found = []
        for index in range(0 if self._audio_ports is None else self._audio_ports.count(self._plugin, is_input)):
            info = self._ffi.new("clap_audio_port_info_t *")
            if self._audio_ports.get(self._plugin, index, is_input, info):
                found.append(info)
        return found

    def _extension(self, name: bytes, kind: str) -> Any:
        found = self._plugin.get_extension(self._plugin, name)
        return None if found == self._ffi.NULL else self._ffi.cast(kind, found)


class _Side:
    """The buffers of all ports of one direction, as arrays and as C has them."""

    def __init__(self, ffi: FFI, ports: Sequence[int], most: int, *, double: bool) -> None:
        kind, name = (np.float64, "double") if double else (np.float32, "float")
        self.arrays: list[Any] = [np.zeros((count, most), kind) for count in ports]
        self.buffers = ffi.new("clap_audio_buffer_t[]", max(1, len(ports)))
        self._kept = []
        for buffer, array in zip(self.buffers, self.arrays, strict=False):
            pointers = ffi.new(f"{name} *[]", [ffi.cast(f"{name} *", ffi.from_buffer(channel)) for channel in array])
            buffer.data32, buffer.data64 = (ffi.NULL, pointers) if double else (pointers, ffi.NULL)
            buffer.channel_count, buffer.latency, buffer.constant_mask = len(array), 0, 0
            self._kept.append(pointers)


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

    def __init__(self, ffi: FFI, changes: Sequence[Change]) -> None:
        events = [
            ffi.new("clap_event_param_value_t *", {
                "header": {"size": ffi.sizeof("clap_event_param_value_t"), "time": change.frame, "space_id": 0,
                           "type": abi.PARAM_VALUE, "flags": 0},
                "param_id": int(change.key), "cookie": ffi.NULL, "value": change.value,
                "note_id": -1, "port_index": -1, "channel": -1, "key": -1,
            })
            for change in changes
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


@functools.cache
def _no_events(ffi: FFI) -> _Events:
    return _Events(ffi, ())


def _binary(path: Path) -> Path:
    """The library itself: on macOS a plug-in is a folder that holds it."""
    inner = path / "Contents" / "MacOS" / path.stem
    return inner if path.is_dir() and inner.exists() else path


def _text(ffi: FFI, pointer: Any) -> str:
    return "" if pointer == ffi.NULL else str(ffi.string(pointer).decode("utf-8", "replace"))
