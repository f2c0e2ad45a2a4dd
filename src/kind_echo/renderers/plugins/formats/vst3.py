"""Plug-ins of the VST3 standard, and Audio Units on macOS, through the library pedalboard.

It is an extra of its own, for its licence is the GPL, version 3; it is loaded only in the process that a plug-in runs
in. It takes off the latency by itself, holds no flag for real time, and sets parameters from 0 to 1.
"""

import functools
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from kind_echo.renderers.plugins.formats.normalised import Scale
from kind_echo.renderers.plugins.model import (
    Block,
    Change,
    HostFailed,
    PluginAbout,
    PluginParameter,
    Setup,
    distinct_names,
)

_LOADING_SECONDS = 20.0
_TRIED_CHANNELS = (1, 2)
_TRIED_RATE, _TRIED_FRAMES = 48_000.0, 64
_BYPASS = "bypass"
_STATES = (b"VST3", b"VC2!")  # of the standard's presets, and of what the host library saves where it makes none

_KEPT: list[Any] = []
"""Every instance, until the process ends: some plug-ins crash when they are taken down."""


class Vst3Library:
    """A file of plug-ins."""

    def __init__(self, path: Path, kind: str = "VST3Plugin") -> None:
        """Look into it. Raises HostFailed."""
        try:
            import pedalboard
        except ImportError as error:
            raise HostFailed(f"{path.name} needs the extra vst3 of this package, which is not installed") from error
        self.path = path
        self._kind: Any = getattr(pedalboard, kind, None)
        if self._kind is None:
            raise HostFailed(f"{path.name} is of a standard that {sys.platform} does not have")
        # The library would ask for a thousand texts of each parameter when it loads a plug-in: minutes with some.
        self._kind.__set_initial_parameter_values__ = lambda *_: None
        try:
            self._names = list(self._kind.get_plugin_names_for_file(str(path)))
        except Exception as error:  # the library raises what it finds
            raise HostFailed(f"{path.name} holds no plug-in that can be loaded: {_words(error)}") from error

    def ids(self) -> list[str]:
        """The identifiers of its plug-ins: name, and the number of their class."""
        return list(self._by_id())

    def open(self, plugin_id: str) -> "Vst3Instance":
        """A new instance. Raises HostFailed."""
        return Vst3Instance(self._load(self._by_id()[plugin_id]), plugin_id)

    @functools.cache  # noqa: B019 (a library lives as long as its process)
    def _by_id(self) -> dict[str, str]:
        return {_identifier(self._load(name)): name for name in self._names}

    def _load(self, name: str) -> Any:
        try:
            made = self._kind(str(self.path), plugin_name=name, initialization_timeout=_LOADING_SECONDS)
        except Exception as error:
            raise HostFailed(f"{name} in {self.path.name} could not be loaded: {_words(error)}") from error
        _KEPT.append(made)
        return made


class Vst3Instance:
    """One instance. Parameters are set between blocks."""

    exact = False
    takes_off_latency = True
    wrote_input: bool | None = None

    def __init__(self, plugin: Any, plugin_id: str) -> None:
        self._plugin, self.id = plugin, plugin_id
        self._setup: Setup | None = None
        automatable = [(index, one.name.strip()) for index, one in enumerate(plugin._parameters) if one.is_automatable]
        names = distinct_names([name for _, name in automatable], [""] * len(automatable))
        self._places = {name: index for name, (index, _) in zip(names, automatable, strict=True)}
        self._scales: dict[str, Scale] = {}

    @functools.cache  # noqa: B019 (an instance lives as long as its process)
    def about(self) -> PluginAbout:
        """What it says of itself; how many channels it takes is tried."""
        channels = self._channels()
        features = tuple(filter(None, str(self._plugin.category).split("|")))
        ports = channels[-1:]
        return PluginAbout(
            self.id, str(self._plugin.name), str(self._plugin.version), features, ports, ports, channels,
            tuple(self._told(name) for name in self._places), True,
        )  # fmt: skip

    def read(self, parameter: PluginParameter, text: str) -> float | None:
        """The value that a text means; None where the plug-in, asked for the text of it, says another."""
        own = self._parameter(parameter.name)
        position = float(own.get_raw_value_for_text(text))
        return self._scale(parameter.name).plain(position) if own.get_text_for_raw_value(position) == text else None

    def load_state(self, data: bytes) -> None:
        """Bring it to a state: a file of a preset as the standard has it, or what `save_state` gave."""
        if not data.startswith(_STATES):
            raise HostFailed(f"{self.id} refused the state: it begins as no preset and no saved state does")
        try:
            if data[:4] == b"VST3":
                self._plugin.preset_data = data
            else:
                self._plugin.raw_state = data
        except Exception as error:
            raise HostFailed(f"{self.id} refused the state: {_words(error)}") from error

    def save_state(self) -> bytes:
        """Its state as it would be kept: a preset of the standard where it gives one."""
        preset = getattr(self._plugin, "preset_data", b"")
        return bytes(preset or self._plugin.raw_state)

    def start(self, setup: Setup) -> None:
        """Make it ready. Raises HostFailed: it takes another number of channels."""
        about = self.about()
        if setup.channels not in about.channels:
            takes = " or ".join(map(str, about.channels)) or "no"
            raise HostFailed(f"{self.id} takes {takes} channels, and the signal has {setup.channels} channels")
        if setup.double:
            raise HostFailed(f"{self.id} is run with samples of 32 bits only")
        if not setup.offline:
            raise HostFailed(f"{self.id} is run offline only: the host library has no other way")
        self._setup = setup
        self.reset()

    def process(self, block: Block, changes: Sequence[Change]) -> Block:
        """What comes out of a block: shorter, as long as the latency is being taken off."""
        assert self._setup is not None
        for change in changes:
            self._parameter(change.key).raw_value = self._scale(change.key).position(change.value)
        try:
            # The size is that of the largest block: another one would make the plug-in begin anew.
            out: Block = self._plugin.process(block, float(self._setup.rate), self._setup.most, reset=False)
        except Exception as error:
            raise HostFailed(f"{self.id} failed: {_words(error)}") from error
        return out.reshape(len(block), -1)

    def reset(self) -> None:
        """Forget all that was processed; parameters stay."""
        self._plugin.reset()

    def latency(self) -> int:
        """Frames that it says it is late by."""
        return int(self._plugin.reported_latency_samples)

    def tail(self) -> int | None:
        """Never told by the host library."""
        return None

    def stop(self) -> None:
        """End processing."""

    def _channels(self) -> tuple[int, ...]:
        found = []
        for count in _TRIED_CHANNELS:
            try:
                self._plugin.process(np.zeros((count, _TRIED_FRAMES), np.float32), _TRIED_RATE, _TRIED_FRAMES)
            except ValueError:
                continue
            found.append(count)
        return tuple(found)

    def _told(self, name: str) -> PluginParameter:
        own, scale = self._parameter(name), self._scale(name)
        position = float(own.raw_value)
        return PluginParameter(
            name, name, scale.least, scale.greatest, min(scale.greatest, max(scale.least, scale.plain(position))),
            scale.steps is not None, str(own.get_text_for_raw_value(position)),
            unit=str(own.label).strip() or scale.unit, choices=scale.choices,
            bypass=scale.greatest if name.lower() == _BYPASS else None,
        )  # fmt: skip

    def _scale(self, name: str) -> Scale:
        if name not in self._scales:
            own = self._parameter(name)
            steps = int(own.num_steps) if own.is_discrete else None
            self._scales[name] = Scale(
                lambda position: str(self._parameter(name).get_text_for_raw_value(position)), steps
            )
        return self._scales[name]

    def _parameter(self, name: str) -> Any:
        """Taken anew each time: the library may have loaded the plug-in again meanwhile, and the old one is gone."""
        return self._plugin._parameters[self._places[name]]


def audio_unit_library(path: Path) -> Vst3Library:
    """A file of Audio Units. Raises HostFailed."""
    return Vst3Library(path, "AudioUnitPlugin")


def _identifier(plugin: Any) -> str:
    """Name and class: the library's own identifier holds the place of the file as well."""
    return f"{plugin.name}-{str(plugin.identifier).rpartition('-')[2]}"


def _words(error: Exception) -> str:
    return " ".join(str(error).split()) or type(error).__name__
