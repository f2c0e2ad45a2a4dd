"""Reports hold what the pages show, in one file that needs nothing beside itself; what was typed stays text."""

import re
from html.parser import HTMLParser
from io import BytesIO
from typing import Any

import pytest
from flask.testing import FlaskClient
from pypdf import PdfReader

from kind_echo.bench.reports import document, paper
from kind_echo.bench.reports.document import Entries, Entry, Grid, Mark, Report, Section, Table, Text
from tests.bench.test_notices import NOW

_A4, _LETTER = (595, 842), (612, 792)  # points: ISO 216 and ANSI/ASME Y14.1


class _Page(HTMLParser):
    """What a page shows by section, and all that it would fetch."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.sections: dict[str, str] = {}
        self.asks: list[str] = []
        self.scripts = 0
        self._open: list[str] = []
        self.feed(text)

    def handle_starttag(self, tag: str, attributes: list[tuple[str, str | None]]) -> None:
        given = dict(attributes)
        self.scripts += tag == "script" or any(name.startswith("on") for name in given)
        self.asks += [value for name, value in given.items() if name in ("src", "href") and value]
        if tag == "section":
            self._open.append(given["aria-label"] or "")
            self.sections[self._open[-1]] = ""

    def handle_endtag(self, tag: str) -> None:
        if tag == "section":
            self._open.pop()

    def handle_data(self, data: str) -> None:
        if self._open:
            self.sections[self._open[-1]] += f" {data.strip()}" if data.strip() else ""


def _get(client: FlaskClient, path: str, **query: object) -> Any:
    answer = client.get(path, query_string=query)
    assert answer.status_code == 200, answer.text
    return answer


def _run(client: FlaskClient, version: str = "2.1.0-rc2") -> dict[str, Any]:
    runs = _get(client, "/api/runs").json["runs"]
    return next(r for r in runs if (r["plan"], r["build"]["version"]) == ("Null regression", version))


def test_the_report_of_a_run_has_what_stands_was_found_decided_and_measured(looking: FlaskClient) -> None:
    run = _run(looking)
    answer = _get(looking, f"/api/reports/runs/{run['id']}.html")
    page, sheet = _Page(answer.text), _get(looking, f"/api/runs/{run['id']}").json
    assert "frame-ancestors 'none'" in answer.headers["Content-Security-Policy"]
    assert "sandbox" in answer.headers["Content-Security-Policy"]
    assert (page.scripts, [one for one in page.asks if not one.startswith("data:")]) == (0, [])
    assert "6 of 72 cells need a decision." in page.sections["Result"]
    assert "Since 2.1.0-rc1: 6 newly failing, 12 still failing, 54 fixed." in page.sections["Result"]
    for finding in sheet["findings"]:
        assert f"{finding['headline']} · {finding['verdict']}" in page.sections["Findings"]
        assert finding["where"] in page.sections["Findings"]
    assert page.sections["Decisions"].count("Waived until") == 1  # equal waivers once, with all of their cells
    assert "12 cells" in page.sections["Decisions"]
    assert page.sections["Cells that do not pass"].count("Decision 1.") == 12
    assert "What explains it: aliasing" in page.sections["The worst cells"]
    limits = page.sections["Limits in force"]
    assert "Residual, RMS ≤ −120 dBFS 72" in limits
    whole = page.sections["Every cell"]
    assert whole.count("Pass") == 54
    digest = _get(looking, f"/api/cells/{sheet['cells'][0]['id']}").json["render"]["sha256"]
    assert digest[:8] in whole
    assert "Every cell" not in _Page(_get(looking, f"/api/reports/runs/{run['id']}.html", appendix=False).text).sections


def test_a_report_of_some_cells_is_of_these_alone(looking: FlaskClient) -> None:
    run = _run(looking)
    cells = _get(looking, f"/api/runs/{run['id']}").json["cells"]
    wrong = [cell["id"] for cell in cells if cell["needs_you"]][:2]
    page = _Page(_get(looking, f"/api/reports/runs/{run['id']}.html", cells=",".join(map(str, wrong))).text)
    assert "2 of 2 cells need a decision." in page.sections["Result"]
    assert "6 cells, at 44.1 kHz" in page.sections["Findings"]
    assert ", 2 of them here." in page.sections["Findings"]
    assert "Decisions" not in page.sections
    other = _get(looking, f"/api/runs/{_run(looking, '2.1.0-rc1')['id']}").json["cells"][0]["id"]
    for asked, status in ((str(other), 404), ("1,x", 422), ("1,,2", 422)):
        refused = looking.get(f"/api/reports/runs/{run['id']}.html", query_string={"cells": asked})
        assert refused.status_code == status, asked


@pytest.mark.parametrize(("name", "size"), [("a4", _A4), ("letter", _LETTER)])
def test_a_pdf_has_its_paper_its_pages_counted_and_its_fonts_within(
    looking: FlaskClient, name: str, size: tuple[int, int]
) -> None:
    answer = _get(looking, f"/api/reports/runs/{_run(looking)['id']}.pdf", paper=name)
    assert answer.headers["Content-Type"] == "application/pdf"
    assert "skerry-2.1.0-rc2.pdf" in answer.headers["Content-Disposition"]
    read = PdfReader(BytesIO(answer.data))
    assert tuple(round(float(side)) for side in read.pages[0].mediabox[2:]) == size
    texts = [page.extract_text() for page in read.pages]
    assert all(f"{number} of {len(texts)}" in text for number, text in enumerate(texts, 1))
    assert "6 of 72 cells need a decision" in texts[0]
    assert all("Kind Echo 0.1.0" in text for text in texts)
    fonts = [font.get_object() for font in read.pages[0]["/Resources"]["/Font"].values()]  # type: ignore[index]
    assert all("/DescendantFonts" in font or "/FontDescriptor" in font for font in fonts)


def test_a_release_says_how_every_plan_stands_and_which_never_ran(looking: FlaskClient) -> None:
    effects = _get(looking, "/api/effects").json["effects"]
    builds = {b["version"]: b["id"] for one in effects if one["name"] == "Skerry" for b in one["builds"]}
    page = _Page(_get(looking, f"/api/reports/builds/{builds['2.1.0-rc2']}.html").text)
    assert "6 of 72 cells need a decision." in page.sections["Null regression"]
    assert "Real time against offline" in page.sections
    assert "Waived until" in page.sections["Null regression"]
    assert "Never run on this build: By hand." in page.sections["Result"]
    assert looking.get("/api/reports/builds/999999.html").status_code == 404


def test_a_cell_a_pair_a_set_and_a_listening_test_have_reports(looking: FlaskClient) -> None:
    sheet = _get(looking, f"/api/runs/{_run(looking)['id']}").json
    wrong = next(cell for cell in sheet["cells"] if cell["needs_you"])
    page = _Page(_get(looking, f"/api/reports/cells/{wrong['id']}.html").text)
    assert "Fail" in page.sections["Result"]
    assert "aliasing" in page.sections["What explains the difference"]
    assert "Residual, RMS all −" in page.sections["Readings"]
    assert "broken" in page.sections["Readings"]
    sides = _get(looking, f"/api/cells/{wrong['id']}").json
    assert sides["render"]["sha256"] in page.sections["What was compared"]
    pair = _get(looking, "/api/comparisons").json["comparisons"][0]
    assert "Readings" in _Page(_get(looking, f"/api/reports/pairs/{pair['id']}.html").text).sections
    for one in _get(looking, "/api/sets").json["sets"]:
        shown = _Page(_get(looking, f"/api/reports/sets/{one['id']}.html").text)
        files = _get(looking, f"/api/sets/{one['id']}").json["files"]
        assert all(file["name"] in shown.sections["Files"] for file in files)
    for test in _get(looking, "/api/listening/tests").json["tests"]:
        assert "Sides" in _Page(_get(looking, f"/api/reports/tests/{test['id']}.html").text).sections


@pytest.mark.parametrize("path", [
    "runs/999999.html", "cells/999999.pdf", "pairs/999999.html", "sets/999999.html", "tests/999999.html",
])  # fmt: skip
def test_what_is_not_there_has_no_report(looking: FlaskClient, path: str) -> None:
    assert looking.get(f"/api/reports/{path}").status_code == 404
    assert looking.get(f"/api/reports/{path.partition('.')[0]}.docx").status_code == 422


def _report(*parts: document.Part, title: str = "A report") -> Report:
    return Report("x" * 400, title, "", ["a fact"], [Section("Only", parts)], NOW, "https://echo.example/runs/1")


_NASTY = '</style><script>alert(1)</script>" onload="x <b>&amp; ' + "ß漢🎛\u202e" + "long" * 100


def test_what_people_typed_is_shown_as_they_typed_it() -> None:
    parts = (
        Text(_NASTY), Entries([Entry(_NASTY, _NASTY, [_NASTY])], numbered=True), Table((_NASTY,), [(_NASTY,)], (100,)),
        Grid(_NASTY, [[(_NASTY, 1)]], [(_NASTY, [Mark("fail", 1.0, _NASTY)])], _NASTY),
    )  # fmt: skip
    text = paper.html_text(_report(*parts, title=_NASTY))
    page = _Page(text)
    assert (page.scripts, page.asks) == (0, [])
    assert page.sections["Only"].count(_NASTY.strip()) >= 8
    style = text[text.index("<style>") : text.index("</style>")]
    assert "<" not in style.removeprefix("<style>")


@pytest.mark.parametrize("findings", [0, 300])
def test_none_and_hundreds_of_findings_are_laid_out_whole(tmp_path: Any, findings: int) -> None:
    entries = [
        Entry(f"Finding {n} " + "of a long name " * 8, "Fail", ["6 cells, everywhere."]) for n in range(findings)
    ]
    part: document.Part = Entries(entries) if entries else Text("No cell differs from its reference.", "quiet")
    paper.write_report(_report(part), tmp_path / "made.pdf")
    text = "".join(page.extract_text() for page in PdfReader(tmp_path / "made.pdf").pages)
    assert len(set(re.findall(r"Finding (\d+)", text))) == findings
    assert [file.name for file in tmp_path.iterdir()] == ["made.pdf"]
    assert len(paper.file_name(_report(part), "pdf")) < 255


def test_a_report_reaches_out_for_nothing(tmp_path: Any) -> None:
    path = tmp_path / "made.pdf"
    html = '<img src="http://127.0.0.1:9/x.png"><img src="file:///etc/hostname"><p>There</p>'
    (tmp_path / "made.html").write_text(html)
    paper._lay_out(tmp_path / "made.html", path)
    assert "There" in PdfReader(path).pages[0].extract_text()
    assert not PdfReader(path).pages[0].images


def test_a_layout_that_fails_says_so_and_leaves_nothing(tmp_path: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(paper, "_HERE", tmp_path)  # where no program lies that makes a PDF
    with pytest.raises(paper.PdfFailed, match="can be printed by a browser"):
        paper._lay_out(tmp_path / "none.html", tmp_path / "made.pdf")
    assert not list(tmp_path.iterdir())
