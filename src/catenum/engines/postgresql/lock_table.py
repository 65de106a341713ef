"""What a session of a running PostgreSQL waits for, and for whom: by the lock table's rows of those who wait, and where
they do not tell, by the statement.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import LiteralString, NamedTuple

from catenum.core.record.modes import Mode
from catenum.core.record.waits import Resource
from catenum.core.servers.postgresql import EXCLUSIVE, TABLE, TABLE_SHARE
from catenum.core.snapshot.sample import SessionInfo
from catenum.core.sql.named_locks import advisory_of_row
from catenum.core.sql.statements import Access
from catenum.engines.lookout import named_row
from catenum.engines.postgresql.locks import RULES

#: The columns of ``LockRow``; the names of tables of this database.
_COLUMNS: LiteralString = """
select l.pid, l.locktype, l.mode, l.granted, c.relname, l.page, l.tuple, l.transactionid::text,
       l.classid, l.objid, l.objsubid, {since}, l.database, l.relation, n.nspname,
       case when l.database <> 0 and d.datname <> current_database() then d.datname end
from {locks} l left join pg_database d on d.oid = l.database
left join pg_class c on c.oid = l.relation and (l.database = 0 or d.datname = current_database())
left join pg_namespace n on n.oid = c.relnamespace
"""
#: The lock that each of some sessions waits for, with the time since when; who holds the tables and advisory locks that
#: are waited for; and who has the lock on a row's place.
_WAITED: LiteralString = """
with l as materialized (select * from pg_locks),
w as materialized (select * from l where not granted and pid = any(%s::int[])){columns}
where (not l.granted and l.pid = any(%s::int[])) or (l.granted and (l.locktype = 'tuple'
  or (l.locktype = 'relation' and (l.database, l.relation) in (select database, relation from w
    where locktype = 'relation'))
  or (l.locktype = 'transactionid' and l.transactionid in (select transactionid from w
    where locktype = 'transactionid'))
  or (l.locktype = 'advisory' and (l.database, l.classid, l.objid, l.objsubid) in (
    select database, classid, objid, objsubid from w where locktype = 'advisory'))))
"""
_SINCE: LiteralString = "extract(epoch from clock_timestamp() - l.waitstart)::float8 * 1000"
#: All locks of some sessions.
LOCKS: LiteralString = _COLUMNS.format(since="null::float8", locks="pg_locks") + (
    "where l.pid = any(%s::int[]) and l.locktype <> 'virtualxid'"
)
#: What the lock on a row's place tells of the row lock that its holder is after (``tupleLockExtraInfo``, heapam.c).
ROW_MODES = {
    "AccessShareLock": "FOR KEY SHARE",
    "RowShareLock": "FOR SHARE",
    "ExclusiveLock": "FOR NO KEY UPDATE",
    "AccessExclusiveLock": "FOR UPDATE",
}
#: The mode in which a lock is wanted, where only the lock table would tell.
NOT_REPORTED = Mode("other", "mode not reported")


class LockRow(NamedTuple):
    """One row of the lock table. ``since_ms``: how long it has been waited for, where the server tells. ``elsewhere``:
    the database, where it is another one than that of the looking connection.
    """

    pid: int
    kind: str
    mode: str
    granted: bool
    table: str | None = None
    page: int | None = None
    slot: int | None = None
    xid: str | None = None
    classid: int | None = None
    objid: int | None = None
    objsubid: int | None = None
    since_ms: float | None = None
    database: int | None = None
    oid: int | None = None
    schema: str | None = None
    elsewhere: str | None = None

    @property
    def name(self) -> str | None:
        """The table, with schema and database where two could be meant: the looking connection's own database and
        the schema ``public`` go without saying.
        """
        if self.table is None:
            return None
        schema = self.schema if self.schema not in (None, "public", "pg_catalog") else None
        return ".".join(part for part in (self.elsewhere, schema, self.table) if part)

    def owns(self, access: Access) -> bool:
        """Whether a statement's access is to this table."""
        return access.table == self.table and access.schema in (None, self.schema)

    @property
    def what(self) -> tuple[object, ...]:
        """What the lock is on."""
        return (self.kind, self.database, self.oid, self.page, self.slot, self.xid, *self.key)

    @property
    def place(self) -> tuple[object, ...]:
        """A row's place."""
        return (self.database, self.oid, self.page, self.slot)

    @property
    def key(self) -> tuple[int | None, ...]:
        """An advisory lock's key, as three columns have it."""
        return (self.classid, self.objid, self.objsubid)


LockRows = Mapping[int, Sequence[LockRow]]


def waited_query(*, tells_since: bool) -> LiteralString:
    """For ``[pids, pids]``: the rows of the lock table that concern their waits, as ``LockRow`` has them."""
    return _WAITED.format(columns=_COLUMNS.format(since=_SINCE if tells_since else "null::float8", locks="l"))


def wanted_of(locks: Iterable[LockRow]) -> LockRow | None:
    """The lock that a session waits for, of its rows of the lock table."""
    return next((lock for lock in locks if not lock.granted), None)


def in_queues(
    queued: Sequence[int],
    locks: LockRows,
    blockers: Mapping[int, Sequence[int]],
    ask: Callable[[int], Sequence[int]],
) -> dict[int, list[int]]:
    """Whom those wait for who queue for a row.

    A session that wants a row that is locked takes the lock on the row's place and waits for the locker's transaction;
    all others queue for the lock on the place (heapam.c, ``heap_acquire_tuplock``;
    src/backend/access/heap/README.tuplock). They wait for the row like the first one: for its holder, not for each
    other. ``locks``: their rows of the lock table, and those of all who have a place's lock; ``blockers``: of those who
    wait for anything else. Where nobody has the place's lock (it is just being handed on), ``ask`` tells of one.
    """
    first = {lock.place: pid for pid, mine in locks.items() for lock in mine if lock.kind == "tuple" and lock.granted}
    found: dict[int, list[int]] = {}
    handed: dict[tuple[object, ...], list[int]] = {}
    for pid in queued:
        wanted = wanted_of(locks.get(pid, ()))
        if wanted is None or wanted.kind != "tuple":
            continue  # it has gone on since
        place = wanted.place
        if place in first:
            beyond = list(dict.fromkeys(blockers.get(first[place], ())))
            # The one that has the place may wait for this very one, which shares the row: a cycle.
            found[pid] = beyond if beyond and pid not in beyond else [first[place]]
            continue
        if place not in handed:
            # Those ahead in the queue are no holders: what is waited for is the one that is not in it.
            ahead = list(dict.fromkeys(ask(pid)))
            handed[place] = [one for one in ahead if one not in queued] or ahead[:1]
        found[pid] = handed[place]
    left = {pid: [one for one in listed if one != pid] for pid, listed in found.items()}
    return {pid: listed for pid, listed in left.items() if listed}


def held_by(holder: int, wanted: LockRow | None, locks: LockRows) -> tuple[Mode | None, bool]:
    """In which mode a session holds what another wants, and whether it only stands ahead in the queue for it."""
    if wanted is None or wanted.kind not in ("relation", "advisory"):
        return None, False
    mine = [lock for lock in locks.get(holder, ()) if lock.what == wanted.what]
    mode = Mode("table", wanted.mode)
    for lock in mine:
        if lock.granted and TABLE.conflict(mode, Mode("table", lock.mode)):
            return Mode("table", lock.mode), False
    return None, any(not lock.granted for lock in mine)


def in_the_way(pid: int, locks: LockRows) -> list[int]:
    """Who holds what a session wants, by the lock table alone."""
    wanted = wanted_of(locks.get(pid, ()))
    return [other for other in locks if other != pid and held_by(other, wanted, locks)[0] is not None]


def as_listed(asked: Mapping[int, Sequence[int]], locks: LockRows) -> dict[int, list[int]]:
    """Whom each session waits for, by one reading of the lock table: meanwhile a row may have gone from hand to hand,
    and whoever was told to wait a moment ago may hold it now.

    ``asked``: what the server told of each, one after the other. A transaction that is waited for is held by its own
    session; for anything else the server's word stays.
    """
    owners = {
        lock.xid: pid
        for pid, mine in locks.items()
        for lock in mine
        if pid and lock.granted and lock.kind == "transactionid"
    }
    found = {}
    for pid, listed in asked.items():
        wanted = wanted_of(locks.get(pid, ()))
        if wanted is None:
            continue  # it has gone on since
        owner = owners.get(wanted.xid) if wanted.kind == "transactionid" else None
        found[pid] = [owner] if owner is not None and owner != pid else list(dict.fromkeys(listed))
    return found


def prepared_name(wanted: LockRow | None, prepared: Sequence[tuple[str, str, str]]) -> str:
    """Which prepared transaction is waited for: the one with the number that the waiter waits for, or the only one."""
    numbers = {wanted.xid} if wanted is not None else set()
    found = [gid for number, gid, _ in prepared if number in numbers] or [gid for _, gid, _ in prepared]
    return f"prepared transaction {found[0]}" if len(found) == 1 else "a prepared transaction"


def waited_for(locks: Sequence[LockRow], session: SessionInfo) -> tuple[Resource, Mode] | None:
    """What a session waits for by its own rows of the lock table; None where they do not tell which row or table.

    Whoever waits for a row's transaction has the lock on the row's place (heapam.c, ``heap_acquire_tuplock``): with a
    foreign key that is the parent's row, with a trigger another table's, whatever the statement says.
    """
    wanted = wanted_of(locks)
    if wanted is None:
        return None
    if wanted.kind not in ("tuple", "transactionid"):
        return lock_resource(wanted), Mode("table", wanted.mode)
    place = place_of(locks)
    if place is None:
        return None
    accesses = RULES.sql.footprint(session.statement or "").accesses if place.table is not None else ()
    named = next((access for access in accesses if place.owns(access)), None)
    resource = named_row(named) if named and named.equals else lock_resource(place)
    if place.name != place.table and named and named.equals:
        text = f"{place.name}{resource.text.removeprefix(place.table or '')}"
        resource = replace(resource, text=text, database=place.elsewhere, table=place.name)
    return resource, Mode("row", ROW_MODES.get(place.mode, place.mode))


def place_of(locks: Sequence[LockRow]) -> LockRow | None:
    """The lock on a row's place that a session has, or queues for."""
    wanted = wanted_of(locks)
    if wanted is not None and wanted.kind == "tuple":
        return wanted
    return next((lock for lock in locks if lock.kind == "tuple"), None)


def resource_of(session: SessionInfo, event: str) -> tuple[Resource, Mode]:
    """What a session waits for, as its statement tells: the lock table is not read for that."""
    found = RULES.sql.footprint(session.statement or "")
    if event in ("transactionid", "tuple"):
        for access in found.accesses:
            mode = RULES.locks.row_mode(access, frozenset())
            if mode is not None:
                return named_row(access), mode
        return Resource(kind="transaction", text="the end of the other transaction"), TABLE_SHARE
    if event == "relation":
        for access in found.accesses:
            return Resource(kind="table", text=access.table, table=access.table), RULES.locks.table_mode(access)
        return Resource(kind="table", text="a table"), NOT_REPORTED
    if event == "advisory":
        lock = next((lock for lock in found.named_locks if lock.takes), None)
        if lock is None:
            return Resource(kind="advisory", text="an advisory lock"), NOT_REPORTED
        resource = lock.resource or Resource(kind="advisory", text="an advisory lock")
        return resource, TABLE_SHARE if lock.shared else EXCLUSIVE
    return Resource(kind="other", text=f"{event or 'a'} lock"), NOT_REPORTED


def lock_resource(lock: LockRow) -> Resource:
    """What a lock is on."""
    if lock.kind == "advisory":
        return advisory_of_row(*(int(part or 0) for part in lock.key))
    if lock.kind == "tuple":
        name, place = lock.name, f"({lock.page},{lock.slot})"
        text = f"{name} row at {place}" if name else f"{_unread(lock)}: row at {place}"
        return Resource(kind="row", text=text, database=lock.elsewhere, table=name)
    if lock.kind == "relation":
        return Resource(kind="table", text=lock.name or _unread(lock), database=lock.elsewhere, table=lock.name)
    if lock.kind == "transactionid":
        return Resource(kind="transaction", text=f"transaction {lock.xid}")
    if lock.kind == "virtualxid":
        return Resource(kind="transaction", text="the end of the other transaction")
    return Resource(kind="other", text=f"{lock.kind} lock {lock.objid or ''}".strip())


def _unread(lock: LockRow) -> str:
    where = f"the database {lock.elsewhere}" if lock.elsewhere else "another database"
    return f"table {lock.oid} of {where}, not visible to this login"


def leaders(pids: Iterable[int], leader_of: Mapping[int, int]) -> Iterator[int]:
    """The sessions of some processes: of a group under a parallel query the leader, once."""
    yield from dict.fromkeys(leader_of.get(pid, pid) for pid in pids)
