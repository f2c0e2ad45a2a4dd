"""A seeded mutator of requests: bodies as the API's document has them, spoiled as clumsy and hostile clients do."""

import json
import random
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

_ODD: list[Any] = [
    None, True, -1, 0, 1, 10**30, -(10**18), 1e308, -0.0, 0.5, "", " ", "x" * 9000, "\x00", "💥", "NaN", "9" * 5000,
    "2026-99-99", "0001-01-01", "../../etc/passwd", "'; DROP TABLE cell; --", [], {}, [[]], [None], {"a": {"b": []}},
]  # fmt: skip
_TEXTS = ("{", "[1,", "nul", '"', "\x00", "[" * 60_000, '{"a":' * 3000, "{}" * 40, "1e999", "NaN", "\ud800", "")


_OWN = ("/api/people/", "/api/me/", "/api/sign-")
"""What may end the session of who asks, or is limited: then nothing else would be tried."""


@dataclass(frozen=True)
class Request:
    """One request; `body` is its bytes."""

    method: str
    path: str
    body: bytes
    content_type: str = "application/json"


def spoiled_requests(document: dict[str, Any], seed: int, count: int) -> Iterator[Request]:
    """So many requests to routes that take JSON, in no order, a tenth of them no JSON at all.

    Args:
        document: the API's OpenAPI document.
    """
    dice = random.Random(seed)
    schemas = document["components"]["schemas"]
    takes = [
        (method.upper(), path, operation["requestBody"]["content"]["application/json"]["schema"])
        for path, operations in document["paths"].items()
        for method, operation in operations.items()
        if "application/json" in operation.get("requestBody", {}).get("content", {}) and not path.startswith(_OWN)
    ]
    for _ in range(count):
        method, path, schema = dice.choice(takes)
        for part in [part for part in path.split("/") if part.startswith("{")]:
            path = path.replace(part, dice.choice(["1", "2", "0", "999999999999", "99999999999999999999", "x"]))
        if dice.random() < 0.1:
            text = dice.choice(_TEXTS).encode("utf-8", "surrogatepass")
            kind = dice.choice(["application/json", "multipart/form-data; boundary=b", "text/plain", "application/xml"])
            yield Request(method, path, text, kind)
            continue
        body = _example(schema, schemas, dice, 0)
        for _ in range(dice.randrange(4)):
            body = _spoiled(body, dice)
        yield Request(method, path, json.dumps(body).encode())


def spoiled_plans(plan: str, seed: int, count: int) -> Iterator[str]:
    """So many texts that began as a plan in YAML: lines and characters are lost, doubled, exchanged and made up."""
    dice = random.Random(seed)
    odd = [
        "&a [*a]",
        "!!python/object:os.system x",
        "? [",
        "- - - -",
        "\t",
        "{" * 300,
        "9" * 900,
        "2026-99-99",
        "~",
        ": :",
    ]
    for _ in range(count):
        lines = plan.splitlines()
        for _ in range(1 + dice.randrange(4)):
            place = dice.randrange(len(lines))
            what = dice.randrange(4)
            if what == 0:
                del lines[place]
            elif what == 1:
                lines.insert(place, dice.choice(lines) * dice.choice([1, 1, 50]))
            elif what == 2:
                lines[place] = lines[place][: dice.randrange(1 + len(lines[place]))] + dice.choice(odd)
            else:
                lines[place] = " " * dice.randrange(9) + lines[place].strip()
            lines = lines or [""]
        yield "\n".join(lines)


def _example(schema: dict[str, Any], schemas: dict[str, Any], dice: random.Random, depth: int) -> Any:
    """Something that fits a schema, mostly."""
    if "$ref" in schema:
        return _example(schemas[schema["$ref"].rsplit("/", 1)[1]], schemas, dice, depth)
    if "enum" in schema:
        return dice.choice(schema["enum"])
    for several in ("anyOf", "oneOf", "allOf"):
        if several in schema:
            return _example(dice.choice(schema[several]), schemas, dice, depth)
    kind = schema.get("type")
    if kind == "object":
        named = schema.get("properties", {})
        wanted = [name for name in named if name in schema.get("required", ()) or dice.random() < 0.5]
        return {name: _example(named[name], schemas, dice, depth + 1) for name in wanted}
    if kind == "array":
        count = dice.randrange(3) if depth < 6 else 0
        return [_example(schema.get("items", {}), schemas, dice, depth + 1) for _ in range(count)]
    simple = {"integer": 1, "number": 1.5, "boolean": True, "string": "word", "null": None}
    return simple.get(str(kind), "word")


def _spoiled(value: Any, dice: random.Random) -> Any:
    """The same with something in it replaced, dropped, doubled or added."""
    if isinstance(value, dict) and value and dice.random() < 0.8:
        key = dice.choice(list(value))
        what = dice.random()
        if what < 0.15:
            return {k: v for k, v in value.items() if k != key}
        if what < 0.3:
            return value | {dice.choice(["id", "role", "__class__", "x" * 300, ""]): dice.choice(_ODD)}
        return value | {key: _spoiled(value[key], dice)}
    if isinstance(value, list) and value and dice.random() < 0.7:
        place = dice.randrange(len(value))
        longer = value * (dice.choice([1, 1, 1, 3000]) if len(str(value)) < 500 else 1)
        longer[place] = _spoiled(value[place], dice)
        return longer
    return dice.choice(_ODD)
