"""A report as one HTML file that needs nothing beside itself, and as PDF."""

import base64
import importlib.util
import subprocess
import sys
import tempfile
from functools import cache
from pathlib import Path
from typing import Literal

import jinja2
from markupsafe import Markup

from kind_echo import __version__
from kind_echo.bench.reports.document import Report
from kind_echo.core.registry.errors import Invalid, KindEchoError
from kind_echo.wording.decisions import moment_text

Paper = Literal["a4", "letter"]
Form = Literal["html", "pdf"]

_HERE = Path(__file__).parent
_MOST_SECONDS = 300
_MOST_LETTERS = 120  # of a file's name: disks take 255 bytes


class PdfMissing(Invalid):
    """A PDF is asked for, and what makes it is not installed."""

    def __init__(self) -> None:
        super().__init__("Reports as PDF need more than the package by itself: pip install 'kind-echo[pdf]'")


class PdfFailed(KindEchoError):
    """A report could not be laid out as PDF."""

    def __init__(self, why: str) -> None:
        super().__init__(f"The report was not made as PDF: {why}. As HTML it can be printed by a browser.")


def file_name(report: Report, form: Form) -> str:
    """What a report's file is called."""
    return f"{report.name[:_MOST_LETTERS]}.{form}"


def check_report(path: Path) -> None:
    """Raises PdfMissing where a PDF is asked for, by its ending, and cannot be made."""
    if path.suffix.lower() == ".pdf" and importlib.util.find_spec("weasyprint") is None:
        raise PdfMissing


def write_report(report: Report, path: Path, paper: Paper = "a4") -> None:
    """Write a report as HTML or PDF, by its ending; whole or not at all. Raises what `check_report` raises, PdfFailed.

    A PDF is laid out in a process of its own: it takes a core for seconds, and memory.
    """
    check_report(path)
    path.parent.mkdir(parents=True, exist_ok=True)
    text = html_text(report, paper)
    with tempfile.TemporaryDirectory(dir=path.parent, prefix=".report-") as folder:
        made = Path(folder) / "report.html"
        made.write_text(text, "utf-8")
        if path.suffix.lower() == ".pdf":
            source, made = made, made.with_suffix(".pdf")
            _lay_out(source, made)
        made.replace(path)


def _lay_out(source: Path, target: Path) -> None:
    command = [sys.executable, str(_HERE / "to_pdf.py"), str(source), str(target)]
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=_MOST_SECONDS, check=False)
    except subprocess.TimeoutExpired as error:
        raise PdfFailed(f"it took more than {_MOST_SECONDS} s") from error
    if done.returncode != 0 or not target.exists():
        last = done.stderr.strip().splitlines()[-1:] or [f"status {done.returncode}"]
        raise PdfFailed(last[0])


def html_text(report: Report, paper: Paper = "a4") -> str:
    """A report as HTML, ready to be printed on a paper."""
    return _template().render(report=report, paper=paper, font=_font(), footer=_footer(report))


def _footer(report: Report) -> str:
    parts = [report.title, f"Kind Echo {__version__}", moment_text(report.made), report.address]
    return " · ".join(part for part in parts if part)


@cache
def _template() -> jinja2.Template:
    known = jinja2.Environment(
        loader=jinja2.FileSystemLoader(_HERE), autoescape=True, trim_blocks=True, undefined=jinja2.StrictUndefined
    )
    known.filters["b64"] = lambda data: base64.b64encode(data).decode()
    known.filters["css"] = _css
    return known.get_template("report.html.jinja")


def _css(text: str) -> Markup:
    """A text within the quotes of a style sheet, that can end neither these nor the style sheet."""
    return Markup("".join(one if one.isalnum() or one in " .,·:/-" else f"\\{ord(one):06x}" for one in text))


@cache
def _font() -> str:
    return base64.b64encode((_HERE / "commissioner.woff2").read_bytes()).decode()
