"""Where a row's version went, by the write-ahead log: it has every update of every transaction, as
long as it is there.

Read through the extension ``pg_walinspect`` (PostgreSQL documentation, F.37), whose descriptions
are those of the server's own resource managers (``heapdesc.c``): an update names the place of the
old version and of the new one.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Sequence
from typing import NamedTuple

import psycopg
from psycopg import sql

_EXTENSION = """
select n.nspname from pg_extension e join pg_namespace n on n.oid = e.extnamespace
  where e.extname = 'pg_walinspect'
"""
#: Names of segments are their places, by their size (``XLogFileName`` in xlog_internal.h). What is
#: written and not yet flushed is refused as of the future.
_SEGMENTS = """
select min(name), pg_size_bytes(current_setting('wal_segment_size')),
  pg_current_wal_flush_lsn()::text,
       pg_relation_filenode({table}::regclass)::text
from pg_ls_waldir() where name ~ '^[0-9A-F]{{24}}$'
"""
_RECORDS = """
select xid::text, resource_manager, record_type, description, coalesce(block_ref, '')
  from {function}(%s, %s)
where (resource_manager = 'Heap' and record_type ~ 'UPDATE|DELETE' and block_ref like %s)
   or (resource_manager = 'Transaction' and record_type like 'COMMIT%%')
order by start_lsn
"""
#: As versions 15 and 16 write it.
_OFFSETS = re.compile(r"(?:^off |old_off: | off: )(\d+)(?:.*?new[_ ]off:? (\d+))?")
_BLOCK = re.compile(r"rel \d+/\d+/(\d+)(?: fork main)?,? blk (\d+)")

Address = tuple[int, int]


class Moved(NamedTuple):
    """One change of a row's version. ``now``: None where it was deleted."""

    by: int
    was: Address
    now: Address | None


class NotRead(Exception):
    """The log cannot be read here; says why."""


def moves(connection: psycopg.Connection, table: str) -> list[Moved]:
    """What committed transactions did to versions of a table's rows, in order. Raises NotRead,
    psycopg.Error.
    """
    found = connection.execute(_EXTENSION).fetchone()
    if found is None:
        raise NotRead(
            "the extension pg_walinspect, which would show where it went, is not installed"
        )
    query = sql.SQL(_SEGMENTS).format(table=sql.Literal(table))
    first, size, last, node = connection.execute(query).fetchone() or (None, 0, "", "")
    if first is None or node is None:
        raise NotRead("no segment of the write-ahead log is there")
    number = int(first[8:16], 16) * ((1 << 32) // size) + int(first[16:], 16)
    begins = f"{number * size >> 32:X}/{max(number * size & 0xFFFFFFFF, 1):X}"
    records = sql.SQL(_RECORDS).format(
        function=sql.Identifier(str(found[0]), "pg_get_wal_records_info")
    )
    rows = connection.execute(records, [begins, last, f"%/{node} %"]).fetchall()
    committed = {int(row[0]) for row in rows if row[1] == "Transaction"}
    return [one for one in _read(rows, str(node)) if one.by in committed]


def _read(rows: Sequence[tuple[str, ...]], node: str) -> Iterator[Moved]:
    for xid, manager, kind, description, blocks in rows:
        offsets = _OFFSETS.search(description)
        places = [int(block) for relation, block in _BLOCK.findall(blocks) if relation == node]
        if manager != "Heap" or offsets is None or not places:
            continue
        # the first block is the new version's; the old one's follows where it is another
        was = (places[-1], int(offsets[1]))
        if "DELETE" in kind:
            yield Moved(int(xid), was, None)
        elif offsets[2] is not None:
            yield Moved(int(xid), was, (places[0], int(offsets[2])))


def followed(found: Sequence[Moved], at: Address, numbers: Collection[int]) -> list[Moved]:
    """What became of the version that stood at ``at`` when these transactions met: each change, up
    to the last.
    """
    chain: list[Moved] = []
    for one in found:
        begins = not chain and one.was == at and (one.by in numbers or one.by > max(numbers))
        if begins or (chain and one.was == chain[-1].now):
            chain.append(one)
    return chain
