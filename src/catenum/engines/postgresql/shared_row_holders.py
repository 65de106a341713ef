"""All that hold a row together on a running PostgreSQL.

Whoever wants a row that several transactions have locked waits for one of them after the other, and
the server names the one (heapam.c, ``MultiXactIdWait``). The others are the members of the number
in the row's ``xmax`` (``pg_get_multixact_members``), as the row itself tells it: one row is read by
its place.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from psycopg import Connection, sql
from psycopg import Error as DriverError

from catenum.core.record.modes import Mode
from catenum.core.servers.postgresql import ROW, ROW_MODE_ALIASES
from catenum.engines.postgresql.lock_table import (
    LockRow,
    LockRows,
    place_of,
    unreadable_tables,
    wanted_of,
)

#: Rows that one check reads for it.
MOST_ROWS = 10
#: For so long the check waits for the right to read a row (ms): for longer a schema change stands
#: in the queue.
PATIENCE_MS = 20
_ROW = "select xmax::text from only {table} where ctid = {place}::tid"
_MEMBERS = """
select m.xid::text, m.mode, l.pid from pg_get_multixact_members(%s::text::xid) m left
  join pg_locks l
  on l.locktype = 'transactionid' and l.granted and l.transactionid = m.xid
"""


@dataclass(frozen=True)
class Sharing:
    """For each that waits: all who hold the row in its way, each with the mode; and tables that
    could not be read.
    """

    holders: Mapping[int, Mapping[int, Mode]] = field(default_factory=dict)
    unread: tuple[str, ...] = ()


def sharing(connection: Connection[Any], waiting: Sequence[int], locks: LockRows) -> Sharing:
    """Ask for the rows that are waited for. Nothing is asked where a schema change waits for the
    table.
    """
    unreadable = unreadable_tables(locks)
    found: dict[int, dict[int, Mode]] = {}
    unread: dict[str, None] = {}
    for pid, place, number in list(_asked(waiting, locks, unreadable))[:MOST_ROWS]:
        try:
            members = _members(connection, place, number)
        except DriverError:
            unread[f"{place.schema}.{place.table}"] = None
            continue
        wanted = place.row_mode
        known = wanted in ROW.modes
        conflicting = {
            member: mode
            for member, mode in members.items()
            if member != pid and known and ROW.conflict(wanted, mode)
        }
        if conflicting:
            found[pid] = conflicting
    return Sharing(found, tuple(unread))


def _asked(
    waiting: Sequence[int], locks: LockRows, unreadable: set[int | None]
) -> Iterator[tuple[int, LockRow, str]]:
    """Who waits for a transaction over a row of this database: the place, and the transaction's
    number.
    """
    for pid in waiting:
        mine = locks.get(pid, ())
        wanted, place = wanted_of(mine), place_of(mine)
        if wanted is None or wanted.kind != "transactionid" or place is None or place.table is None:
            continue
        if place.elsewhere is not None:
            continue
        if place.oid not in unreadable and place.schema is not None and wanted.xid is not None:
            yield pid, place, wanted.xid


def _members(connection: Connection[Any], place: LockRow, number: str) -> dict[int, Mode]:
    """The sessions that hold the row, with their modes; empty where one transaction alone has
    it.
    """
    with connection.transaction(), connection.cursor() as cursor:
        cursor.execute(f"set local lock_timeout = {PATIENCE_MS}")
        table = sql.SQL("{}.{}").format(
            sql.Identifier(place.schema or "public"), sql.Identifier(place.table or "")
        )
        query = sql.SQL(_ROW).format(table=table, place=sql.Literal(f"({place.page},{place.slot})"))
        row = cursor.execute(query, prepare=False).fetchone()
        if row is None or row[0] == number:
            return {}
        reported = cursor.execute(_MEMBERS, [row[0]]).fetchall()
    if number not in {xid for xid, _, _ in reported}:
        return {}  # another number by now, or one that means something else
    return {
        int(pid): ROW_MODE_ALIASES[mode]
        for _, mode, pid in reported
        if pid is not None and mode in ROW_MODE_ALIASES
    }
