"""Metadata locks and named locks, as the performance schema lists them: held and waited for."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from catenum.core.record.waits import Edge, Resource
from catenum.core.servers import Rules
from catenum.core.servers.metadata import metadata_mode
from catenum.engines.innodb import metadata_queue
from catenum.engines.innodb.locks import Query
from catenum.engines.innodb.metadata import UNEXPLAINED_MS, Held, InnodbMetadata, unnamed
from catenum.engines.innodb.session import InnodbSession

#: Sessions with their states, and for how long their statements run (ms).
_STATES = """
select t.processlist_id, t.processlist_state, coalesce(max(s.timer_wait) / 1000000000,
  t.processlist_time * 1000, 0)
from performance_schema.threads t left join performance_schema.events_statements_current s
  on s.thread_id = t.thread_id and s.end_event_id is null
where t.processlist_id in ({}) and t.processlist_command <> 'Sleep' group by 1, 2,
  t.processlist_time
"""


class MetadataLocks(InnodbMetadata):
    """Reads such locks over the control connection. ``sessions`` are the run's own, by thread."""

    named_mode = metadata_mode("MDL_EXCLUSIVE")

    def __init__(self, query: Query, schema: str, rules: Rules) -> None:
        """``query`` gives the rows of one query on the control connection."""
        super().__init__(query, schema, rules)
        self._unexplained: dict[int, tuple[int, float]] = {}  # since when, and with which statement

    def edges(
        self, rest: Mapping[int, InnodbSession], everyone: Mapping[int, str], now_ms: float
    ) -> list[Edge]:
        """Who among ``rest`` waits for such a lock, and for whom."""
        states = self.query(_STATES.format(", ".join(map(str, rest))))
        reported, unexplained = self.reported_edges(rest, states, everyone, now_ms)
        # A session that has got its lock is in the state of waiting until it wakes: only who stays
        # in it waits for something that is not listed.
        seen: dict[int, tuple[int, float]] = {}
        for number, state, _ in unexplained:
            session = rest[int(number)]
            if metadata_queue.waits_by_state(state):
                sent, since = self._unexplained.get(session.thread_id, (session.sent, now_ms))
                since = since if sent == session.sent else now_ms
                seen[session.thread_id] = (session.sent, since)
                if now_ms - since > UNEXPLAINED_MS:
                    resource = Resource(
                        kind="other", text=f"the server's {str(state).removeprefix('Waiting for ')}"
                    )
                    reported.append(unnamed(session, resource, since))
        self._unexplained = seen
        return reported

    def held(self, tables: Collection[str], waiting: Collection[int] = ()) -> list[Held]:
        """By the server's list."""
        return [
            (lock.thread, lock.mode, lock.name)
            for lock in metadata_queue.listed(self.query)
            if lock.kind == "TABLE" and lock.schema == self.schema and not lock.pending
        ]

    def holders_of_any(self) -> list[tuple[int, str]]:
        """By the server's list."""
        locks = metadata_queue.listed(self.query)
        return [
            (lock.thread, lock.name)
            for lock in locks
            if lock.kind == "USER LEVEL LOCK" and not lock.pending
        ]
