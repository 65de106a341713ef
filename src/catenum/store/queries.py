"""Questions to a store: what was seen, by statement, object, application, head, pair of statements,
server or time.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Any, Literal, cast

from catenum.core.errors import InputError
from catenum.core.servers import rules_of
from catenum.core.snapshot.history_rows import (
    DeadlockRow,
    IncidentRow,
    PairRow,
    RatesRow,
    ReleaseRow,
)
from catenum.core.snapshot.rates import AROUND_MS
from catenum.core.sql.masking import same_kind
from catenum.engines.clock import milliseconds_between, moment
from catenum.engines.monitor import StatementRate
from catenum.store.coverage import coverage
from catenum.store.spans import Span
from catenum.store.store import LOOKS, Store

By = Literal["statement", "object", "application", "head", "user", "host", "server", "day", "hour"]
BYS: tuple[By, ...] = (
    "statement",
    "object",
    "application",
    "head",
    "user",
    "host",
    "server",
    "day",
    "hour",
)
_COLUMNS = {
    "statement": "e.shape",
    "object": "coalesce(e.object, '(not reported)')",
    "application": "coalesce(e.application, '(not reported)')",
    "head": "'session ' || e.head",
    "user": "coalesce(e.user, '(not reported)')",
    "host": "coalesce(e.host, '(not reported)')",
    "server": "s.name",
    "day": "substr(e.first_seen, 1, 10)",
    "hour": "substr(e.first_seen, 12, 2) || ' h UTC'",
}


#: Of the rate of execution, beside an incident.
PHASES = ("before", "during", "after")
#: What goes across servers is an incident on each of them already.
OWN = " and e.source <> 'across'"


def totals(store: Store, span: Span) -> dict[str, Any]:
    """How much was seen in all."""
    where, values = span.where("e.first_seen")
    where += OWN
    (row,) = store.rows(
        "select count(*) incidents, coalesce(sum(e.wait_ms), 0) wait_ms,"
        " coalesce(max(e.longest_ms), 0) longest_ms, coalesce(max(e.waiting), 0) waiting,"
        " coalesce(max(e.chain), 0) chain, min(e.first_seen) first, max(e.last_seen) last from"
        f" incident e join server s on s.id = e.server where {where}",
        values,
    )
    where, values = span.where("d.at")
    (deadlocks,) = store.rows(
        "select coalesce(sum(d.count), 0) deadlocks from deadlock d join server s on s.id ="
        f" d.server where {where}",
        values,
    )
    # One that began before the time asked for, and reaches into it, hides as much as any other.
    where, values = Span(None, span.until, span.server).where("h.since")
    if span.since is not None:
        where, values = f"{where} and coalesce(h.until, '9999') > ?", [*values, span.since]
    gaps = store.rows(
        "select s.name server, h.since, h.until, h.why, h.blind from gap h join server s on s.id ="
        f" h.server where {where} order by h.since, h.id",
        values,
    )
    for gap in gaps:
        gap["blind"] = bool(gap["blind"])
    looks = _looks(store, span)
    hole = max(gaps, key=_length, default=None)
    more = {"gaps": gaps, "longest_gap": hole, "coverage": coverage(store, span)}
    return {**row, **deadlocks, **looks, **more}


def _looks(store: Store, span: Span) -> dict[str, int]:
    """Checks that saw all, and those that were blind: whole hours as they were added up, what is
    left at both ends by tens of seconds.
    """
    first, last = (at and at[:19] for at in (span.since, span.until))
    begin = None if first is None else _hour_from(first)
    parts = [("hour", "h.hour", Span(begin, last and last[:13], span.server))]
    if begin is not None and first is not None and first[:13] != begin:
        parts.append(("minute", "h.minute", Span(first, min(begin, last or begin), span.server)))
    if last is not None and last[13:].strip(":0") and (begin is None or last[:13] >= begin):
        parts.append(("minute", "h.minute", Span(last[:13], last, span.server)))
    looks = blind = 0
    for table, column, part in parts:
        where, values = part.where(column)
        counted = "h.looks" if table == "hour" else "h.samples - h.blind"
        more = " and h.shape = ''" if table == "minute" else ""
        (row,) = store.rows(
            f"select coalesce(sum({counted}), 0) looks, coalesce(sum(h.blind), 0) blind from"
            f" {table} h join server s on s.id = h.server where {where}{more}",
            values,
        )
        looks, blind = looks + int(row["looks"]), blind + int(row["blind"])
    return {"looks": looks, "blind_looks": blind}


def _hour_from(at: str) -> str:
    """The first hour that begins at a time or later."""
    when = datetime.fromisoformat(at)
    hour = when.replace(minute=0, second=0, microsecond=0)
    return (hour if hour == when else hour + timedelta(hours=1)).strftime("%Y-%m-%dT%H")


def _length(gap: dict[str, Any]) -> timedelta:
    until = datetime.fromisoformat(gap["until"]) if gap["until"] else moment()
    return until - datetime.fromisoformat(gap["since"])


def grouped(store: Store, by: By, span: Span) -> list[dict[str, Any]]:
    """Incidents by one of their sides, each server's apart: counts, total and worst wait, first and
    last time; the longest in all first.
    """
    where, values = span.where("e.first_seen")
    where += OWN
    own = "" if by == "server" else ", s.name server"
    return store.rows(
        f'select {_COLUMNS[by]} "{by}", count(*) incidents, sum(e.wait_ms) wait_ms,'
        " max(e.longest_ms) longest_ms, max(e.waiting) waiting, max(e.chain) chain,"
        f" min(e.first_seen) first, max(e.last_seen) last{own}, count(*) episodes from incident e"
        f" join server s on s.id = e.server where {where} group by 1, s.id order by"
        " wait_ms desc, 1,"
        " s.name",
        values,
    )


def pairs(store: Store, span: Span, limit: int = 20) -> list[PairRow]:
    """The pairs of statements that met most: which waited for which."""
    where, values = span.where("e.first_seen")
    where += OWN
    found = store.rows(
        "select m.waiter, m.holder, count(*) times, max(m.wait_ms) longest_ms, min(m.object)"
        " object from wait_pair m join incident e on e.id = m.incident join server s on s.id ="
        f" e.server where {where} group by 1, 2 order by times desc, longest_ms desc, 1, 2"
        f" limit {int(limit)}",
        values,
    )
    return cast("list[PairRow]", found)


def before(store: Store, server: str, over: str) -> dict[str, Any] | None:
    """The incidents of a server over one thing that are over: how many, from when to when, the
    longest wait; None where there was none.
    """
    (row,) = store.rows(
        "select count(*) incidents, min(e.first_seen) first, max(e.last_seen) last,"
        " max(e.longest_ms) longest_ms from incident e join server s on s.id = e.server where"
        " s.name = ? and e.object = ? and e.ended is not null",
        (server, over),
    )
    return row if row["incidents"] else None


def incidents(store: Store, span: Span, limit: int = 50) -> list[IncidentRow]:
    """Single incidents, the latest first, with people's notes."""
    return _incidents(store, *span.where("e.first_seen"), limit)


def _incidents(store: Store, where: str, values: list[object], limit: int) -> list[IncidentRow]:
    notes = store.database.joined("n.text", by="n.id")
    found = store.rows(
        "select e.id, s.name server, e.first_seen first, e.last_seen last, e.ended, e.head,"
        " e.user, e.application, e.object, e.waiting, e.chain, e.wait_ms, e.longest_ms,"
        " e.statement, e.shape, e.cycle, e.heads, e.held_ms, e.held_exact, e.typical_ms, e.source,"
        f" (select {notes} from note n where n.incident = e.id) note from"
        f" incident e join server s on s.id = e.server where {where} order by e.first_seen desc,"
        f" e.id desc limit {int(limit)}",
        values,
    )
    return cast("list[IncidentRow]", found)


def incident(store: Store, number: int) -> dict[str, Any]:
    """All that is stored of one incident but its recording: heads, notes, releases, waits of a log.
    Raises InputError where there is none.
    """
    row = next(iter(_incidents(store, "e.id = ?", [number], 1)), None)
    if row is None:
        raise InputError(f"there is no incident {number}")
    heads = store.rows(
        "select * from head where incident = ? order by held_ms desc, first_seen, session",
        (number,),
    )
    return {
        **row,
        "held_by": heads,
        "notes": store.rows("select at, text from note where incident = ? order by at", (number,)),
        "waits": store.rows(
            "select * from log_wait where incident = ? order by since, waiter", (number,)
        ),
        "releases": [
            one
            for one in releases(store, Span(row["first"], None, row["server"]))
            if (row["ended"] is None or one["at"] <= row["ended"])
            and one["session"] in {h["session"] for h in heads}
        ],
    }


def deadlocks(store: Store, span: Span) -> list[DeadlockRow]:
    where, values = span.where("d.at")
    found = store.rows(
        "select s.name server, d.at, d.count, d.report, d.source from deadlock d join server s on"
        f" s.id = d.server where {where} order by d.at, d.id",
        values,
    )
    return cast("list[DeadlockRow]", found)


def releases(store: Store, span: Span) -> list[ReleaseRow]:
    """What people did about blockers, by ``catenum release``."""
    where, values = span.where("r.at")
    found = store.rows(
        "select s.name server, r.at, r.by, r.way, r.session, r.user, r.application, r.host,"
        " r.statement, r.transaction_ms, r.rows_changed, r.waiting, r.went_on, r.outcome from"
        f" release r join server s on s.id = r.server where {where} order by r.at, r.id",
        values,
    )
    return cast("list[ReleaseRow]", found)


#: Up to so long a span is drawn by tens of seconds, and by minutes; beyond it by hours. Each with
#: the length of a step's name.
STEPS = ((timedelta(hours=2), 19), (timedelta(days=2), 16))
HOURS = 13


def over_time(store: Store, span: Span) -> list[dict[str, Any]]:
    """Waiting sessions over time by server and head statement: the mean over all looks of a step.

    ``moment`` is the step's beginning: tens of seconds in a short span, then minutes, then hours.
    Steps in which nobody waited are left out.
    """
    where, values = span.by_steps.where("m.minute")
    (ends,) = store.rows(
        "select min(m.minute) first, max(m.minute) last from minute m join server s on s.id ="
        f" m.server where {where}",
        values,
    )
    if ends["first"] is None:
        return []
    length = datetime.fromisoformat(ends["last"]) - datetime.fromisoformat(ends["first"])
    size = next((size for most, size in STEPS if length <= most), HOURS)
    if size == HOURS:  # whole ones, as their looks are counted
        since, until = span.since and span.since[:HOURS], span.until and _hour_from(span.until)
        where, values = Span(since, until, span.server).where("m.minute")
    step = f"substr(m.minute, 1, {size})"
    rows = store.rows(
        f"select m.server number, s.name server, {step} moment, m.shape, sum(m.waiting) waiting"
        f" from minute m join server s on s.id = m.server where {where} and m.shape <> ? group by"
        " 1, 2, 3, 4 order by 2, 3, 4",
        [*values, LOOKS],
    )
    if size == HOURS:
        samples = store.rows("select server, hour moment, looks + blind samples from hour")
    else:
        samples = store.rows(
            f"select m.server, {step} moment, sum(m.samples) samples from minute m join server s on"
            f" s.id = m.server where {where} and m.shape = ? group by 1, 2",
            [*values, LOOKS],
        )
    counted = {(row["server"], row["moment"]): row["samples"] for row in samples}
    found = []
    for row in rows:
        count = counted[row.pop("number"), row["moment"]]
        found.append({**row, "waiting": row["waiting"] / count, "samples": count})
    return found


def minutes_waited(store: Store, span: Span) -> list[dict[str, Any]]:
    """In how many minutes of each hour (``moment``: its beginning) somebody waited, by server."""
    where, values = span.by_steps.where("m.minute")
    return store.rows(
        "select s.name server, substr(m.minute, 1, 13) moment, count(distinct substr(m.minute, 1,"
        " 16)) minutes from minute m join server s on s.id = m.server where"
        f" {where} and m.shape <> ? group by 1, 2 order by 1, 2",
        [*values, LOOKS],
    )


def rates_around(store: Store, number: int) -> list[RatesRow]:
    """Of each kind of statement in an incident how often it ran, and how long, before, during and
    after it; the one that held the others up comes first. ``steps``: since, until, calls, total_ms,
    lock_ms, as the server was asked.
    """
    (row,) = store.rows(
        "select server, shape, first_seen, coalesce(ended, last_seen) until from incident where"
        " id = ?",
        (number,),
    )
    wait_pairs = store.rows("select distinct waiter from wait_pair where incident = ?", (number,))
    found = []
    for shape in dict.fromkeys([row["shape"], *(one["waiter"] for one in wait_pairs)]):
        steps = store.rows(
            "select since, until, calls, total_ms, lock_ms from rate where server = ? and shape = ?"
            " and until > ? and since < ? order by since",
            (
                row["server"],
                shape,
                _moved(row["first_seen"], -AROUND_MS),
                _moved(row["until"], AROUND_MS),
            ),
        )
        for step in steps:
            before, after = step["until"] <= row["first_seen"], step["since"] >= row["until"]
            step["phase"] = "before" if before else "after" if after else "during"
        if steps:
            phases = {
                phase: _rate([step for step in steps if step["phase"] == phase]) for phase in PHASES
            }
            found.append({"statement": shape, **phases, "steps": steps})
    return cast("list[RatesRow]", found)


def _moved(at: str, by_ms: float) -> str:
    moved = datetime.fromisoformat(at) + timedelta(milliseconds=by_ms)
    return moved.isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _rate(steps: Sequence[dict[str, Any]]) -> dict[str, Any] | None:
    """Executions a second, and their mean time and time for locks (ms)."""
    lasted = sum(milliseconds_between(step["since"], step["until"]) for step in steps) / 1000
    if lasted <= 0:
        return None
    calls = sum(step["calls"] for step in steps)
    locks = [step["lock_ms"] for step in steps if step["lock_ms"] is not None]
    return {
        "seconds": round(lasted, 1),
        "calls": calls,
        "calls_per_s": round(calls / lasted, 3),
        "mean_ms": round(sum(step["total_ms"] for step in steps) / calls, 3) if calls else None,
        "lock_ms": round(sum(locks) / calls, 3) if calls and len(locks) == len(steps) else None,
    }


def with_rates(
    rows: Sequence[dict[str, Any]], rates: Sequence[StatementRate] | None, server: str
) -> list[dict[str, Any]]:
    """Rows by statement with how often the statement was executed and how long it took, where the
    server knows.
    """
    known = {same_kind(rules_of(server).sql.shape(rate.text)): rate for rate in rates or ()}
    found = []
    for row in rows:
        rate = known.get(same_kind(str(row.get("statement"))))
        calls = rate.calls if rate else None
        mean = round(rate.total_ms / rate.calls, 3) if rate and rate.calls else None
        found.append({**row, "calls": calls, "mean_ms": mean})
    return found
