"""A first file of limits from what a check finds, and the schema by which editors complete it."""

import json
from collections.abc import Sequence

from kind_echo.checks.judging import Checked
from kind_echo.core.registry.measures import MEASURES, default_limits
from kind_echo.core.registry.numbers import number
from kind_echo.core.systems.recognised import SIGNALS
from kind_echo.wording.figures import limit_text

SCHEMA_NAME = "kind-echo.schema.json"

_HEAD = """#:schema {schema}
# Limits of `kind-echo check`. The usual limits, which hold where nothing else is said:
{usual}
#
# A limit is {{ at_most = NUMBER }}, {{ at_least = NUMBER }} or both, with a reason if you like; false takes it away.

[limits]
# residual_rms = {{ at_most = -100, reason = "dither of a 16-bit file" }}
# true_peak = {{ at_most = -1 }}
"""
_FEET = """
# Limits for some files alone; a later table wins.
# [[only]]
# paths = ["music/*"]          # a star stands for slashes too
# signals = ["sweep"]          # {signals}
# rates_may_differ = true      # bring a render of another rate to the reference's
# limits = {{ residual_rms = {{ at_most = -80 }} }}
# reason = "the band limit of the converter"

# What the team lives with until a day, that day included.
# [[waiver]]
# paths = ["music/choir.wav"]
# measures = ["clicks"]
# until = 2027-01-31
# reason = "known, mended in the next release"
"""


def proposed_text(checked: Sequence[Checked]) -> str:
    """A file of limits: the usual ones named, and beside them what was found of pairs that do not pass."""
    usual = [
        f"#   {key} {_bounds(key)} {MEASURES[key].unit}".rstrip() for key in default_limits(("integrity", "compare"))
    ]
    parts = [_HEAD.format(schema=SCHEMA_NAME, usual="\n".join(usual))]
    for one in checked:
        if one.verdict is None or one.status not in ("fail", "changed", "no reading"):
            continue
        text = "; ".join(filter(None, [one.why, one.causes]))
        parts.append(f"\n# {one.name}: {' '.join(text.split())}")
        loose = [
            _loose(found.reading.measure, found.reading.value)
            for found in one.verdict.found
            if found.reading.value is not None and MEASURES[found.reading.measure].drawing == "number"
        ]
        if loose and one.status == "fail" and not one.verdict.unfit:
            name = json.dumps(one.name, ensure_ascii=False)
            parts += ["# [[only]]", f"# paths = [{name}]", f"# limits = {{ {', '.join(loose)} }}"]
    parts.append(_FEET.format(signals=", ".join(SIGNALS)))
    return "\n".join(parts).replace("\n\n\n", "\n\n")


def schema() -> dict[str, object]:
    """A JSON Schema of a file of limits, with every measure that there is."""
    texts = {"type": "array", "items": {"type": "string"}}
    bounds = {
        "type": "object", "additionalProperties": False, "minProperties": 1,
        "properties": {"at_most": {"type": "number"}, "at_least": {"type": "number"}, "reason": {"type": "string"}},
    }  # fmt: skip
    limit = {"anyOf": [bounds, {"const": False}, {"type": "string", "pattern": r"^\s*(<=|>=)\s*\S+\s*$"}]}
    limits = {
        "type": "object", "additionalProperties": False,
        "properties": {
            key: {**limit, "description": f"{one.title}{f', {one.unit}' if one.unit else ''}. {one.definition}"}
            for key, one in MEASURES.items()
        },
    }  # fmt: skip
    flag = {"type": "boolean"}
    only = {
        "type": "object", "additionalProperties": False,
        "properties": {
            "paths": texts, "signals": {"type": "array", "items": {"enum": list(SIGNALS)}}, "limits": limits,
            "rates_may_differ": flag, "reason": {"type": "string"},
        },
    }  # fmt: skip
    waiver = {
        "type": "object", "additionalProperties": False, "required": ["until", "reason"],
        "properties": {
            "paths": texts, "measures": {"type": "array", "items": {"enum": list(MEASURES)}},
            "until": {"type": "string", "format": "date"}, "reason": {"type": "string", "minLength": 1},
        },
    }  # fmt: skip
    return {
        "$schema": "http://json-schema.org/draft-07/schema#", "title": "Limits of kind-echo check", "type": "object",
        "additionalProperties": False,
        "properties": {
            "limits": limits, "rates_may_differ": flag, "only": {"type": "array", "items": only},
            "waiver": {"type": "array", "items": waiver}, "plugin": _plugin_schema(),
        },
    }  # fmt: skip


def _plugin_schema() -> dict[str, object]:
    text = {"type": "string"}
    render = {
        "type": "object", "additionalProperties": False, "required": ["name"],
        "properties": {
            "name": text, "signal": {"anyOf": [text, {"type": "object", "required": ["kind"]}]},
            "values": {"type": "object"}, "preset": text,
        },
    }  # fmt: skip
    return {
        "type": "object", "additionalProperties": False,
        "properties": {
            "file": text, "id": text, "block": {"type": "integer", "minimum": 1},
            "tail": {"type": "number", "minimum": 0},
            "mode": {"enum": ["offline", "real time"]}, "compensate": {"type": "boolean"},
            "render": {"type": "array", "items": render},
        },
    }  # fmt: skip


def _bounds(key: str) -> str:
    limit = default_limits(("integrity", "compare"))[key]
    return limit_text(limit)


def _loose(key: str, value: float) -> str:
    """A limit that the value just keeps."""
    measure = MEASURES[key]
    limit = measure.limit
    side = "at_least" if limit is not None and limit.at_least is not None and value < limit.at_least else "at_most"
    step = 10.0**-measure.decimals
    text = number(value + (step if side == "at_most" else -step), f".{measure.decimals}f").replace("−", "-")
    return f"{key} = {{ {side} = {text} }}"
