"""Escalation: a lock on a whole table that no statement asked for, in the place of many on its
rows.

Evidence: somebody waits for a table that another holds in a mode that shuts others out, though its
statements lock rows; the server is one that does so.
"""

from __future__ import annotations

from catenum.core.diagnose.evidence import ref
from catenum.core.record.recording import Finding, Recording, Wait
from catenum.core.servers import rules_of
from catenum.core.text import named


def find(recording: Recording) -> list[Finding]:
    """One finding for each holder and table."""
    rules = rules_of(recording.target.server)
    if not rules.locks.escalates:
        return []
    found: dict[tuple[str, str], Finding] = {}
    for wait in recording.waits:
        if wait.resource.kind != "table" or wait.held is None or wait.resource.table is None:
            continue
        table = wait.resource.table
        if (wait.holder, table) in found:
            continue
        numbers = _many_rows(recording, wait, table)
        if numbers is not None:
            found[wait.holder, table] = _finding_for(wait, table, numbers, rules.locks.escalates)
    return list(found.values())


def _many_rows(recording: Recording, wait: Wait, table: str) -> dict[int, int] | None:
    """How many rows each of the holder's statements met in the table; None where one of them asks
    for the table itself.
    """
    rules = rules_of(recording.target.server)
    one = next((one for one in recording.transactions if one.name == wait.holder), None)
    if one is None:
        return None
    found: dict[int, int] = {}
    for number, sql in enumerate(one.statements, 1):
        footprint = rules.sql.footprint(sql)
        accesses = footprint.on(table)
        if any(access.verb == "schema" or access.lock_mode for access in accesses):
            return None
        rows = [
            event.rows or 0
            for event in recording.events
            if event.transaction == wait.holder
            and event.statement == number
            and event.what == "done"
            and event.at_ms <= wait.since_ms
        ]
        if accesses and rows:
            found[number] = rows[-1]
    return found or None


def _finding_for(wait: Wait, table: str, numbers: dict[int, int], when: str) -> Finding:
    total = sum(numbers.values())
    first = max(numbers, key=lambda number: numbers[number])
    return Finding(
        id="escalation",
        title="Many locks on rows became one on the table",
        transactions=(wait.waiter, wait.holder),
        statements=(*ref(wait.holder, first), *ref(wait.waiter, wait.statement)),
        evidence=(
            f"{named(wait.holder, first)} met {numbers[first]} rows of {table}"
            + (f" ({total} in all)" if total != numbers[first] else "")
            + f", and {wait.holder} held {wait.held} on the whole table, which no statement asks"
            " for",
            f"{named(wait.waiter, wait.statement)} wanted {wait.wanted} on {table}, whichever row",
            f"this server does so where {when}",
        ),
        advice=(
            f"Let {wait.holder} work in smaller portions, each committed by itself: so many rows"
            " that they stay locks on rows.",
            "Let it find its rows by an index, so that it locks no others on its way.",
            "Or have the server escalate later, by its setting: it then keeps more locks.",
        ),
    )
