"""A lock on a whole table that no statement asked for: in the place of many on its rows
(escalation), or taken at once, to read through it.

Evidence: somebody waits for a table that another holds in a mode that shuts others out, though its
statements lock rows; the server is one that does so; how many rows they met, and the table has.
"""

from __future__ import annotations

from catenum.core.diagnose.evidence import ref
from catenum.core.diagnose.indexes import propose_index
from catenum.core.record.recording import NO_KEYS, Finding, Recording, Wait
from catenum.core.servers import rules_of
from catenum.core.text import counted, named


def find(recording: Recording) -> list[Finding]:
    """One finding for each holder and table."""
    rules = rules_of(recording.target.server)
    if not rules.locks.escalates:
        return []
    limit = rules.locks.escalates.limit(_settings(recording))
    found: dict[tuple[str, str], Finding] = {}
    for wait in recording.waits:
        if wait.resource.kind != "table" or wait.held is None or wait.resource.table is None:
            continue
        table = wait.resource.table
        if (wait.holder, table) in found:
            continue
        numbers = _many_rows(recording, wait, table)
        if numbers is not None:
            found[wait.holder, table] = _finding_for(recording, wait, numbers, limit)
    return list(found.values())


def _settings(recording: Recording) -> dict[str, str]:
    """Those of the scenario for this server."""
    given = (recording.definition or {}).get("server", {}).get(recording.target.server, {})
    return {str(name).lower(): str(value) for name, value in given.items()}


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


def _finding_for(recording: Recording, wait: Wait, numbers: dict[int, int], limit: int) -> Finding:
    table, locks = wait.resource.table or "", rules_of(recording.target.server).locks
    when = locks.escalates.words(limit)
    first, total = max(numbers, key=lambda number: numbers[number]), sum(numbers.values())
    level = next(one.isolation for one in recording.transactions if one.name == wait.holder)
    known = recording.rows.get(table)
    held = f"{wait.holder} held {wait.held} on the whole table, which no statement asks for"
    if total > limit and level != "serializable":
        kind, title = "escalation", "Many locks on rows became one on the table"
        in_all = f" ({total} in all)" if total != numbers[first] else ""
        met = f"met {counted(numbers[first], 'row')} of {table}{in_all}"
        why = f"this server does so where {when}"
    elif known is not None and known.total <= limit:
        kind, title = "table-lock", "A lock on the whole table, to read through it"
        met = f"is at {level}"
        why = (
            f"{table} has {counted(known.total, 'row')}: too few for one lock in the place of"
            f" many, which this server takes where {when}"
        )
    else:
        kind, title = "table-lock", "A lock on the whole table that no statement asks for"
        met = f"is at {level}"
        why = (
            f"this server takes it to read through a table, and where {when}; which it was, it"
            " does not tell"
        )
    return Finding(
        id=kind,
        title=title,
        transactions=(wait.waiter, wait.holder),
        statements=(*ref(wait.holder, first), *ref(wait.waiter, wait.statement)),
        evidence=(
            f"{named(wait.holder, first)} {met}, and {held}",
            f"{named(wait.waiter, wait.statement)} wanted {wait.wanted} on {table}, whichever row",
            why,
        ),
        advice=(
            _smaller(wait.holder)
            if kind == "escalation"
            else _fewer(recording, wait.holder, table, list(numbers))
        ),
    )


def _smaller(holder: str) -> tuple[str, ...]:
    return (
        f"Let {holder} work in smaller portions, each committed by itself: so many rows that they"
        " stay locks on rows.",
        "Let it find its rows by an index, so that it locks no others on its way.",
        "Or have the server escalate later, by its setting: it then keeps more locks.",
    )


def _fewer(recording: Recording, holder: str, table: str, numbers: list[int]) -> tuple[str, ...]:
    rules, keys = rules_of(recording.target.server), recording.tables.get(table, NO_KEYS)
    found = (
        propose_index(recording.sql(holder, number) or "", table, rules, keys) for number in numbers
    )
    return (
        *(f"Let it find its rows by an index: {ddl}" for ddl in dict.fromkeys(found) if ddl),
        f"At a weaker isolation level {holder} locks rows only, if what it has read may change"
        " before it ends.",
        f"Let {holder} come to {table} as late as it can, so that the lock is held for less.",
    )
