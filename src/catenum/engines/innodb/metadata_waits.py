"""Waits on a running server that InnoDB does not list: for tables' definitions, for named locks,
for a backup.

Who waits, and what for, the process list's state reports. Who holds it is told by the performance
schema's list of metadata locks; by IS_USED_LOCK for a named lock; and by the plugin
METADATA_LOCK_INFO where the waiting statement tells for certain which table it wants, and in which
mode. Where all that leaves several, or the server lists nothing, there are suspects, and the wait
is reported for a session that is not named.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

from catenum.core.record.modes import Mode
from catenum.core.record.waits import Edge, Resource
from catenum.core.servers import Rules
from catenum.core.servers.metadata import MDL_READ, MDL_WRITE, conflict, metadata_mode
from catenum.core.snapshot.sample import Suspect
from catenum.core.sql.named_locks import named_resource
from catenum.engines.innodb import metadata_queue
from catenum.engines.innodb.metadata import SOME_LOCK
from catenum.engines.innodb.metadata_queue import (
    ANY_STATE,
    FLUSH_STATE,
    NAMED_STATE,
    TABLE_STATE,
    keeps_all_out,
    waits_by_state,
)
from catenum.engines.monitor import SOMEBODY

SOME_METADATA_LOCK = metadata_mode("a metadata lock")
#: Different named locks whose holder one check asks for.
MOST_NAMES = 20
#: Users of the server's own threads.
SYSTEM_USERS = ("system user", "event_scheduler")


class SessionRow(NamedTuple):
    """A session as the server lists it, with its transaction where it has one. Ages in ms.

    ``time_ms``: for how long it is in its state, 0 where the server does not tell. ``exact``: the
    ages are no whole seconds. ``transaction``: what makes its transaction the same one when seen
    again, ``statement_id`` its statement. ``thread``: what the server calls a thread of its own.
    """

    id: str
    user: str
    host: str | None
    db: str | None
    command: str
    time_ms: float
    state: str
    statement: str | None
    trx_state: str | None = None
    trx_ms: float | None = None
    isolation: str | None = None
    changed: int | None = None
    transaction: str | None = None
    statement_id: str | None = None
    thread: str | None = None


Query = Callable[..., list[tuple[Any, ...]]]


@dataclass(frozen=True, slots=True)
class OtherWaits:
    """Such waits: edges, who may be behind those of which nobody is named, with their rows, and how
    many rows were read for it.
    """

    edges: tuple[Edge, ...]
    suspects: tuple[Suspect, ...] = ()
    suspected: tuple[SessionRow, ...] = ()
    read: int = 0


@dataclass(frozen=True, slots=True)
class _Wanted:
    """A table that a statement wants; ``certain``: it is all that it can be waiting for."""

    schema: str
    table: str
    mode: Mode
    certain: bool

    def is_held_by(self, lock: tuple[Any, ...]) -> bool:
        """Whether a lock of the plugin's list stands in the way."""
        return (self.schema, self.table) == (lock[3], lock[4]) and _in_the_way(
            self.mode, metadata_mode(str(lock[1]))
        )

    @property
    def resource(self) -> Resource:
        return Resource(
            kind="table", text=f"{self.schema}.{self.table}", database=self.schema, table=self.table
        )


def waiting(rows: Sequence[SessionRow]) -> list[SessionRow]:
    """The sessions that wait for something of the kind."""
    return [row for row in rows if waits_by_state(row.state)]


def other_waits(
    query: Query,
    everybody: Sequence[SessionRow],
    rules: Rules,
    named_mode: Mode,
    *,
    reported: bool,
    anybody: Callable[[], Sequence[SessionRow]],
    plugin: str | None = None,
) -> OtherWaits:
    """For whom each of ``everybody`` waits that waits for something of the kind.

    ``reported``: whether the performance schema lists who holds what, and who waits for what.
    ``plugin``: what asks a plugin who holds what, where there is one: thread, mode, kind, schema,
    table. ``anybody``: lists those too who neither wait nor have a transaction. ``named_mode``: the
    mode in which the server lists a lock of GET_LOCK.
    """
    rows, read = waiting(everybody), 0
    edges: list[Edge] = []
    if reported:
        rows, edges, read = _asked_for(query, rows)
    done = {edge.waiter for edge in edges}
    without = [row for row in rows if row.state == NAMED_STATE and row.id not in done]
    edges += _named(query, without, rules, named_mode)
    others = [row for row in rows if row.state != NAMED_STATE and row.id not in done]
    held = query(plugin) if plugin and others else []
    if others and not held:
        everybody = anybody()
    suspects: list[Suspect] = []
    for row in others:
        found, behind = _holders(row, held, rows, everybody, rules)
        edges += found
        suspects += behind
    found_for = {edge.waiter for edge in edges}
    edges += [_unnamed(row) for row in rows if row.id not in found_for]
    named = {suspect.session for suspect in suspects}
    suspected = tuple(row for row in everybody if row.id in named)
    return OtherWaits(tuple(edges), tuple(suspects), suspected, read + len(held))


def _asked_for(
    query: Query, rows: Sequence[SessionRow]
) -> tuple[list[SessionRow], list[Edge], int]:
    """The sessions that still wait by the server's list of metadata locks, for whom, and how many
    locks it has. Who asks for nothing there has gone on since the sessions were listed.
    """
    locks = metadata_queue.listed(query)
    asking = {str(lock.thread) for lock in locks if lock.pending}
    listed = (NAMED_STATE, TABLE_STATE)
    still = [row for row in rows if row.id in asking or row.state not in listed]
    return still, list(_reported(still, locks)), len(locks)


def _holders(
    row: SessionRow,
    held: Sequence[tuple[Any, ...]],
    rows: Sequence[SessionRow],
    everybody: Sequence[SessionRow],
    rules: Rules,
) -> tuple[list[Edge], list[Suspect]]:
    """For whom a session waits over a table or the whole server; where nobody is certain, who may
    be behind it.
    """
    if not str(row.state).startswith((TABLE_STATE, FLUSH_STATE)):
        return list(_of_server(row, held)), []
    edges = list(_of_table(row, held, rows, rules))
    return edges, [] if edges else list(_suspects(row, held, everybody, rules))


def _reported(
    rows: Sequence[SessionRow], locks: Sequence[metadata_queue.MetadataLock]
) -> Iterator[Edge]:
    waited = {int(row.id): row.time_ms for row in rows}
    for row in rows:
        for wanted, other in metadata_queue.waits_for(int(row.id), waited, locks):
            edge = metadata_queue.edge_of(row.id, wanted, other, {}, "", -waited[int(row.id)])
            yield replace(edge, holder=str(other.thread))


def _of_table(
    row: SessionRow, held: Sequence[tuple[Any, ...]], rows: Sequence[SessionRow], rules: Rules
) -> Iterator[Edge]:
    """Those who hold the one table that the statement can be waiting for; else those who asked for
    it before.
    """
    targets = _targets(row, rules)
    if not targets or not all(target.certain for target in targets):
        return
    holding = {
        target: [lock for lock in held if str(lock[0]) != row.id and target.is_held_by(lock)]
        for target in targets
    }
    wanted = [target for target in targets if holding[target]]
    if len(wanted) == 1 and held:
        for lock in holding[wanted[0]]:
            yield _edge(
                row, str(lock[0]), wanted[0].resource, wanted[0].mode, metadata_mode(str(lock[1]))
            )
    if wanted or not held:
        return
    for other in rows:
        ahead = other.id != row.id and other.time_ms > row.time_ms
        for target in targets if ahead else ():
            for theirs in _targets(other, rules):
                same = (theirs.schema, theirs.table) == (
                    target.schema,
                    target.table,
                ) and theirs.certain
                if same and _in_the_way(target.mode, theirs.mode):
                    edge = _edge(row, other.id, target.resource, target.mode, theirs.mode)
                    yield replace(edge, queued=True)


def _targets(row: SessionRow, rules: Rules) -> list[_Wanted]:
    """The tables that a statement names, by their schemas, with the lock that it wants on each."""
    footprint = rules.sql.footprint(row.statement or "")
    return [
        _Wanted(
            access.schema or row.db or "",
            access.table,
            rules.locks.table_mode(access),
            footprint.understood,
        )
        for access in footprint.accesses
    ]


def _in_the_way(wanted: Mode, held: Mode) -> bool:
    return conflict(wanted, held) is not False


def _suspects(
    row: SessionRow, held: Sequence[tuple[Any, ...]], everybody: Sequence[SessionRow], rules: Rules
) -> Iterator[Suspect]:
    """All who may be behind a wait, the likeliest first."""
    targets = _targets(row, rules)
    ranked = _holding(row, held, targets) if held else _able(row, everybody, targets, rules)
    first = {name: (rank, name, why) for rank, name, why in sorted(ranked, reverse=True)}
    for _, name, why in sorted(first.values(), key=lambda one: (one[0], int(one[1]))):
        yield Suspect(waiter=row.id, session=name, why=why)


def _holding(
    row: SessionRow, held: Sequence[tuple[Any, ...]], targets: Sequence[_Wanted]
) -> Iterator[tuple[int, str, str]]:
    """Where the server lists holders: those of a table that the statement names, in a mode that may
    be in its way.
    """
    for lock in held:
        names = any(target.is_held_by(lock) for target in targets)
        of_schema = not targets and lock[2] == "Table metadata lock" and lock[3] == row.db
        if str(lock[0]) != row.id and (names or of_schema):
            yield (
                int(not (targets and targets[0].certain)),
                str(lock[0]),
                f"holds {lock[1]} on {lock[3]}.{lock[4]}",
            )


def _able(
    row: SessionRow, everybody: Sequence[SessionRow], targets: Sequence[_Wanted], rules: Rules
) -> Iterator[tuple[int, str, str]]:
    """Where it lists none: whoever may have taken a lock that conflicts. A transaction's statements
    leave shared locks on tables; one that holds them by LOCK TABLES shows nothing at all.
    """
    shared = not targets or any(
        _in_the_way(target.mode, mode) for target in targets for mode in (MDL_READ, MDL_WRITE)
    )
    for other in everybody:
        if other.id == row.id or other.user in SYSTEM_USERS:
            continue
        theirs = _targets(other, rules) if other.command != "Sleep" else []
        overlap = any(
            (their.schema, their.table) == (target.schema, target.table)
            and _in_the_way(target.mode, their.mode)
            for their in theirs
            for target in targets
        )
        if waits_by_state(other.state):
            if overlap and other.time_ms > row.time_ms:
                yield 0, other.id, "it waits for the same table, came first, and lets nobody by"
        elif overlap:
            yield 0, other.id, "its statement names the same table"
        elif shared and other.trx_ms is not None and other.trx_ms + 1_000.0 >= row.time_ms:
            yield 1, other.id, "its transaction was open before the wait began"
        elif other.command == "Sleep":
            yield (
                2,
                other.id,
                (
                    "its statements have ended; whether it has locked tables by LOCK TABLES is not"
                    " reported"
                ),
            )


def _of_server(row: SessionRow, held: Sequence[tuple[Any, ...]]) -> Iterator[Edge]:
    for thread, mode, kind, _, _ in held:
        if str(thread) != row.id and keeps_all_out(str(kind), str(mode)):
            yield _edge(
                row, str(thread), _resource(row), SOME_METADATA_LOCK, metadata_mode(str(mode))
            )


def _named(query: Query, rows: Sequence[SessionRow], rules: Rules, mode: Mode) -> Iterator[Edge]:
    holders: dict[str, str | None] = {}
    for row in rows:
        taken = [
            lock
            for lock in rules.sql.footprint(row.statement or "").named_locks
            if lock.takes and lock.key
        ]
        for name in {str(lock.key[0]) for lock in taken}:
            if name not in holders and len(holders) < MOST_NAMES:
                holders[name] = query("select is_used_lock(%s)", (name,))[0][0]
            holder = holders.get(name)
            if holder is not None and holder != row.id:
                yield _edge(row, holder, named_resource(name), mode, mode)


def _unnamed(row: SessionRow) -> Edge:
    return _edge(row, SOMEBODY, _resource(row), SOME_LOCK, None)


def _resource(row: SessionRow) -> Resource:
    state = ANY_STATE.match(row.state or "")
    if state is None:
        return Resource(kind="advisory", text="a named lock")
    return Resource(kind="other", text=f"the server's {state[1]}")


def _edge(
    row: SessionRow, holder: str, resource: Resource, wanted: Mode, held: Mode | None
) -> Edge:
    since = -row.time_ms
    return Edge(
        waiter=row.id, holder=holder, resource=resource, wanted=wanted, held=held, since_ms=since
    )
