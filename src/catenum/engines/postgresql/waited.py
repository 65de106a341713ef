"""What a session of a running PostgreSQL waits for, and for whom: by the lock table's rows of those who wait, and where
they do not tell, by the statement.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from catenum.core.moment.sample import SessionInfo
from catenum.core.record.modes import Mode
from catenum.core.record.waits import Resource
from catenum.core.servers.postgresql import EXCLUSIVE, TABLE_SHARE
from catenum.core.sql.named_locks import advisory_of_row
from catenum.engines.lookout import named_row
from catenum.engines.postgresql.locks import RULES

#: What the lock on a row's place tells of the row lock that its holder is after (``tupleLockExtraInfo``, heapam.c).
_ROW_MODES = {
    "AccessShareLock": "FOR KEY SHARE",
    "RowShareLock": "FOR SHARE",
    "ExclusiveLock": "FOR NO KEY UPDATE",
    "AccessExclusiveLock": "FOR UPDATE",
}
#: The mode in which a lock is wanted, where only the lock table would tell.
NOT_REPORTED = Mode("other", "mode not reported")


def past_queues(waiting: Mapping[int, tuple[str | None, Sequence[int]]]) -> dict[int, list[int]]:
    """Whom each session waits for, by its wait event and ``pg_blocking_pids``.

    A session that wants a row that is locked takes its tuple's lock and waits for the locker's transaction; all
    others queue
    for the tuple's lock (heapam.c, ``heap_acquire_tuplock``; src/backend/access/heap/README.tuplock). They wait for the
    row like the first one: for its holder, not for each other.
    """
    found = {}
    for session, (event, listed) in waiting.items():
        blockers = list(dict.fromkeys(listed))
        if event == "tuple":
            first = [pid for pid in blockers if waiting.get(pid, ("", ()))[0] == "transactionid"]
            beyond = [holder for pid in first for holder in waiting[pid][1] if holder != session]
            blockers = list(dict.fromkeys(beyond)) or blockers
        found[session] = blockers
    return found


def prepared_name(locks: Sequence[tuple[Any, ...]], prepared: Sequence[tuple[str, str, str]]) -> str:
    """Which prepared transaction is waited for: the one with the number that the waiter waits for, or the only one."""
    wanted = {lock[7] for lock in locks if not lock[3]}
    found = [gid for number, gid, _ in prepared if number in wanted] or [gid for _, gid, _ in prepared]
    return f"prepared transaction {found[0]}" if len(found) == 1 else "a prepared transaction"


def waited_for(locks: Sequence[tuple[Any, ...]], session: SessionInfo) -> tuple[Resource, Mode] | None:
    """What a session waits for by its own rows of the lock table; None where they do not tell which row or table.

    Whoever waits for a row's transaction has the lock on the row's place (heapam.c, ``heap_acquire_tuplock``): with a
    foreign key that is the parent's row, with a trigger another table's, whatever the statement says.
    """
    wanted = next((lock for lock in locks if not lock[3]), None)
    if wanted is None:
        return None
    kind, mode, relation = wanted[1], wanted[2], wanted[4]
    if kind == "relation":
        return lock_resource(kind, relation, None, None, None, ()), Mode("table", mode)
    if kind == "advisory":
        return lock_resource(kind, None, None, None, None, wanted[8:11]), Mode("table", mode)
    place = wanted if kind == "tuple" else next((lock for lock in locks if lock[1] == "tuple"), None)
    if place is None or kind not in ("tuple", "transactionid") or place[4] is None:
        return None
    named = next((a for a in RULES.footprint(session.statement or "").accesses if a.table == place[4]), None)
    resource = (
        named_row(named) if named and named.equals else lock_resource("tuple", place[4], place[5], place[6], None, ())
    )
    return resource, Mode("row", _ROW_MODES.get(place[2], place[2]))


def resource_of(session: SessionInfo, event: str) -> tuple[Resource, Mode]:
    """What a session waits for, as its statement tells: the lock table is not read for that."""
    found = RULES.footprint(session.statement or "")
    if event in ("transactionid", "tuple"):
        for access in found.accesses:
            mode = RULES.row_mode(access, frozenset())
            if mode is not None:
                return named_row(access), mode
        return Resource(kind="transaction", text="the end of the other transaction"), TABLE_SHARE
    if event == "relation":
        for access in found.accesses:
            return Resource(kind="table", text=access.table, table=access.table), RULES.table_mode(access)
        return Resource(kind="table", text="a table"), NOT_REPORTED
    if event == "advisory":
        lock = next((lock for lock in found.named_locks if lock.takes), None)
        if lock is None:
            return Resource(kind="advisory", text="an advisory lock"), NOT_REPORTED
        resource = lock.resource or Resource(kind="advisory", text="an advisory lock")
        return resource, TABLE_SHARE if lock.shared else EXCLUSIVE
    return Resource(kind="other", text=f"{event or 'a'} lock"), NOT_REPORTED


def lock_resource(
    kind: str, relation: str | None, page: int | None, slot: int | None, xid: str | None, key: Sequence[Any]
) -> Resource:
    if kind == "advisory":
        return advisory_of_row(*map(int, key))
    if kind == "tuple":
        return Resource(kind="row", text=f"{relation} row at ({page},{slot})", table=relation)
    if kind == "relation":
        return Resource(kind="table", text=relation or "a table of another database", table=relation)
    if kind == "transactionid":
        return Resource(kind="transaction", text=f"transaction {xid}")
    return Resource(kind="other", text=f"{kind} lock {key[1] or ''}".strip())
