"""A statement that is done but did not bring what its transaction requires: a version check that
found another version.

Evidence: a refusal by the scenario's own `require`; no server was asked. Who changed the row
between is not known from it alone, so only those are named that committed a change of the same
table before.
"""

from __future__ import annotations

from catenum.core.diagnose.evidence import ref
from catenum.core.record.recording import Event, Finding, Recording
from catenum.core.servers import rules_of
from catenum.core.text import listed, named, one_line


def find(recording: Recording) -> list[Finding]:
    """One finding for each statement that was refused so, by the first time."""
    found: dict[tuple[str, int | None], Event] = {}
    for event in recording.events:
        if event.error is not None and event.error.check == "required":
            found.setdefault((event.transaction, event.statement), event)
    return [_finding(recording, event) for event in found.values()]


def _finding(recording: Recording, event: Event) -> Finding:
    message = event.error.message if event.error else ""
    others = _committed_before(recording, event)
    between = f"{listed(others)} committed a change of the same table before" if others else ""
    return Finding(
        id="unmet-requirement",
        title="A statement did not bring what it requires",
        transactions=(event.transaction, *others),
        statements=ref(event.transaction, event.statement),
        evidence=tuple(
            text
            for text in (
                f"{named(event.transaction, event.statement)}, {one_line(event.sql)}: {message}",
                between,
            )
            if text
        ),
        advice=(
            (
                "What the transaction relied on had changed since it read it. Roll back and retry"
                " from the first statement, so that it decides on fresh data."
            ),
            f"To try it: a remedy with retry: {{{event.transaction}: {{times: 3}}}}.",
        ),
    )


def _committed_before(recording: Recording, refused: Event) -> list[str]:
    rules = rules_of(recording.target.server)
    mine = {access.table.lower() for access in rules.sql.footprint(refused.sql).accesses}
    before = recording.events[: recording.events.index(refused)]
    found = []
    for record in recording.transactions:
        own = [e for e in before if e.transaction == record.name and e.what == "done"]
        written = {
            a.table.lower() for e in own for a in rules.sql.footprint(e.sql).accesses if a.writes
        }
        if (
            record.name != refused.transaction
            and written & mine
            and any(e.sql == "commit" for e in own)
        ):
            found.append(record.name)
    return found
