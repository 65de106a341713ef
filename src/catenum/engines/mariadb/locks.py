"""What InnoDB's status and the metadata locks say: who waits for whom, and the full picture.

The waits come from ``SHOW ENGINE INNODB STATUS``, which is not cached; the tables INNODB_LOCKS and
INNODB_LOCK_WAITS are, for a tenth of a second after each reading (MariaDB documentation,
"Information Schema INNODB_TRX Table"), and serve only where the status does not print held locks:
where that is switched off, of transactions with more than ten lock structs, and past a megabyte of
text. Read-only transactions have no number in either; here they are told apart by their connection.
"""

from __future__ import annotations

import os
import re
from collections.abc import Mapping, Sequence
from typing import Any

from catenum.core.logs.innodb_status import (
    RecordLock,
    TransactionSection,
    is_cut,
    same_place,
    transactions,
)
from catenum.core.record.modes import Covers, Mode
from catenum.core.record.recording import LockEntry
from catenum.core.record.waits import Edge, Resource
from catenum.core.servers import rules_of
from catenum.engines.clock import Clock
from catenum.engines.innodb.locks import InnodbReader, Query, past_queues
from catenum.engines.innodb.session import InnodbSession
from catenum.engines.mariadb.metadata import MetadataReader

RULES = rules_of("mariadb")
_MADE = """
select table_name, column_name from information_schema.columns
where table_schema = %s and (extra like '%%auto_increment%%'
or regexp_replace(column_default, '''[^'']*''', '') regexp concat(
  '(^|[^a-z_])(current_timestamp|now|sysdate|curdate|curtime|unix_timestamp|uuid|uuid_short|rand|',
  'nextval)[ (]'))
"""
#: How long InnoDB keeps what its lock tables told, and a little more (ms).
CACHE_MS = 120.0
_CACHED = """
select r.trx_mysql_thread_id, b.trx_mysql_thread_id, w.requested_lock_id, rl.lock_mode,
  bl.lock_mode,
       coalesce(b.trx_requested_lock_id = w.blocking_lock_id, 0), rl.lock_table, rl.lock_index,
       rl.lock_type
from information_schema.innodb_lock_waits w
join information_schema.innodb_locks rl on rl.lock_id = w.requested_lock_id
join information_schema.innodb_locks bl on bl.lock_id = w.blocking_lock_id
join information_schema.innodb_trx r on r.trx_id = w.requesting_trx_id
join information_schema.innodb_trx b on b.trx_id = w.blocking_trx_id
"""


class LockReader(InnodbReader):
    """Reads locks over the control connection, for the tables of one scratch space."""

    made = _MADE

    def __init__(
        self, query: Query, schema: str, *, lists_held: bool, metadata: MetadataReader
    ) -> None:
        """``query`` gives the rows of one query on the control connection."""
        super().__init__(query, schema)
        self.lists_held, self.metadata = lists_held, metadata
        self._cached: list[tuple[Any, ...]] = []
        self._cached_at_ms = -10 * CACHE_MS
        self._clock = Clock()
        self._first_seen: dict[int, tuple[int, float]] = {}

    # -- the cheap check ---------------------------------------------------------------------------

    def poll_waits(
        self, sessions: Mapping[str, InnodbSession], everyone: Mapping[int, str], now_ms: float
    ) -> list[Edge]:
        """Who among ``sessions`` waits for whom."""
        status = self.status()
        sections = transactions(status)
        by_thread = {section.thread: section for section in sections if section.thread}
        cut = is_cut(status)
        edges: list[Edge] = []
        rest: dict[int, InnodbSession] = {}
        for session in sessions.values():
            section = by_thread.get(session.thread_id)
            wait = section.waits_on if section else None
            if section is None or wait is None:
                rest[session.thread_id] = session
                continue
            others = [other for other in sections if other is not section and other.thread]
            since = now_ms - section.waited_us / 1e3
            if self.lists_held and not cut and not any(other.suppressed for other in others):
                edges += self._row_edges(session, section, wait, others, everyone, since)
            else:
                edges += self._listed_edges(
                    session, wait, everyone, section.waited_us / 1e3, now_ms
                )
        if rest and cut:
            edges += self._unprinted_edges(rest, everyone, now_ms)
        if rest:
            edges += self.metadata.edges(rest, everyone, now_ms, self.tables.keys())
        return edges

    def _row_edges(
        self,
        session: InnodbSession,
        section: TransactionSection,
        wait: RecordLock,
        others: Sequence[TransactionSection],
        everyone: Mapping[int, str],
        since: float,
    ) -> list[Edge]:
        found = []
        for other in others:
            for lock in other.locks:
                ahead = lock.waiting and other.waited_us > section.waited_us
                if (
                    same_place(lock, wait)
                    and (ahead or not lock.waiting)
                    and _has_to_wait(wait.mode, lock.mode)
                ):
                    found.append(
                        Edge(
                            waiter=session.name,
                            holder=everyone.get(other.thread, f"session {other.thread}"),
                            resource=self.resource(wait),
                            wanted=wait.mode,
                            held=lock.mode,
                            queued=lock.waiting,
                            since_ms=since,
                        )
                    )
        return past_queues(found)

    def _lists(self) -> list[tuple[Any, ...]]:
        """INNODB_LOCK_WAITS: every wait with all that stand in its way, but up to a tenth of a
        second old.

        The server refills it only when nobody has read it for a tenth of a second: whoever reads it
        more often sees the same for ever. Runs side by side read at different intervals, so that
        each gets its turn.
        """
        now_ms = self._clock.now_ms()
        if now_ms - self._cached_at_ms > CACHE_MS + os.getpid() % 8 * 10:
            self._cached, self._cached_at_ms = self.query(_CACHED), now_ms
        return self._cached

    def _listed_edges(
        self,
        session: InnodbSession,
        wait: RecordLock,
        everyone: Mapping[int, str],
        waited_ms: float,
        now_ms: float,
    ) -> list[Edge]:
        """For the wait that the status prints, from the lists: the status does not print all that
        could stand in its way. Nothing while the lists are older than the wait.
        """
        place = None if wait.place is None else ":".join(map(str, wait.place))
        began, since = self._clock.now_ms() - waited_ms, now_ms - waited_ms
        edges = []
        for waiter, holder, requested, _, held, queued, *_ in self._lists():
            same = place is None or str(requested).endswith(f":{place}")
            if int(waiter) == session.thread_id and same and self._cached_at_ms > began:
                name = everyone.get(int(holder), f"session {holder}")
                edges.append(
                    _listed_edge(session, name, self.resource(wait), wait.mode, held, queued, since)
                )
        return past_queues(edges)

    def _unprinted_edges(
        self, rest: dict[int, InnodbSession], everyone: Mapping[int, str], now_ms: float
    ) -> list[Edge]:
        """Of sessions that the status may have left out, being too long: by the lists alone, once
        they are younger than the statement. Takes those sessions out of ``rest``.
        """
        edges = []
        for thread, session in list(rest.items()):
            if self._first_seen.get(thread, (0, 0.0))[0] != session.sent:
                self._first_seen[thread] = (session.sent, self._clock.now_ms())
            began = self._first_seen[thread][1]
            since = now_ms - (self._clock.now_ms() - began)
            found = []
            for waiter, holder, _, wanted, held, queued, table, index, kind in self._lists():
                if int(waiter) == thread and self._cached_at_ms > began:
                    mode = Mode(
                        "table" if kind == "TABLE" else "record", *_listed_mode(wanted, kind)
                    )
                    name = re.sub(r" */\*.*", "", str(table)).rpartition(".")[2].strip("`")
                    text = name if kind == "TABLE" else f"a record of {name}, index {index}"
                    resource = Resource(
                        kind="table" if kind == "TABLE" else "row",
                        text=text,
                        table=name,
                        index=index,
                    )
                    by = everyone.get(int(holder), f"session {holder}")
                    found.append(_listed_edge(session, by, resource, mode, held, queued, since))
            if found:
                del rest[thread]
            edges += past_queues(found)
        return edges

    # -- the full picture, and deadlocks -----------------------------------------------------------

    def picture(self, everyone: Mapping[int, str]) -> tuple[list[LockEntry], str | None]:
        """Every lock of the sessions: tables, records and gaps with index and key, metadata
        locks.
        """
        status = self.status()
        sections = [section for section in transactions(status) if section.thread in everyone]
        entries = {
            LockEntry(
                transaction=everyone[section.thread],
                resource=self.resource(lock),
                mode=lock.mode,
                granted=not lock.waiting,
            )
            for section in sections
            for lock in section.locks
        }
        notes = [
            f"{everyone[section.thread]} has more locks than the server prints "
            "(10, each on a table or on records of one page)"
            for section in sections
            if section.suppressed
        ]
        if is_cut(status):
            notes.append(
                "the server's status is longer than it prints (1 MB), and locks are missing"
            )
        if not self.lists_held:
            notes.append(
                "held locks are not listed: innodb_status_output_locks is off on this server"
            )
        entries.update(self.metadata.entries(everyone))
        order = sorted(
            entries, key=lambda e: (e.transaction, not e.granted, e.resource.sort_key, e.mode)
        )
        return order, "; ".join(notes) or None


def _listed_edge(
    session: InnodbSession,
    holder: str,
    resource: Resource,
    wanted: Mode,
    held: object,
    queued: object,
    since: float,
) -> Edge:
    covers: Covers = "next-key" if wanted.covers == "insert intention" else wanted.covers
    return Edge(
        waiter=session.name,
        holder=holder,
        resource=resource,
        wanted=wanted,
        held=Mode(wanted.family, str(held) if wanted.family == "table" else str(held)[0], covers),
        queued=str(queued) == "1",
        since_ms=since,
    )


def _listed_mode(reported: object, kind: object) -> tuple[str, Covers]:
    """``X,GAP`` as (``X``, ``gap``)."""
    name, _, rest = str(reported).partition(",")
    if kind == "TABLE":
        return str(reported), ""
    if "INSERT_INTENTION" in rest:
        return name, "insert intention"
    return name, "gap" if "GAP" in rest and "NOT" not in rest else "record" if rest else "next-key"


def _has_to_wait(wanted: Mode, held: Mode) -> bool:
    rule = RULES.locks.conflict(wanted, held)
    return rule is None or rule.conflict
