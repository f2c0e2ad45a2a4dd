"""The command that lays renders over a reference."""

from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import asdict
from functools import partial

import click

from kind_echo.audio_io.files import AudioFile
from kind_echo.audio_io.scratch import resampled
from kind_echo.bench.documents import reading_document, whole_curves
from kind_echo.cli.measuring.inputs import STANDARD_INPUT, one_file, open_audio, several_files
from kind_echo.cli.measuring.numbers import DECIBELS
from kind_echo.cli.measuring.output import (
    Result,
    describe_input,
    output_options,
    parse_limits,
    plot_asked,
    plot_option,
    report,
)
from kind_echo.cli.measuring.several import TableOptions, report_rows, rows_of, table_options
from kind_echo.cli.progress import counted, progress
from kind_echo.core.audio.align import Align, AlignedSource, DifferenceSource
from kind_echo.core.audio.resampling import resampling_floor
from kind_echo.core.audio.source import Source
from kind_echo.core.comparison.compare import compare
from kind_echo.core.comparison.pair import CompareOptions, Comparison
from kind_echo.core.comparison.places import MOST, find_places
from kind_echo.core.comparison.sums import SummedSource
from kind_echo.core.comparison.takes import take_spread
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.readings import Reading
from kind_echo.core.systems.law_change import with_changed_law
from kind_echo.core.systems.of_test_signal import measure_test_signal
from kind_echo.wording.causes import noted
from kind_echo.wording.conditions import resampled_text

_COLUMNS = ("residual_rms", "delay", "gain", "polarity")


@click.command("compare")
@click.argument("reference")
@click.argument("renders", nargs=-1, required=True, metavar="RENDER...")
@click.option("--align", type=click.Choice(["none", "samples", "fraction"]), default="samples", show_default=True,
              help="What of the delay is taken off.")  # fmt: skip
@click.option("--match-gain", is_flag=True, help="Bring the render to the reference's level first.")
@click.option("--match-polarity", is_flag=True, help="Turn an inverted render over first.")
@click.option("--max-delay", type=int, metavar="SAMPLES", help="Keep the search for the delay within this.")
@click.option("--ceiling", type=DECIBELS, metavar="DBFS", help="Count changes where the reference is under this.")
@click.option("--sum", "summed", is_flag=True, help="Compare with the sum of the renders.")
@click.option("--minus", multiple=True, metavar="FILE", help="Take a file off the sum; may be repeated.")
@click.option("--input", "stimulus", metavar="FILE",
              help="What went into both: a staircase or a burst tells the law that changed.")  # fmt: skip
@click.option("--takes", is_flag=True, help="The renders are takes: how far apart are they?")
@click.option("--places", "most_places", type=click.IntRange(1, MOST), metavar="N",
              help="List the N greatest differences in time, half kept for gaps and clicks.")  # fmt: skip
@click.option("--each", is_flag=True, help="Compare each of several renders with the reference, and print a table.")
@click.option("--resample", is_flag=True, help="Bring a render of another rate to the reference's.")
@click.option("--quiet", is_flag=True, help="Print what explains the difference, and nothing else.")
@plot_option
@output_options
@table_options
def compare_command(
    reference: str,
    renders: tuple[str, ...],
    align: Align,
    match_gain: bool,
    match_polarity: bool,
    max_delay: int | None,
    ceiling: float | None,
    summed: bool,
    minus: tuple[str, ...],
    stimulus: str | None,
    takes: bool,
    most_places: int | None,
    each: bool,
    resample: bool,
    quiet: bool,
    limits: tuple[str, ...],
    as_json: bool,
    table: TableOptions,
) -> None:
    """Null test of RENDER against REFERENCE: delay, polarity, gain, what is left and what explains it."""
    wanted = parse_limits(limits)
    if quiet and (as_json or table.asked):
        raise BadParameter("quiet", quiet, "without --json, --csv, --columns and --sort")
    one_file(reference)
    files = several_files(renders, recursive=table.recursive) if each else [one_file(path) for path in renders]
    read = [reference, *files, *minus, stimulus]
    if read.count(STANDARD_INPUT) > 1 or (each and STANDARD_INPUT in read):
        raise BadParameter("FILE", "-", "given once, and without --each: standard input is read where one file is")
    if len(renders) > 1 and not (summed or takes or each):
        raise BadParameter(
            "RENDER", len(renders), "one file, unless --sum or --takes says what the others are, or --each"
        )
    if each and (summed or minus or takes):
        raise BadParameter("each", each, "without --sum, --minus and --takes")
    if table.asked and not each:
        raise BadParameter("csv", table.as_csv, "given together with --each, as --columns and --sort are")
    if takes and (summed or minus):
        raise BadParameter("takes", takes, "without --sum and --minus")
    if stimulus is not None and (summed or minus or takes):
        raise BadParameter("input", stimulus, "without --sum, --minus and --takes")
    options = CompareOptions(align, match_gain, match_polarity, max_delay, ceiling)
    if each:
        with AudioFile(reference):
            pass  # one that cannot be read is no row's error
        work = partial(_compared, reference, stimulus, options, most_places, resample)
        rows = list(counted(rows_of(work, files, table.jobs), "Comparing", "files", len(files)))
        plot = plot_asked()
        if plot is not None:
            from kind_echo.cli.measuring.overlaying import plot_files

            plot_files(plot, [reference, *(row.path for row in rows if not row.error)], "spectrum", against=True)
        report_rows("compare", rows, _COLUMNS, wanted, table, as_json=as_json, quiet=quiet)
        return
    given = {**asdict(options), "sum": summed, "minus": list(minus), "takes": takes, "resample": resample}
    if stimulus is not None:
        given["input"] = stimulus
    with ExitStack() as stack, progress(f"Comparing {renders[0]}"):
        opened = [stack.enter_context(open_audio(path)) for path in (reference, *renders, *minus)]
        first = opened[0]
        alike = [_at_rate(first, side, stack) if resample else side for side in opened[1:]]
        others, off = alike[: len(renders)], alike[len(renders) :]
        render: Source = SummedSource(tuple(others), tuple(off)) if summed or off else others[0]
        found = _with_law(compare(first, render, options), stimulus, first, render, stack)
        told = measure_test_signal(first, render)
        readings = noted(found.readings, found.causes) + told.render
        if resample:
            readings = _with_resampling(readings, first, opened[1:])
        if takes:
            readings.append(take_spread([*others] if len(others) > 1 else [first, *others], options))
        places = None if most_places is None else find_places(first, render, found, most_places).differences
        if plot_asked() is not None:
            _plot(first, render, found, renders[0])
        named = (reference, *renders, *minus)
        inputs = [describe_input(path, file) for path, file in zip(named, opened, strict=True)]
    if found.sides is not None:
        inputs[0]["readings"] = [reading_document(r) for r in found.sides[0].readings + told.reference]
        if not isinstance(render, SummedSource | AlignedSource):
            inputs[1]["readings"] = [reading_document(r) for r in found.sides[1].readings]
    curves = whole_curves(found.curves | told.curves)
    result = Result("compare", inputs, given, readings, curves, found.causes, places)
    report(result, wanted, as_json=as_json, quiet=quiet)


def _plot(reference: Source, render: Source, found: Comparison, title: str) -> None:
    """Draw a pair as it was lined up."""
    from kind_echo.plots import Drawn, plot_pair

    path = plot_asked()
    assert path is not None
    aligned = AlignedSource(render, reference.frames, found.alignment)
    sides = (reference, aligned, DifferenceSource(reference, aligned))
    plot_pair(path, [Drawn.of(side) for side in sides], title)


def _with_law(
    found: Comparison, stimulus: str | None, reference: Source, render: Source, until: ExitStack
) -> Comparison:
    """A comparison with what the signal that went into both tells, where one is given."""
    if stimulus is None:
        return found
    return with_changed_law(found, until.enter_context(open_audio(stimulus)), reference, render)


def _at_rate(first: AudioFile, side: AudioFile, until: ExitStack) -> Source:
    return side if side.rate == first.rate else resampled(side, first.rate, until)


def _with_resampling(readings: Sequence[Reading], first: AudioFile, sides: Sequence[AudioFile]) -> list[Reading]:
    """Readings with what resampling adds by itself beside the residual."""
    rates = sorted({side.rate for side in sides if side.rate != first.rate})
    if not rates:
        return list(readings)
    note = resampled_text(rates, max(resampling_floor(rate, first.rate) for rate in rates))
    return [r.noted(note) if (r.measure, r.channel) == ("residual_rms", "all") else r for r in readings]


def _compared(
    reference: str, stimulus: str | None, options: CompareOptions, most_places: int | None, resample: bool, path: str
) -> Result:
    with ExitStack() as stack:
        first, file = (stack.enter_context(AudioFile(one)) for one in (reference, path))
        render = _at_rate(first, file, stack) if resample else file
        found = _with_law(compare(first, render, options), stimulus, first, render, stack)
        told = measure_test_signal(first, render)
        readings = noted(found.readings, found.causes) + told.render
        if resample:
            readings = _with_resampling(readings, first, [file])
        places = None if most_places is None else find_places(first, render, found, most_places).differences
        inputs = [describe_input(one.info.name, one) for one in (first, file)]
    for one, side in zip(inputs, found.sides or (), strict=False):
        one["readings"] = [reading_document(r) for r in side.readings]
    inputs[0].setdefault("readings", []).extend(reading_document(r) for r in told.reference)
    given = {**asdict(options), "sum": False, "minus": [], "takes": False, "resample": resample}
    if stimulus is not None:
        given["input"] = stimulus
    curves = whole_curves(found.curves | told.curves)
    return Result("compare", inputs, given, readings, curves, found.causes, places)
