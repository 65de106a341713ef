"""InnoDB's row and table locks on a running server: who waits, for what, and who is in the way.

``INNODB_TRX`` tells which lock each transaction waits for, ``INNODB_LOCKS`` has those locks and the
ones in their way (MariaDB documentation, "Information Schema INNODB_LOCKS Table").
``INNODB_LOCK_WAITS`` is not read: it has a row for each pair of transactions in a queue, 125,000
where 500 wait for one row.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from catenum.core.record.modes import Mode
from catenum.core.servers import rules_of
from catenum.engines.innodb.transactions import COLUMNS, Transaction, by_name

_LOCKS = """
select lock_id, lock_trx_id, lock_mode, lock_type, lock_table, lock_index, lock_data, lock_space,
  lock_page, lock_rec
from information_schema.innodb_locks
"""
_TABLE_LOCKS = rules_of("mariadb").locks.tables[0]

Query = Callable[..., list[tuple[Any, ...]]]


@dataclass(frozen=True, slots=True)
class Lock:
    """One row of ``INNODB_LOCKS``. ``place``: what makes two of them on the same record or
    table.
    """

    number: str
    transaction: str
    mode: str
    kind: str
    table: str
    index: str
    data: str
    place: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class LockWait:
    """Who waits for whom, threads by number. ``queued``: the holder itself waits, further ahead."""

    waiter: str
    holder: str
    wanted: Lock
    held: str
    queued: bool


def transactions(query: Query, session: int | None = None) -> dict[str, Transaction]:
    """All, or one session's, by its number; see ``innodb.transactions``."""
    which = "" if session is None else f"where trx_mysql_thread_id = {session}"
    return by_name(query(f"select {', '.join(COLUMNS)} from information_schema.innodb_trx {which}"))


def locks(query: Query) -> list[Lock]:
    """What is waited for, and what is in the way."""
    found = []
    for row in query(_LOCKS):
        number, trx, mode, kind, table, index, data, *where = map(str, row)
        found.append(
            Lock(number, trx, mode, kind, table, index, data, (kind, table, index, *where))
        )
    return found


def waits(everybody: Mapping[str, Transaction], listed: Iterable[Lock]) -> Iterator[LockWait]:
    """For each that waits: those who hold what is in its way; where nobody does, whoever stands
    first in the queue.
    """
    by_number = {trx.number: trx for trx in everybody.values()}
    wanted_by = {trx.wanted: trx for trx in everybody.values() if trx.wanted is not None}
    by_id = {lock.number: lock for lock in listed}
    at: dict[tuple[str, ...], list[Lock]] = defaultdict(list)
    for lock in by_id.values():
        at[lock.place].append(lock)
    for name, trx in everybody.items():
        wanted = by_id.get(trx.wanted or "")
        if wanted is None:
            continue
        others = [
            lock
            for lock in at[wanted.place]
            if lock.transaction != trx.number
            and lock.transaction in by_number
            and in_the_way(wanted, lock)
        ]
        held = [lock for lock in others if lock.number not in wanted_by]
        if held:
            for owner, lock in {by_number[lock.transaction].name: lock for lock in held}.items():
                yield LockWait(name, owner, wanted, lock.mode, queued=False)
            continue
        ahead = [wanted_by[lock.number] for lock in others if _before(wanted_by[lock.number], trx)]
        if ahead:
            first = min(ahead, key=_place_in_queue)
            yield LockWait(name, first.name, wanted, by_id[first.wanted or ""].mode, queued=True)


def _place_in_queue(trx: Transaction) -> tuple[float, int]:
    return (-(trx.waited_ms or 0.0), int(trx.number))


def _before(one: Transaction, other: Transaction) -> bool:
    return _place_in_queue(one) < _place_in_queue(other)


def in_the_way(wanted: Lock, held: Lock) -> bool:
    """Whether two modes conflict, as far as this view tells them: it does not tell a record from a
    next-key lock.
    """
    mine, theirs = wanted.mode.partition(",")[0], held.mode.partition(",")[0]
    if wanted.kind == "TABLE":
        return _TABLE_LOCKS.conflict(_table_mode(mine), _table_mode(theirs))
    if "GAP" not in wanted.mode and "GAP" in held.mode:
        return False  # locks on gaps keep out inserts only
    return "GAP" in wanted.mode or "X" in (mine, theirs)


def _table_mode(reported: str) -> Mode:
    return Mode("table", reported.replace("AUTO_INC", "AUTO-INC"))
