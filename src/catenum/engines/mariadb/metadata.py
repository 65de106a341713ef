"""Locks that InnoDB does not know of: on tables' definitions, and by a name of one's own
(GET_LOCK).

Who waits for one, the process list reports. What for, and who holds it, the performance schema
lists; where it does not, that is derived from the waiting statement and from the plugin
METADATA_LOCK_INFO, and without that from the statements of the run's own transactions, which keep
such locks to their end (MariaDB documentation, "Metadata Locking").
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import replace

from catenum.core.record.recording import LockEntry
from catenum.core.record.waits import Edge, Resource
from catenum.core.servers import rules_of
from catenum.core.servers.metadata import MDL_READ, MDL_WRITE, conflict, metadata_mode
from catenum.core.sql.named_locks import named_resource
from catenum.engines.innodb.locks import Query
from catenum.engines.innodb.metadata import (
    UNEXPLAINED_MS,
    Held,
    InnodbMetadata,
    edge,
    standing,
    unnamed,
    wanted_of,
)
from catenum.engines.innodb.metadata_queue import ANY_STATE, NAMED_STATE, TABLE_STATE, keeps_all_out
from catenum.engines.innodb.session import InnodbSession

RULES = rules_of("mariadb")
_HELD = """
select thread_id, lock_mode, table_name from information_schema.metadata_lock_info
where lock_type = 'Table metadata lock' and table_schema = %s
"""
_NAMED = (
    "select thread_id, table_schema from information_schema.metadata_lock_info where lock_type ="
    " 'User lock'"
)
_STATES = "select id, state, time_ms from information_schema.processlist where id in ({})"

_OF_SERVER = (
    "select thread_id, lock_mode, lock_type from information_schema.metadata_lock_info where"
    " table_name = ''"
)
#: The mode in which the server itself lists a lock of GET_LOCK (MariaDB documentation,
#: "METADATA_LOCK_INFO Plugin").
NAMED_MODE = metadata_mode("MDL_SHARED_NO_WRITE")


class MetadataReader(InnodbMetadata):
    """Reads such locks over the control connection. ``sessions`` are the run's own, by thread."""

    #: MariaDB documentation, "METADATA_LOCK_INFO Plugin".
    named_mode = NAMED_MODE

    def __init__(self, query: Query, schema: str, *, listed: bool, tells: bool) -> None:
        """``listed``: whether the server lists who holds what; ``tells``: also who waits for
        what.
        """
        super().__init__(query, schema, RULES)
        self.listed, self.tells = listed, tells

    def edges(
        self,
        rest: Mapping[int, InnodbSession],
        everyone: Mapping[int, str],
        now_ms: float,
        tables: Collection[str],
    ) -> list[Edge]:
        """Who among ``rest`` waits for such a lock, and for whom."""
        edges: list[Edge] = []
        waiting: dict[int, float] = {}
        states = self.query(_STATES.format(", ".join(map(str, rest))))
        if self.tells:
            reported, states = self.reported_edges(rest, states, everyone, now_ms)
            edges += reported
        for number, state, time_ms in states:
            thread, waited = int(number), float(time_ms)
            other = ANY_STATE.match(str(state or ""))
            if state == NAMED_STATE:
                named = list(self.named_edges(rest[thread], everyone, now_ms - waited))
                if not named and waited > UNEXPLAINED_MS:
                    named = [
                        unnamed(
                            rest[thread],
                            Resource(kind="advisory", text="a named lock"),
                            now_ms - waited,
                        )
                    ]
                edges += named
            elif str(state or "").startswith(TABLE_STATE):
                waiting[thread] = waited
            elif other:
                edges += self._server_edges(rest[thread], other[1], everyone, now_ms - waited)
        if waiting:
            edges += self._table_edges(rest, waiting, everyone, now_ms, tables)
        return edges

    def _server_edges(
        self, session: InnodbSession, lock: str, everyone: Mapping[int, str], since: float
    ) -> Iterator[Edge]:
        """Who keeps everybody out, such as for a backup."""
        resource = Resource(kind="other", text=f"the server's {lock}")
        held = self.query(_OF_SERVER) if self.listed else []
        found = [
            (int(t), metadata_mode(str(mode)))
            for t, mode, kind in held
            if keeps_all_out(str(kind), str(mode))
        ]
        if not found:
            yield unnamed(session, resource, since)
        for thread, mode in found:
            holder = everyone.get(thread, f"session {thread}")
            yield replace(unnamed(session, resource, since), holder=holder, held=mode)

    def _table_edges(
        self,
        rest: Mapping[int, InnodbSession],
        waiting: Mapping[int, float],
        everyone: Mapping[int, str],
        now_ms: float,
        tables: Collection[str],
    ) -> Iterator[Edge]:
        held = self.held(tables, waiting)
        wanted = {thread: wanted_of(rest[thread], held, tables, RULES) for thread in waiting}
        for thread, waited in waiting.items():
            session, since = rest[thread], now_ms - waited
            found = list(standing(session, wanted[thread], held, everyone, since))
            table, mode = wanted[thread]
            for other, longer in waiting.items():
                if (
                    longer > waited
                    and wanted[other][0] == table
                    and conflict(mode, wanted[other][1])
                ):
                    found.append(
                        edge(
                            session,
                            wanted[thread],
                            other,
                            wanted[other][1],
                            everyone,
                            since,
                            queued=True,
                        )
                    )
            if (
                not found and waited > UNEXPLAINED_MS
            ):  # sooner, a look may have come between two holders
                resource = Resource(kind="table", text=table or "a table", table=table or None)
                found.append(unnamed(session, resource, since))
            yield from found

    def held(self, tables: Collection[str], waiting: Collection[int] = ()) -> list[Held]:
        """By the server's list, or by the statements that are over."""
        if self.listed:
            return [
                (int(t), metadata_mode(str(mode)), str(table))
                for t, mode, table in self.query(_HELD, (self.schema,))
            ]
        found = {
            (thread, MDL_READ if access.verb == "read" else MDL_WRITE, access.table)
            for thread, session in self.sessions.items()
            for sql, _ in (session.trail[:-1] if thread in waiting else session.trail)
            for access in RULES.sql.footprint(sql).accesses
            if access.table in tables and access.verb != "schema"
        }
        return sorted(found)

    def holders_of_any(self) -> list[tuple[int, str]] | None:
        return (
            [(int(thread), str(name)) for thread, name in self.query(_NAMED)]
            if self.listed
            else None
        )

    def entries(self, everyone: Mapping[int, str]) -> Iterator[LockEntry]:
        """Every such lock of the sessions, where the server lists them."""
        if self.tells and not self.listed:
            yield from super().entries(everyone)
        if not self.listed:
            return
        for thread, mode, table in self.query(_HELD, (self.schema,)):
            if int(thread) in everyone:
                resource = Resource(kind="metadata", text=f"{table} (metadata)", table=str(table))
                yield LockEntry(
                    transaction=everyone[int(thread)],
                    resource=resource,
                    mode=metadata_mode(str(mode)),
                    granted=True,
                )
        for thread, name in self.query(_NAMED):
            if int(thread) in everyone:
                resource = named_resource(str(name))
                yield LockEntry(
                    transaction=everyone[int(thread)],
                    resource=resource,
                    mode=NAMED_MODE,
                    granted=True,
                )
