"""Locks that InnoDB does not know of: on tables' definitions, and by a name of one's own (GET_LOCK).

Who waits for one, the process list reports. What for, and who holds it, the performance schema lists; where it does
not, that is derived from the waiting statement and from the plugin METADATA_LOCK_INFO, and without that from the
statements of the run's own transactions, which keep such locks to their end (MariaDB documentation, "Metadata
Locking").
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, Protocol

from catenum.core.record.modes import Mode
from catenum.core.record.recording import LockEntry
from catenum.core.record.waits import Edge, Resource
from catenum.core.servers.mariadb import MDL_EXCLUSIVE, MDL_READ, MDL_WRITE, METADATA, metadata_mode
from catenum.core.sql.named_locks import named_resource
from catenum.engines.lookout import SOMEBODY
from catenum.engines.mariadb.errors import RULES
from catenum.engines.mariadb.pending import edge_of, waits_for
from catenum.engines.mariadb.pending import listed as listed_locks
from catenum.engines.mariadb.session import MariadbSession

_HELD = """
select thread_id, lock_mode, table_name from information_schema.metadata_lock_info
where lock_type = 'Table metadata lock' and table_schema = %s
"""
_NAMED = "select thread_id, table_schema from information_schema.metadata_lock_info where lock_type = 'User lock'"
_STATES = "select id, state, time_ms from information_schema.processlist where id in ({})"
#: The mode in which the server itself lists a lock of GET_LOCK (MariaDB documentation, "METADATA_LOCK_INFO Plugin").
NAMED_MODE = metadata_mode("MDL_SHARED_NO_WRITE")
#: A wait for something of the kind, of which the server does not say more.
SOME_LOCK = Mode("metadata", "a lock")
#: What the process list says of who waits for a named lock, for a table's definition, for anything of the kind.
NAMED_STATE, TABLE_STATE, FLUSH_STATE = "User lock", "Waiting for table metadata lock", "Waiting for table flush"
ANY_STATE = re.compile(r"Waiting for (?!query cache)(.*\block\b.*|table flush)")
#: How long a session is in the state of waiting before it is taken to wait although nobody stands in its way (ms).
UNEXPLAINED_MS = 200.0

#: Modes that keep changes out of the whole server, while a backup is taken or FLUSH TABLES WITH READ LOCK stands.
_KEEPS_OUT = re.compile(r"MDL_BACKUP_(?:FTWRL|WAIT|BLOCK)|^MDL_SHARED$")
_OF_SERVER = "select thread_id, lock_mode, lock_type from information_schema.metadata_lock_info where table_name = ''"

#: A thread, its mode, the table.
_Held = tuple[int, Mode, str]


class Query(Protocol):
    """Rows of one query, values as the server's text."""

    def __call__(self, sql: str, values: tuple[object, ...] = (), /) -> list[tuple[Any, ...]]: ...


class MetadataReader:
    """Reads such locks over the control connection. ``sessions`` are the run's own, by thread."""

    def __init__(self, query: Query, schema: str, *, listed: bool, tells: bool) -> None:
        """``listed``: whether the server lists who holds what; ``tells``: also who waits for what."""
        self.query, self.schema, self.listed, self.tells = query, schema, listed, tells
        self.sessions: dict[int, MariadbSession] = {}

    def edges(
        self, rest: Mapping[int, MariadbSession], everyone: Mapping[int, str], now_ms: float, tables: Collection[str]
    ) -> list[Edge]:
        """Who among ``rest`` waits for such a lock, and for whom."""
        edges: list[Edge] = []
        waiting: dict[int, float] = {}
        states = self.query(_STATES.format(", ".join(map(str, rest))))
        if self.tells:
            told, states = self._told_edges(rest, states, everyone, now_ms)
            edges += told
        for number, state, time_ms in states:
            thread, waited = int(number), float(time_ms)
            other = ANY_STATE.match(str(state or ""))
            if state == NAMED_STATE:
                named = list(self.named_edges(rest[thread], everyone, now_ms - waited))
                if not named and waited > UNEXPLAINED_MS:
                    named = [_unnamed(rest[thread], Resource(kind="advisory", text="a named lock"), now_ms - waited)]
                edges += named
            elif str(state or "").startswith(TABLE_STATE):
                waiting[thread] = waited
            elif other:
                edges += self._server_edges(rest[thread], other[1], everyone, now_ms - waited)
        if waiting:
            edges += self._table_edges(rest, waiting, everyone, now_ms, tables)
        return edges

    def _told_edges(
        self,
        rest: Mapping[int, MariadbSession],
        states: Sequence[tuple[Any, ...]],
        everyone: Mapping[int, str],
        now_ms: float,
    ) -> tuple[list[Edge], list[tuple[Any, ...]]]:
        """By the performance schema: the edges, and the states that it does not explain."""
        waited = {int(thread): float(time_ms) for thread, state, time_ms in states if waits_by_state(state)}
        locks = listed_locks(self.query) if waited else []
        edges: list[Edge] = []
        for thread, since in waited.items():
            pairs = waits_for(thread, waited, locks)
            edges += [
                edge_of(rest[thread].name, wanted, other, everyone, self.schema, now_ms - since)
                for wanted, other in pairs
            ]
        explained = {lock.thread for lock in locks if lock.pending} | {
            int(thread) for thread, _, time_ms in states if float(time_ms) < UNEXPLAINED_MS
        }
        return edges, [row for row in states if int(row[0]) not in explained]

    def _server_edges(
        self, session: MariadbSession, lock: str, everyone: Mapping[int, str], since: float
    ) -> Iterator[Edge]:
        """Who keeps everybody out, such as for a backup."""
        resource = Resource(kind="other", text=f"the server's {lock}")
        held = self.query(_OF_SERVER) if self.listed else []
        found = [(int(t), metadata_mode(str(mode))) for t, mode, kind in held if keeps_all_out(str(kind), str(mode))]
        if not found:
            yield _unnamed(session, resource, since)
        for thread, mode in found:
            holder = everyone.get(thread, f"session {thread}")
            yield replace(_unnamed(session, resource, since), holder=holder, held=mode)

    def _table_edges(
        self,
        rest: Mapping[int, MariadbSession],
        waiting: Mapping[int, float],
        everyone: Mapping[int, str],
        now_ms: float,
        tables: Collection[str],
    ) -> Iterator[Edge]:
        held = self._held(tables, waiting)
        wanted = {thread: _wanted(rest[thread], held, tables) for thread in waiting}
        for thread, waited in waiting.items():
            session, since = rest[thread], now_ms - waited
            found = list(_standing(session, wanted[thread], held, everyone, since))
            table, mode = wanted[thread]
            for other, longer in waiting.items():
                if longer > waited and wanted[other][0] == table and METADATA.conflict(mode, wanted[other][1]):
                    found.append(_edge(session, wanted[thread], other, wanted[other][1], everyone, since, queued=True))
            if not found and waited > UNEXPLAINED_MS:  # sooner, a look may have come between two holders
                resource = Resource(kind="table", text=table or "a table", table=table or None)
                found.append(_unnamed(session, resource, since))
            yield from found

    def _held(self, tables: Collection[str], waiting: Collection[int] = ()) -> list[_Held]:
        """By the server's list, or by the statements that are over."""
        if self.listed:
            return [
                (int(t), metadata_mode(str(mode)), str(table)) for t, mode, table in self.query(_HELD, (self.schema,))
            ]
        found = {
            (thread, MDL_READ if access.verb == "read" else MDL_WRITE, access.table)
            for thread, session in self.sessions.items()
            for sql, _ in (session.trail[:-1] if thread in waiting else session.trail)
            for access in RULES.footprint(sql).accesses
            if access.table in tables and access.verb != "schema"
        }
        return sorted(found)

    def named_edges(
        self, session: MariadbSession, everyone: Mapping[int, str], since: float | None = None
    ) -> Iterator[Edge]:
        """Who holds the named lock that a statement is after; where its name is computed, the holders of any."""
        wanted = [lock for lock in RULES.footprint(session.sql, dict(session.values)).named_locks if lock.takes]
        held: list[tuple[object, object]] = []
        for lock in wanted:
            for name in lock.key:
                held += [(row[0], name) for row in self.query("select is_used_lock(%s)", (name,)) if row[0]]
        computed = not all(lock.key for lock in wanted)
        if computed and self.listed:
            held += [(thread, name) for thread, name in self.query(_NAMED)]
        elif computed:
            yield _unnamed(session, Resource(kind="advisory", text="a named lock"), since)
        for holder, name in dict.fromkeys((int(str(thread)), str(name)) for thread, name in held):
            if holder != session.thread_id:
                yield Edge(
                    waiter=session.name,
                    holder=everyone.get(holder, f"session {holder}"),
                    resource=named_resource(name),
                    wanted=NAMED_MODE,
                    held=NAMED_MODE,
                    since_ms=since,
                )

    def given_up(
        self, session: MariadbSession, everyone: Mapping[int, str], tables: Collection[str]
    ) -> tuple[Edge, ...]:
        """What a victim's statement was after, where its cycle is one of these locks.

        Sessions that stand in the way still do: the others have not ended.
        """
        named = tuple(self.named_edges(session, everyone))
        if named:
            return named
        held = self._held(tables)
        return tuple(_standing(session, _wanted(session, held, tables), held, everyone, None))

    def entries(self, everyone: Mapping[int, str]) -> Iterator[LockEntry]:
        """Every such lock of the sessions, where the server lists them."""
        if not self.listed:
            return
        for thread, mode, table in self.query(_HELD, (self.schema,)):
            if int(thread) in everyone:
                resource = Resource(kind="metadata", text=f"{table} (metadata)", table=str(table))
                yield LockEntry(
                    transaction=everyone[int(thread)], resource=resource, mode=metadata_mode(str(mode)), granted=True
                )
        for thread, name in self.query(_NAMED):
            if int(thread) in everyone:
                resource = named_resource(str(name))
                yield LockEntry(transaction=everyone[int(thread)], resource=resource, mode=NAMED_MODE, granted=True)


def waits_by_state(state: object) -> bool:
    """Whether a state of the process list is that of a wait for a lock outside of InnoDB."""
    return state == NAMED_STATE or ANY_STATE.match(str(state or "")) is not None


def keeps_all_out(kind: str, mode: str) -> bool:
    """Whether a lock of the metadata list keeps changes out of the whole server."""
    return kind in ("Backup lock", "Global read lock") and _KEEPS_OUT.search(mode) is not None


def _wanted(session: MariadbSession, held: Sequence[_Held], tables: Collection[str]) -> tuple[str, Mode]:
    """The table and the mode that a waiting statement is after, derived from its text.

    Of several tables it is the first that somebody has in a mode that stands in the way. A change of tables takes the
    locks of all that it names in the order of their names (``MDL_context::acquire_locks`` in mdl.cc); what cannot be
    read is most often one.
    """
    known = {table for _, _, table in held} | set(tables)
    found = RULES.footprint(session.sql, dict(session.values))
    after = [(access.table, RULES.table_mode(access)) for access in found.accesses if access.table in known]
    if not found.parsed:
        after = [(table, MDL_EXCLUSIVE) for table in known & set(re.findall(r"\w+", session.sql))]
    if found.changes_tables:
        after.sort()
    others = [(table, mode) for thread, mode, table in held if thread != session.thread_id]
    blocked = (a for a in after if any(a[0] == table and METADATA.conflict(a[1], mode) for table, mode in others))
    return next(blocked, after[0] if after else ("", MDL_EXCLUSIVE))


def _standing(
    session: MariadbSession,
    wanted: tuple[str, Mode],
    held: Sequence[_Held],
    everyone: Mapping[int, str],
    since: float | None,
) -> Iterator[Edge]:
    """Who holds the table in a mode that stands in the way."""
    table, mode = wanted
    for other, other_mode, other_table in held:
        if other != session.thread_id and other_table == table and METADATA.conflict(mode, other_mode):
            yield _edge(session, wanted, other, other_mode, everyone, since, queued=False)


def _edge(
    session: MariadbSession,
    wanted: tuple[str, Mode],
    other: int,
    other_mode: Mode,
    everyone: Mapping[int, str],
    since: float | None,
    *,
    queued: bool,
) -> Edge:
    table, mode = wanted
    return Edge(
        waiter=session.name,
        holder=everyone.get(other, f"session {other}"),
        resource=Resource(kind="table", text=table, table=table),
        wanted=mode,
        held=other_mode,
        queued=queued,
        since_ms=since,
    )


def _unnamed(session: MariadbSession, resource: Resource, since: float | None) -> Edge:
    return Edge(waiter=session.name, holder=SOMEBODY, resource=resource, wanted=SOME_LOCK, held=None, since_ms=since)
