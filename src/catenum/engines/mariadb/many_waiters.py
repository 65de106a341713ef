"""A crowd that waits for rows of a running MariaDB, read from InnoDB's status.

``INNODB_TRX`` and ``INNODB_LOCKS`` compare each waiter with all ahead of it, for each place in the
queue anew: with 500 waiters a look at either costs the server 190 ms. The status prints each
transaction with the lock it waits for and since when, to the microsecond, for 8 ms; it does not
tell who holds it. Where one transaction alone has locks and does not wait, it is that one; where
several have, nothing is told here, and the tables are asked.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from catenum.core.logs.innodb_status import RecordLock, TransactionSection, is_cut, transactions
from catenum.core.record.modes import Mode
from catenum.core.record.waits import Edge, Resource
from catenum.engines.innodb.records import HIDDEN, SUPREMUM, Records
from catenum.engines.innodb.transactions import Transaction

#: From so many waiters on the tables cost more than the status.
MANY = 80

Query = Callable[..., list[tuple[Any, ...]]]


@dataclass(frozen=True)
class ManyWaiters:
    """What the status told: who holds, transactions by their thread, and who waits for the one that
    holds.
    """

    holder: str
    transactions: Mapping[str, Transaction]
    edges: tuple[Edge, ...]
    read: int


def read_status(query: Query, records: Records) -> ManyWaiters | None:
    """Read the status. None where it does not tell who holds what is waited for."""
    text = str(query("show engine innodb status")[0][2])
    if is_cut(text):
        return None
    sections = transactions(text)
    waiting = [section for section in sections if section.waiting]
    holding = [section for section in sections if _holds(section)]
    if len(holding) != 1 or holding[0].waiting or not holding[0].thread or not waiting:
        return None
    edges = []
    for section in waiting:
        lock = section.waits_on
        if lock is None or lock.index is None:
            return None
        edges.append(
            Edge(
                waiter=str(section.thread),
                holder=str(holding[0].thread),
                resource=_resource(lock, records),
                wanted=Mode("table", _mode(lock)),
                held=None,
                since_ms=-section.waited_us / 1000,
            )
        )
    known = {
        str(s.thread): _transaction(s) for s in sections if s.thread and s.active_s is not None
    }
    return ManyWaiters(str(holding[0].thread), known, tuple(edges), len(sections))


def _holds(section: TransactionSection) -> bool:
    """Whether a transaction can be in anybody's way: it has locks beside the one that it waits for,
    or has written.
    """
    return section.rows > int(section.waiting) or section.undo > 0 or section.suppressed


def _transaction(section: TransactionSection) -> Transaction:
    return Transaction(
        name=str(section.thread),
        number=str(section.number),
        state="LOCK WAIT" if section.waiting else "ROLLING BACK" if section.undoing else "RUNNING",
        age_ms=section.active_s * 1000.0 if section.active_s is not None else None,
        isolation=None,
        changed=section.undo,
        waited_ms=section.waited_us / 1000 if section.waiting else None,
        wanted=None,
        started=f"transaction {section.number}",
    )


def _mode(lock: RecordLock) -> str:
    covers = {
        "record": "",
        "next-key": "",
        "gap": ",GAP",
        "insert intention": ",GAP,INSERT_INTENTION",
    }
    return f"{lock.mode.name}{covers.get(str(lock.mode.covers), '')}"


def _resource(lock: RecordLock, records: Records) -> Resource:
    reported = f"`{lock.schema}`.`{lock.table}`"
    if lock.supremum:
        return records.resource(reported, lock.index or "", SUPREMUM, _mode(lock))
    data: Sequence[str | None] = ()
    if lock.index != HIDDEN:
        data = records.decoded(lock.schema, lock.table, lock.index or "", lock.fields)
    quoted = ["NULL" if value is None else "'" + value.replace("'", "''") + "'" for value in data]
    return records.resource(reported, lock.index or "", ", ".join(quoted), _mode(lock))
