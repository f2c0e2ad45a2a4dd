"""The standards of plug-ins: how their files are named, where they lie, and what hosts them."""

import os
import sys
from collections.abc import Callable
from dataclasses import dataclass
from importlib.util import find_spec
from pathlib import Path

from kind_echo.renderers.contract import HOSTING
from kind_echo.renderers.plugins.model import HostFailed, Library


@dataclass(frozen=True)
class Standard:
    """A standard.

    Attributes:
        key: what its jobs' queue and its files are called by.
        host: the host's name, as plans have it.
        ending: of its files, or of its folders where a plug-in is one.
        variable: names folders that plug-ins are looked for in; `adds` says whether beside the usual ones or in place.
        modes: in which it can be run.
        hosting: what else its host can do for a condition, of `HOSTING`.
        usual: the folders of this system.
        is_there: whether this system can host it.
        load: opens a file, in the process that the plug-in runs in. Raises HostFailed.
    """

    key: str
    title: str
    host: str
    ending: str
    variable: str
    adds: bool
    modes: tuple[str, ...]
    hosting: tuple[str, ...]
    usual: Callable[[], list[Path]]
    is_there: Callable[[], bool]
    load: Callable[[Path], Library]

    def folders(self) -> list[Path]:
        """Where its plug-ins are looked for."""
        named = [Path(one).expanduser() for one in os.environ.get(self.variable, "").split(os.pathsep) if one]
        return [*self.usual(), *named] if self.adds or not named else named


def _clap_folders() -> list[Path]:
    if sys.platform == "win32":
        return [_of("COMMONPROGRAMFILES") / "CLAP", _of("LOCALAPPDATA") / "Programs/Common/CLAP"]
    if sys.platform == "darwin":
        return [Path("/Library/Audio/Plug-Ins/CLAP"), _home("Library/Audio/Plug-Ins/CLAP")]
    return [_home(".clap"), Path("/usr/lib/clap"), Path("/usr/local/lib/clap")]


def _vst3_folders() -> list[Path]:
    if sys.platform == "win32":
        return [_of("COMMONPROGRAMFILES") / "VST3", _of("LOCALAPPDATA") / "Programs/Common/VST3"]
    if sys.platform == "darwin":
        return [Path("/Library/Audio/Plug-Ins/VST3"), _home("Library/Audio/Plug-Ins/VST3")]
    return [_home(".vst3"), Path("/usr/lib/vst3"), Path("/usr/local/lib/vst3")]


def _unit_folders() -> list[Path]:
    return [Path("/Library/Audio/Plug-Ins/Components"), _home("Library/Audio/Plug-Ins/Components")]


def _lv2_folders() -> list[Path]:
    if sys.platform == "darwin":
        return [_home("Library/Audio/Plug-Ins/LV2"), Path("/Library/Audio/Plug-Ins/LV2"), Path("/usr/local/lib/lv2")]
    machines = (f"/usr/lib/{name}-linux-gnu/lv2" for name in ("x86_64", "aarch64"))
    return [_home(".lv2"), *map(Path, ("/usr/local/lib/lv2", "/usr/lib/lv2", *machines))]


def _home(path: str) -> Path:
    return Path("~").expanduser() / path


def _of(variable: str) -> Path:
    return Path(os.environ.get(variable, ""))


def _load_clap(path: Path) -> Library:
    from kind_echo.renderers.plugins.formats.clap import ClapLibrary

    return ClapLibrary(path)


def _load_vst3(path: Path) -> Library:
    from kind_echo.renderers.plugins.formats.vst3 import Vst3Library

    return Vst3Library(path)


def _load_unit(path: Path) -> Library:
    from kind_echo.renderers.plugins.formats.vst3 import audio_unit_library

    return audio_unit_library(path)


def _load_lv2(path: Path) -> Library:
    from kind_echo.renderers.plugins.formats.lv2 import Lv2Library

    return Lv2Library(path)


def _has_lilv() -> bool:
    if find_spec("cffi") is None:
        return False
    from kind_echo.renderers.plugins.formats.lv2 import lv2_is_there

    return lv2_is_there()


SYSTEMS = ("linux", "macos", "windows")


def own_system() -> str:
    """What this system is called, of `SYSTEMS`."""
    return {"darwin": "macos", "win32": "windows"}.get(sys.platform, "linux")


_BOTH = ("offline", "real time")
CLAP = Standard("clap", "CLAP", "CLAP host", ".clap", "CLAP_PATH", True, _BOTH, tuple(HOSTING), _clap_folders,
                lambda: find_spec("cffi") is not None, _load_clap)  # fmt: skip
VST3 = Standard("vst3", "VST3", "VST3 host", ".vst3", "VST3_PATH", True, ("offline",), (), _vst3_folders,
                lambda: find_spec("pedalboard") is not None, _load_vst3)  # fmt: skip
LV2 = Standard(
    "lv2", "LV2", "LV2 host", ".lv2", "LV2_PATH", False, _BOTH, tuple(HOSTING), _lv2_folders, _has_lilv, _load_lv2
)
UNITS = Standard("au", "Audio Unit", "Audio Unit host", ".component", "AU_PATH", True, ("offline",), (), _unit_folders,
                 lambda: sys.platform == "darwin" and find_spec("pedalboard") is not None, _load_unit)  # fmt: skip

STANDARDS = (CLAP, VST3, LV2, UNITS)


def standard_named(key: str) -> Standard:
    """A standard by its key. Raises KeyError."""
    return {one.key: one for one in STANDARDS}[key]


def is_plugin(path: Path) -> bool:
    """Whether something is there that is named as a plug-in of a known standard is."""
    return path.suffix.lower() in {one.ending for one in STANDARDS} and path.exists()


def standard_of(path: Path) -> Standard:
    """The standard of a file of plug-ins, by its ending. Raises HostFailed."""
    for one in STANDARDS:
        if path.suffix.lower() == one.ending:
            return one
    endings = ", ".join(one.ending for one in STANDARDS)
    raise HostFailed(f"{path.name} is no plug-in of a standard that is known here, which end with {endings}")
