"""Isolation stricter than the others, or than anybody asked for, in a conflict.

Evidence: the level the *server* reports for a transaction that was refused or stood in a wait,
against the levels of the others and against what the scenario asked for. People often deny using
the strictest level: the session's settings chose it.
"""

from __future__ import annotations

from catenum.core.record.recording import Finding, Recording, TransactionRecord
from catenum.core.servers import rules_of
from catenum.core.text import listed


def find(recording: Recording) -> list[Finding]:
    """One finding for each such transaction."""
    return [
        found
        for record in recording.transactions
        if (found := _finding_for(recording, record)) is not None
    ]


def _refusals(recording: Recording, name: str) -> list[str]:
    """What the server said when it refused a transaction, other than for a condition of its own."""
    errors = (event.error for event in recording.events if event.transaction == name)
    return [
        error.message
        for error in errors
        if error is not None and error.kind == "refused" and error.check != "required"
    ]


def _finding_for(recording: Recording, record: TransactionRecord) -> Finding | None:
    rules = rules_of(recording.target.server)
    rank = rules.locks.rank
    level = rank(record.isolation)
    refusals = _refusals(recording, record.name)
    waited = any(record.name in (wait.waiter, wait.holder) for wait in recording.waits)
    if level < rank("repeatable read") or not (refusals or waited):
        return None
    others = [r for r in recording.transactions if r.name != record.name and rank(r.isolation) >= 0]
    below = [r for r in others if rank(r.isolation) < level]
    unasked = record.asked is None and rank(recording.target.default_isolation) > rank(
        rules.locks.usual_level
    )
    # where it was not asked for, it is the server's own habit, and the same for everybody
    asked = record.asked is not None and bool(below) and len(below) == len(others)
    if not (unasked or asked):
        return None
    evidence = [f"the server ran {record.name} at {record.isolation}"]
    if unasked:
        evidence.append(
            "nothing in the scenario asks for it: the session's default is"
            f" {recording.target.default_isolation}"
        )
    if below:
        evidence.append(
            f"{listed([r.name for r in below])} ran at"
            f" {listed(sorted({r.isolation for r in below}, key=rank))}"
        )
    if refusals:
        evidence.append(
            f"{record.name} was refused ({refusals[0]}), which read committed never does"
        )
    return Finding(
        id="stricter-isolation",
        title="Isolation stricter than " + ("asked for" if unasked else "the others"),
        transactions=(record.name, *(r.name for r in below)),
        statements=(),
        evidence=tuple(evidence),
        advice=(
            (
                f"Find out whether {record.name} needs {record.isolation}: the least strict level"
                " that still keeps the rule refuses least."
            ),
            (
                f"To try it: a remedy with isolation: {{{record.name}: read committed}}, and a rule"
                " under holds that shows whether the data is still right."
            ),
        ),
    )
