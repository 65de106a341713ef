"""What several findings need to know of a deadlock, a wait, or the words for them."""

from __future__ import annotations

from catenum.core.record.recording import Deadlock, DeadlockMember, Recording, Statement, Wait


def wait_of(recording: Recording, deadlock: Deadlock, member: DeadlockMember) -> Wait | None:
    """The wait with which ``member`` stands in the cycle."""
    found = [
        wait
        for wait in recording.waits
        if wait.waiter == member.transaction
        and wait.holder == member.waits_for
        and wait.move <= deadlock.move
    ]
    return found[-1] if found else None


def ref(transaction: str, statement: int | None) -> tuple[Statement, ...]:
    """A reference, or none where the statement is not known."""
    return (
        (Statement(transaction=transaction, statement=statement),) if statement is not None else ()
    )
