"""What several findings need to know of a deadlock, a wait, or the words for them."""

from __future__ import annotations

from catenum.core.recording import Deadlock, Member, Recording, Statement, Wait


def wait_of(recording: Recording, deadlock: Deadlock, member: Member) -> Wait | None:
    """The wait with which ``member`` stands in the ring."""
    found = [
        wait
        for wait in recording.waits
        if wait.waiter == member.transaction and wait.holder == member.waits_for and wait.move <= deadlock.move
    ]
    return found[-1] if found else None


def ref(transaction: str, statement: int | None) -> tuple[Statement, ...]:
    """A reference, or none where the statement is not known."""
    return (Statement(transaction=transaction, statement=statement),) if statement is not None else ()


def named(transaction: str, statement: int | None) -> str:
    """A statement as people say it: ``early 2``."""
    return f"{transaction} {statement}" if statement is not None else f"the end of {transaction}"


def listed(names: list[str]) -> str:
    """Names in a row: ``early, late and tide``."""
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
