"""Plug-ins of the LV2 standard, in blocks, through the library lilv of the system.

A bundle is loaded by its path, so that two builds of one plug-in lie side by side. Control ports are set between
blocks.
"""

import functools
import sys
import tempfile
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from cffi import FFI

from kind_echo.renderers.plugins.formats import lv2_abi as abi
from kind_echo.renderers.plugins.formats.lv2_features import HARMLESS, OFFERED, Features, text_of
from kind_echo.renderers.plugins.formats.lv2_ports import KINDS, Port, parameter_of
from kind_echo.renderers.plugins.model import (
    Block,
    Change,
    HostFailed,
    PluginAbout,
    PluginParameter,
    Setup,
    channels_text,
)

_DESCRIBING_RATE = 48_000
_EVENT_BYTES = 1 << 16
_PORTABLE_STATE = 3  # flags of the standard: plain data, that holds on another machine too


@functools.cache
def _lilv() -> tuple[FFI, Any]:
    """The library. Raises HostFailed where the system has none."""
    ffi = FFI()
    ffi.cdef(abi.DECLARATIONS)
    for name in abi.NAMES:
        try:
            return ffi, ffi.dlopen(name)
        except OSError:
            continue
    raise HostFailed("plug-ins of the LV2 standard need the library lilv (Debian's liblilv-0-0), which is not here")


class Lv2Library:
    """A bundle: a folder of plug-ins."""

    def __init__(self, path: Path) -> None:
        """Load it. Raises HostFailed."""
        self._ffi, self._lib = _lilv()
        self.path = path.absolute()
        self._world = self._lib.lilv_world_new()
        address = self._lib.lilv_new_file_uri(self._world, self._ffi.NULL, f"{self.path}/".encode())
        self._lib.lilv_world_load_bundle(self._world, address)
        self._plugins = self._lib.lilv_world_get_all_plugins(self._world)
        if not self.ids():
            raise HostFailed(f"{path.name} is no bundle of the LV2 standard that holds a plug-in")

    def ids(self) -> list[str]:
        """The identifiers of its plug-ins."""
        found = _each(self._lib, "plugins", self._plugins)
        return sorted(
            text_of(self._ffi, self._lib.lilv_node_as_uri(self._lib.lilv_plugin_get_uri(one))) for one in found
        )

    def open(self, plugin_id: str) -> "Lv2Instance":
        """A new instance. Raises HostFailed."""
        uri = self._lib.lilv_new_uri(self._world, plugin_id.encode())
        return Lv2Instance(self._world, self._lib.lilv_plugins_get_by_uri(self._plugins, uri), plugin_id)


class Lv2Instance:
    """One instance; it is made anew for the rate that it is started with."""

    exact = False
    takes_off_latency = False

    def __init__(self, world: Any, plugin: Any, plugin_id: str) -> None:
        """Read what it is. Raises HostFailed: it needs what no host of ours has."""
        self._ffi, self._lib = _lilv()
        self._world, self._plugin, self.id = world, plugin, plugin_id
        self.wrote_input: bool | None = False
        self._ports = [self._port(index) for index in range(self._lib.lilv_plugin_get_num_ports(plugin))]
        self._values = {port.symbol: port.default for port in self._ports if port.kind == "control"}
        self._state: bytes | None = None
        self._features = Features(self._ffi)
        self._instance: Any = None
        needs = {
            text_of(self._ffi, self._lib.lilv_node_as_string(node))
            for node in _each(self._lib, "nodes", self._lib.lilv_plugin_get_required_features(plugin))
        }
        missing = sorted(needs - OFFERED - HARMLESS)
        if missing:
            raise HostFailed(f"{plugin_id} needs {', '.join(missing)}, which this host does not have")
        binary = self._lib.lilv_plugin_get_library_uri(plugin)
        if binary == self._ffi.NULL:
            raise HostFailed(f"{plugin_id} names no binary")

    @functools.cache  # noqa: B019 (an instance lives as long as its process)
    def about(self) -> PluginAbout:
        """What it says of itself."""
        inputs = sum(port.kind == "audio" and port.is_input for port in self._ports)
        outputs = sum(port.kind == "audio" and not port.is_input for port in self._ports)
        sides = (sum(port.kind == "side" for port in self._ports),)
        ports = ((inputs,) if inputs else ()) + (sides if sides[0] else ()), (outputs,) if outputs else ()
        name = self._string(self._lib.lilv_plugin_get_name(self._plugin))
        controls = [p for p in self._ports if p.kind == "control" and p.is_input and p.role != "freeWheeling"]
        return PluginAbout(
            self.id, name or self.id, self._version(), (), *ports, (inputs,) if inputs and inputs == outputs else (),
            tuple(parameter_of(port) for port in controls), True,
        )  # fmt: skip

    def read(self, parameter: PluginParameter, text: str) -> float | None:
        """The value of the point of its scale that has that label."""
        port = next(port for port in self._ports if port.symbol == parameter.key)
        return dict(port.points).get(text)

    def load_state(self, data: bytes) -> None:
        """Bring it to a state in Turtle. Raises HostFailed."""
        with tempfile.TemporaryDirectory(prefix="kind-echo-state-") as folder:
            path = Path(folder) / "state.ttl"
            path.write_bytes(data)
            state = self._state_in(path)
            self._restore(state)
        self._state = data

    def save_state(self) -> bytes:
        """Its state in Turtle, with the values of its control ports. Raises HostFailed."""
        self._need_instance(_DESCRIBING_RATE)
        lib, ffi, features = self._lib, self._ffi, self._features

        def get(symbol: Any, _: Any, size: Any, kind: Any) -> Any:
            value = self._controls.get(text_of(ffi, symbol))
            size[0], kind[0] = (0, 0) if value is None else (4, features.number(f"{abi.ATOM}Float"))
            return ffi.NULL if value is None else value

        get_c = ffi.callback("const void *(const char *, void *, uint32_t *, uint32_t *)", get)

        none = ffi.NULL
        with tempfile.TemporaryDirectory(prefix="kind-echo-state-") as folder:
            state = lib.lilv_state_new_from_instance(
                self._plugin, self._instance, features.map, none, none, none, none, get_c, none, _PORTABLE_STATE,
                features.listed,
            )  # fmt: skip
            saved = state != none and not lib.lilv_state_save(
                self._world, features.map, features.unmap, state, none, folder.encode(), b"state.ttl"
            )
            if not saved:
                raise HostFailed(f"{self.id} saved no state")
            return (Path(folder) / "state.ttl").read_bytes()

    def start(self, setup: Setup) -> None:
        """Instantiate and activate it. Raises HostFailed: it takes another number of channels, or 32 bits only."""
        about = self.about()
        if setup.channels not in about.channels:
            takes = channels_text(about.inputs, about.outputs)
            raise HostFailed(f"{self.id} takes {takes}, and the signal has {setup.channels} channels")
        if setup.double:
            raise HostFailed(f"{self.id} takes samples of 32 bits only")
        self._features.most = setup.most
        self._instance = None
        self._need_instance(setup.rate)
        for port in self._ports:
            if port.role == "freeWheeling":
                self._controls[port.symbol][0] = float(setup.offline)
        self._inputs = self._audio(setup.most, is_input=True)
        self._outputs = self._audio(setup.most, is_input=False)
        self._call("activate")

    def process(self, block: Block, changes: Sequence[Change]) -> Block:
        """What comes out of a block; the array is used again."""
        for change in changes:
            self._controls[change.key][0] = self._values[change.key] = change.value
        for events, is_input in self._events:
            events[0].size, events[0].type = (
                (8, self._features.number(f"{abi.ATOM}Sequence"))
                if is_input
                else (_EVENT_BYTES - 8, self._features.number(f"{abi.ATOM}Chunk"))
            )
            events[0].unit = events[0].pad = 0
        size = block.shape[1]
        self._inputs[:, :size] = block
        self._instance.lv2_descriptor.run(self._instance.lv2_handle, size)
        self._features.finish(self._instance)
        self.wrote_input = self.wrote_input or not np.array_equal(self._inputs[:, :size], block, equal_nan=True)
        out: Block = self._outputs[:, :size]
        return out

    def reset(self) -> None:
        """Forget all that was processed, by being deactivated and activated; parameters stay."""
        self._call("deactivate")
        self._call("activate")

    def latency(self) -> int:
        """Frames that it says it is late by, after it has run."""
        if not self._lib.lilv_plugin_has_latency(self._plugin):
            return 0
        index = self._lib.lilv_plugin_get_latency_port_index(self._plugin)
        return round(float(self._controls[self._ports[index].symbol][0]))

    def tail(self) -> int | None:
        """Never told: the standard has nothing for it."""
        return None

    def stop(self) -> None:
        """Deactivate it."""
        self._call("deactivate")

    def _call(self, name: str) -> None:
        function = getattr(self._instance.lv2_descriptor, name)
        if function != self._ffi.NULL:
            function(self._instance.lv2_handle)

    def _need_instance(self, rate: int) -> None:
        if self._instance is not None:
            return
        instance = self._lib.lilv_plugin_instantiate(self._plugin, float(rate), self._features.listed)
        if instance == self._ffi.NULL:
            raise HostFailed(f"{self.id} could not be created for {rate} Hz")
        self._instance = instance
        self._features.attach(instance)
        self._controls: dict[str, Any] = {}
        self._events: list[tuple[Any, bool]] = []
        self._cv: list[Any] = []
        for port in self._ports:
            self._connect(port, self._place(port))
        if self._state is not None:
            self.load_state(self._state)

    def _place(self, port: Port) -> Any:
        """Where a port's values lie, but for audio, which is connected with its size. Raises HostFailed."""
        ffi = self._ffi
        if port.kind == "control":
            self._controls[port.symbol] = ffi.new("float *", self._values[port.symbol])
            return self._controls[port.symbol]
        if port.kind == "events":
            memory = ffi.new("uint64_t[]", _EVENT_BYTES // 8)
            self._events.append((ffi.cast("empty_sequence_t *", memory), port.is_input))
            self._cv.append(memory)
            return memory
        if port.kind in ("cv", "side"):
            self._cv.append(ffi.new("float[]", max(1, self._features.most)))
            return self._cv[-1]
        if port.kind == "other" and not port.optional:
            raise HostFailed(f"{self.id} has a port {port.symbol} of a kind that this host does not know")
        return ffi.NULL

    def _audio(self, most: int, *, is_input: bool) -> Any:
        ports = [port for port in self._ports if port.kind == "audio" and port.is_input == is_input]
        array = np.zeros((len(ports), most), np.float32)
        for port, channel in zip(ports, array, strict=True):
            self._connect(port, self._ffi.cast("float *", self._ffi.from_buffer(channel)))
        return array

    def _connect(self, port: Port, where: Any) -> None:
        self._instance.lv2_descriptor.connect_port(self._instance.lv2_handle, port.index, where)

    def _state_in(self, path: Path) -> Any:
        state = self._lib.lilv_state_new_from_file(self._world, self._features.map, self._ffi.NULL, str(path).encode())
        if state == self._ffi.NULL:
            raise HostFailed(f"{self.id} refused the state")
        meant = self._string(self._lib.lilv_state_get_plugin_uri(state))
        if meant != self.id:
            raise HostFailed(f"{self.id} refused the state, which is one of {meant or 'no plug-in'}")
        return state

    def _restore(self, state: Any) -> None:
        ffi = self._ffi
        self._need_instance(_DESCRIBING_RATE)
        single = self._features.number(f"{abi.ATOM}Float")

        def put(symbol: Any, _: Any, value: Any, size: int, kind: int) -> None:
            name = text_of(ffi, symbol)
            if kind == single and name in self._controls:
                self._controls[name][0] = self._values[name] = float(ffi.cast("const float *", value)[0])

        put_c = ffi.callback("void(const char *, void *, const void *, uint32_t, uint32_t)", put)

        self._lib.lilv_state_restore(state, self._instance, put_c, ffi.NULL, 0, self._features.listed)

    def _version(self) -> str:
        """As `lv2:minorVersion` and `lv2:microVersion` say."""
        numbers = []
        for name in ("minorVersion", "microVersion"):
            values = self._lib.lilv_plugin_get_value(self._plugin, self._uri(f"{abi.CORE}{name}"))
            numbers += [self._string(node) for node in _each(self._lib, "nodes", values)][:1]
        return ".".join(numbers)

    def _port(self, index: int) -> Port:
        lib, ffi, plugin = self._lib, self._ffi, self._plugin
        port = lib.lilv_plugin_get_port_by_index(plugin, index)
        bounds = [ffi.new("LilvNode **") for _ in range(3)]
        lib.lilv_port_get_range(plugin, port, *bounds)
        default, least, greatest = (self._float(one[0]) for one in bounds)

        def has(name: str) -> bool:
            return bool(lib.lilv_port_has_property(plugin, port, self._uri(f"{abi.CORE}{name}")))

        def is_a(uri: str) -> bool:
            return bool(lib.lilv_port_is_a(plugin, port, self._uri(uri)))

        classes = (f"{abi.CORE}AudioPort", f"{abi.CORE}ControlPort", f"{abi.CORE}CVPort", f"{abi.ATOM}AtomPort")
        kind = next((kind for kind, uri in zip(KINDS, classes, strict=False) if is_a(uri)), "other")
        if kind == "audio" and has("isSideChain"):
            kind = "side"
        toggled = has("toggled")
        least = 0.0 if least is None else least
        greatest = 1.0 if greatest is None else greatest
        role = self._string(lib.lilv_port_get(plugin, port, self._uri(f"{abi.CORE}designation"))).rpartition("#")[2]
        points = self._points(port) if has("enumeration") else ()
        return Port(
            index, self._string(lib.lilv_port_get_symbol(plugin, port)),
            self._string(lib.lilv_port_get_name(plugin, port)), kind, is_a(f"{abi.CORE}InputPort"),
            has("connectionOptional"), least, greatest,
            max(least, min(greatest, 0.0)) if default is None else default,
            toggled or has("integer") or bool(points), self._unit(port), points, role,
        )  # fmt: skip

    def _points(self, port: Any) -> tuple[tuple[str, float], ...]:
        lib = self._lib
        points = lib.lilv_port_get_scale_points(self._plugin, port)
        found = _each(lib, "scale_points", points) if points != self._ffi.NULL else ()
        told = [(self._string(lib.lilv_scale_point_get_label(one)), self._float(lib.lilv_scale_point_get_value(one)))
                for one in found]  # fmt: skip
        return tuple(sorted(((label, value) for label, value in told if value is not None), key=lambda one: one[1]))

    def _unit(self, port: Any) -> str:
        name = self._string(self._lib.lilv_port_get(self._plugin, port, self._uri(abi.UNIT))).rpartition("#")[2]
        return abi.UNIT_SYMBOLS.get(name, "")

    def _float(self, node: Any) -> float | None:
        known = node != self._ffi.NULL and (self._lib.lilv_node_is_float(node) or self._lib.lilv_node_is_int(node))
        return float(self._lib.lilv_node_as_float(node)) if known else None

    def _string(self, node: Any) -> str:
        return "" if node == self._ffi.NULL else text_of(self._ffi, self._lib.lilv_node_as_string(node))

    def _uri(self, uri: str) -> Any:
        return self._lib.lilv_new_uri(self._world, uri.encode())


def _each(lib: Any, kind: str, collection: Any) -> Iterator[Any]:
    functions: list[Callable[..., Any]] = [
        getattr(lib, f"lilv_{kind}_{name}") for name in ("begin", "is_end", "get", "next")
    ]
    begin, is_end, get, following = functions
    at = begin(collection)
    while not is_end(collection, at):
        yield get(collection, at)
        at = following(collection, at)


def lv2_is_there() -> bool:
    """Whether this system has the library."""
    if sys.platform == "win32":
        return False
    try:
        _lilv()
    except HostFailed:
        return False
    return True
