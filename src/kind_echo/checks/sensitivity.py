"""What a check of a folder of references would notice: faults planted into them, each judged by its limits."""

import hashlib
import json
import multiprocessing
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import ExitStack
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TypedDict

from kind_echo import __version__
from kind_echo.audio_io.files import AudioFile
from kind_echo.checks.measuring import digests_of, fitting
from kind_echo.checks.pairing import Pair, pair_folders
from kind_echo.checks.result_cache import ResultCache
from kind_echo.checks.settings import Settings
from kind_echo.core.audio.source import ArraySource, Source
from kind_echo.core.comparison.takes import take_spread
from kind_echo.core.registry.errors import KindEchoError
from kind_echo.core.registry.readings import Reading
from kind_echo.core.registry.versions import FAMILY_VERSIONS, versions_of
from kind_echo.core.sensitivity.excerpt import excerpt_of
from kind_echo.core.sensitivity.faults import FAULTS_VERSION
from kind_echo.core.sensitivity.least import Least, LeastDocument, least_noticed
from kind_echo.core.sensitivity.noticing import Approved
from kind_echo.core.sensitivity.summary import Cell
from kind_echo.core.systems.of_test_signal import measure_test_signal
from kind_echo.core.systems.recognised import measure_by_input, recognise


@dataclass(frozen=True)
class Planted:
    """What a reference notices, or why that could not be found out."""

    name: str
    cell: Cell | None
    why: str = ""


def plant(
    references: Path, settings: Settings, known: ResultCache, jobs: int, tell: Callable[[int, int], None]
) -> list[Planted]:
    """Plant faults into all references of a folder, by name. Arguments as of `check_pairs`."""
    pairs = pair_folders(references, references).pairs
    work = [(pair, settings, _key(pair, settings)) for pair in pairs]
    kept = known.find(key for _, _, key in work)
    found: dict[str, Planted] = {}
    for pair, _, key in work:
        if key in kept:
            found[pair.name] = Planted(pair.name, _cell(pair.name, kept[key]))
    rest = [one for one in work if one[0].name not in found]
    tell(len(found), len(pairs))
    for (pair, _, key), document in zip(rest, _worked(rest, jobs), strict=True):
        if isinstance(document, str):
            found[pair.name] = Planted(pair.name, None, document)
        else:
            known.keep({key: document})
            found[pair.name] = Planted(pair.name, _cell(pair.name, document))
        tell(len(found), len(pairs))
    return [found[pair.name] for pair in pairs]


class _PlantedDocument(TypedDict):
    seconds: float
    least: list[LeastDocument]


def _cell(name: str, document: _PlantedDocument) -> Cell:
    least = [Least.of(one) for one in document["least"]]
    return Cell(name, "", document["seconds"], {one.fault: one for one in least})


def _key(pair: Pair, settings: Settings) -> str:
    rules = [asdict(rule) for rule in settings.rules]
    parts = [__version__, FAULTS_VERSION, versions_of(FAMILY_VERSIONS), digests_of(pair), pair.name, rules]
    return hashlib.sha256(json.dumps(parts).encode()).hexdigest()


def _worked(work: Sequence[tuple[Pair, Settings, str]], jobs: int) -> Iterator[_PlantedDocument | str]:
    count = min(jobs, len(work))
    if count <= 1:
        yield from map(_work, work)
        return
    # A fork would take the threads of this process along, halfway through what they do.
    with ProcessPoolExecutor(count, mp_context=multiprocessing.get_context("spawn")) as pool:
        yield from pool.map(_work, work)


def _work(work: tuple[Pair, Settings, str]) -> _PlantedDocument | str:
    pair, settings, _ = work
    try:
        approved = _approved(pair, settings)
    except (KindEchoError, OSError) as error:
        return " ".join(str(error).split())
    seconds = len(approved.samples) / approved.rate
    return {"seconds": seconds, "least": [one.document() for one in least_noticed(approved)]}


def _approved(pair: Pair, settings: Settings) -> Approved:
    with ExitStack() as stack:
        files = [stack.enter_context(AudioFile(path)) for path in pair.references]
        first = files[0]
        samples, is_whole = excerpt_of(first)
        reference = ArraySource(samples, first.rate)
        spread = take_spread(list(files)).value if len(files) > 1 else None
        stimulus: Source | None = None
        if pair.input is not None and is_whole:
            file = fitting(stack.enter_context(AudioFile(pair.input)), reference)
            stimulus = ArraySource(file.read(0, file.frames), file.rate)
    signal = recognise(reference if stimulus is None else stimulus)

    def own(render: Source, _: float) -> list[Reading]:
        if stimulus is not None:
            return measure_by_input(stimulus, render)[0]
        return measure_test_signal(reference, render).render

    return Approved(samples, reference.rate, settings.limits_for(pair.name, signal), own if is_whole else None, spread)
