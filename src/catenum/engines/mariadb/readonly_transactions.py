"""Row lock waits in which transactions without a number take part.

A transaction that has only read has the number 0 in InnoDB's tables, each of them the same, and so
have its locks (``trx_t::id``, trx0trx.h): the tables do not tell one from the other, nor its wait
from what another holds. InnoDB's status tells each by its thread: what it waits for, and how many
row locks it has. Who holds is named where it can be nobody else; with
``innodb_status_output_locks`` the status prints what each one holds.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from catenum.core.logs.innodb_status import RecordLock, TransactionSection, transactions
from catenum.core.snapshot.sample import Suspect
from catenum.engines.innodb.transactions import Transaction
from catenum.engines.mariadb import rowlocks
from catenum.engines.mariadb.rowlocks import Lock, LockWait
from catenum.engines.monitor import SOMEBODY

NUMBERLESS = "0"
_PAIRS = (
    "select requesting_trx_id, requested_lock_id, blocking_trx_id from"
    " information_schema.innodb_lock_waits"
)
WHY = "it has only read, and has locks on rows; the server does not tell on which"

Query = Callable[..., list[tuple[Any, ...]]]
Place = tuple[str, ...]


@dataclass(frozen=True)
class Waits:
    """Who waits for whom, and who is suspected where the server does not tell."""

    waits: tuple[LockWait, ...]
    suspects: tuple[Suspect, ...] = ()


def waits(query: Query, everybody: Mapping[str, Transaction], listed: Sequence[Lock]) -> Waits:
    """As ``rowlocks.waits``, with the status where somebody without a number waits, or stands in
    the way.
    """
    waiting = [trx for trx in everybody.values() if trx.waited_ms is not None]
    if all(trx.number != NUMBERLESS for trx in waiting) and all(
        lock.transaction != NUMBERLESS for lock in listed
    ):
        return Waits(tuple(rowlocks.waits(everybody, listed)))
    sections = transactions(str(query("show engine innodb status")[0][2]))
    return _SampleWithStatus(
        query, everybody, listed, {str(s.thread): s for s in sections if s.thread}
    ).waits()


class _SampleWithStatus:
    """One look's tables and status, put together."""

    def __init__(
        self,
        query: Query,
        everybody: Mapping[str, Transaction],
        listed: Sequence[Lock],
        sections: Mapping[str, TransactionSection],
    ) -> None:
        self.query, self.everybody, self.listed, self.sections = query, everybody, listed, sections
        self.asked_for = {
            trx.wanted for trx in everybody.values() if trx.wanted and trx.number != NUMBERLESS
        }
        self.by_number = {
            trx.number: trx.name for trx in everybody.values() if trx.number != NUMBERLESS
        }
        self.numberless = [
            thread
            for thread, section in sections.items()
            if section.number == 0 and section.rows > int(section.waiting) and thread in everybody
        ]
        self.prints_locks = any(
            not lock.waiting for section in sections.values() for lock in section.locks
        )
        self._pairs: list[tuple[Any, ...]] | None = None

    def waits(self) -> Waits:
        found: list[LockWait] = []
        suspects: list[Suspect] = []
        for trx in self.everybody.values():
            wanted = self._wanted(trx) if trx.waited_ms is not None else None
            if wanted is None:
                continue
            mine = list(self._numbered(trx, wanted))
            named, suspected = self._unnumbered(trx, wanted, sure=not mine)
            mine += named
            if suspected:
                mine.append(LockWait(trx.name, SOMEBODY, wanted, "", queued=False))
                suspects += [Suspect(waiter=trx.name, session=one, why=WHY) for one in suspected]
            found += mine or self._ahead(trx, wanted)
        return Waits(tuple(found), tuple(suspects))

    def _wanted(self, trx: Transaction) -> Lock | None:
        if trx.number != NUMBERLESS:
            return next((lock for lock in self.listed if lock.number == trx.wanted), None)
        section = self.sections.get(trx.name)
        printed = section.waits_on if section else None
        if printed is None or printed.place is None:
            return None
        place = self._place(printed)
        data = next((lock.data for lock in self.listed if lock.place[-3:] == place[-3:]), "")
        return Lock(
            trx.wanted or "", NUMBERLESS, _mode(printed), "RECORD", place[1], place[2], data, place
        )

    @staticmethod
    def _place(lock: RecordLock) -> Place:
        return (
            "RECORD",
            f"`{lock.schema}`.`{lock.table}`",
            lock.index or "",
            *map(str, lock.place or ()),
        )

    def _at(self, wanted: Lock) -> Iterator[Lock]:
        return (
            lock
            for lock in self.listed
            if lock.place[-3:] == wanted.place[-3:] and lock.kind == wanted.kind
        )

    def _numbered(self, trx: Transaction, wanted: Lock) -> Iterator[LockWait]:
        """Those with a number who hold what is in the way."""
        for lock in self._at(wanted):
            owner = self.by_number.get(lock.transaction)
            other = (
                lock.transaction not in (trx.number, NUMBERLESS)
                and lock.number not in self.asked_for
            )
            if owner is not None and other and rowlocks.in_the_way(wanted, lock):
                yield LockWait(trx.name, owner, wanted, lock.mode, queued=False)

    def _unnumbered(
        self, trx: Transaction, wanted: Lock, *, sure: bool
    ) -> tuple[list[LockWait], list[str]]:
        """Those without a number who hold it, and those who may. ``sure``: nobody else does, so
        somebody must.
        """
        others = [thread for thread in self.numberless if thread != trx.name]
        if self.prints_locks:
            holding = [(t, lock) for t in others for lock in self._printed(t, wanted)]
            return [
                LockWait(trx.name, t, wanted, lock.mode, queued=False) for t, lock in holding
            ], []
        listed = [
            lock
            for lock in self._at(wanted)
            if lock.transaction == NUMBERLESS and rowlocks.in_the_way(wanted, lock)
        ]
        waits_here = [
            one.name
            for one in self.everybody.values()
            if one.number == NUMBERLESS
            and one.waited_ms is not None
            and self._waits_at(one, wanted)
        ]
        # What is listed under the number 0 is one's own wait, or another's, or what somebody holds.
        holds = bool(listed) and not waits_here
        if not others or not (holds or (sure and listed)):
            return [], []
        mode = listed[0].mode
        if len(others) == 1 or (
            trx.number != NUMBERLESS and holds and self._count(trx) == len(others)
        ):
            return [LockWait(trx.name, thread, wanted, mode, queued=False) for thread in others], []
        return [], others

    def _printed(self, thread: str, wanted: Lock) -> Iterator[Lock]:
        for lock in self.sections[thread].locks:
            if (
                not lock.waiting
                and lock.place is not None
                and self._place(lock)[-3:] == wanted.place[-3:]
            ):
                held = Lock(
                    "",
                    NUMBERLESS,
                    _mode(lock),
                    "RECORD",
                    wanted.table,
                    wanted.index,
                    "",
                    wanted.place,
                )
                if rowlocks.in_the_way(wanted, held):
                    yield held
                    return

    def _waits_at(self, trx: Transaction, wanted: Lock) -> bool:
        section = self.sections.get(trx.name)
        printed = section.waits_on if section else None
        return (
            printed is not None
            and printed.place is not None
            and self._place(printed)[-3:] == wanted.place[-3:]
        )

    def _count(self, trx: Transaction) -> int:
        """How many without a number stand in the way: the server has a row for each, though all
        look alike.
        """
        if self._pairs is None:
            self._pairs = self.query(_PAIRS)
        return sum(
            1
            for number, lock, blocking in self._pairs
            if (number, lock, blocking) == (trx.number, trx.wanted, NUMBERLESS)
        )

    def _ahead(self, trx: Transaction, wanted: Lock) -> list[LockWait]:
        """Where nobody holds it: whoever waits for the same for longer, the first of them."""
        before: list[tuple[float, str]] = []
        for other in self.everybody.values():
            section = self.sections.get(other.name)
            mine = self.sections.get(trx.name)
            if other.name == trx.name or other.waited_ms is None or section is None or mine is None:
                continue
            if section.waited_us > mine.waited_us and self._waits_at(other, wanted):
                before.append((-section.waited_us, other.name))
        return [LockWait(trx.name, min(before)[1], wanted, "", queued=True)] if before else []


def _mode(lock: RecordLock) -> str:
    covers = {"gap": ",GAP", "insert intention": ",GAP,INSERT_INTENTION"}
    return f"{lock.mode.name}{covers.get(str(lock.mode.covers), '')}"
