"""Other names for what is under test; all that refers to it goes on, and plans written before read with the new one.

Machines know effects, builds and hosts by names of their own: an effect keeps beside its name the one that machines
call it by, and what a machine has can be named by that machine alone.
"""

from collections.abc import Sequence
from datetime import datetime
from typing import Literal

from sqlalchemy import Select, select, update
from sqlalchemy.orm import Session

from kind_echo.bench.machines import BY_HAND, known_offers
from kind_echo.bench.upkeep.things import Kind, find, write
from kind_echo.core.registry.errors import BadParameter, Conflict
from kind_echo.core.registry.names import check_name
from kind_echo.database.models import Build, Condition, Effect, Host, Plan, Setting
from kind_echo.renderers.contract import fits

_MOST = 120


class NameTaken(Conflict):
    """Another thing of the kind has, or had, that name."""

    def __init__(self, kind: Kind, name: str) -> None:
        self.kind, self.name = kind, name
        super().__init__(f"Nothing was renamed: there is, or was, another {kind} {name}.")


class CannotRename(Conflict):
    """A machine gives the thing its name."""

    def __init__(self, kind: Kind, name: str) -> None:
        self.kind, self.name = kind, name
        super().__init__(f"{name} is what machines call this {kind}; it is renamed on the machine that has it.")


def rename(session: Session, kind: Kind, number: int, name: str, *, who: str, now: datetime) -> None:
    """Give an effect, build, setting or plan another name; nothing where it has that already.

    Raises:
        ThingNotFound: there is no such thing.
        BadParameter: it is no name.
        NameTaken: another has it.
        CannotRename: it is a build that a machine has.
    """
    name = _checked(name)
    found = find(session, kind, number)
    before = found.version if kind == "build" else found.name
    if before == name:
        return
    if kind == "effect":
        _rename_effect(session, found, name)
    elif kind == "build":
        _rename_build(session, found, name)
    elif kind == "setting":
        _rename_setting(session, found, name)
    elif kind == "plan":
        _refuse_taken(
            session, "plan", name, select(Plan.id).where(Plan.effect_id == found.effect_id, Plan.name == name)
        )
        found.name = name
    else:
        raise BadParameter("kind", kind, "effect, build, setting or plan")
    write(session, kind, number, "renamed", who, now, before=before, after=name)


def rename_host(session: Session, number: int, name: str, version: str, *, who: str, now: datetime) -> None:
    """Give a host that people render in another name and version, wherever it stands.

    Raises:
        ThingNotFound, BadParameter, NameTaken: as `rename` does.
        CannotRename: a machine renders in it.
    """
    name, version = _checked(name), _checked(version)
    host: Host = find(session, "host", number)
    before = host.name, host.version
    if before == (name, version):
        return
    if host.renderer != BY_HAND:
        raise CannotRename("host", f"{host.name} {host.version}")
    taken = select(Host.id).where(Host.name == name, Host.version == version, Host.id != number)
    was = select(Host.id).where(Host.former_names.contains([[name, version]]), Host.id != number)
    for query in (taken, was):
        _refuse_taken(session, "host", f"{name} {version}", query)
    here = Condition.host == host.name, Condition.host_version == host.version
    session.execute(update(Condition).where(*here).values(host=name, host_version=version))
    host.former_names = [*(one for one in host.former_names if one != [name, version]), [*before]]
    host.name, host.version = name, version
    write(session, "host", number, "renamed", who, now, before=" ".join(before), after=f"{name} {version}")


def change_note(session: Session, build_id: int, note: str, *, who: str, now: datetime) -> None:
    """Say something else of a build. Raises ThingNotFound."""
    build: Build = find(session, "build", build_id)
    if build.note != note:
        build.note = note
        write(session, "build", build_id, "described", who, now, note=note)


def move_build(session: Session, build_id: int, way: Literal["earlier", "later"], *, who: str, now: datetime) -> None:
    """Let a build change places with its neighbour in the order of its effect's builds; the outermost stays.

    Raises ThingNotFound.
    """
    build: Build = find(session, "build", build_id)
    is_beside = Build.position < build.position if way == "earlier" else Build.position > build.position
    nearest = Build.position.desc() if way == "earlier" else Build.position
    own = select(Build).where(Build.effect_id == build.effect_id, is_beside).order_by(nearest).limit(1)
    other = session.scalar(own.with_for_update())
    if other is None:
        return
    mine, build.position = build.position, -1 - build.id  # out of the way: no two may have one place
    session.flush()
    theirs, other.position = other.position, mine
    session.flush()
    build.position = theirs
    write(session, "build", build_id, f"moved {way}", who, now, name=f"{build.effect.name} {build.version}")


def _rename_effect(session: Session, effect: Effect, name: str) -> None:
    same = (Effect.name == name) | (Effect.offered_as == name)
    _refuse_taken(session, "effect", name, select(Effect.id).where(same, Effect.id != effect.id))
    known_as = effect.known_as
    effect.name = name
    effect.offered_as = None if known_as == name else known_as


def _rename_build(session: Session, build: Build, version: str) -> None:
    taken = select(Build.id).where(Build.effect_id == build.effect_id, Build.version == version)
    _refuse_taken(session, "build", version, taken)
    if named_by_machines(session, build.effect, [build]):
        raise CannotRename("build", build.version)
    build.version = version


def _rename_setting(session: Session, setting: Setting, name: str) -> None:
    others = Setting.effect_id == setting.effect_id, Setting.id != setting.id
    taken = select(Setting.id).where(*others, (Setting.name == name) | Setting.former_names.contains([name]))
    _refuse_taken(session, "setting", name, taken)
    setting.former_names = [*(one for one in setting.former_names if one != name), setting.name]
    setting.name = name


def named_by_machines(session: Session, effect: Effect, builds: Sequence[Build]) -> set[int]:
    """Those builds of an effect, by their numbers, that a known machine has under their names."""
    offered = [
        one
        for offer in known_offers(session)
        for one in offer["effects"]
        if (one["name"], one["handle"]) == (effect.known_as, effect.handle)
    ]
    return {
        build.id
        for build in builds
        if any(fits(build.version, one["versions"], one.get("patterns", ())) for one in offered)
    }


def _refuse_taken(session: Session, kind: Kind, name: str, query: Select[int]) -> None:
    if session.scalar(query.limit(1)) is not None:
        raise NameTaken(kind, name)


def _checked(name: str) -> str:
    name = name.strip()
    try:
        check_name(name)
    except ValueError as error:
        raise BadParameter("name", repr(name), str(error)) from error
    if not 0 < len(name) <= _MOST:
        raise BadParameter("name", repr(name), f"1 to {_MOST} characters long")
    return name
