"""Index-path deadlock: one statement goes from an index to the row, another from the row to the
index.

Evidence: a cycle over one table in which one member waits in one index and another in another (or
at the row), each in the very statement that took what the other wants. Rows and order are the same;
the paths are not.
"""

from __future__ import annotations

from catenum.core.diagnose.evidence import ref, wait_of
from catenum.core.diagnose.indexes import propose_index
from catenum.core.record.recording import NO_KEYS, Deadlock, Finding, Recording, Wait
from catenum.core.servers import rules_of
from catenum.core.text import named


def find(recording: Recording) -> list[Finding]:
    """One finding for each such cycle."""
    return [
        found
        for deadlock in recording.deadlocks
        if (found := _finding_for(recording, deadlock)) is not None
    ]


def _finding_for(recording: Recording, deadlock: Deadlock) -> Finding | None:
    waits = [wait_of(recording, deadlock, member) for member in deadlock.members]
    known = [wait for wait in waits if wait is not None]
    tables = {wait.resource.table for wait in known}
    indexes = {wait.resource.index for wait in known}
    within = all(
        wait.holder_statement in (None, _statement_of(known, wait.holder)) for wait in known
    )
    if len(known) != len(waits) or len(tables) != 1 or len(indexes) < 2 or not within:
        return None
    table = next(iter(tables)) or ""
    evidence = []
    for wait in known:
        held = next((other for other in known if other.holder == wait.waiter), None)
        first = f"had locked {held.resource.text} and " if held else ""
        evidence.append(
            f"{named(wait.waiter, wait.statement)} {first}wanted {wait.resource.text}"
            f" ({wait.wanted})"
        )
        plan = recording.plan(wait.waiter, wait.statement)
        for step in plan.steps if plan else ():
            if step.table == table and step.locks:
                evidence.append(
                    f"{named(wait.waiter, wait.statement)} goes so: {'; '.join(step.locks)}"
                )
    proposed = _proposals(recording, known, table)
    return Finding(
        id="index-path",
        title="Index path: index → row against row → index",
        transactions=tuple(wait.waiter for wait in known),
        statements=tuple(r for wait in known for r in ref(wait.waiter, wait.statement)),
        evidence=tuple(evidence),
        advice=(
            "An index that covers the read keeps it off the rows, and the cycle cannot close.",
            *(f"{ddl};" for ddl in proposed),
            (
                "To try it: a remedy with index, under 'catenum trial --churn', since it takes"
                " timing to hit."
            ),
        ),
    )


def _statement_of(waits: list[Wait], name: str) -> int | None:
    return next((wait.statement for wait in waits if wait.waiter == name), None)


def _proposals(recording: Recording, waits: list[Wait], table: str) -> list[str]:
    keys, rules = recording.tables.get(table, NO_KEYS), rules_of(recording.target.server)
    found = []
    for wait in waits:
        sql = recording.sql(wait.waiter, wait.statement) or ""
        reads = any(
            access.verb in ("lock", "read") for access in rules.sql.footprint(sql).on(table)
        )
        ddl = propose_index(sql, table, rules, keys) if reads else None
        if ddl:
            found.append(ddl)
    return list(dict.fromkeys(found))
