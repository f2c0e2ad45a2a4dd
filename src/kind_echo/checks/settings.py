"""The file of limits that a team keeps beside its references: TOML, read into typed rules."""

import fnmatch
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path, PurePosixPath
from typing import Any, NoReturn

from kind_echo.checks.rendering import PluginRender, PluginRenders
from kind_echo.core.registry.errors import BadParameter, Invalid, UnknownMeasure
from kind_echo.core.registry.limits import parse_limit
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import default_limits, find_measure
from kind_echo.core.sensitivity.summary import wanted_size
from kind_echo.core.systems.recognised import SIGNALS
from kind_echo.renderers.plugins.hosting import MOST_BLOCK

_TOP = ("limits", "only", "waiver", "rates_may_differ", "plugin", "sensitivity")
_PLUGIN = ("file", "id", "block", "mode", "compensate", "tail", "render")
_RENDER = ("name", "signal", "values", "preset")
_ONLY = ("paths", "signals", "limits", "rates_may_differ", "reason")
_WAIVER = ("paths", "measures", "until", "reason")
_LIMIT = ("at_most", "at_least", "reason")
_MOST_TAIL = 600.0
_UNLIMITED = Limit()


class BadSettings(Invalid):
    """A file of limits that cannot be used."""

    def __init__(self, path: str, place: str, why: str) -> None:
        self.path, self.place = path, place
        super().__init__(f"{path}: {f'{place}: ' if place else ''}{why}")


@dataclass(frozen=True)
class Rule:
    """Limits for some pairs.

    Attributes:
        paths: patterns of names, of which one must fit; none for all names. A star stands for slashes too.
        signals: kinds of signal, of which the pair must be one; none for all.
        limits: by measure; without bounds where a usual limit does not hold.
        reasons: by measure, where the file gives one.
        rates_may_differ: bring a render of another rate to the reference's; None to leave it as it was.
    """

    paths: tuple[str, ...] = ()
    signals: tuple[str, ...] = ()
    limits: Mapping[str, Limit] = field(default_factory=dict)
    reasons: Mapping[str, str] = field(default_factory=dict)
    rates_may_differ: bool | None = None

    def holds_for(self, name: str, signal: str | None) -> bool:
        """Whether a pair of that name and kind of signal is meant; of no kind yet, by its name alone."""
        return _fits(self.paths, name) and (not self.signals or signal is None or signal in self.signals)


@dataclass(frozen=True)
class Waiver:
    """What a team lives with until a day, that day included; of all measures where none is named."""

    paths: tuple[str, ...]
    measures: tuple[str, ...]
    until: date
    reason: str

    def covers(self, name: str, broken: Iterable[str]) -> bool:
        """Whether all that is broken of a pair is waived, on its last day or before."""
        return _fits(self.paths, name) and (not self.measures or set(broken) <= set(self.measures))


@dataclass(frozen=True)
class Settings:
    """All rules of a file, in its order: a later one wins; and the plug-in that renders, where it names one.

    `wanted` is by fault the size from which one that is planted is to be noticed.
    """

    rules: tuple[Rule, ...] = ()
    waivers: tuple[Waiver, ...] = ()
    plugin: PluginRenders | None = None
    wanted: Mapping[str, float] = field(default_factory=dict)

    def limits_for(self, name: str, signal: str | None) -> dict[str, Limit]:
        """The limits of a pair: the usual ones of integrity and comparison, and what the rules make of them."""
        found = default_limits(("integrity", "compare"))
        for rule in self.rules:
            if rule.holds_for(name, signal):
                found.update(rule.limits)
        # What makes a render unfit is judged without being asked for, unless it is said to have no bounds.
        return {key: one for key, one in found.items() if one != _UNLIMITED or find_measure(key).unfit}

    def own_limits_for(self, name: str, signal: str | None) -> dict[str, Limit]:
        """Those that the file gives itself."""
        return {key: one for rule in self.rules if rule.holds_for(name, signal) for key, one in rule.limits.items()}

    def reasons_for(self, name: str, signal: str | None) -> dict[str, str]:
        """Why limits are what they are, by measure, where the file says so."""
        return {key: why for rule in self.rules if rule.holds_for(name, signal) for key, why in rule.reasons.items()}

    def rates_may_differ(self, name: str) -> bool:
        """Whether a render may have another rate than its reference."""
        told = [rule.rates_may_differ for rule in self.rules if rule.holds_for(name, None)]
        return next((one for one in reversed(told) if one is not None), False)

    def waiver_for(self, name: str, broken: Iterable[str], today: date) -> Waiver | None:
        """The waiver that covers all that is broken; of several the one that holds longest, ended ones too.

        None where there is none.
        """
        broken = tuple(broken)
        found = [one for one in self.waivers if one.covers(name, broken)]
        return max(found, key=lambda one: one.until, default=None)


def read_settings(path: Path) -> Settings:
    """The rules in a file. Raises BadSettings for what is wrong in it, BadParameter for a file that is not there."""
    try:
        text = path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BadParameter("limits", str(path), f"a file that can be read ({error})") from error
    try:
        return _Reader(str(path)).settings(tomllib.loads(text))
    except tomllib.TOMLDecodeError as error:
        raise BadSettings(str(path), "", f"this is no TOML: {error}") from error


class _Reader:
    """Turns what TOML says into rules, and says at which place something is wrong."""

    def __init__(self, path: str) -> None:
        self._path = path

    def settings(self, told: Mapping[str, Any]) -> Settings:
        self._known(told, _TOP, "")
        limits, reasons = self._limits(told.get("limits", {}), "limits")
        rules = [Rule((), (), limits, reasons, self._flag(told, "rates_may_differ", ""))]
        rules += [self._rule(one, f"only[{i}]") for i, one in enumerate(self._tables(told, "only"))]
        waivers = [self._waiver(one, f"waiver[{i}]") for i, one in enumerate(self._tables(told, "waiver"))]
        plugin = self._plugin(told["plugin"]) if "plugin" in told else None
        return Settings(tuple(rules), tuple(waivers), plugin, self._wanted(told.get("sensitivity", {})))

    def _wanted(self, told: object) -> dict[str, float]:
        if not isinstance(told, Mapping):
            self._refuse("sensitivity", "must be a table of faults and sizes")
        try:
            return {key: wanted_size(key, value) for key, value in told.items()}
        except BadParameter as error:
            self._refuse("sensitivity", str(error).rstrip("."))

    def _plugin(self, told: object) -> PluginRenders:
        if not isinstance(told, Mapping):
            self._refuse("plugin", "must be a table")
        self._known(told, _PLUGIN, "plugin")
        block, tail, mode = told.get("block", 512), told.get("tail", 0.0), told.get("mode", "offline")
        if not isinstance(block, int) or not 1 <= block <= MOST_BLOCK:
            self._refuse("plugin.block", f"must be a number of frames from 1 to {MOST_BLOCK}")
        if not isinstance(tail, int | float) or not 0 <= tail <= _MOST_TAIL:
            self._refuse("plugin.tail", f"must be seconds from 0 to {_MOST_TAIL:g}")
        if mode not in ("offline", "real time"):
            self._refuse("plugin.mode", "must be offline or real time")
        compensate = bool(self._flag(told, "compensate", "plugin"))
        listed = [self._render(one, f"plugin.render[{i}]") for i, one in enumerate(self._tables(told, "render"))]
        names = [one.name for one in listed]
        for name in names:
            if names.count(name) > 1:
                self._refuse("plugin.render", f"{name!r} is there twice")
        file, plugin_id = self._text(told, "file", "plugin"), self._text(told, "id", "plugin")
        return PluginRenders(file, plugin_id, block, mode == "offline", compensate, float(tail), tuple(listed))

    def _render(self, told: Mapping[str, Any], place: str) -> PluginRender:
        self._known(told, _RENDER, place)
        name, signal, values = self._text(told, "name", place), told.get("signal"), told.get("values", {})
        parts = PurePosixPath(name).parts
        if not parts or name.startswith("/") or ".." in parts or any(part.startswith(".") for part in parts):
            self._refuse(f"{place}.name", "must be a path in the folder of renders, without an ending")
        if signal is not None and not isinstance(signal, str | Mapping):
            self._refuse(f"{place}.signal", "must be a file, or a table of what is asked of the generator")
        if not isinstance(values, Mapping):
            self._refuse(f"{place}.values", "must be a table of parameters")
        return PluginRender(name, signal, values, self._text(told, "preset", place))

    def _rule(self, told: Mapping[str, Any], place: str) -> Rule:
        self._known(told, _ONLY, place)
        limits, reasons = self._limits(told.get("limits", {}), f"{place}.limits")
        signals = self._texts(told, "signals", place)
        for signal in signals:
            if signal not in SIGNALS:
                self._refuse(f"{place}.signals", f"{signal!r} is none of {', '.join(SIGNALS)}")
        paths = self._texts(told, "paths", place)
        if not paths and not signals:
            self._refuse(place, "says neither which paths nor which signals are meant")
        if isinstance(why := told.get("reason"), str):
            reasons = {key: reasons.get(key, why) for key in limits}
        return Rule(paths, signals, limits, reasons, self._flag(told, "rates_may_differ", place))

    def _waiver(self, told: Mapping[str, Any], place: str) -> Waiver:
        self._known(told, _WAIVER, place)
        until, reason = told.get("until"), told.get("reason")
        if not isinstance(until, date):
            self._refuse(f"{place}.until", "must be the last day on which it holds, as in until = 2027-01-31")
        if not isinstance(reason, str) or not reason.strip():
            self._refuse(f"{place}.reason", "must say why")
        measures = self._texts(told, "measures", place)
        for key in measures:
            self._measure(key, f"{place}.measures")
        # A date with a time is a date too; its day is what counts.
        return Waiver(self._texts(told, "paths", place), measures, date(until.year, until.month, until.day), reason)

    def _limits(self, told: object, place: str) -> tuple[dict[str, Limit], dict[str, str]]:
        if not isinstance(told, Mapping):
            self._refuse(place, "must be a table of measures")
        limits: dict[str, Limit] = {}
        reasons: dict[str, str] = {}
        for key, value in told.items():
            here = f"{place}.{key}"
            self._measure(key, here)
            if isinstance(value, Mapping) and isinstance(value.get("reason"), str):
                reasons[key] = value["reason"]
            limits[key] = self._limit(key, value, here)
        return limits, reasons

    def _limit(self, key: str, value: object, place: str) -> Limit:
        if value is False:
            return _UNLIMITED
        if isinstance(value, str):
            try:
                return parse_limit(f"{key}{value}")[1]
            except Invalid:
                self._refuse(place, f"{value!r} is not of the form '<= NUMBER' or '>= NUMBER'")
        if not isinstance(value, Mapping):
            self._refuse(place, "must be a table with at_most or at_least, a text as '<= -100', or false for no limit")
        self._known(value, _LIMIT, place)
        bounds = {side: value[side] for side in ("at_least", "at_most") if side in value}
        for side, bound in bounds.items():
            if isinstance(bound, bool) or not isinstance(bound, int | float) or bound != bound:
                self._refuse(f"{place}.{side}", "must be a number")
        if not bounds:
            self._refuse(place, "has neither at_most nor at_least")
        least, most = (None if side not in bounds else float(bounds[side]) for side in ("at_least", "at_most"))
        if least is not None and most is not None and least > most:
            self._refuse(place, "at_least is greater than at_most")
        return Limit(least, most)

    def _measure(self, key: str, place: str) -> None:
        try:
            find_measure(key)
        except UnknownMeasure as error:
            self._refuse(place, str(error))

    def _known(self, told: Mapping[str, Any], keys: Iterable[str], place: str) -> None:
        for key in told:
            if key not in keys:
                self._refuse(f"{place}.{key}".lstrip("."), f"is none of {', '.join(keys)}")

    def _tables(self, told: Mapping[str, Any], key: str) -> list[Mapping[str, Any]]:
        found = told.get(key, [])
        if not isinstance(found, list) or not all(isinstance(one, Mapping) for one in found):
            self._refuse(key, f"must be tables, as [[{key}]] begins one")
        return found

    def _texts(self, told: Mapping[str, Any], key: str, place: str) -> tuple[str, ...]:
        found = told.get(key, [])
        if not isinstance(found, list) or not all(isinstance(one, str) for one in found):
            self._refuse(f"{place}.{key}", "must be a list of texts")
        return tuple(found)

    def _text(self, told: Mapping[str, Any], key: str, place: str) -> str:
        found = told.get(key, "")
        if not isinstance(found, str):
            self._refuse(f"{place}.{key}", "must be a text")
        return found

    def _flag(self, told: Mapping[str, Any], key: str, place: str) -> bool | None:
        found = told.get(key)
        if found is not None and not isinstance(found, bool):
            self._refuse(f"{place}.{key}".lstrip("."), "must be true or false")
        return found

    def _refuse(self, place: str, why: str) -> NoReturn:
        raise BadSettings(self._path, place, why)


def _fits(patterns: tuple[str, ...], name: str) -> bool:
    return not patterns or any(fnmatch.fnmatchcase(name, pattern) for pattern in patterns)
