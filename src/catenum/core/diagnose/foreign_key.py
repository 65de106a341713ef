"""Foreign key: a write to a child row locks its parent row, which nobody asked for in so many
words.

Evidence: a wait over a row of a table that the holder's or the waiter's statement does not name,
but that a foreign key of a table it writes refers to.
"""

from __future__ import annotations

from catenum.core.diagnose.evidence import ref
from catenum.core.record.recording import NO_KEYS, Finding, Recording, Statement, Wait
from catenum.core.servers import Rules, rules_of
from catenum.core.text import named


def find(recording: Recording) -> list[Finding]:
    """One finding for each child statement whose lock on the parent stands in a wait."""
    found: dict[Statement, tuple[str, Wait]] = {}
    for wait in recording.waits:
        parent = wait.resource.table
        if wait.resource.kind != "row" or parent is None:
            continue
        for name in (wait.waiter, wait.holder):
            for number in _children(recording, wait, name, parent):
                found.setdefault(Statement(transaction=name, statement=number), (parent, wait))
    return [
        _finding(recording, statement, parent, wait) for statement, (parent, wait) in found.items()
    ]


def _children(recording: Recording, wait: Wait, name: str, parent: str) -> list[int]:
    """Statements of ``name``, up to the wait, that write a child of ``parent`` without naming the
    parent.
    """
    numbers = sorted(
        {
            e.statement
            for e in recording.events
            if e.transaction == name and e.statement and e.move <= wait.move
        }
    )
    rules = rules_of(recording.target.server)
    found = []
    for number in numbers:
        touched = rules.sql.footprint(recording.sql(name, number) or "")
        if not _stands_in(wait, name, number, rules):
            continue
        child = any(
            access.verb in ("insert", "update")
            and parent in recording.tables.get(access.table, NO_KEYS).references
            for access in touched.accesses
        )
        if child and not touched.on(parent):
            found.append(number)
    return found


def _stands_in(wait: Wait, name: str, number: int, rules: Rules) -> bool:
    """Whether the lock that a foreign key takes is what this wait is about: it is asked for by the
    statement that waits, or it conflicts with what the other wants.
    """
    mode = rules.locks.parent_mode
    if name == wait.waiter:
        return number == wait.statement and wait.wanted.name == mode.name
    known = wait.holder_candidates or ((wait.holder_statement,) if wait.holder_statement else ())
    if (known and number not in known) or (wait.held is not None and wait.held.name != mode.name):
        return False
    found = rules.locks.conflict(wait.wanted, mode)
    return found is None or found.conflict


def _finding(recording: Recording, statement: Statement, parent: str, wait: Wait) -> Finding:
    name, number = statement.transaction, statement.statement
    other = wait.holder if wait.waiter == name else wait.waiter
    sql = recording.sql(name, number) or ""
    found = rules_of(recording.target.server).sql.footprint(sql)
    child = next(a.table for a in found.accesses if a.verb in ("insert", "update"))
    evidence = (
        (
            f"{named(name, number)} writes {child}, whose foreign key refers to {parent}: the"
            " server locks the parent row with it"
        ),
        (
            f"{named(wait.waiter, wait.statement)} wanted {wait.wanted} on {wait.resource.text}, "
            f"which {wait.holder} {'asked for first' if wait.queued else f'held ({wait.held})'}"
        ),
    )
    return Finding(
        id="foreign-key",
        title="A foreign key locks the parent",
        transactions=(name, other),
        statements=ref(name, number),
        evidence=evidence,
        advice=(
            (
                f"Lock the row of {parent} first, in every transaction that writes {child}: parent"
                " before child, always. Then the second one waits at its first statement, holding"
                " nothing."
            ),
            f"To try it: a remedy with reorder for {name}.",
        ),
    )
