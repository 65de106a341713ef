"""Locks that InnoDB does not know of: on tables' definitions, and by a name of one's own
(GET_LOCK).

Who waits for one, the sessions' states report. What for, and who holds it, the performance schema
lists (``metadata_locks``); what else a server can be asked stands in the package of its name.
"""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any, ClassVar

from catenum.core.record.modes import Mode
from catenum.core.record.recording import LockEntry
from catenum.core.record.waits import Edge, Resource
from catenum.core.servers import Rules
from catenum.core.servers.metadata import MDL_EXCLUSIVE, conflict
from catenum.core.sql.named_locks import named_resource
from catenum.engines.innodb.locks import Query
from catenum.engines.innodb.metadata_queue import edge_of, listed, waits_by_state, waits_for
from catenum.engines.innodb.session import InnodbSession
from catenum.engines.monitor import SOMEBODY

#: A wait for something of the kind, of which the server does not say more.
SOME_LOCK = Mode("metadata", "a lock")
#: How long a session is in the state of waiting before it is taken to wait although nobody stands
#: in its way (ms).
UNEXPLAINED_MS = 200.0

#: Locks of the whole server that are over in a moment: whoever makes a login has one, and is no
#: part of a run.
PASSING = frozenset(["ACL_CACHE", "COLUMN STATISTICS", "RESOURCE_GROUPS"])

#: A thread, its mode, the table.
Held = tuple[int, Mode, str]


class InnodbMetadata(ABC):
    """Reads such locks over the control connection. ``sessions`` are the run's own, by thread."""

    #: The mode in which the server itself lists a lock of GET_LOCK.
    named_mode: ClassVar[Mode]

    def __init__(self, query: Query, schema: str, rules: Rules) -> None:
        """``query`` gives the rows of one query on the control connection."""
        self.query, self.schema, self.rules = query, schema, rules
        self.sessions: dict[int, InnodbSession] = {}

    def entries(self, everyone: Mapping[int, str]) -> Iterator[LockEntry]:
        """Every such lock of the sessions: on the run's tables, and by name."""
        for lock in listed(self.query):
            if lock.thread not in everyone:
                continue
            if lock.kind == "TABLE" and lock.schema == self.schema:
                # ALTER TABLE builds a table whose name is made up of the server's own numbers
                name = "a table that is being made" if lock.name.startswith("#sql") else lock.name
                resource = Resource(kind="metadata", text=f"{name} (metadata)", table=name)
            elif lock.kind == "USER LEVEL LOCK":
                resource = lock.resource(self.schema)
            else:
                continue
            yield LockEntry(
                transaction=everyone[lock.thread],
                resource=resource,
                mode=lock.mode,
                granted=not lock.pending,
            )

    @abstractmethod
    def held(self, tables: Collection[str], waiting: Collection[int] = ()) -> list[Held]:
        """Who has which of the run's tables, in which mode."""

    @abstractmethod
    def holders_of_any(self) -> list[tuple[int, str]] | None:
        """Who has which named lock, of all that there are; None where the server does not list
        them.
        """

    def reported_edges(
        self,
        rest: Mapping[int, InnodbSession],
        states: Sequence[tuple[Any, ...]],
        everyone: Mapping[int, str],
        now_ms: float,
    ) -> tuple[list[Edge], list[tuple[Any, ...]]]:
        """By the performance schema: the edges, and the states that it does not explain.

        ``states``: a thread, its state, for how long (ms).
        """
        waited = {
            int(thread): float(time_ms)
            for thread, state, time_ms in states
            if waits_by_state(state)
        }
        locks = listed(self.query) if waited else []
        edges: list[Edge] = []
        explained = {lock.thread for lock in locks if lock.pending and lock.kind in PASSING}
        for thread, since in waited.items():
            pairs = [
                pair for pair in waits_for(thread, waited, locks) if pair[0].kind not in PASSING
            ]
            if pairs:
                explained.add(thread)  # else a holder is listed in another mode than it has
            edges += [
                edge_of(rest[thread].name, wanted, other, everyone, self.schema, now_ms - since)
                for wanted, other in pairs
            ]
        explained |= {
            int(thread) for thread, _, time_ms in states if float(time_ms) < UNEXPLAINED_MS
        }
        return edges, [row for row in states if int(row[0]) not in explained]

    def named_edges(
        self, session: InnodbSession, everyone: Mapping[int, str], since: float | None = None
    ) -> Iterator[Edge]:
        """Who holds the named lock that a statement is after; where its name is computed, the
        holders of any.
        """
        wanted = [
            lock
            for lock in self.rules.sql.footprint(session.sql, dict(session.values)).named_locks
            if lock.takes
        ]
        held: list[tuple[object, object]] = []
        for lock in wanted:
            for name in lock.key:
                held += [
                    (row[0], name)
                    for row in self.query("select is_used_lock(%s)", (name,))
                    if row[0]
                ]
        if not all(lock.key for lock in wanted):
            anybody = self.holders_of_any()
            held += anybody or []
            if anybody is None:
                yield unnamed(session, Resource(kind="advisory", text="a named lock"), since)
        for holder, name in dict.fromkeys((int(str(thread)), str(name)) for thread, name in held):
            if holder != session.thread_id:
                yield Edge(
                    waiter=session.name,
                    holder=everyone.get(holder, f"session {holder}"),
                    resource=named_resource(name),
                    wanted=self.named_mode,
                    held=self.named_mode,
                    since_ms=since,
                )

    def edges_of_victim(
        self, session: InnodbSession, everyone: Mapping[int, str], tables: Collection[str]
    ) -> tuple[Edge, ...]:
        """What a victim's statement was after, where its cycle is one of these locks.

        Sessions that stand in the way still do: the others have not ended.
        """
        named = tuple(self.named_edges(session, everyone))
        if named:
            return named
        held = self.held(tables)
        return tuple(
            standing(session, wanted_of(session, held, tables, self.rules), held, everyone, None)
        )


def wanted_of(
    session: InnodbSession, held: Sequence[Held], tables: Collection[str], rules: Rules
) -> tuple[str, Mode]:
    """The table and the mode that a waiting statement is after, derived from its text.

    Of several tables it is the first that somebody has in a mode that stands in the way. A change
    of tables takes the locks of all that it names in the order of their names
    (``MDL_context::acquire_locks`` in mdl.cc); what cannot be read is most often one.
    """
    known = {table for _, _, table in held} | set(tables)
    found = rules.sql.footprint(session.sql, dict(session.values))
    after = [
        (access.table, rules.locks.table_mode(access))
        for access in found.accesses
        if access.table in known
    ]
    if not found.parsed:
        after = [(table, MDL_EXCLUSIVE) for table in known & set(re.findall(r"\w+", session.sql))]
    if found.changes_tables:
        after.sort()
    others = [(table, mode) for thread, mode, table in held if thread != session.thread_id]
    blocked = (
        a for a in after if any(a[0] == table and conflict(a[1], mode) for table, mode in others)
    )
    return next(blocked, after[0] if after else ("", MDL_EXCLUSIVE))


def standing(
    session: InnodbSession,
    wanted: tuple[str, Mode],
    held: Sequence[Held],
    everyone: Mapping[int, str],
    since: float | None,
) -> Iterator[Edge]:
    """Who holds the table in a mode that stands in the way."""
    table, mode = wanted
    for other, other_mode, other_table in held:
        if other != session.thread_id and other_table == table and conflict(mode, other_mode):
            yield edge(session, wanted, other, other_mode, everyone, since, queued=False)


def edge(
    session: InnodbSession,
    wanted: tuple[str, Mode],
    other: int,
    other_mode: Mode,
    everyone: Mapping[int, str],
    since: float | None,
    *,
    queued: bool,
) -> Edge:
    """One who stands in the way, as an edge."""
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


def unnamed(session: InnodbSession, resource: Resource, since: float | None) -> Edge:
    """A wait of which the server does not tell for whom."""
    return Edge(
        waiter=session.name,
        holder=SOMEBODY,
        resource=resource,
        wanted=SOME_LOCK,
        held=None,
        since_ms=since,
    )
