"""The tables: names as in the design's list of words; rules that a database can hold are held here."""

from kind_echo.database.models.artefacts import Artefact, ArtefactPiece
from kind_echo.database.models.audio import Analysis, Chunk, Content, Pair, PeakLevel, Upload
from kind_echo.database.models.base import Base, Json
from kind_echo.database.models.cells import Cell, Delivery, KitFile
from kind_echo.database.models.decisions import Act, Decision, Event, Reference
from kind_echo.database.models.effects import Build, Effect, Setting, Signal
from kind_echo.database.models.listening import (
    ListeningNote,
    ListeningTest,
    ListeningWord,
    Sitting,
    Trial,
    TrialAnswer,
    TrialClip,
)
from kind_echo.database.models.machines import Condition, Host, Machine, Worker
from kind_echo.database.models.notices import Notice, NoticeTarget, Schedule
from kind_echo.database.models.plans import Case, Plan, PlanRevision
from kind_echo.database.models.renders import Render, Take
from kind_echo.database.models.runs import Run, Search
from kind_echo.database.models.sensitivity import Sensitivity
from kind_echo.database.models.sets import FileSet, SetFile
from kind_echo.database.models.storage import StorageRule

__all__ = [
    "Act",
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
    "StorageRule",
    "Take",
    "Trial",
    "TrialAnswer",
    "TrialClip",
    "Upload",
    "Worker",
]
