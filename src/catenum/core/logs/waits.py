"""Waits that a log has, put together: those over one thing, or for one session, at the same
time.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from datetime import datetime, timedelta, tzinfo

from catenum.core.logs.conflicts import Conflict
from catenum.core.logs.times import seconds_before, utc


@dataclass(slots=True)
class LogWait:
    """One wait of a session, as the log has it. ``until``: when it had the lock; None where that is
    not in the log.
    """

    waiter: str
    mode: str
    over: str
    since: datetime
    seen: datetime
    until: datetime | None = None
    holders: tuple[str, ...] = ()
    statement: str | None = None
    application: str | None = None
    user: str | None = None

    @property
    def waited_ms(self) -> float:
        """As far as it was seen."""
        return ((self.until or self.seen) - self.since) / timedelta(milliseconds=1)


@dataclass(slots=True)
class LogPile:
    """Waits that hang together: over one thing, or for one session, at the same time."""

    waits: list[LogWait] = field(default_factory=list)

    @property
    def since(self) -> datetime:
        """When the first one began."""
        return min(wait.since for wait in self.waits)

    @property
    def until(self) -> datetime:
        """The last that is known of it."""
        return max(wait.until or wait.seen for wait in self.waits)

    @property
    def over_yet(self) -> bool:
        """Whether everybody is known to have gone on."""
        return all(wait.until for wait in self.waits)

    @property
    def head(self) -> str | None:
        """Who held the lock, of those who did not wait themselves."""
        waiters = {wait.waiter for wait in self.waits}
        return next(
            (pid for wait in self.waits for pid in wait.holders if pid not in waiters), None
        )

    @property
    def at_once(self) -> int:
        """The most that waited at one time."""
        return max(
            sum(1 for w in self.waits if w.since <= at <= (w.until or w.seen))
            for at in self._moments()
        )

    def _moments(self) -> list[datetime]:
        return [wait.since for wait in self.waits]


def waits_of(conflicts: Iterable[Conflict], zone: tzinfo | None = None) -> Iterator[LogWait]:
    """The waits of conflicts that are no deadlocks, each session's apart. Raises NoZone."""
    for conflict in conflicts:
        if conflict.kind in ("deadlock", "refused") or not conflict.at or not conflict.waits:
            continue
        first = conflict.waits[0]
        at = utc(conflict.at, zone)
        reported, ms = conflict.began or (conflict.at, (first.seconds or 0.0) * 1e3)
        since = seconds_before(utc(reported, zone), ms)
        lasted = since + timedelta(seconds=first.seconds) if first.seconds is not None else at
        over = conflict.kind != "wait" or first.ended in ("went on", "failed")
        waiter = conflict.member(first.waiter)
        yield LogWait(
            waiter=first.waiter,
            mode=first.mode,
            over=first.object,
            since=since,
            seen=max(at, lasted),
            until=lasted if over else None,
            holders=tuple(wait.holder for wait in conflict.waits if wait.holder is not None),
            statement=waiter.statement if waiter else None,
            application=waiter.application if waiter else None,
            user=waiter.user if waiter else None,
        )


def piles(waits: Iterable[LogWait]) -> list[LogPile]:
    """Waits put together, the earliest first."""
    found: list[LogPile] = []
    for wait in sorted(waits, key=lambda wait: wait.since):
        for pile in found[::-1][:200]:
            same = any(
                one.over == wait.over
                or set(one.holders) & set(wait.holders)
                or wait.waiter in one.holders
                or one.waiter in wait.holders
                for one in pile.waits
            )
            if same and pile.until >= wait.since:
                pile.waits.append(wait)
                break
        else:
            found.append(LogPile([wait]))
    return found
