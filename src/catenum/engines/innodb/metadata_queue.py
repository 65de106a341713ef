"""Metadata locks as the performance schema lists them: of every session what it has, and what it
waits for.

That needs ``performance_schema`` with the instrument ``wait/lock/metadata/sql/mdl`` (MariaDB
documentation, "Performance Schema metadata_locks Table"). Without it what a session waits for is
derived from its statement.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from catenum.core.record.modes import Mode
from catenum.core.record.waits import Edge, Resource
from catenum.core.servers.metadata import conflict, metadata_mode
from catenum.core.sql.named_locks import named_resource

#: What the process list says of who waits for a named lock, for a table's definition, for anything
#: of the kind.
NAMED_STATE, TABLE_STATE, FLUSH_STATE = (
    "User lock",
    "Waiting for table metadata lock",
    "Waiting for table flush",
)
ANY_STATE = re.compile(r"Waiting for (?!query cache)(.*\block\b.*|table flush)")
#: Modes that keep changes out of the whole server, while a backup is taken or FLUSH TABLES WITH
#: READ LOCK stands.
_KEEPS_OUT = re.compile(r"MDL_BACKUP_(?:FTWRL|WAIT|BLOCK)|^MDL_SHARED$")
#: Whether the server lists metadata locks.
TELLS = (
    "select count(*) from performance_schema.setup_instruments "
    "where name = 'wait/lock/metadata/sql/mdl' and enabled = 'YES' and @@performance_schema"
)
_LISTED = """
select t.processlist_id, l.object_type, l.object_schema, l.object_name, l.lock_type, l.lock_status
from performance_schema.metadata_locks l join performance_schema.threads t
  on t.thread_id = l.owner_thread_id
where t.processlist_id is not null
"""
#: Locks on a whole server or schema: whoever means to change something in it holds this, and they
#: let each other by.
_MEANS_TO = "MDL_INTENTION_EXCLUSIVE"


@dataclass(frozen=True, slots=True)
class MetadataLock:
    """One lock that a session has or waits for."""

    thread: int
    kind: str
    schema: str
    name: str
    mode: Mode
    pending: bool

    @property
    def place(self) -> tuple[str, str, str]:
        return self.kind, self.schema, self.name

    def resource(self, own: str) -> Resource:
        """As people read it; ``own`` is the schema that goes without saying."""
        if self.kind == "USER LEVEL LOCK":
            return named_resource(self.name)
        if self.kind == "TABLE":
            text = self.name if self.schema == own else f"{self.schema}.{self.name}"
            return Resource(kind="table", text=text, table=self.name)
        what, name = self.kind.lower().replace("_", " "), self.name or self.schema
        return Resource(
            kind="other", text=f"{what} {name}" if name else f"the server's {what} lock"
        )


def listed(query: Any) -> list[MetadataLock]:
    """All metadata locks of all sessions."""
    return [
        MetadataLock(
            int(thread),
            str(kind),
            str(schema or ""),
            str(name or ""),
            metadata_mode(
                f"MDL_{mode or 'SHARED_READ_ONLY'}"
            ),  # MariaDB has no name for that of LOCK TABLES … READ
            status == "PENDING",
        )
        for thread, kind, schema, name, mode, status in query(_LISTED)
        if status in ("PENDING", "GRANTED")
    ]


def waits_for(
    thread: int, waited_ms: Mapping[int, float], locks: Sequence[MetadataLock]
) -> Iterator[tuple[MetadataLock, MetadataLock]]:
    """What a thread waits for, with each lock that stands in its way: held, or asked for by one who
    waits longer.
    """
    for wanted in (lock for lock in locks if lock.thread == thread and lock.pending):
        others = [lock for lock in locks if lock.thread != thread and lock.place == wanted.place]
        in_the_way = [lock for lock in others if _conflict(wanted, lock)]
        held = [lock for lock in in_the_way if not lock.pending]
        yield from ((wanted, lock) for lock in held)
        for lock in in_the_way:
            longer = waited_ms.get(lock.thread, 0.0) > waited_ms.get(thread, 0.0)
            if lock.pending and longer and lock.thread not in {h.thread for h in held}:
                yield wanted, lock


def edge_of(
    name: str,
    wanted: MetadataLock,
    other: MetadataLock,
    everyone: Mapping[int, str],
    own: str,
    since_ms: float,
) -> Edge:
    """One such pair as an edge."""
    return Edge(
        waiter=name,
        holder=everyone.get(other.thread, f"session {other.thread}"),
        resource=wanted.resource(own),
        wanted=wanted.mode,
        held=other.mode,
        queued=other.pending,
        since_ms=since_ms,
    )


def waits_by_state(state: object) -> bool:
    """Whether a state of the process list is that of a wait for a lock outside of InnoDB."""
    return state == NAMED_STATE or ANY_STATE.match(str(state or "")) is not None


def keeps_all_out(kind: str, mode: str) -> bool:
    """Whether a lock of the metadata list keeps changes out of the whole server."""
    return kind in ("Backup lock", "Global read lock") and _KEEPS_OUT.search(mode) is not None


def _conflict(wanted: MetadataLock, other: MetadataLock) -> bool:
    reported = conflict(wanted.mode, other.mode)
    return (
        reported if reported is not None else not wanted.mode.name == other.mode.name == _MEANS_TO
    )
