"""What several findings need to know of a deadlock, a wait, or the words for them."""

from __future__ import annotations

from catenum.core.record.recording import Deadlock, DeadlockMember, Recording, Statement, Wait
from catenum.core.servers import rules_of
from catenum.core.servers.table_access import AccessMode


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


def read_by_default(recording: Recording, transaction: str, statement: int | None) -> bool:
    """Whether a statement is a plain read that took a lock all the same: by its transaction's
    level, on a server whose readers lock.
    """
    one = next((one for one in recording.transactions if one.name == transaction), None)
    if one is None or statement is None or not 0 < statement <= len(one.statements):
        return False
    rules = rules_of(recording.target.server)
    if rules.locks.read_mode(one.isolation, within_write=False) is not AccessMode.SHARE:
        return False
    found = rules.sql.footprint(one.statements[statement - 1])
    return bool(found.accesses) and all(access.verb == "read" for access in found.accesses)
