"""Refused by serialization checks: the isolation level keeps its promise by refusing.

Evidence: an error of SQLSTATE class 40001. PostgreSQL's message tells which check it was
(documentation, 13.2.2 and 13.2.3).
"""

from __future__ import annotations

from catenum.core.diagnose.evidence import ref
from catenum.core.record.recording import Event, Finding, Recording
from catenum.core.text import named


def find(recording: Recording) -> list[Finding]:
    """One finding for each refused transaction."""
    failed = [
        event
        for event in recording.events
        if event.error is not None and event.error.kind == "refused"
    ]
    return [
        _finding(recording, event)
        for event in failed
        if event.error and event.error.check != "required"
    ]


def _finding(recording: Recording, event: Event) -> Finding:
    record = recording.transaction(event.transaction)
    error = event.error
    isolation = record.isolation if record else "its level"
    message = error.message if error else ""
    what = named(event.transaction, event.statement)
    others = [
        r.name
        for r in recording.transactions
        if r.name != event.transaction and r.status == "committed"
    ]
    if error is not None and error.check == "row version":
        reason = (
            f"the row was changed by a transaction that committed after {event.transaction}'s"
            f" snapshot was taken; at {isolation} the first to write it wins"
        )
    else:
        reason = (
            "reads and writes of transactions that ran at the same time depend on each other in a "
            "way that no order one after "
            "another could give"
        )
    evidence = [
        f"{what} was refused at {isolation}: {message} ({error.code if error else '?'})",
        reason,
    ]
    if error is not None and error.detail:
        evidence.append(f"the server's reason: {error.detail}")
    rules = [title for title, value in recording.outcome.holds.items() if value]
    if rules:
        evidence.append(f"the rule still holds: {'; '.join(rules)}")
    return Finding(
        id="serialization-refused",
        title="Refused by serialization checks",
        transactions=(event.transaction, *others),
        statements=ref(event.transaction, event.statement),
        evidence=tuple(evidence),
        advice=(
            (
                f"A refusal is not a fault: it is how {isolation} keeps the data right. Roll back"
                " and try the whole transaction again from its first statement, so that it decides"
                " on fresh data."
            ),
            f"To try it: a remedy with retry: {{{event.transaction}: {{times: 3}}}}.",
        ),
    )
