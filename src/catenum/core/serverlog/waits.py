"""Waits that PostgreSQL wrote to its log with ``log_lock_waits``, put together from its messages.

A session that waits for longer than ``deadlock_timeout`` is reported once as still waiting, with who holds the lock and
who queues for it, and once more when it has the lock (proc.c, ``ProcSleep``).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta, tzinfo
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from catenum.core.serverlog import LogEntry

_WAITS = re.compile(r"process (\d+) (still waiting for|acquired) (\S+) on (.+?) after ([\d.]+) ms")
_HOLDERS = re.compile(r"Process(?:es)? holding the lock: ([\d, ]+)\. Wait queue: ([\d, ]*)\.?")
_PLACE = re.compile(r'tuple \((\d+,\d+)\) in relation "((?:[^"]|"")+)"')
_TIME = re.compile(r"(\d{4}-\d\d-\d\d) +(\d{1,2}:\d\d:\d\d)(\.\d+)? ?(.*)")


class NoZone(ValueError):
    """The times of a log are in a zone that cannot be told from what stands there."""


@dataclass(slots=True)
class LogWait:
    """One wait of a session, as the log has it. ``until``: when it had the lock; None where that is not in the log."""

    waiter: int
    mode: str
    over: str
    since: datetime
    seen: datetime
    until: datetime | None = None
    holders: tuple[int, ...] = ()
    queue: tuple[int, ...] = ()
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
    def head(self) -> int | None:
        """Who held the lock, of those who did not wait themselves."""
        waiters = {wait.waiter for wait in self.waits}
        return next((pid for wait in self.waits for pid in wait.holders if pid not in waiters), None)

    @property
    def at_once(self) -> int:
        """The most that waited at one time."""
        return max(sum(1 for w in self.waits if w.since <= at <= (w.until or w.seen)) for at in self._moments())

    def _moments(self) -> list[datetime]:
        return [wait.since for wait in self.waits]


def log_waits(entries: Iterable[LogEntry], zone: tzinfo | None = None) -> Iterator[LogWait]:
    """Each wait that the log tells of, when it is over or the log ends. Raises NoZone."""
    open_now: dict[tuple[int, str], LogWait] = {}
    for entry in entries:
        told = _WAITS.match(entry.message)
        if told is None or entry.at is None:
            continue
        at = utc(entry.at, zone)
        pid, what, mode, over, length = int(told[1]), told[2], told[3], told[4], float(told[5])
        since = at - timedelta(milliseconds=length)
        wait = open_now.get((pid, over))
        if wait is None or abs((wait.since - since).total_seconds()) > 1:
            if wait is not None:
                yield wait
            wait = open_now[pid, over] = LogWait(pid, mode, _named(over, entry.context), since, at)
            wait.statement, wait.application, wait.user = entry.statement, entry.application, entry.user
        if what == "acquired":
            wait.until = at
            yield open_now.pop((pid, over))
            continue
        wait.seen = at
        holders = _HOLDERS.search(entry.detail or "")
        if holders:
            wait.holders, wait.queue = _numbers(holders[1]), _numbers(holders[2])
    yield from open_now.values()


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


def utc(text: str, zone: tzinfo | None = None) -> datetime:
    """A time of a log in UTC; ``zone`` is that of times that name none. Raises NoZone."""
    found = _TIME.match(text)
    if found is None:
        raise NoZone(f"{text!r} is no time")
    day, hour, part, name = found.groups()
    plain = datetime.fromisoformat(f"{day}T{hour.rjust(8, '0')}{(part or '')[:7]}")
    if not name and zone is None:
        raise NoZone(f"{text!r} names no time zone")
    return plain.replace(tzinfo=_zone(name) if name else zone).astimezone(UTC)


def _zone(name: str) -> tzinfo:
    if name in ("UTC", "GMT", "Z"):
        return UTC
    if re.fullmatch(r"[+-]\d\d(:?\d\d)?", name):
        return datetime.strptime(name if len(name) > 3 else f"{name}00", "%z").tzinfo or UTC
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError) as error:
        raise NoZone(f"the time zone {name!r} is not known") from error


def _named(over: str, context: str | None) -> str:
    """What is waited for; the message's context tells the table of a row by its name."""
    place = _PLACE.search(context or "")
    return f"{place[2]} row at ({place[1]})" if place else over


def _numbers(text: str) -> tuple[int, ...]:
    return tuple(int(part) for part in text.split(",") if part.strip())
