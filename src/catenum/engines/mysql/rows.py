"""Row and table locks as ``performance_schema.data_locks`` and ``data_lock_waits`` tell them.

Both views are made anew at each reading (MySQL Reference Manual, 29.12.13 "Performance Schema Lock
Tables"). THREAD_ID is that of whoever wrote the lock down, and no more: the first who waits for a
row that somebody inserted writes down the lock of the inserter (``lock_rec_convert_impl_to_expl``
in lock0lock.cc), and who changes a page so that its records move writes down anew all locks on
them, those that others wait for too (``lock_rec_move``). Whose a lock is, its transaction tells.

All of ``data_locks`` is read for a full picture only: with 100,000 locks that costs the server half
a second, and one transaction's locks as much where it has them. Pairs that wait, and single locks
by their ids, cost nothing.
"""

from __future__ import annotations

import functools
import re
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import pymysql

from catenum.core.errors import TargetError
from catenum.core.logs.innodb_fields import decode, names_of
from catenum.core.record.modes import Covers, Mode
from catenum.core.record.waits import Key, Resource, key_text
from catenum.engines.innodb.errors import is_no_text
from catenum.engines.innodb.records import HIDDEN, SUPREMUM, values_of
from catenum.engines.mysql import concat_rows

Query = Callable[..., list[tuple[Any, ...]]]

_COLUMNS = (
    *(
        "engine_lock_id",
        "engine_transaction_id",
        "thread_id",
        "event_id",
        "object_schema",
        "object_name",
        "index_name",
    ),
    *("lock_type", "lock_mode", "lock_status", "lock_data"),
)
_FROM = "from performance_schema.data_locks where engine = 'INNODB' and "
#: Each pair with what the other lock differs in: both are on the same record or table. One of which
#: either is gone is left out.
_OTHER = (
    "engine_lock_id",
    "engine_transaction_id",
    "thread_id",
    "event_id",
    "lock_mode",
    "lock_status",
)
_JOINED = (*(f"b.{name}" for name in _OTHER), *(f"r.{name}" for name in _COLUMNS))
_PAIRED = (
    "from performance_schema.data_lock_waits w join performance_schema.data_locks r on"
    " r.engine_lock_id = w.requesting_engine_lock_id and r.engine = w.engine join"
    " performance_schema.data_locks b on b.engine_lock_id = w.blocking_engine_lock_id and b.engine"
    " = w.engine where w.engine = 'INNODB'"
)
#: Of a transaction of one schema that is not known yet: the thread of a lock on a table, which each
#: takes for itself, and which nobody moves. The server goes through all locks of the transaction
#: for it.
_BY_TABLE = (
    "case when r.object_schema = '{schema}' and {lock}.engine_transaction_id not in ({known}) then"
    " (select t.thread_id from performance_schema.data_locks t where t.engine = 'INNODB' and"
    " t.engine_transaction_id = {lock}.engine_transaction_id and t.lock_type = 'TABLE' limit 1) end"
)
#: The server makes this list anew at most every tenth of a second.
_RUNNING = (
    "select trx_id, trx_mysql_thread_id from information_schema.innodb_trx where trx_id in ({})"
)
_THREADS = (
    "select thread_id, processlist_id from performance_schema.threads where processlist_id is not"
    " null"
)


@dataclass(frozen=True, slots=True)
class DataLock:
    """One row of ``data_locks``. ``thread`` and ``event``: of the performance schema, by whoever
    wrote it down.
    """

    id: str
    transaction: str
    thread: int
    event: int
    schema: str
    table: str
    index: str | None
    kind: str
    mode_text: str
    granted: bool
    data: str | None

    @property
    def place(self) -> tuple[str, ...]:
        """What makes two of them want the same of the same record or table: behind the transaction
        and before the lock's own address, the id has the record's place (``lock_get_record_id`` …
        in p_s.cc of InnoDB).
        """
        where = self.id.split(":")[1:-1]
        return (
            self.schema,
            self.table,
            self.index or "",
            self.mode_text,
            *(where[-3:] if self.kind == "RECORD" else ()),
        )

    @property
    def supremum(self) -> bool:
        """Whether it is on what stands behind the last entry of an index."""
        return self.data == SUPREMUM

    @property
    def mode(self) -> Mode:
        """``X,REC_NOT_GAP`` as ``X record``."""
        return _mode(self.kind, self.mode_text, self.supremum)

    def values(self, kinds: Iterable[str]) -> tuple[str | None, ...]:
        """The entry's values, by the types of the index's columns; empty where they are not
        told.
        """
        reported = values_of(self.data or "")
        return tuple(value_of(text, kind) for text, kind in zip(reported, kinds, strict=False))


@functools.lru_cache(200)
def _mode(kind: str, reported: str, supremum: bool) -> Mode:
    name, _, rest = reported.partition(",")
    if kind == "TABLE":
        return Mode("table", "AUTO-INC" if name == "AUTO_INC" else name)
    parts = set(rest.split(","))
    covers: Covers = "next-key"
    if "INSERT_INTENTION" in parts:
        covers = "insert intention"
    elif "GAP" in parts or supremum:  # behind the last row there is only a gap
        covers = "gap"
    elif "REC_NOT_GAP" in parts:
        covers = "record"
    return Mode("record", name, covers)


def value_of(reported: str | None, kind: str) -> str | None:
    """A value of LOCK_DATA as the column's: numbers and texts are told as such, other types by
    their bytes or their number.

    ``kind``: the column's type as the server writes it.
    """
    if reported is None:
        return None
    if reported.startswith("0x"):
        return decode(reported[2:].lower(), kind)
    base = re.split(r"[ (]", kind.lower(), maxsplit=1)[0]
    if base == "char":
        return reported.rstrip(" ")
    if not reported.lstrip("-").isdigit():
        return reported
    number = int(reported)
    if base == "date":
        with_day = (number >> 9, number >> 5 & 15, number & 31)
        return f"{with_day[0]:04}-{with_day[1]:02}-{with_day[2]:02}"
    if base == "year":
        return str(1900 + number) if number else "0000"
    if base == "enum":
        names = names_of(kind)
        return names[number - 1] if 0 < number <= len(names) else ""
    if base == "set":
        return ",".join(name for place, name in enumerate(names_of(kind)) if number >> place & 1)
    return reported


def resource_of(
    lock: DataLock, columns: Sequence[tuple[str, str]] | None, own: str | None
) -> Resource:
    """What a lock is on, as people read it: ``berth(id=7)``, or the gap before it, through which
    index.

    ``columns``: those of the index, with their types; None where the table has no key. ``own``: the
    schema that goes without saying; None for any.
    """
    # What waits now mostly waited at the last check, too.
    place = (lock.schema, lock.table, lock.index, lock.kind, lock.mode_text, lock.data)
    return _resource(place, tuple(columns) if columns is not None else None, own)


Place = tuple[str, str, str | None, str, str, str | None]


@functools.lru_cache(2_000)
def _resource(
    place: Place, columns: tuple[tuple[str, str], ...] | None, own: str | None
) -> Resource:
    schema, name, index, kind_of_lock, mode, data = place
    lock = DataLock("", "", 0, 0, schema, name, index, kind_of_lock, mode, True, data)
    table = lock.table if own in (lock.schema, None) else f"{lock.schema}.{lock.table}"
    where: dict[str, Any] = {"database": lock.schema, "table": lock.table}
    if lock.kind == "TABLE":
        return Resource(kind="table", text=table, **where)
    where["index"] = lock.index
    via = "" if lock.index in ("PRIMARY", HIDDEN, None) else f" in index {lock.index}"
    gap = lock.mode.covers in ("gap", "insert intention")
    kind: Literal["gap", "row"] = "gap" if gap else "row"
    if lock.supremum:
        return Resource(kind="gap", text=f"{table}: the gap after the last entry{via}", **where)
    if lock.index == HIDDEN or columns is None:
        return Resource(kind=kind, text=f"{table}(a row without a key)", **where)
    values = lock.values(kind for _, kind in columns)
    if not values:  # the page is not in memory, or this login may not see the index
        text = f"{table}: a gap{via}" if gap else f"{table}(an entry{via})"
        return Resource(kind=kind, text=text, **where)
    key: Key = tuple((column, value) for (column, _), value in zip(columns, values, strict=False))
    text = f"{table}: the gap before ({key_text(key)})" if gap else f"{table}({key_text(key)})"
    return Resource(kind=kind, text=text + via, key=key, **where)


def pairs(query: Query) -> list[tuple[DataLock, DataLock]]:
    """Pairs of locks by themselves: one that is waited for, one that stands in its way. For few
    that wait.
    """
    return [_pair(row) for row in concat_rows.together(query, _JOINED, _PAIRED)]


def pairs_of_run(
    query: Query, schema: str, known: Collection[str]
) -> tuple[list[tuple[DataLock, DataLock]], dict[str, int]]:
    """The same, and whose the transactions on one schema are: the thread of each that is not
    ``known`` yet.
    """
    numbers = ", ".join(str(int(number)) for number in known) or "0"
    asked = [_BY_TABLE.format(schema=schema, lock=lock, known=numbers) for lock in ("r", "b")]
    columns = (*asked, *_JOINED)
    found: list[tuple[DataLock, DataLock]] = []
    threads: dict[str, int] = {}
    for wanting, holding, *row in concat_rows.rows(
        query, concat_rows.select(columns, _PAIRED), columns
    ):
        wanted, other = _pair(row)
        found.append((wanted, other))
        threads |= {
            lock.transaction: int(one)
            for lock, one in ((wanted, wanting), (other, holding))
            if one is not None
        }
    return found, threads


def _pair(row: Sequence[str | None]) -> tuple[DataLock, DataLock]:
    wanted = _lock(row[len(_OTHER) :])
    number, transaction, thread, event, mode, status = row[: len(_OTHER)]
    same = (wanted.schema, wanted.table, wanted.index, wanted.kind)
    other = DataLock(
        str(number),
        str(transaction),
        int(thread or 0),
        int(event or 0),
        *same,
        str(mode),
        status == "GRANTED",
        wanted.data,
    )
    return wanted, other


def locks(query: Query, which: str) -> list[DataLock]:
    """The locks for which a condition holds."""
    return [
        _lock(row)
        for row in concat_rows.rows(query, concat_rows.select(_COLUMNS, _FROM + which), _COLUMNS)
    ]


def _lock(row: Sequence[str | None]) -> DataLock:
    number, transaction, thread, event, schema, table, index, kind, mode, status, data = row
    return DataLock(
        id=str(number),
        transaction=str(transaction),
        thread=int(thread or 0),
        event=int(event or 0),
        schema=schema or "",
        table=table or "",
        index=index,
        kind=str(kind),
        mode_text=str(mode),
        granted=status == "GRANTED",
        data=data,
    )


def by_id(query: Query, ids: Collection[str]) -> dict[str, DataLock]:
    """Locks by their ids, as the server made these up; those that are gone are left out."""
    listed = ", ".join(
        f"'{name}'" for name in dict.fromkeys(ids) if re.fullmatch(r"[\w:.-]+", name)
    )
    return (
        {lock.id: lock for lock in locks(query, f"engine_lock_id in ({listed})")} if listed else {}
    )


class Connections:
    """The connections of the performance schema's threads: neither number is used again while the
    server runs.
    """

    def __init__(self, query: Query) -> None:
        """``query`` gives the rows of one query."""
        self.query = query
        self._known: dict[int, int] = {}

    def meet(self, connection: int) -> None:
        """Ask for a connection's thread before anything depends on it."""
        self._known |= {
            int(a): int(b) for a, b in self.query(f"{_THREADS} and processlist_id = {connection}")
        }

    def connection_of(self, thread: int) -> int:
        """The connection of a thread; 0 where it has none any more."""
        if thread and thread not in self._known:
            self._known = {int(a): int(b) for a, b in self.query(_THREADS)}
        return self._known.get(thread, 0)


class Owners:
    """Whose transactions are: the connection of each, and not that of who wrote a lock down."""

    #: Numbers from here on are addresses in memory, of transactions that have only read. They are
    #: used again (``trx_get_id_for_print`` in trx0trx.ic).
    READERS = 1 << 47

    def __init__(self, query: Query, connections: Connections) -> None:
        """``query`` gives the rows of one query."""
        self.query, self.connections = query, connections
        self._known: dict[str, int] = {}

    @property
    def known(self) -> list[str]:
        """The transactions that need not be asked about again."""
        return [number for number in self._known if int(number) < self.READERS]

    def owners_of(
        self, found: Collection[DataLock], threads: Mapping[str, int] | None = None
    ) -> dict[str, int]:
        """The connection of each lock's transaction, by the lock's id; 0 where nobody has it any
        more.

        ``threads``: those that have been asked for with the locks, by transaction.
        """
        reported = {lock.transaction: lock.thread for lock in found}
        own = {
            number: self.connections.connection_of(thread)
            for number, thread in (threads or {}).items()
        }
        self._known |= {number: connection for number, connection in own.items() if connection}
        fresh = {
            n for n in reported if n not in own and (n not in self._known or int(n) >= self.READERS)
        }
        if fresh:
            self._known = {
                number: one
                for number, one in self._known.items()
                if number in reported.keys() - fresh
            }
            listed = ", ".join(str(int(number)) for number in fresh)
            running = self._running(listed)
            for number in fresh:
                # The list may be of a moment ago: a writer's number is not used again, an address
                # may be.
                writes = int(number) < self.READERS
                sure = number in running and (
                    writes or running[number] == self.connections.connection_of(reported[number])
                )
                owner = running[number] if sure else self._by_table(number)
                if owner:
                    self._known[number] = owner
        elif own:
            self._known = {number: one for number, one in self._known.items() if number in reported}
        return {lock.id: self._known.get(lock.transaction, 0) for lock in found}

    def _running(self, listed: str) -> dict[str, int]:
        try:
            return {str(number): int(one) for number, one in self.query(_RUNNING.format(listed))}
        except (TargetError, pymysql.Error) as error:
            if not is_no_text(error):
                raise
            return {}  # then by their locks on tables

    def _by_table(self, number: str) -> int:
        """By its locks on tables, which each takes for itself, and which nobody moves."""
        own = locks(self.query, f"engine_transaction_id = {int(number)} and lock_type = 'TABLE'")
        return self.connections.connection_of(next((lock.thread for lock in own), 0))
