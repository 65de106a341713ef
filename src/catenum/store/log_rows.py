"""What a server's own log tells of the time before a watch came: taken into the store, and marked
as from the log.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta, tzinfo

from catenum.core.errors import InputError, SaveError
from catenum.core.logs.conflicts import Conflict
from catenum.core.logs.times import ZONE_ADVICE, NoZone, utc
from catenum.core.logs.waits import LogPile, piles, waits_of
from catenum.core.servers import rules_of
from catenum.engines.ports.database import DatabaseFault
from catenum.store.coverage import seen_intervals
from catenum.store.incident_rows import NOT_TOLD
from catenum.store.store import Store

#: A deadlock that a watch counted, and the log's report of it, are no further apart.
SAME = timedelta(seconds=3)


@dataclass
class Taken:
    """How many were taken in, and how many a watch had seen, or an earlier call had taken."""

    incidents: int = 0
    deadlocks: int = 0
    known: int = 0


def take(
    store: Store,
    name: str,
    kind: str,
    found: Sequence[Conflict],
    *,
    zone: tzinfo | None = None,
    mask: bool = False,
) -> Taken:
    """Take the conflicts of logs in. Raises InputError where their times cannot be told;
    SaveError.
    """
    try:
        known_waits = piles(waits_of(found, zone))
        deadlocks = [(utc(one.at, zone), one) for one in found if one.kind == "deadlock" and one.at]
    except NoZone as error:
        raise InputError(f"{found[0].source}: {error}", advice=ZONE_ADVICE) from error
    taken, seen = Taken(), seen_intervals(store, name)
    try:
        with store.database.transaction():
            server = store.server(name)
            store.database.execute(
                "update server set kind = coalesce(kind, ?) where id = ?", (kind, server)
            )
            for pile in known_waits:
                if _within(pile.since, seen) or _is_known(store, server, pile):
                    taken.known += 1
                    continue
                _enter(store, server, kind, pile, mask=mask)
                taken.incidents += 1
            known = _KnownDeadlocks(store, server)
            for at, one in deadlocks:
                text = rules_of(kind).sql.masked_report(one.report) if mask else one.report
                if known.has(at, one):
                    taken.known += 1
                    continue
                row = {
                    "server": server,
                    "at": _text(at),
                    "count": 1,
                    "report": text,
                    "source": "log",
                }
                store.database.insert("deadlock", row)
                taken.deadlocks += 1
    except DatabaseFault as error:
        raise SaveError(f"cannot write to {store.shown}: {error}") from error
    return taken


def _text(at: datetime) -> str:
    return at.isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _within(at: datetime, intervals: Sequence[tuple[datetime, datetime]]) -> bool:
    return any(since <= at <= until for since, until in intervals)


def _is_known(store: Store, server: int, pile: LogPile) -> bool:
    query = (
        "select 1 from incident where server = ? and source = 'log' and first_seen = ? and"
        " object = ?"
    )
    return bool(store.rows(query, (server, _text(pile.since), pile.waits[0].over)))


class _KnownDeadlocks:
    """The deadlocks that the store has: those of a log by their time, those of a watch by their
    report, or where it has none, by their number at about that time.
    """

    def __init__(self, store: Store, server: int) -> None:
        rows = store.rows(
            "select at, count, report, source from deadlock where server = ?", (server,)
        )
        self._logged = {row["at"] for row in rows if row["source"] == "log"}
        self._watched = [
            (datetime.fromisoformat(row["at"]), row) for row in rows if row["source"] != "log"
        ]

    def has(self, at: datetime, found: Conflict) -> bool:
        """Whether this one is there; each that a watch only counted stands for one."""
        if _text(at) in self._logged:
            return True
        for when, row in self._watched:
            if abs(when - at) > SAME:
                continue
            if row["report"] is not None and _names_all(row["report"], found):
                return True
            if row["report"] is None and row["count"] > 0:
                row["count"] -= 1
                return True
        return False


def _names_all(report: str, found: Conflict) -> bool:
    """Whether a report names every session of a deadlock."""
    return all(re.search(rf"\b{re.escape(member.session)}\b", report) for member in found.members)


def _enter(store: Store, server: int, kind: str, pile: LogPile, *, mask: bool) -> None:
    """One pile as an incident: who held the lock has a number, and no statement, in the log."""
    rules = rules_of(kind)
    first = pile.waits[0]
    row = {
        "server": server,
        "first_seen": _text(pile.since),
        "last_seen": _text(pile.until),
        "ended": _text(pile.until) if pile.over_yet else None,
        "waiting": pile.at_once,
        "chain": 1,
        "wait_ms": round(sum(w.waited_ms for w in pile.waits), 1),
        "longest_ms": round(max(w.waited_ms for w in pile.waits), 1),
        "head": pile.head,
        "shape": NOT_TOLD,
        "object": first.over,
        "source": "log",
    }
    incident = store.database.insert("incident", row)
    for wait in pile.waits:
        statement = wait.statement or NOT_TOLD
        shape = rules.sql.shape(statement) if wait.statement else NOT_TOLD
        met = {
            "waiter": shape,
            "holder": NOT_TOLD,
            "object": wait.over,
            "wait_ms": round(wait.waited_ms, 1),
        }
        store.database.insert("wait_pair", {"incident": incident, **met})
        reported = {
            "incident": incident,
            "waiter": wait.waiter,
            "application": wait.application,
            "mode": wait.mode,
            "since": _text(wait.since),
            "until": _text(wait.until) if wait.until else None,
            "holders": ", ".join(wait.holders),
            "statement": rules.sql.masked(statement) if mask and wait.statement else statement,
        }
        store.database.insert("log_wait", reported)
