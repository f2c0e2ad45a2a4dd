"""The command that checks a folder of renders against a folder of references, without a server."""

import json
import os
import sys
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

import click

from kind_echo.bench.documents import reading_document
from kind_echo.checks.approving import approve, copies
from kind_echo.checks.checking import check_pairs
from kind_echo.checks.evidence import write_evidence
from kind_echo.checks.judging import Checked, saying_why
from kind_echo.checks.page import page_text
from kind_echo.checks.pairing import Paired, pair_folders, shown
from kind_echo.checks.proposing import SCHEMA_NAME, proposed_text, schema
from kind_echo.checks.rendering import PluginRenders, make_renders
from kind_echo.checks.result_cache import ResultCache, usual_place
from kind_echo.checks.settings import Settings, read_settings
from kind_echo.checks.telling import judged_readings, outcome_of
from kind_echo.cli.exits import LimitBroken, RowsFailed
from kind_echo.cli.measuring.judging import documents_of
from kind_echo.cli.progress import progress
from kind_echo.core.registry.errors import BadParameter
from kind_echo.renderers.plugins.standards import is_plugin
from kind_echo.wording.junit import junit_text
from kind_echo.wording.outcomes import FAILING, Outcome, Status, totals, worst_first
from kind_echo.wording.summary import summary_text
from kind_echo.wording.tables import READING_COLUMNS, csv_text, reading_row

_USUAL_NAME = "kind-echo.toml"
_OUTPUT = click.Path(dir_okay=False, path_type=Path)


@click.command("check")
@click.argument("references", type=click.Path(path_type=Path))
@click.argument("renders", type=click.Path(path_type=Path), required=False)
@click.option("--limits", "limits_file", type=_OUTPUT, metavar="FILE",
              help="The team's limits, waivers and rules, as TOML; without it the usual limits hold.")  # fmt: skip
@click.option("--init", is_flag=True, help="Write a first file of limits from what is found, with its schema.")
@click.option("--fail-on", "failing", type=click.Choice(list(FAILING)), multiple=True,
              help="What ends the check with 1; may be repeated. Else fail and no-reading do.")  # fmt: skip
@click.option("--approve", "approving", is_flag=True, help="Copy renders over references, once it is shown which.")
@click.option("--yes", is_flag=True, help="Approve without being asked.")
@click.option("--sensitivity", is_flag=True,
              help="Say from which size on faults would be noticed that are planted into REFERENCES.")  # fmt: skip
@click.option("--wanted", multiple=True, metavar="FAULT=SIZE",
              help="With --sensitivity: end with 1 unless it is noticed from there on; may be repeated.")  # fmt: skip
@click.option("--junit", type=_OUTPUT, metavar="FILE", help="Write JUnit's XML, for a build server.")
@click.option("--summary", type=_OUTPUT, metavar="FILE", help="Write a summary as Markdown.")
@click.option("--report", type=_OUTPUT, metavar="FILE", help="Write a page of HTML that needs nothing beside itself.")
@click.option(
    "--evidence",
    type=_OUTPUT,
    metavar="FILE",
    help="Write a ZIP with all that was said, and the audio of what did not pass, for kind-echo verify.",
)
@click.option("--all-audio", is_flag=True, help="Keep the audio of what passed in the evidence as well.")  # fmt: skip
@click.option("--plots", type=click.Path(file_okay=False, path_type=Path), metavar="FOLDER",
              help="Draw each pair that did not pass: its sides, and what was measured of it.")  # fmt: skip
@click.option("--known", type=_OUTPUT, metavar="FILE",
              help="Where results are kept, so that equal files are not measured again.")  # fmt: skip
@click.option("--fresh", is_flag=True, help="Measure all, and keep nothing.")
@click.option("--jobs", type=click.IntRange(1, 1000), help="Processes that measure; one a core unless given.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
@click.option("--csv", "as_csv", is_flag=True, help="Print CSV: a line a reading.")
def check_command(
    references: Path,
    renders: Path | None,
    limits_file: Path | None,
    init: bool,
    failing: tuple[str, ...],
    approving: bool,
    yes: bool,
    sensitivity: bool,
    wanted: tuple[str, ...],
    junit: Path | None,
    summary: Path | None,
    report: Path | None,
    evidence: Path | None,
    all_audio: bool,
    plots: Path | None,
    known: Path | None,
    fresh: bool,
    jobs: int | None,
    as_json: bool,
    as_csv: bool,
) -> None:
    """Compare all files in RENDERS with those of the same path in REFERENCES, each by its limits.

    RENDERS may be a plug-in's file, or be left out where the limits name one: it is rendered with then.

    Takes are called name.take1.wav, name.take2.wav; what went into the effect is name.input.wav beside the reference.
    """
    if plots is not None:
        from kind_echo.checks.drawing import check_drawing

        check_drawing()
    if as_json and as_csv:
        raise BadParameter("csv", as_csv, "without --json")
    if fresh and known is not None:
        raise BadParameter("fresh", fresh, "without --known")
    if approving and os.environ.get("CI", "").lower() not in ("", "0", "false"):
        raise BadParameter("approve", approving, "given by a person: this is a build server, for CI is set")
    target = limits_file or Path(_USUAL_NAME)
    if init and target.exists():
        raise BadParameter("init", str(target), "a file that is not there yet")
    settings = Settings() if limits_file is None or init else read_settings(limits_file)
    processes = jobs or os.cpu_count() or 1
    if wanted and not sensitivity:
        raise BadParameter("wanted", wanted[0], "given with --sensitivity")
    if sensitivity:
        if renders is not None:
            raise BadParameter("sensitivity", str(renders), "asked of REFERENCES alone")
        from kind_echo.cli.measuring.sensitivity import read_wanted, tell_sensitivity

        output = "json" if as_json else "csv" if as_csv else ""
        found_before = ResultCache(None if fresh else known or usual_place())
        tell_sensitivity(references, settings, found_before, processes, read_wanted(wanted), output)
        return
    making = _folder_of_renders(references, renders, limits_file, settings, processes)
    folder, source, not_made = click.get_current_context().with_resource(making)
    paired = pair_folders(references, folder)
    kept = ResultCache(None if fresh else known or usual_place())
    now = datetime.now(UTC)
    total = len(paired.pairs) + len(paired.missing) + len(paired.surplus)
    with progress("Checking", "pairs", total) as shown:
        checked = check_pairs(paired, settings, kept, now.date(), processes, shown.tell)
    checked = saying_why(checked, not_made)
    if kept.problem:
        click.echo(f"kind-echo: what was measured before could not be used: {kept.problem}", err=True)
    _warn_of_limits_that_judged_nothing(checked, settings)
    fails = tuple(FAILING[one] for one in failing) or ("fail", "no reading")
    title = f"{source} against {references}"
    made = "The usual limits" if limits_file is None else f"Limits of {limits_file}"
    outcomes = [outcome_of(one) for one in checked]
    if junit is not None:
        _write(junit, junit_text(outcomes, fails, "kind-echo check"))
    if summary is not None:
        _write(summary, summary_text(outcomes, title, "pair"))
    if report is not None:
        _write(report, page_text(checked, title, made, now))
    if evidence is not None:
        texts = {
            "junit.xml": junit_text(outcomes, fails, "kind-echo check"), "readings.csv": _csv(checked),
            "summary.md": summary_text(outcomes, title, "pair"), "report.html": page_text(checked, title, made, now),
        }  # fmt: skip
        if limits_file is not None:
            texts["limits.toml"] = limits_file.read_text("utf-8")
        write_evidence(evidence, checked, texts, now, all_audio=all_audio)
    if plots is not None:
        from kind_echo.checks.drawing import draw_pairs

        draw_pairs(checked, plots)
    if as_json:
        click.echo(json.dumps({"command": "check", "rows": [_row(one) for one in checked]}, allow_nan=False))
    elif as_csv:
        click.echo(_csv(checked), nl=False)
    else:
        _print(outcomes)
    if init:
        _write(target, proposed_text(checked))
        _write(target.with_name(SCHEMA_NAME), json.dumps(schema(), indent=1, ensure_ascii=False) + "\n")
        click.echo(f"Written: {target} and {target.with_name(SCHEMA_NAME)}", err=True)
        return
    if approving:
        _approve(checked, paired, references, folder, yes=yes)
        return
    _end(checked, fails)


@contextmanager
def _folder_of_renders(
    references: Path, renders: Path | None, limits_file: Path | None, settings: Settings, jobs: int
) -> Iterator[tuple[Path, Path, dict[str, str]]]:
    """The folder to check, what it came from, and why renders are not in it, by name.

    Where a plug-in is named, it is rendered with into a folder that is gone afterwards.
    """
    base = Path() if limits_file is None else limits_file.parent
    named = settings.plugin or PluginRenders()
    plugin = base / named.file if named.file else None
    if renders is not None and (plugin is None or renders.is_dir()) and not is_plugin(renders):
        yield renders, renders, {}
        return
    if renders is not None and is_plugin(renders):
        plugin = renders
    if plugin is None:
        raise BadParameter("RENDERS", "nothing", "a folder, a plug-in, or limits that name one as [plugin] file")
    if not is_plugin(plugin):
        raise BadParameter("plugin", str(plugin), "a plug-in's file that is there")
    with tempfile.TemporaryDirectory(prefix="kind-echo-renders-") as made:
        with progress("Rendering", "renders", 0) as shown:
            failed = make_renders(named, plugin, base, references, Path(made), jobs, shown.tell)
        yield Path(made), plugin, failed


def _end(checked: Sequence[Checked], failing: Sequence[Status]) -> None:
    """Raises RowsFailed where files could not be compared, LimitBroken where a pair has a status that fails."""
    errors = sum(one.status == "error" for one in checked)
    if errors:
        raise RowsFailed(errors, len(checked))
    if any(one.status in failing for one in checked):
        raise LimitBroken


def _approve(checked: Sequence[Checked], paired: Paired, references: Path, renders: Path, *, yes: bool) -> None:
    wanted = copies(checked, paired, references, renders)
    if not wanted:
        click.echo("There is nothing to approve.", err=True)
        return
    for source, target, instead_of in wanted:
        other = f" (instead of {instead_of})" if instead_of is not None else "" if target.exists() else " (new)"
        click.echo(f"{shown(source)} → {shown(target)}{other}", err=True)
    if not yes:
        if not sys.stdin.isatty():
            raise BadParameter("approve", True, "answered at a terminal, or given with --yes")
        click.confirm(f"Copy {len(wanted)} renders over the references?", abort=True, err=True)
    copied = list(approve(wanted))
    click.echo(f"Approved: {len(copied)}", err=True)


def _warn_of_limits_that_judged_nothing(checked: Sequence[Checked], settings: Settings) -> None:
    """A limit on what was measured of no pair that it holds for would look kept."""
    idle: set[str] = set()
    used: set[str] = set()
    for one in checked:
        if one.measured is not None:
            found = {reading.measure for reading in one.readings}
            own = {key for key, limit in settings.own_limits_for(one.name, one.measured.signal).items()
                   if limit.at_least is not None or limit.at_most is not None}  # fmt: skip
            used |= own & found
            idle |= own - found
    for key in sorted(idle - used):
        click.echo(f"kind-echo: the limit on {key} judged nothing: it was measured of no pair", err=True)


def _row(one: Checked) -> dict[str, object]:
    """A pair as it stands in JSON: the shape of `compare`, with its name and what came of it."""
    row: dict[str, object] = {"command": "check", "path": one.name, "status": one.status}
    if one.measured is None or one.pair is None:
        paths = [one.name] if one.pair is None else [shown(path) for path in one.pair.files]
        said = "error" if one.status == "error" else "why"
        return row | {"inputs": [{"path": path} for path in paths], said: one.why}
    files = zip(one.pair.files, one.measured.inputs, strict=True)
    return row | {
        "why": one.why,
        "inputs": [{"path": shown(path), **given} for path, given in files],
        "options": {"signal": one.measured.signal},
        "readings": [reading_document(r) for r in one.readings],
        "curves": one.measured.curves,
        "causes": [cause.document() for cause in one.measured.causes],
        "verdict": one.causes,
        "limits": documents_of(judged_readings(one)),
    }


def _csv(checked: Sequence[Checked]) -> str:
    lines: list[Sequence[object]] = [READING_COLUMNS]
    for one in checked:
        if one.measured is None:
            lines.append((one.name, *[None] * (len(READING_COLUMNS) - 2), one.why))
        lines += [reading_row(one.name, reading) for reading in one.readings]
    return csv_text(lines)


def _print(outcomes: Sequence[Outcome]) -> None:
    """Each pair that did not pass, worst first; then the counts."""
    from rich.table import Table

    from kind_echo.cli.measuring.printing import console_for_tables

    rows = [one for one in worst_first(outcomes) if one.status != "pass"]
    console = console_for_tables()
    if rows:
        table = Table(box=None, pad_edge=False)
        for heading in ("File", "Status", "Why"):
            table.add_column(heading, overflow="fold")
        for one in rows:
            table.add_row(one.title, one.status, one.message)
        console.print(table)
    console.print(totals(outcomes, "pair"), highlight=False)


def _write(path: Path, text: str) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text, "utf-8")
