"""The members of a cycle, as a recording's waits tell them."""

from __future__ import annotations

from catenum.core.record.recording import DeadlockMember, Recording, Wait
from catenum.core.record.waits import Edge


def recording_edges(recording: Recording, edges: tuple[Edge, ...]) -> list[tuple[Wait, Wait]]:
    """Each member's own wait, and the wait of the one before it in the cycle, which tells what the
    member holds.
    """
    waits = {(wait.waiter, wait.holder): wait for wait in recording.waits}
    by_waiter = {wait.waiter: wait for wait in recording.waits}
    mine = [waits.get((edge.waiter, edge.holder), by_waiter[edge.waiter]) for edge in edges]
    return [(wait, mine[place - 1]) for place, wait in enumerate(mine)]


def member_of(own: Wait, before: Wait, recording: Recording) -> DeadlockMember:
    """One member, by its own wait and that of the one who waits for it."""
    record = recording.transaction(own.waiter)
    held = f"{before.resource.text} {before.held}" if before.held else before.resource.text
    return DeadlockMember(
        transaction=own.waiter,
        isolation=record.isolation if record else "not reported",
        statement=own.statement,
        waits_for=own.holder,
        resource=own.resource,
        wanted=own.wanted,
        held=own.held,
        holds=(held if not before.queued else f"a place in the queue for {held}",),
        statements=tuple(
            e.sql for e in recording.events if e.transaction == own.waiter and e.what == "sent"
        ),
        queued=own.queued,
    )
