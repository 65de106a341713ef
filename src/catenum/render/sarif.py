"""The result of ``check`` as SARIF 2.1.0 (OASIS, "Static Analysis Results Interchange Format"):
what is not as expected, at the statement to look at.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import PurePath
from typing import Any
from urllib.parse import quote

from catenum.core.check.result import CheckCase, CheckResult
from catenum.core.errors import Place
from catenum.core.version import __version__

_SCHEMA = (
    "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
)
#: What the rules are about; a kind of anomaly speaks for itself.
_RULES = {
    "deadlock": "Transactions wait for each other in a cycle, and the server gives one up.",
    "refused": "The server refuses a transaction, since it fits no serial order.",
    "timeout": "A statement gives up waiting for a lock.",
    "stuck": "A statement waits for a transaction that is left open.",
    "order": "A named order is not as the scenario expects it.",
    "not-proven": "Nothing else was seen, but not all schedules were run.",
    "scenario": "The scenario cannot be read or run.",
    "expectation": "The schedules are not as the scenario expects them.",
}


def to_sarif(result: CheckResult) -> str:
    """A log with one run."""
    failed = result.failed
    rules = list(dict.fromkeys(case.rule or "expectation" for case in failed))
    run = {
        "tool": {
            "driver": {
                "name": "catenum",
                "version": __version__,
                "rules": [_rule(name) for name in rules],
            }
        },
        "columnKind": "unicodeCodePoints",
        "invocations": [{"executionSuccessful": not any(c.status == "error" for c in failed)}],
        "results": [_result(case, rules.index(case.rule or "expectation")) for case in failed],
    }
    return json.dumps({"$schema": _SCHEMA, "version": "2.1.0", "runs": [run]}, indent=2) + "\n"


def _rule(name: str) -> dict[str, Any]:
    what = _RULES.get(name, f"A schedule shows this anomaly: {name.replace('-', ' ')}.")
    return {"id": name, "shortDescription": {"text": what}}


def _result(case: CheckCase, rule: int) -> dict[str, Any]:
    where = [(one.place, one.text) for one in case.blame]
    if case.place is not None and case.status != "error":
        where.append((case.place, f"expected here: {case.expected or case.what}"))
    first = where[0][0] if where else case.place or Place(case.file)
    server = f" ({case.server} {case.version})" if case.server else ""
    problems = "; ".join(case.problems) or case.status
    found: dict[str, Any] = {
        "ruleId": case.rule or "expectation",
        "ruleIndex": rule,
        "level": "warning" if case.status == "not proven" else "error",
        "message": {"text": f"{case.scenario}, {case.title}{server}: {problems}."},
        "locations": [_location(first)],
        "partialFingerprints": {"case/v1": f"{case.file}/{case.server}/{case.title}"},
    }
    related = [
        {**_location(place), "id": number, "message": {"text": text}}
        for number, (place, text) in enumerate(where)
    ]
    if related:
        found["relatedLocations"] = related
    return found


def _location(place: Place) -> dict[str, Any]:
    physical: dict[str, Any] = {"artifactLocation": {"uri": _uri(place.file)}}
    if place.line:
        physical["region"] = dict(_region(place))
    return {"physicalLocation": physical}


def _region(place: Place) -> Iterator[tuple[str, int]]:
    yield "startLine", place.line
    if place.column:
        yield "startColumn", place.column


def _uri(file: str) -> str:
    """A reference relative to where the check was run, or an absolute one."""
    path = PurePath(file)
    if path.is_absolute():
        return path.as_uri()
    return quote(path.as_posix(), safe="/:" if ":" not in path.parts[0] else "/")
