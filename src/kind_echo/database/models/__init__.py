"""The tables: names as in the design's list of words; rules that a database can hold are held here."""

from kind_echo.database.models.artefacts import Artefact, ArtefactPiece
from kind_echo.database.models.audio import Analysis, Chunk, Content, Pair, PeakLevel, Upload
from kind_echo.database.models.base import Against, Base, Json
from kind_echo.database.models.cells import FINISHED, Cell, Delivery, KitFile
from kind_echo.database.models.decisions import Act, Decision, Event, Reference
from kind_echo.database.models.effects import Build, Effect, Setting, Signal
from kind_echo.database.models.listening import (
    ListeningNote,
    ListeningTest,
    ListeningWord,
    Sitting,
    SittingState,
    TestKind,
    Trial,
    TrialAnswer,
    TrialClip,
)
from kind_echo.database.models.machines import Condition, Host, Machine, Worker
from kind_echo.database.models.notices import Notice, NoticeState, NoticeTarget, Schedule, TargetKind
from kind_echo.database.models.plans import Case, Plan, PlanRevision
from kind_echo.database.models.renders import Render, Take
from kind_echo.database.models.runs import Run, Search
from kind_echo.database.models.sensitivity import Sensitivity
from kind_echo.database.models.sets import FileSet, SetFile
from kind_echo.database.models.storage import StorageRule

__all__ = [
    "FINISHED",
    "Act",
    "Against",
    "Analysis",
    "Artefact",
    "ArtefactPiece",
    "Base",
    "Build",
    "Case",
    "Cell",
    "Chunk",
    "Condition",
    "Content",
    "Decision",
    "Delivery",
    "Effect",
    "Event",
    "FileSet",
    "Host",
    "Json",
    "KitFile",
    "ListeningNote",
    "ListeningTest",
    "ListeningWord",
    "Machine",
    "Notice",
    "NoticeState",
    "NoticeTarget",
    "Pair",
    "PeakLevel",
    "Plan",
    "PlanRevision",
    "Reference",
    "Render",
    "Run",
    "Schedule",
    "Search",
    "Sensitivity",
    "SetFile",
    "Setting",
    "Signal",
    "Sitting",
    "SittingState",
    "StorageRule",
    "Take",
    "TargetKind",
    "TestKind",
    "Trial",
    "TrialAnswer",
    "TrialClip",
    "Upload",
    "Worker",
]
