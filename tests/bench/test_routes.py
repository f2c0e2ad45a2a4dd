"""Jobs go to machines that have the build and the host; what a machine has is looked up again when it changes."""

import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kind_echo.bench.machines import Place, has_place, is_renderers_own, queues_of_machine, renderer_of
from kind_echo.database.sessions import transaction
from kind_echo.renderers.contract import Offer, fits
from kind_echo.renderers.declared import read_declarations
from kind_echo.renderers.machine import Machine
from kind_echo.renderers.offers import offer_document
from kind_echo.renderers.plugins.scanning import FILE_VARIABLE
from kind_echo.renderers.stand_in import stand_in_offer

DECLARED = """
[renderer.copier]
title = "Copier"
version = "1"
effect = "Copy"
builds = ["1.0", "2.*"]
command = ["cp", "{input}", "{output}"]
"""
NAMES = st.text(st.characters(min_codepoint=33, max_codepoint=0x2FF), min_size=1, max_size=30)


@given(NAMES, NAMES, NAMES, NAMES)
def test_a_queue_tells_its_renderer_and_fits_into_a_channel_of_the_database(
    host: str, effect: str, a: str, b: str
) -> None:
    """PostgreSQL cuts names at 63 bytes; those of channels are procrastinate's prefix and the queue."""
    renderer = "a" * 30
    queues = {Place(renderer, host, "1", effect, "", version).queue for version in (a, b)}
    assert len(queues) == len({a, b})
    assert {renderer_of(queue) for queue in queues} == {renderer}
    assert all(len(f"procrastinate_queue_v1#{queue}".encode()) <= 63 for queue in queues)
    assert not any(map(is_renderers_own, queues))


def test_a_pattern_of_builds_takes_new_ones_and_no_others(tmp_path: Path) -> None:
    file = tmp_path / "renderers.toml"
    file.write_text(DECLARED)
    (offer,) = read_declarations(file)
    assert (offer.effects[0].versions, offer.effects[0].patterns) == (("1.0",), ("2.*",))
    has = {v: has_place(offer, Place("copier", "Copier", "1", "Copy", "", v)) for v in ("1.0", "2.7-rc1", "3.0", "1.1")}
    assert has == {"1.0": True, "2.7-rc1": True, "3.0": False, "1.1": False}
    assert not has_place(offer, Place("copier", "Copier", "2", "Copy", "", "1.0"))
    assert fits("2.0", [], ["2.?"])
    assert not fits("2.0", [], ["2.1?", "2"])


def test_a_machine_takes_the_queues_of_what_it_has_alone(seen: str) -> None:
    whole = stand_in_offer()
    skerry = next(effect for effect in whole.effects if effect.name == "Skerry")
    less = Offer(whole.queue, "", whole.renderer, whole.hosts[:1], (skerry,))
    with transaction() as session:
        every, some = (queues_of_machine(session, [offer_document(offer)]) for offer in (whole, less))
    assert set(some) < set(every)
    host = whole.hosts[0]
    assert Place("stand-in", host.name, host.version, "Skerry", "", skerry.versions[0]).queue in some
    assert Place("stand-in", host.name, host.version, "Plumb", "", "1.0").queue not in some
    assert json.loads(json.dumps(offer_document(whole)))["effects"][0]["patterns"] == []


def test_a_machine_looks_again_when_its_file_changes_and_keeps_what_it_had_when_the_new_one_is_broken(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "renderers.toml"
    file.write_text(DECLARED)
    monkeypatch.setenv(FILE_VARIABLE, str(file))
    machine = Machine()
    assert not machine.look_again()
    file.write_text(DECLARED.replace('"2.*"', '"2.*", "4"'))
    assert machine.look_again()
    assert "4" in machine.offers["copier"].effects[0].versions
    file.write_text("[renderer.copier]\ntitle = 3\n")
    assert not machine.look_again()
    assert "copier" in machine.offers
