"""The result of ``check`` as JUnit XML, as build servers read it.

What a case is not must not pass as a success: one with nothing expected is skipped, one that could
not be run is an error.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import groupby
from xml.etree import ElementTree

from catenum.core.check.result import CheckCase, CheckResult

#: What XML 1.0 cannot hold (section 2.2, "Char").
_NO_XML = re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
_SKIPPED = ("nothing expected", "not for this server")


def to_junit(result: CheckResult) -> str:
    """A document: a suite for each target, a test for each case."""
    root = ElementTree.Element("testsuites")
    for target, cases in groupby(result.cases, key=lambda case: case.target):
        root.append(_suite(target or "no target", list(cases)))
    ElementTree.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(
        root, encoding="unicode"
    )


def _suite(target: str, cases: Sequence[CheckCase]) -> ElementTree.Element:
    suite = ElementTree.Element(
        "testsuite",
        {
            "name": _text(f"catenum check on {target}"),
            "tests": str(len(cases)),
            "failures": str(sum(_is_failure(case) for case in cases)),
            "errors": str(sum(case.status == "error" for case in cases)),
            "skipped": str(sum(case.status in _SKIPPED for case in cases)),
            "time": f"{sum(case.seconds for case in cases):.3f}",
        },
    )
    suite.extend(_test(case) for case in cases)
    return suite


def _test(case: CheckCase) -> ElementTree.Element:
    name = case.title or case.status
    test = ElementTree.Element(
        "testcase",
        {
            "classname": _text(case.scenario),
            "name": _text(f"{name} [{case.server or 'no server'}]"),
            "time": f"{case.seconds:.3f}",
        },
    )
    if case.status in _SKIPPED:
        ElementTree.SubElement(test, "skipped", {"message": case.status})
    elif case.status == "error" or _is_failure(case):
        kind = "error" if case.status == "error" else "failure"
        message = "; ".join(case.problems) or case.status
        found = ElementTree.SubElement(
            test, kind, {"message": _text(message), "type": case.rule or case.status}
        )
        found.text = _text("\n".join(_lines(case)))
    elif case.problems or case.allowed:
        out = ElementTree.SubElement(test, "system-out")
        out.text = _text("\n".join((*case.problems, case.allowed)).strip())
    return test


def _is_failure(case: CheckCase) -> bool:
    return case.status in ("not as expected", "not proven")


def _lines(case: CheckCase) -> Iterator[str]:
    yield f"{case.status}: {case.title}"
    yield from case.problems
    if case.place is not None:
        yield f"expected at {case.place}"
    yield from (f"{one.place}: {one.text}" for one in case.blame)
    if case.schedule:
        yield f"schedule: {' '.join(case.schedule)}"
    if case.advice:
        yield case.advice


def _text(text: str) -> str:
    return _NO_XML.sub("\ufffd", text)
