"""Outcomes as JUnit's XML, which build servers read: a suite for each folder or case, a test for each pair or cell."""

from collections.abc import Iterable, Sequence
from itertools import groupby
from xml.etree import ElementTree

from kind_echo.wording.outcomes import Outcome, Status

_CONTROL = {code: "\ufffd" for code in range(32) if chr(code) not in "\t\n\r"} | {0xFFFE: "\ufffd", 0xFFFF: "\ufffd"}
"""Characters that XML 1.0 cannot hold."""

_COUNTS = {"failure": "failures", "error": "errors", "skipped": "skipped"}
_OF_ALL = ("tests", "failures", "errors")  # the schema in common use counts what is skipped by suite alone


def junit_text(outcomes: Sequence[Outcome], failing: Iterable[Status], name: str) -> str:
    """The document.

    Args:
        failing: statuses that fail the check; the others pass, or are skipped where there was nothing to judge.
        name: of all suites together.
    """
    failing = set(failing)
    root = ElementTree.Element("testsuites", name=_clean(name))
    for suite, members in groupby(sorted(outcomes, key=lambda one: (one.suite, one.name)), key=lambda one: one.suite):
        element = ElementTree.SubElement(root, "testsuite", name=_clean(suite))
        counts = dict.fromkeys(("tests", *_COUNTS.values()), 0)
        for one in members:
            kind = _kind(one, failing)
            counts["tests"] += 1
            if kind:
                counts[_COUNTS[kind]] += 1
            _add_test(element, one, kind)
        for key, count in counts.items():
            element.set(key, str(count))
    for key in _OF_ALL:
        root.set(key, str(sum(int(suite.get(key, "0")) for suite in root)))
    ElementTree.indent(root)
    return ElementTree.tostring(root, encoding="unicode", xml_declaration=True) + "\n"


def _kind(one: Outcome, failing: set[Status]) -> str:
    """The element that tells what came of a test; none of one that passes."""
    if one.status == "error":
        return "error"
    if one.status in failing:
        return "failure"
    return "skipped" if one.status in ("waived", "waiting") else ""


def _add_test(suite: ElementTree.Element, one: Outcome, kind: str) -> None:
    test = ElementTree.SubElement(suite, "testcase", classname=_clean(one.suite), name=_clean(one.name))
    text = _clean("\n".join(one.lines))
    if kind:
        told = ElementTree.SubElement(test, kind, message=_clean(one.message))
        if kind != "skipped":
            told.set("type", one.status)
            told.text = text
            return
    if text:
        ElementTree.SubElement(test, "system-out").text = text


def _clean(text: str) -> str:
    # A lone surrogate, as of a file name that is no UTF-8, cannot be written either.
    return text.translate(_CONTROL).encode("utf-8", "replace").decode()
