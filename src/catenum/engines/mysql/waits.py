"""Row lock waits on a running MySQL: who waits, for what, and who is in the way.

``data_lock_waits`` is exact at its moment and cheap, until many wait for one row: it has a row for
each pair in a queue, 125,000 where 500 wait. Then one waiter of each kind is asked about, the one
that waits longest, and the others of that kind wait for the same.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Collection, Mapping
from dataclasses import dataclass

from catenum.core.errors import TargetError
from catenum.engines.innodb.errors import is_no_text
from catenum.engines.innodb.transactions import COLUMNS, Transaction, by_name
from catenum.engines.mysql import concat_rows, rows
from catenum.engines.mysql.rows import DataLock, Owners, Query

#: More pairs than these are not listed whole: 40 who wait for one row make 800.
MOST_PAIRS = 800
#: How the beginning of a transaction is called where only its event is known.
EVENT = "event "
#: The same where ``innodb_trx`` cannot be read: a transaction as the performance schema has it,
#: which counts no rows, and knows of no session without one. Its lock waits carry no time of their
#: own.
_EVENTS = (  # in the order of ``COLUMNS``
    "t.processlist_id",
    "coalesce(l.trx, x.trx_id)",
    "if(l.wanted is null, 'RUNNING', 'LOCK WAIT')",
    "x.timer_wait / 1000000000",
    "x.isolation_level",
    "null",
    "if(l.wanted is null, null, t.processlist_time * 1000)",
    "l.wanted",
    f"concat('{EVENT}', x.event_id)",
)
_FROM_EVENTS = (
    "from performance_schema.events_transactions_current x join performance_schema.threads t on"
    " t.thread_id = x.thread_id left join (select thread_id, max(engine_transaction_id) trx,"
    " max(if(lock_status = 'WAITING', engine_lock_id, null)) wanted from"
    " performance_schema.data_locks where engine = 'INNODB' group by thread_id) l on l.thread_id ="
    " x.thread_id where x.state = 'ACTIVE' and t.processlist_id <> connection_id()"
)
_PAIRS_OF = (
    "select requesting_engine_lock_id, blocking_engine_lock_id from"
    " performance_schema.data_lock_waits where engine = 'INNODB' and requesting_engine_lock_id ="
    " '{}'"
)


@dataclass(frozen=True, slots=True)
class RowWait:
    """Who waits for whom: transactions by their names."""

    waiter: str
    holder: str
    wanted: DataLock
    held: DataLock

    @property
    def queued(self) -> bool:
        """The holder itself waits, further ahead."""
        return not self.held.granted


def transactions(query: Query, session: int | None = None) -> dict[str, Transaction]:
    """All, or one session's, by its number; by the performance schema where InnoDB's own view
    cannot be read.
    """
    which = "" if session is None else f"where trx_mysql_thread_id = {session}"
    try:
        return by_name(
            concat_rows.together(query, COLUMNS, f"from information_schema.innodb_trx {which}")
        )
    except TargetError as error:
        if not is_no_text(error):
            raise
        mine = "" if session is None else f" and t.processlist_id = {session}"
        return by_name(concat_rows.together(query, _EVENTS, f"{_FROM_EVENTS}{mine}"))


def by_event(session: int, began: str) -> str:
    """The rest of a query that has a row where a session is still in the transaction of that
    event.
    """
    return (
        "from performance_schema.events_transactions_current x join performance_schema.threads t"
        f" on t.thread_id = x.thread_id where x.state = 'ACTIVE' and t.processlist_id = {session}"
        f" and x.event_id = {int(began.removeprefix(EVENT))}"
    )


def waits(query: Query, everybody: Mapping[str, Transaction], owners: Owners) -> list[RowWait]:
    """For each that waits: those who hold what is in its way; where nobody does, whoever waits
    ahead of it.
    """
    waiting = [trx for trx in everybody.values() if trx.wanted]
    if _pairs(waiting) > MOST_PAIRS:
        known = rows.by_id(query, [trx.wanted for trx in waiting if trx.wanted])
        reported = _of_kinds(query, waiting, known)
        known |= rows.by_id(query, {name for pair in reported for name in pair} - known.keys())
        pairs = [
            (known[wanted], known[other])
            for wanted, other in reported
            if wanted in known and other in known
        ]
    else:
        pairs = rows.pairs(query)
    owner = owners.owners_of([lock for pair in pairs for lock in pair])
    by_number = {trx.number: trx.name for trx in everybody.values()}

    def name_of(lock: DataLock) -> str | None:
        return str(owner[lock.id] or "") or by_number.get(lock.transaction)

    found = []
    for wanted, other in pairs:
        if wanted.granted:
            continue  # meanwhile
        waiter, holder = name_of(wanted), name_of(other)
        if waiter and holder and waiter != holder:
            found.append(RowWait(waiter, holder, wanted, other))
    return _past_queues(found, everybody)


def _pairs(waiting: Collection[Transaction]) -> float:
    """How many pairs there are at least, by what the waits' ids tell of the places that they are
    for.
    """
    at = Counter(":".join((trx.wanted or "").split(":")[-4:-1]) for trx in waiting)
    return sum(number**2 for number in at.values()) / 2


def _of_kinds(
    query: Query, waiting: Collection[Transaction], wanted: Mapping[str, DataLock]
) -> list[tuple[str, str]]:
    """Pairs by one waiter of each kind: of those that want the same of the same record, the one
    that waits longest.
    """
    kinds: dict[tuple[str, ...], list[Transaction]] = defaultdict(list)
    for trx in waiting:
        lock = wanted.get(trx.wanted or "")
        if lock is not None and not lock.granted:
            kinds[lock.place].append(trx)
    first = {_longest(members).wanted: members for members in kinds.values()}
    if not first:
        return []  # all of them have been granted meanwhile
    asked = " union all ".join(_PAIRS_OF.format(wanted) for wanted in first)
    return [
        (str(trx.wanted), str(other))
        for wanted, other in query(asked)
        for trx in first[str(wanted)]
        if other != trx.wanted
    ]


def _longest(members: Collection[Transaction]) -> Transaction:
    return min(members, key=lambda trx: (-(trx.waited_ms or 0.0), int(trx.number)))


def _past_queues(found: Collection[RowWait], everybody: Mapping[str, Transaction]) -> list[RowWait]:
    """Without places in a queue where somebody holds what is wanted; where nobody does, only the
    first in it.
    """
    by_waiter: dict[str, list[RowWait]] = defaultdict(list)
    for wait in found:
        by_waiter[wait.waiter].append(wait)
    kept: list[RowWait] = []
    for mine in by_waiter.values():
        holding = {wait.holder: wait for wait in mine if not wait.queued}
        if holding:
            kept += holding.values()
        else:
            ahead = {
                wait.holder: everybody[wait.holder] for wait in mine if wait.holder in everybody
            }
            first = min(
                ahead, key=lambda name: -(ahead[name].waited_ms or 0.0), default=mine[0].holder
            )
            kept.append(next(wait for wait in mine if wait.holder == first))
    return kept
