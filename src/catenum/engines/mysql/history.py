"""What a session has done in its open transaction, and with which statement it took a lock.

``events_statements_history`` has the last statements of each thread that have ended (ten by
default); those of one transaction are nested in its event (MySQL Reference Manual, 29.12.6 and
29.12.7). Events of a thread are numbered as they begin, and a lock carries the number that was next
when it was written down. InnoDB does that for all records of a page that a transaction locks in one
mode together (``lock_rec_t`` has a bitmap of them): the number is that of the first of them, until
a page is split or merged.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection
from dataclasses import dataclass
from typing import Any

from catenum.engines.innodb.earlier_statements import PICO_PER_MS
from catenum.engines.mysql import concat_rows

Query = Callable[..., list[tuple[Any, ...]]]

_TRANSACTIONS = """
select t.processlist_id, x.event_id, x.timer_wait, x.isolation_level, x.access_mode,
       if(x.nesting_event_type = 'STATEMENT', x.nesting_event_id, null)
from performance_schema.threads t
straight_join performance_schema.events_transactions_current x on x.thread_id = t.thread_id
where t.processlist_id in ({}) and x.state = 'ACTIVE'
"""
_COLUMNS = (
    *(
        "t.processlist_id",
        "s.event_id",
        "s.end_event_id",
        "s.timer_wait",
        "s.nesting_event_id",
        "s.nesting_event_type",
    ),
    *("s.nesting_event_level", "s.event_name", "s.sql_text"),
)
#: From the threads to their events: left alone, the server reads the events of all threads, ten a
#: thread.
_FROM = (
    "from performance_schema.threads t straight_join performance_schema.{} s on s.thread_id ="
    " t.thread_id where t.processlist_id in ({})"
)


@dataclass(frozen=True, slots=True)
class Open:
    """An open transaction as the performance schema tells it.

    ``began``: the number of its event; ``by``: that of the statement around it, which began it.
    """

    began: int
    by: int | None
    ms: float
    isolation: str
    read_only: bool


@dataclass(frozen=True, slots=True)
class Ran:
    """A statement that has ended or runs.

    ``event``: its number; ``within``: that of the transaction around it. ``begins``: it does
    nothing but begin one.
    """

    event: int
    running: bool
    text: str
    ms: float
    within: int | None
    level: int
    begins: bool = False


def open_transactions(query: Query, sessions: Collection[str]) -> dict[str, Open]:
    if not sessions:
        return {}
    return {
        str(number): Open(
            began=int(event),
            by=int(by) if by is not None else None,
            ms=float(wait or 0.0) / PICO_PER_MS,
            isolation=str(level),
            read_only=str(mode) == "READ ONLY",
        )
        for number, event, wait, level, mode, by in query(_TRANSACTIONS.format(_listed(sessions)))
    }


def running(query: Query, sessions: Collection[str]) -> dict[str, Ran]:
    """The statement of each session that runs, or was its last."""
    return {
        number: min(found, key=lambda ran: ran.level)
        for number, found in _ran(query, "events_statements_current", sessions).items()
    }


def kept(query: Query, sessions: Collection[str]) -> dict[str, list[Ran]]:
    """The statements that have ended and are kept of each session, in the order in which they
    began.
    """
    return _ran(query, "events_statements_history", sessions)


def ran_in(ran: Collection[Ran], trx: Open) -> tuple[list[Ran], bool]:
    """The statements of a transaction that have ended, the oldest first, and whether those are all.

    The statement that began the transaction is outside of its event. It belongs to it all the same
    where it did more than that, as the first statement does with autocommit off; where it is kept,
    nothing after it has been dropped.
    """
    mine = [
        one
        for one in ran
        if one.level == 0
        and not one.running
        and (one.within == trx.began or (one.event == trx.by and not one.begins))
    ]
    return mine, any(one.event < trx.began for one in ran)


def of_transaction(ran: Collection[Ran], trx: Open) -> tuple[tuple[str, ...], bool]:
    """The same by their texts."""
    mine, whole = ran_in(ran, trx)
    return tuple(one.text for one in mine), whole


def taker(ran: Collection[Ran], event: int) -> Ran | None:
    """The statement with which a lock was written down that carries the number ``event``; None
    where it is not kept.
    """
    return max((one for one in ran if one.event < event), key=_began, default=None)


def _began(ran: Ran) -> int:
    return ran.event


def _ran(query: Query, view: str, sessions: Collection[str]) -> dict[str, list[Ran]]:
    found: dict[str, list[Ran]] = defaultdict(list)
    if not sessions:
        return {}
    reported = concat_rows.together(query, _COLUMNS, _FROM.format(view, _listed(sessions)))
    for number, event, end, wait, within, kind, level, name, text in reported:
        found[str(number)].append(
            Ran(
                event=int(event or 0),
                running=end is None,
                text=str(text or ""),
                ms=float(wait or 0.0) / PICO_PER_MS,
                within=int(within) if within is not None and kind == "TRANSACTION" else None,
                level=int(level or 0),
                begins=str(name).rpartition("/")[2] in ("begin", "xa_start"),
            )
        )
    return {number: sorted(one, key=_began) for number, one in found.items()}


def _listed(sessions: Collection[str]) -> str:
    return ", ".join(str(int(number)) for number in sessions)
