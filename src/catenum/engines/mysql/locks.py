"""Who waits for whom, and every lock, as the performance schema lists them: no status text is read,
nothing cached.
"""

from __future__ import annotations

from collections.abc import Mapping

from catenum.core.record.recording import LockEntry
from catenum.core.record.waits import Edge, Resource
from catenum.engines.innodb.locks import InnodbReader, Query, past_queues
from catenum.engines.innodb.session import InnodbSession
from catenum.engines.mysql import history, rows
from catenum.engines.mysql.metadata import MetadataLocks
from catenum.engines.mysql.rows import DataLock

_INDEXES = """
select table_name, index_name, coalesce(column_name, concat('(', expression, ')')), non_unique,
  sub_part
from information_schema.statistics where table_schema = %s order by table_name, index_name,
  seq_in_index
"""
_MADE = """
select table_name, column_name from information_schema.columns
where table_schema = %s and (extra like '%%auto_increment%%'
  or column_default like 'CURRENT_TIMESTAMP%%'
or (extra like '%%DEFAULT_GENERATED%%' and lower(column_default) regexp
'(^|[^a-z_])(now|sysdate|curdate|curtime|utc_date|utc_time|utc_timestamp|unix_timestamp|uuid|uuid_short|rand)[(]'))
"""

#: Locks of which the taker is remembered.
MOST_TAKERS = 2_000


class DataLocks(InnodbReader):
    """Reads locks over the control connection, for the tables of one scratch space."""

    index_columns = _INDEXES
    made = _MADE

    def __init__(self, query: Query, schema: str, metadata: MetadataLocks) -> None:
        """``query`` gives the rows of one query on the control connection."""
        super().__init__(query, schema)
        self.metadata = metadata
        self._connections = rows.Connections(query)
        self._owners = rows.Owners(query, self._connections)
        self._since: dict[str, float] = {}
        self._takers: dict[
            tuple[str, int], str | None
        ] = {}  # by a lock's id and event, the statement that took it
        self._looked: dict[
            int, int
        ] = {}  # by thread, the statement that a look has met before and not seen to wait

    def meet(self, connection: int) -> None:
        """A session of the run's."""
        self._connections.meet(connection)

    # -- the cheap check ---------------------------------------------------------------------------

    def poll_waits(
        self, sessions: Mapping[str, InnodbSession], everyone: Mapping[int, str], now_ms: float
    ) -> list[Edge]:
        """Who among ``sessions`` waits for whom."""
        edges: list[Edge] = []
        pairs, threads = rows.pairs_of_run(self.query, self.schema, self._owners.known)
        owner = (
            self._owners.owners_of([lock for pair in pairs for lock in pair], threads)
            if pairs
            else {}
        )
        mine = {session.thread_id: session for session in sessions.values()}
        self._since = {wanted.id: self._since.get(wanted.id, now_ms) for wanted, _ in pairs}
        waiting = set()
        for wanted, other in pairs:
            session, holder = mine.get(owner[wanted.id]), owner[other.id]
            if wanted.granted or session is None or not holder or holder == session.thread_id:
                continue  # meanwhile it has been granted, or the other is over
            waiting.add(session.thread_id)
            edges.append(
                Edge(
                    waiter=session.name,
                    holder=everyone.get(holder, f"session {holder}"),
                    resource=self.resource_of(wanted),
                    wanted=wanted.mode,
                    held=other.mode,
                    queued=not other.granted,
                    since_ms=self._since[wanted.id],
                    taken_by=self._taken_by(other, holder),
                )
            )
        found = [
            edge
            for name in sessions
            for edge in past_queues([e for e in edges if e.waiter == name])
        ]
        # Most statements are over at the second look: only who still works is asked about the locks
        # of the other kinds.
        again = {thread: mine[thread].sent for thread in mine.keys() - waiting}
        rest = {
            thread: mine[thread]
            for thread, sent in again.items()
            if self._looked.get(thread) == sent
        }
        self._looked = again
        return [*found, *self.metadata.edges(rest, everyone, now_ms)] if rest else found

    def _taken_by(self, lock: DataLock, holder: int) -> str | None:
        """The statement with which a lock was written down; None where another session's was it, or
        where it is not retained. One of a routine is the statement that called it.
        """
        key = lock.id, lock.event
        if key not in self._takers:
            found = None
            if lock.granted and self._connections.connection_of(lock.thread) == holder:
                known = history.kept(self.query, [str(holder)]).get(str(holder), [])
                last = history.running(self.query, [str(holder)]).get(
                    str(holder)
                )  # it comes to the others a bit late
                ran = [*known, last] if last is not None else known
                found = history.taker([one for one in ran if one.level == 0], lock.event)
            if len(self._takers) > MOST_TAKERS:
                self._takers.clear()
            self._takers[key] = found.text if found is not None else None
        return self._takers[key]

    def resource_of(self, lock: DataLock) -> Resource:
        """What a lock is on, as people read it."""
        index = self.indexes.get((lock.table, lock.index or ""))
        return rows.resource_of(lock, index.columns if index is not None else None, self.schema)

    # -- the full picture --------------------------------------------------------------------------

    def picture(self, everyone: Mapping[int, str]) -> tuple[list[LockEntry], str | None]:
        """Every lock of the sessions: tables, records and gaps with index and key, metadata and
        named locks.

        What a transaction holds only by having inserted a row is no lock yet, and is not among
        them.
        """
        found = rows.locks(self.query, "true")
        owner = {lock.transaction: lock.thread for lock in found if lock.kind == "TABLE"}
        entries = set()
        for lock in found:
            thread = self._connections.connection_of(owner.get(lock.transaction, lock.thread))
            if thread in everyone:
                resource = self.resource_of(lock)
                entries.add(
                    LockEntry(
                        transaction=everyone[thread],
                        resource=resource,
                        mode=lock.mode,
                        granted=lock.granted,
                    )
                )
        entries.update(self.metadata.entries(everyone))
        return (
            sorted(
                entries, key=lambda e: (e.transaction, not e.granted, e.resource.sort_key, e.mode)
            ),
            None,
        )
