"""PostgreSQL's lock table, read in one way for runs and for watching (documentation, 54.12): what a
session waits for, and for whom; where its rows do not tell, the statement does.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, LiteralString

from catenum.core.record.modes import Mode
from catenum.core.record.waits import Resource, ResourceKind
from catenum.core.servers import rules_of
from catenum.core.servers.postgresql import (
    ACCESS_EXCLUSIVE,
    EXCLUSIVE,
    ROW_MODE_OF_TUPLE_LOCK,
    TABLE_SHARE,
)
from catenum.core.snapshot.sample import SessionInfo
from catenum.core.sql.named_locks import advisory_of_row
from catenum.core.sql.statements import Access
from catenum.engines.monitor import named_row
from catenum.engines.postgresql.other_databases import Elsewhere

RULES = rules_of("postgresql")

#: The columns of ``LockRow`` as the server has them. Names are looked up apart: joining the
#: catalogues here would cost several times the check itself.
_COLUMNS: LiteralString = """
select l.pid, l.locktype, l.mode, l.granted, l.database, l.relation, l.page, l.tuple,
  l.transactionid::text,
       l.virtualxid, l.classid, l.objid, l.objsubid, {since},
       case when l.database <> 0 and l.database <> (select oid from pg_database
         where datname = current_database())
       then (select datname from pg_database where oid = l.database) end
from {locks} l
"""
#: The lock that each of some sessions waits for, with the time since when; who holds the tables and
#: advisory locks that are waited for; and who has the lock on a row's place.
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
_NAMES: LiteralString = """
select c.oid, n.nspname, coalesce(t.relname, c.relname), case when t.oid is not null
  then c.relname end
from pg_class c join pg_namespace n on n.oid = c.relnamespace
left join pg_index i on i.indexrelid = c.oid left join pg_class t on t.oid = i.indrelid
where c.oid = any(%s::oid[])
"""
#: The mode in which a lock is wanted, where only the lock table would tell.
NOT_REPORTED = Mode("other", "mode not reported")


@dataclass(frozen=True, slots=True)
class LockRow:
    """One row of the lock table. ``since_ms``: how long it has been waited for, where the server
    tells. ``elsewhere``: the database, where it is another one than that of the reading connection.
    """

    pid: int
    kind: str
    mode: Mode
    granted: bool
    database: int | None = None
    oid: int | None = None
    page: int | None = None
    slot: int | None = None
    xid: str | None = None
    virtualxid: str | None = None
    classid: int | None = None
    objid: int | None = None
    objsubid: int | None = None
    since_ms: float | None = None
    elsewhere: str | None = None
    schema: str | None = None
    table: str | None = None
    index: str | None = None

    def owns(self, access: Access) -> bool:
        """Whether a statement's access is to this table."""
        return access.table == self.table and access.schema in (None, self.schema)

    @property
    def what(self) -> tuple[object, ...]:
        return (*self.place, self.kind, self.xid, self.virtualxid, *self.key)

    @property
    def place(self) -> tuple[object, ...]:
        """A row's place."""
        return (self.database, self.oid, self.page, self.slot)

    @property
    def key(self) -> tuple[int | None, ...]:
        """An advisory lock's key, as three columns have it."""
        return (self.classid, self.objid, self.objsubid)

    @property
    def row_mode(self) -> Mode:
        """What the lock on a row's place tells of the row lock that its holder is after."""
        return ROW_MODE_OF_TUPLE_LOCK.get(self.mode, self.mode)


LockRows = Mapping[int, Sequence[LockRow]]
Name = tuple[str | None, str | None, str | None]


class LockTable:
    """Reads the lock table over one connection: for a run's sessions, and for all that wait on a
    running server.
    """

    def __init__(
        self,
        rows: Callable[[LiteralString, Sequence[object]], list[tuple[Any, ...]]],
        *,
        own: str,
        tells_since: bool,
        elsewhere: Elsewhere | None = None,
    ) -> None:
        """``own``: the schema that goes without saying; ``tells_since``: PostgreSQL 14 and
        later.
        """
        self._rows, self._own, self._elsewhere = rows, own, elsewhere
        since = _SINCE if tells_since else "null::float8"
        self._waited = _WAITED.format(columns=_COLUMNS.format(since=since, locks="l"))
        self._all = _COLUMNS.format(since=since, locks="pg_locks") + "where l.pid = any(%s::int[])"
        self._names: dict[int, Name] = {}

    def locks_of(self, pids: Iterable[int]) -> dict[int, list[LockRow]]:
        """All locks of some sessions, those that they wait for among them."""
        return self._grouped(self._rows(self._all, [list(pids)]))

    def waited_for(self, pids: Sequence[int]) -> dict[int, list[LockRow]]:
        """What concerns the waits of some sessions: what for, since when, and who holds it."""
        return self._grouped(self._rows(self._waited, [pids, pids])) if pids else {}

    def forget(self) -> None:
        """Names may mean other tables now."""
        self._names.clear()

    def table_named_by(self, oid: int) -> str | None:
        """The table (of an index, its table) with this number, as far as the session may see it."""
        return self._named({oid}).get(oid, (None, None, None))[1]

    def _grouped(self, found: Sequence[tuple[Any, ...]]) -> dict[int, list[LockRow]]:
        rows = [LockRow(pid, kind, Mode("table", mode), *rest) for pid, kind, mode, *rest in found]
        ours = self._named(
            {row.oid for row in rows if row.elsewhere is None and row.oid is not None}
        )
        abroad = {
            (row.elsewhere, row.oid)
            for row in rows
            if row.elsewhere is not None and row.oid is not None
        }
        theirs = self._elsewhere.names(abroad) if self._elsewhere is not None and abroad else {}
        grouped: dict[int, list[LockRow]] = {}
        for row in rows:
            schema, table, index = ours.get(row.oid or 0, (None, None, None))
            if row.elsewhere is not None:
                schema, table = theirs.get((row.elsewhere, row.oid or 0), (None, None))
                index = None
            grouped.setdefault(row.pid, []).append(
                replace(row, schema=schema, table=table, index=index)
            )
        return grouped

    def _named(self, oids: set[int]) -> dict[int, Name]:
        unknown = oids - self._names.keys()
        if unknown:
            self._names |= {
                oid: (schema, table, index)
                for oid, schema, table, index in self._rows(_NAMES, [list(unknown)])
            }
        return self._names

    def name_of(self, lock: LockRow) -> str | None:
        """The table, with schema and database where two could be meant."""
        if lock.table is None:
            return None
        schema = lock.schema if lock.schema not in (None, self._own, "pg_catalog") else None
        return ".".join(part for part in (lock.elsewhere, schema, lock.table) if part)

    def resource(self, lock: LockRow) -> Resource:
        name = self.name_of(lock)
        if lock.kind == "advisory":
            return advisory_of_row(*(int(part or 0) for part in lock.key))
        if lock.kind == "tuple":
            place = f"({lock.page},{lock.slot})"
            text = f"{name} row at {place}" if name else f"{_unread(lock)}: row at {place}"
            return Resource(kind="row", text=text, database=lock.elsewhere, table=name)
        if lock.kind == "relation":
            text = f"index {lock.index} of {name}" if lock.index else name or _unread(lock)
            kind: ResourceKind = "index" if lock.index else "table"
            return Resource(
                kind=kind, text=text, database=lock.elsewhere, table=name, index=lock.index
            )
        if lock.kind == "transactionid":
            return Resource(kind="transaction", text=f"transaction {lock.xid}")
        if lock.kind == "virtualxid":
            return Resource(kind="transaction", text="the end of the other transaction")
        return Resource(kind="other", text=f"{lock.kind} lock {lock.objid or ''}".strip())


def wanted_of(locks: Iterable[LockRow]) -> LockRow | None:
    """The lock that a session waits for, of its rows of the lock table."""
    return next((lock for lock in locks if not lock.granted), None)


def unreadable_tables(locks: LockRows) -> set[int | None]:
    """Tables that even a plain read would wait for: somebody has, or queues for, their strictest
    lock.
    """
    return {
        lock.oid
        for mine in locks.values()
        for lock in mine
        if lock.kind == "relation" and lock.mode == ACCESS_EXCLUSIVE
    }


def in_queues(
    queued: Sequence[int],
    locks: LockRows,
    blockers: Mapping[int, Sequence[int]],
    ask: Callable[[int], Sequence[int]],
) -> dict[int, list[int]]:
    """Whom those wait for who queue for a row.

    A session that wants a row that is locked takes the lock on the row's place and waits for the
    locker's transaction; all others queue for the lock on the place (heapam.c,
    ``heap_acquire_tuplock``; src/backend/access/heap/README.tuplock). They wait for the row like
    the first one: for its holder, not for each other. ``locks``: their rows of the lock table, and
    those of all who have a place's lock; ``blockers``: of those who wait for anything else. Where
    nobody has the place's lock (it is just being handed on), ``ask`` tells of one.
    """
    first = {
        lock.place: pid
        for pid, mine in locks.items()
        for lock in mine
        if lock.kind == "tuple" and lock.granted
    }
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
            # Those ahead in the queue are no holders: what is waited for is the one that is not in
            # it.
            ahead = list(dict.fromkeys(ask(pid)))
            handed[place] = [one for one in ahead if one not in queued] or ahead[:1]
        found[pid] = handed[place]
    left = {pid: [one for one in listed if one != pid] for pid, listed in found.items()}
    return {pid: listed for pid, listed in left.items() if listed}


def held_by(holder: int, wanted: LockRow | None, locks: LockRows) -> tuple[Mode | None, bool]:
    """In which mode a session holds what another wants, and whether it only stands ahead in the
    queue for it. Who holds a row's transaction is not in the lock table: the row itself tells the
    mode.
    """
    if wanted is None or wanted.kind == "transactionid":
        return None, False
    mine = [lock for lock in locks.get(holder, ()) if lock.what == wanted.what]
    if wanted.kind == "tuple":
        return (mine[0].row_mode, True) if mine else (None, False)
    granted = [lock.mode for lock in mine if lock.granted and _conflict(wanted.mode, lock.mode)]
    if granted:
        return granted[-1], False
    asked = [lock.mode for lock in mine if not lock.granted]
    return (asked[0], True) if asked else (None, False)


def _conflict(wanted: Mode, held: Mode) -> bool:
    rule = RULES.locks.conflict(wanted, held)
    return rule is None or rule.conflict


def in_the_way(pid: int, locks: LockRows) -> list[int]:
    """Who holds what a session wants, by the lock table alone."""
    wanted = wanted_of(locks.get(pid, ()))
    modes = {other: held_by(other, wanted, locks) for other in locks if other != pid}
    return [other for other, (mode, ahead) in modes.items() if mode is not None and not ahead]


def as_listed(asked: Mapping[int, Sequence[int]], locks: LockRows) -> dict[int, list[int]]:
    """Whom each session waits for, by one reading of the lock table: meanwhile a row may have gone
    from hand to hand, and whoever was told to wait a moment ago may hold it now.

    ``asked``: what the server told of each, one after the other. A transaction that is waited for
    is held by its own session; for anything else the server's word stays.
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
    """Which prepared transaction is waited for: the one with the number that the waiter waits for,
    or the only one.
    """
    numbers = {wanted.xid} if wanted is not None else set()
    found = [gid for number, gid, _ in prepared if number in numbers] or [
        gid for _, gid, _ in prepared
    ]
    return f"prepared transaction {found[0]}" if len(found) == 1 else "a prepared transaction"


def row_or_lock(
    table: LockTable, locks: Sequence[LockRow], session: SessionInfo
) -> tuple[Resource, Mode] | None:
    """What a session waits for by its own rows of the lock table; None where they do not tell which
    row or table.

    Whoever waits for a row's transaction has the lock on the row's place (heapam.c,
    ``heap_acquire_tuplock``): with a foreign key that is the parent's row, with a trigger another
    table's, whatever the statement says.
    """
    wanted = wanted_of(locks)
    if wanted is None:
        return None
    if wanted.kind not in ("tuple", "transactionid"):
        return table.resource(wanted), wanted.mode
    place = place_of(locks)
    if place is None:
        return None
    accesses = (
        RULES.sql.footprint(session.statement or "").accesses if place.table is not None else ()
    )
    named = next((access for access in accesses if place.owns(access)), None)
    resource = named_row(named) if named and named.equals else table.resource(place)
    name = table.name_of(place)
    if name != place.table and named and named.equals:
        text = f"{name}{resource.text.removeprefix(place.table or '')}"
        resource = replace(resource, text=text, database=place.elsewhere, table=name)
    return resource, place.row_mode


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
            return Resource(
                kind="table", text=access.table, table=access.table
            ), RULES.locks.table_mode(access)
        return Resource(kind="table", text="a table"), NOT_REPORTED
    if event == "advisory":
        lock = next((lock for lock in found.named_locks if lock.takes), None)
        if lock is None:
            return Resource(kind="advisory", text="an advisory lock"), NOT_REPORTED
        resource = lock.resource or Resource(kind="advisory", text="an advisory lock")
        return resource, TABLE_SHARE if lock.shared else EXCLUSIVE
    return Resource(kind="other", text=f"{event or 'a'} lock"), NOT_REPORTED


def _unread(lock: LockRow) -> str:
    where = f" of the database {lock.elsewhere}" if lock.elsewhere else ""
    return f"table {lock.oid}{where}, not visible to this login"


def leaders(pids: Iterable[int], leader_of: Mapping[int, int]) -> Iterator[int]:
    """The sessions of some processes: of a group under a parallel query the leader, once."""
    yield from dict.fromkeys(leader_of.get(pid, pid) for pid in pids)
