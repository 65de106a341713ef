"""Questions to a store: what was seen, by statement, object, application, head, pair of statements, server or time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, Literal

from catenum.core.servers import rules_of
from catenum.core.sql.masking import same_kind
from catenum.engines.lookout import StatementRate
from catenum.live.store import LOOKS, Store

By = Literal["statement", "object", "application", "head", "user", "host", "server", "day", "hour"]
BYS: tuple[By, ...] = ("statement", "object", "application", "head", "user", "host", "server", "day", "hour")
_COLUMNS = {
    "statement": "e.shape",
    "object": "coalesce(e.object, '(not reported)')",
    "application": "coalesce(e.application, '(not reported)')",
    "head": "s.name || ' session ' || e.head",
    "user": "coalesce(e.user, '(not reported)')",
    "host": "coalesce(e.host, '(not reported)')",
    "server": "s.name",
    "day": "substr(e.first_seen, 1, 10)",
    "hour": "substr(e.first_seen, 12, 2) || ' h UTC'",
}


@dataclass(frozen=True, slots=True)
class Span:
    """A time span, in RFC 3339; None: open. ``server``: one of several."""

    since: str | None = None
    until: str | None = None
    server: str | None = None

    def where(self, column: str) -> tuple[str, list[object]]:
        """As a condition on a column, and its values. An episode counts where it began."""
        parts, values = ["1"], []
        for text, sign in ((self.since, ">="), (self.until, "<")):
            if text is not None:
                parts.append(f"{column} {sign} ?")
                values.append(text)
        if self.server is not None:
            parts.append("s.name = ?")
            values.append(self.server)
        return " and ".join(parts), list[object](values)


def totals(store: Store, span: Span) -> dict[str, Any]:
    """How much was seen in all."""
    where, values = span.where("e.first_seen")
    (row,) = store.rows(
        "select count(*) episodes, coalesce(sum(e.wait_ms), 0) wait_ms, coalesce(max(e.longest_ms), 0) longest_ms, "
        "coalesce(max(e.waiting), 0) waiting, coalesce(max(e.chain), 0) chain, min(e.first_seen) first, "
        f"max(e.last_seen) last from episode e join server s on s.id = e.server where {where}",
        values,
    )
    where, values = span.where("d.at")
    (deadlocks,) = store.rows(
        f"select coalesce(sum(d.count), 0) deadlocks from deadlock d join server s on s.id = d.server where {where}",
        values,
    )
    # One that began before the time asked for, and reaches into it, hides as much as any other.
    where, values = Span(None, span.until, span.server).where("h.since")
    if span.since is not None:
        where, values = f"{where} and coalesce(h.until, '9999') > ?", [*values, span.since]
    gaps = store.rows(
        "select s.name server, h.since, h.until, h.why from gap h join server s on s.id = h.server "
        f"where {where} order by h.since",
        values,
    )
    where, values = span.where("m.minute")
    (looks,) = store.rows(
        "select coalesce(sum(m.samples), 0) looks from minute m join server s on s.id = m.server "
        f"where m.shape = '' and {where}",
        values,
    )
    return {**row, **deadlocks, **looks, "gaps": gaps, "holes": gaps}  # "holes": the former name


def grouped(store: Store, by: By, span: Span) -> list[dict[str, Any]]:
    """Episodes by one of their sides: counts, total and worst wait, first and last time; the longest in all first."""
    where, values = span.where("e.first_seen")
    return store.rows(
        f'select {_COLUMNS[by]} "{by}", count(*) episodes, sum(e.wait_ms) wait_ms, max(e.longest_ms) longest_ms, '
        "max(e.waiting) waiting, max(e.chain) chain, min(e.first_seen) first, max(e.last_seen) last "
        f"from episode e join server s on s.id = e.server where {where} group by 1 order by wait_ms desc",
        values,
    )


def pairs(store: Store, span: Span, limit: int = 20) -> list[dict[str, Any]]:
    """The pairs of statements that met most: which waited for which."""
    where, values = span.where("e.first_seen")
    return store.rows(
        "select m.waiter, m.holder, count(*) times, max(m.wait_ms) longest_ms, min(m.object) object from meeting m "
        f"join episode e on e.id = m.episode join server s on s.id = e.server where {where} "
        f"group by 1, 2 order by times desc, longest_ms desc limit {int(limit)}",
        values,
    )


def episodes(store: Store, span: Span, limit: int = 50) -> list[dict[str, Any]]:
    """Single episodes, the latest first, with people's notes."""
    where, values = span.where("e.first_seen")
    return store.rows(
        "select e.id, s.name server, e.first_seen first, e.last_seen last, e.ended, e.head, e.user, e.application, "
        "e.object, "
        "e.waiting, e.chain, e.wait_ms, e.longest_ms, e.statement, e.cycle, "
        "(select group_concat(n.text, '; ') from note n where n.episode = e.id) note "
        f"from episode e join server s on s.id = e.server where {where} order by e.first_seen desc limit {int(limit)}",
        values,
    )


def deadlocks(store: Store, span: Span) -> list[dict[str, Any]]:
    """Deadlocks with their reports."""
    where, values = span.where("d.at")
    return store.rows(
        "select s.name server, d.at, d.count, d.report from deadlock d join server s on s.id = d.server "
        f"where {where} order by d.at",
        values,
    )


def releases(store: Store, span: Span) -> list[dict[str, Any]]:
    """What people did about blockers, by ``catenum release``."""
    where, values = span.where("r.at")
    return store.rows(
        "select s.name server, r.at, r.by, r.way, r.session, r.user, r.application, r.host, r.statement, "
        "r.transaction_ms, r.rows_changed, r.waiting, r.went_on, r.outcome "
        f"from release r join server s on s.id = r.server where {where} order by r.at",
        values,
    )


#: Up to this long a span is drawn by tens of seconds, beyond it by minutes.
SHORT_SPAN = timedelta(hours=2)


def over_time(store: Store, span: Span) -> list[dict[str, Any]]:
    """Waiting sessions over time by head statement: the mean over all looks of a step.

    ``moment`` is the step's beginning: tens of seconds in a short span, else minutes. Steps in which nobody waited are
    left out.
    """
    where, values = span.where("m.minute")
    (ends,) = store.rows(
        f"select min(m.minute) first, max(m.minute) last from minute m join server s on s.id = m.server where {where}",
        values,
    )
    if ends["first"] is None:
        return []
    length = datetime.fromisoformat(ends["last"]) - datetime.fromisoformat(ends["first"])
    step = f"substr(m.minute, 1, {19 if length <= SHORT_SPAN else 16})"
    # An older store has not counted its looks; then those count in which somebody waited.
    samples = store.rows(
        f"select moment, sum(most) samples from (select {step} moment, m.minute, max(m.samples) most "
        f"from minute m join server s on s.id = m.server where {where} group by 1, 2, s.id) group by 1",
        values,
    )
    counted = {row["moment"]: row["samples"] for row in samples}
    rows = store.rows(
        f"select {step} moment, m.shape, sum(m.waiting) waiting from minute m join server s on s.id = m.server "
        f"where {where} and m.shape <> ? group by 1, 2 order by 1",
        [*values, LOOKS],
    )
    return [{**r, "waiting": r["waiting"] / counted[r["moment"]], "samples": counted[r["moment"]]} for r in rows]


def with_rates(
    rows: Sequence[dict[str, Any]], rates: Sequence[StatementRate] | None, server: str
) -> list[dict[str, Any]]:
    """Rows by statement with how often the statement was executed and how long it took, where the server knows."""
    known = {same_kind(rules_of(server).shape(rate.text)): rate for rate in rates or ()}
    found = []
    for row in rows:
        rate = known.get(same_kind(str(row.get("statement"))))
        calls = rate.calls if rate else None
        mean = round(rate.total_ms / rate.calls, 3) if rate and rate.calls else None
        found.append({**row, "calls": calls, "mean_ms": mean})
    return found
