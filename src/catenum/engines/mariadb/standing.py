"""Waits on a running server that InnoDB does not list: for tables' definitions, for named locks, for a backup.

Who waits, and what for, the process list's state reports. Who holds it, the plugin METADATA_LOCK_INFO reports, and
IS_USED_LOCK for a named lock; where nobody is named the wait is reported all the same, for a session that is not named.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

from catenum.core.record.modes import Mode
from catenum.core.record.waits import Edge, Resource
from catenum.core.servers.mariadb import metadata_mode
from catenum.core.sql.named_locks import named_resource
from catenum.engines.mariadb.errors import RULES
from catenum.engines.mariadb.metadata import (
    ANY_STATE,
    FLUSH_STATE,
    NAMED_MODE,
    NAMED_STATE,
    SOME_LOCK,
    SOMEBODY,
    TABLE_STATE,
    keeps_all_out,
    waits_by_state,
)

_HELD = "select thread_id, lock_mode, lock_type, table_schema, table_name from information_schema.metadata_lock_info"
SOME_METADATA_LOCK = metadata_mode("a metadata lock")
#: Different named locks whose holder one check asks for.
MOST_NAMES = 20

#: A row of the process list as the lookout reads it: id first, then time (5), state (6) and statement (7).
Listed = tuple[Any, ...]
Query = Callable[..., list[tuple[Any, ...]]]


def waiting(rows: Sequence[Listed]) -> list[Listed]:
    """The sessions that wait for something of the kind."""
    return [row for row in rows if waits_by_state(row[6])]


def standing_edges(query: Query, rows: Sequence[Listed], *, listed: bool) -> tuple[list[Edge], int]:
    """For whom each of ``rows`` waits, and how many rows were read for it.

    ``listed``: whether the server lists who holds what.
    """
    others = [row for row in rows if row[6] != NAMED_STATE]
    held = query(_HELD) if listed and others else []
    edges = list(_named(query, [row for row in rows if row[6] == NAMED_STATE]))
    for row in others:
        table = str(row[6]).startswith((TABLE_STATE, FLUSH_STATE))
        edges += _of_table(row, held) if table else _of_server(row, held)
    found = {edge.waiter for edge in edges}
    return edges + [_unnamed(row) for row in rows if str(row[0]) not in found], len(held)


def _of_table(row: Listed, held: Sequence[tuple[Any, ...]]) -> Iterator[Edge]:
    text = str(row[7] or "").lower()
    for thread, mode, kind, schema, table in held:
        if kind == "Table metadata lock" and str(thread) != str(row[0]) and table and str(table).lower() in text:
            resource = Resource(kind="table", text=f"{schema}.{table}", table=str(table))
            yield _edge(row, str(thread), resource, SOME_METADATA_LOCK, metadata_mode(str(mode)))


def _of_server(row: Listed, held: Sequence[tuple[Any, ...]]) -> Iterator[Edge]:
    for thread, mode, kind, _, _ in held:
        if str(thread) != str(row[0]) and keeps_all_out(str(kind), str(mode)):
            yield _edge(row, str(thread), _resource(row), SOME_METADATA_LOCK, metadata_mode(str(mode)))


def _named(query: Query, rows: Sequence[Listed]) -> Iterator[Edge]:
    holders: dict[str, str | None] = {}
    for row in rows:
        taken = [lock for lock in RULES.footprint(str(row[7] or "")).named_locks if lock.takes and lock.key]
        for name in {str(lock.key[0]) for lock in taken}:
            if name not in holders and len(holders) < MOST_NAMES:
                holders[name] = query("select is_used_lock(%s)", (name,))[0][0]
            holder = holders.get(name)
            if holder is not None and holder != str(row[0]):
                yield _edge(row, holder, named_resource(name), NAMED_MODE, NAMED_MODE)


def _unnamed(row: Listed) -> Edge:
    return _edge(row, SOMEBODY, _resource(row), SOME_LOCK, None)


def _resource(row: Listed) -> Resource:
    state = ANY_STATE.match(str(row[6] or ""))
    if state is None:
        return Resource(kind="advisory", text="a named lock")
    return Resource(kind="other", text=f"the server's {state[1]}")


def _edge(row: Listed, holder: str, resource: Resource, wanted: Mode, held: Mode | None) -> Edge:
    since = -float(row[5] or 0.0)
    return Edge(waiter=str(row[0]), holder=holder, resource=resource, wanted=wanted, held=held, since_ms=since)
