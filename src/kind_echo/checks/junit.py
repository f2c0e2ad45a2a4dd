"""A check as JUnit's XML, which build servers read: a suite for each folder, a test for each pair."""

from collections.abc import Iterable, Sequence
from itertools import groupby
from pathlib import PurePosixPath
from xml.etree import ElementTree

from kind_echo.checks.judging import Checked, Status
from kind_echo.checks.telling import judged_lines, message

_CONTROL = {code: "\ufffd" for code in range(32) if chr(code) not in "\t\n\r"}
"""Characters that XML 1.0 cannot hold."""


def junit_text(checked: Sequence[Checked], failing: Iterable[Status]) -> str:
    """The document.

    Args:
        failing: statuses that fail the check; the others pass, or are skipped where there was nothing to judge.
    """
    failing = set(failing)
    root = ElementTree.Element("testsuites", name="kind-echo check")
    for folder, members in groupby(sorted(checked, key=_folder), key=_folder):
        suite = ElementTree.SubElement(root, "testsuite", name=_clean(folder))
        counts = {"tests": 0, "failures": 0, "errors": 0, "skipped": 0}
        for one in members:
            outcome = _outcome(one, failing)
            counts["tests"] += 1
            if outcome:
                counts[{"failure": "failures", "error": "errors"}.get(outcome, "skipped")] += 1
            _add_test(suite, folder, one, outcome)
        for key, count in counts.items():
            suite.set(key, str(count))
    for key in ("tests", "failures", "errors", "skipped"):
        root.set(key, str(sum(int(suite.get(key, "0")) for suite in root)))
    ElementTree.indent(root)
    return ElementTree.tostring(root, encoding="unicode", xml_declaration=True) + "\n"


def _folder(one: Checked) -> str:
    folder = PurePosixPath(one.name).parent.as_posix()
    return "renders" if folder == "." else folder


def _outcome(one: Checked, failing: set[Status]) -> str:
    if one.status == "error":
        return "error"
    if one.status in failing:
        return "failure"
    return "skipped" if one.status in ("waived", "waiting") else ""


def _add_test(suite: ElementTree.Element, folder: str, one: Checked, outcome: str) -> None:
    name = PurePosixPath(one.name).name
    test = ElementTree.SubElement(suite, "testcase", classname=_clean(folder), name=_clean(name))
    text = "\n".join(_lines(one))
    if outcome:
        told = ElementTree.SubElement(test, outcome, message=_clean(message(one)))
        if outcome != "skipped":
            told.set("type", one.status)
            told.text = _clean(text)
            return
    if text:
        ElementTree.SubElement(test, "system-out").text = _clean(text)


def _lines(one: Checked) -> list[str]:
    """What is known of a pair, for whoever reads the log: its cause, the readings that were judged, its files."""
    lines = [f"What explains the difference: {one.causes}"] if one.causes else []
    lines += judged_lines(one)
    if one.pair is not None:
        lines += [f"Reference: {one.pair.references[0]}", f"Render: {one.pair.renders[0]}"]
    return lines


def _clean(text: str) -> str:
    return text.translate(_CONTROL)
