"""Results that changed are noticed while their version is as it was."""

import copy

from ops import versions


def test_a_changed_result_is_noticed_and_rounding_is_not() -> None:
    kept = versions.read()
    assert versions.stale(kept) == []
    changed = copy.deepcopy(kept)
    key = next(key for key, value in changed["levels"]["results"].items() if value)
    changed["levels"]["results"][key] *= 1.001
    (said,) = versions.stale(changed)
    assert said.startswith("levels: raise its version in core/registry/versions.py, for 1 results changed")
    changed["levels"]["results"][key] = kept["levels"]["results"][key] * (1 + 1e-7)
    assert versions.stale(changed) == []
    changed["signals"]["version"] -= 1
    assert "signals: its results are not kept for version" in versions.stale(changed)[0]
    assert versions.changed({"a": None}, {"a": 1.0}) == ["a: None has become 1.0"]
    assert set(versions.results()) == set(versions.versions())
