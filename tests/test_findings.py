"""Findings: each has a case of its name under ``cases``, a recording in short with what must be
found in it.

A case needs no Python: ``transactions`` (name: isolation, status, statements), ``waits`` (one a
line: waiter statement < holder statement over resource @index :: wanted / held), ``cycles``,
``errors``, ``done``, ``went_on``, ``refused_commits``, ``holds``, ``found`` (the finding's id, words that it must say, or nothing) and
``not_said``.
"""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path

import pytest
import yaml

from catenum.core.diagnose.passes import PASSES, diagnose
from catenum.core.record.modes import Mode
from catenum.core.record.recording import (
    Deadlock,
    DeadlockMember,
    Event,
    LockEntry,
    Outcome,
    PathStep,
    Picture,
    Plan,
    Recording,
    ServerError,
    TableKeys,
    TableRows,
    TargetInfo,
    TransactionRecord,
    Wait,
)
from catenum.core.record.waits import Resource

FOLDER = Path(__file__).parent / "cases"
CASES = {
    f"{path.stem}: {title}": case
    for path in sorted(FOLDER.glob("*.yaml"))
    for title, case in yaml.safe_load(path.read_text()).items()
}
_WAIT = re.compile(
    r"(\w+) (\d) < (\w+) (\d) (queued )?over (.+?)(?: @(\w+))? :: ([^/]+) / (.+?)( lasts| caught)?$"
)


def recording_of(case: dict) -> Recording:
    records, events, waits = [], [], []
    for name, reported in case["transactions"].items():
        records.append(
            TransactionRecord(
                name=name, session="1", isolation=reported.get("isolation", "read committed"), asked=reported.get("asked"),
                read_only=False, ends=reported.get("ends", "commit"), status=reported.get("status", "committed"), attempts=1,
                statements=tuple(reported["statements"]), labels=(None,) * len(reported["statements"]),
            )
        )  # fmt: skip
        events += [
            _event(name, number, sql, "sent")
            for number, sql in enumerate(reported["statements"], 1)
        ]
    for line in case.get("waits", ()):
        waiter, statement, holder, first, queued, over, index, wanted, held, end = _WAIT.match(
            line
        ).groups()
        kind = "gap" if "gap" in over else "row" if "(" in over else "table"
        kind = "advisory" if over.startswith(("advisory lock", "named lock")) else kind
        resource = Resource(kind=kind, text=over, table=re.split(r"[(:]", over)[0], index=index)
        waits.append(
            Wait(
                waiter=waiter, attempt=1, statement=int(statement), holder=holder, holder_statement=int(first),
                resource=resource, wanted=Mode.read(wanted), held=Mode.read(held), queued=bool(queued), move=1, since_ms=1.0,
                until_ms=None if end == " lasts" else 2.0, ended="caught" if end == " caught" else "lasted",
            )
        )  # fmt: skip
    for name, number, rows in case.get("returned", ()):
        done = _event(name, number, "", "done")
        events.append(replace(done, rows=rows))
    for name, number, kind, message, *check in case.get("errors", ()):
        error = ServerError(
            code="40001", kind=kind, message=message, check=check[0] if check else None
        )
        events.append(_event(name, number, "", "failed", error))
    events += _going_on(case)
    cycles = tuple(
        _cycle(cycle, waits, ended=not case.get("unended")) for cycle in case.get("cycles", ())
    )
    target = TargetInfo(
        server=case.get("server", "postgresql"),
        version="15",
        url="case",
        default_isolation=case.get("default", "read committed"),
    )
    return Recording(
        scenario="case", about=None, target=target, started="", duration_ms=9.0, order=(), schedule=(),
        outcome=Outcome(kind="waited", holds=case.get("holds", {})), transactions=tuple(records), events=tuple(events),
        waits=tuple(waits), deadlocks=cycles, hidden_deadlocks=case.get("hidden_deadlocks", 0),
        handlers={name: tuple(conditions) for name, conditions in case.get("handlers", {}).items()}, pictures=tuple(_picture(case)), plans=tuple(_plans(case)),
        tables={
            name: TableKeys(primary=tuple(reported.get("primary", ["id"])), references=tuple(reported.get("references", ())), indexes={})
            for name, reported in case.get("tables", {}).items()
        },
        rows={name: TableRows(columns=(), rows=(), total=size) for name, size in case.get("sizes", {}).items()},
        definition={"server": {target.server: case.get("settings", {})}},
    )  # fmt: skip


def _going_on(case: dict):
    """What was done, which errors were passed over, in the order of the statements; commits that
    were answered with a rollback.
    """
    done = [(number, _event(name, number, "", "done")) for name, number in case.get("done", ())]
    for name, number, kind, undone, then in case.get("went_on", ()):
        error = ServerError(code="1", kind=kind, undone=undone, message="it failed")
        done.append((number, replace(_event(name, number, "", "failed", error), then=then)))
    yield from (event for _, event in sorted(done, key=lambda item: item[0]))
    for name in case.get("refused_commits", ()):
        yield replace(_event(name, None, "commit", "done"), rolled_back=True)


def _plans(case: dict):
    for name, number, table, kind, index, rows, *locks in case.get("plans", ()):
        step = PathStep(
            table=table,
            kind=kind,
            index=index,
            rows=rows,
            locks=tuple(locks),
            locks_rows_passed=bool(locks) and kind == "scan",
        )
        yield Plan(transaction=name, statement=number, steps=(step,))


def _picture(case: dict):
    for name, table, index, count in case.get("locks", ()):
        entries = [
            LockEntry(
                transaction=name, resource=Resource(kind="row", text=f"{table}(id={n})", table=table, index=index), mode=Mode.read("X record"),
                granted=True,
            )
            for n in range(count)
        ]  # fmt: skip
        yield Picture(move=1, at_ms=1.0, locks=tuple(entries), cost_ms=1.0)


def _event(name: str, number: int, sql: str, what: str, error: ServerError | None = None) -> Event:
    return Event(
        at_ms=0.5, move=1, transaction=name, attempt=1, statement=number, sql=sql, what=what, error=error
    )  # fmt: skip


def _cycle(names: str, waits: list[Wait], *, ended: bool) -> Deadlock:
    order = names.split()
    members = []
    for name, after in zip(order, [*order[1:], order[0]], strict=True):
        wait = next(w for w in waits if (w.waiter, w.holder) == (name, after))
        members.append(
            DeadlockMember(
                transaction=name, isolation="read committed", statement=wait.statement, waits_for=after,
                resource=wait.resource, wanted=wait.wanted, held=wait.held, holds=(), statements=(),
            )
        )  # fmt: skip
    return Deadlock(
        members=tuple(members),
        victim=order[-1],
        rule="",
        move=1,
        at_ms=1.0,
        verdict_ms=2.0 if ended else None,
        agreed=True,
        server_report=None,
    )


@pytest.mark.parametrize("title", CASES)
def test_a_case_is_found_with_its_evidence(title):
    case = CASES[title]
    found = diagnose(recording_of(case))
    assert [finding.id for finding in found] == list(case["found"])
    for finding in found:
        reported = " ".join((*finding.evidence, *finding.advice))
        for words in case["found"][finding.id] or ():
            assert words in reported
        for words in case.get("not_said", ()):
            assert words not in reported
        assert finding.evidence, "no advice without evidence"


def test_every_finding_has_a_case_of_its_name():
    names = {find.__module__.rpartition(".")[2].replace("_", "-") for find in PASSES}
    assert names == {path.stem for path in FOLDER.glob("*.yaml")}
    for name in names:
        assert any(
            name in case["found"] for title, case in CASES.items() if title.startswith(name + ":")
        )
