"""Shared read: a plain query is held up by a writer, or holds one up.

Evidence: a wait in which one side is a plain read, at a level at which this server's readers lock
the rows that they read.
"""

from __future__ import annotations

from catenum.core.diagnose import update_lock
from catenum.core.diagnose.evidence import read_by_default, ref
from catenum.core.diagnose.indexes import propose_index
from catenum.core.record.recording import Finding, Recording, Wait
from catenum.core.servers import rules_of
from catenum.core.text import named


def find(recording: Recording) -> list[Finding]:
    """One finding for each pair of a reader and a writer."""
    found: dict[tuple[str, str], Finding] = {}
    written = [set(one.transactions) for one in update_lock.find(recording)]
    for wait in recording.waits:
        pair = (wait.waiter, wait.holder)
        if pair in found or any(set(pair) <= one for one in written):
            continue  # of two who read and then write, that says more
        held_up = read_by_default(recording, wait.waiter, wait.statement)
        holds_up = not held_up and any(
            read_by_default(recording, wait.holder, number) for number in _taken_by(wait)
        )
        if held_up or holds_up:
            found[wait.waiter, wait.holder] = _finding_for(recording, wait, held_up=held_up)
    return list(found.values())


def _taken_by(wait: Wait) -> tuple[int, ...]:
    """The statements of the holder that took the lock; of several, all must be reads."""
    if wait.holder_statement is not None:
        return (wait.holder_statement,)
    return wait.holder_candidates if len(wait.holder_candidates) == 1 else ()


def _finding_for(recording: Recording, wait: Wait, *, held_up: bool) -> Finding:
    reader, number = (wait.waiter, wait.statement) if held_up else (wait.holder, _taken_by(wait)[0])
    level = next(one.isolation for one in recording.transactions if one.name == reader)
    over = wait.resource.text
    other = wait.holder if held_up else wait.waiter
    evidence = (
        f"{named(reader, number)} only reads, and at {level} this server's readers lock what they"
        " read",
        f"it waited for {other} over {over} ({wait.wanted} against {wait.held or 'a lock'})"
        if held_up
        else f"{named(other, wait.statement)} waited for its {wait.held or 'lock'} on {over},"
        f" wanting {wait.wanted}",
    )
    index = _index(recording, wait, reader, number) if held_up else None
    by_index = "Let it find its rows by an index, so that it passes no rows that others change:"
    keeps = (
        *([by_index, index] if index else ()),
        f"Keep {other} short: what it changed stays locked until it commits.",
    )
    lets_go = (
        f"Run {reader} at read committed, if what it has read may change before it ends: its locks"
        " then go as it reads on.",
        f"Let {reader} read as its last step before it commits.",
    )
    return Finding(
        id="shared-read",
        title="A plain read takes locks",
        transactions=(wait.waiter, wait.holder),
        statements=(*ref(reader, number), *ref(wait.waiter, wait.statement if held_up else None)),
        evidence=evidence,
        advice=(
            *(keeps if held_up else lets_go),
            "Reading uncommitted rows waits for nobody, and may see what is never committed.",
        ),
    )


def _index(recording: Recording, wait: Wait, reader: str, number: int | None) -> str | None:
    """The index by which a query would come to its rows alone."""
    table = wait.resource.table or ""
    sql = recording.sql(reader, number) if number is not None else None
    keys = recording.tables.get(table)
    if sql is None or keys is None:
        return None
    return propose_index(sql, table, rules_of(recording.target.server), keys)
