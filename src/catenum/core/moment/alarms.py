"""Thresholds of a watched server: what passed one, and that all is over again.

Each alarm is raised once, for as long as it stands; when none stands any more, one all-clear is given.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Literal

from catenum.core.moment.incidents import LOOKS_TO_END, Head, Incident
from catenum.core.moment.sample import Sample
from catenum.core.words import duration

MINUTE_MS = 60_000.0
What = Literal["long", "many", "idle", "deadlocks", "clear"]


@dataclass(frozen=True, kw_only=True)
class Thresholds:
    """From where on something is told; None: never. Lengths in ms.

    ``longer_than_ms``: of a wait; ``waiting``: sessions at once; ``idle_ms``: the age of an open transaction that does
    nothing; ``deadlocks``: in one minute.
    """

    longer_than_ms: float | None = None
    waiting: int | None = None
    idle_ms: float | None = None
    deadlocks: int | None = None


@dataclass(frozen=True, kw_only=True)
class Alarm:
    """One threshold passed, or (``clear``) that nothing stands any more."""

    what: What
    text: str
    incident: Incident | None = None


@dataclass
class Alarms:
    """One server's alarms."""

    thresholds: Thresholds
    _standing: dict[tuple[object, ...], int] = field(default_factory=dict)  # looks since it was last seen to stand
    _since_ms: float = 0.0
    _deadlocks: deque[tuple[float, int]] = field(default_factory=deque)

    def take(self, sample: Sample, open_now: Sequence[Incident], deadlocks: int, now_ms: float) -> Iterator[Alarm]:
        """What a sample raises. ``open_now``: the incidents that go on; ``deadlocks``: how many are news."""
        stands: dict[tuple[object, ...], int] = {}
        for key, alarm in (
            *self._long(open_now),
            *self._many(sample),
            *self._idle(sample),
            *self._often(deadlocks, now_ms),
        ):
            stands[key] = 0
            if key not in self._standing:
                if not self._standing and len(stands) == 1:
                    self._since_ms = now_ms
                yield alarm
        yield from self._over(stands, now_ms)

    def lost(self) -> None:
        """The server is not seen: what stands is not known, so nothing is said to be over."""
        self._standing.clear()

    def _over(self, stands: dict[tuple[object, ...], int], now_ms: float) -> Iterator[Alarm]:
        stood = self._standing
        # A queue that drains may be short at one look: what one look does not show is not over.
        left = {key: looks + 1 for key, looks in stood.items() if key not in stands and looks + 1 < LOOKS_TO_END}
        self._standing = stands = {**left, **stands}
        if stood and not stands:
            lasted = duration(now_ms - self._since_ms)
            yield Alarm(what="clear", text=f"all clear: nothing is beyond a threshold any more, after {lasted}")

    def _long(self, open_now: Sequence[Incident]) -> Iterator[tuple[tuple[object, ...], Alarm]]:
        limit = self.thresholds.longer_than_ms
        for incident in open_now:
            if limit is None or incident.longest_ms < limit:
                continue
            blamed = [head for head in incident.heads.values() if head.held_ms >= limit]
            for head in blamed:
                told = f"session {head.session.who} has held others up for {_held(head)}: {_worst(incident)}"
                yield ("long", id(incident), head.key), Alarm(what="long", text=told, incident=incident)
            if not blamed:
                head = incident.longest_held
                told = (
                    f"sessions have waited for up to {duration(incident.longest_ms)}: {_worst(incident)}; "
                    f"{incident.head_count} heads one after the other, none held for long ({_held(head)} at the most)"
                )
                yield ("long", id(incident)), Alarm(what="long", text=told, incident=incident)

    def _many(self, sample: Sample) -> Iterator[tuple[tuple[object, ...], Alarm]]:
        limit, waiting = self.thresholds.waiting, len(sample.graph.waiters)
        if limit is not None and waiting >= limit:
            yield ("many",), Alarm(what="many", text=f"{waiting} sessions wait for locks")

    def _idle(self, sample: Sample) -> Iterator[tuple[tuple[object, ...], Alarm]]:
        limit = self.thresholds.idle_ms
        for session in sample.idle_open if limit is not None else ():
            if (session.transaction_ms or 0.0) < (limit or 0.0):
                continue
            told = f"session {session.who} has a transaction open for {duration(session.transaction_ms)}, and is idle"
            held_up = len(sample.graph.held_up_by(session.id))
            told += f"; it holds up {held_up}" if held_up else ""
            yield ("idle", *session.key, session.transaction), Alarm(what="idle", text=told)

    def _often(self, deadlocks: int, now_ms: float) -> Iterator[tuple[tuple[object, ...], Alarm]]:
        limit = self.thresholds.deadlocks
        if deadlocks:
            self._deadlocks.append((now_ms, deadlocks))
        while self._deadlocks and self._deadlocks[0][0] <= now_ms - MINUTE_MS:
            self._deadlocks.popleft()
        count = sum(number for _, number in self._deadlocks)
        if limit is not None and count >= limit:
            yield ("deadlocks",), Alarm(what="deadlocks", text=f"{count} deadlocks within a minute")


def _held(head: Head) -> str:
    return f"{'' if head.exact else 'at most '}{duration(head.held_ms)}"


def _worst(incident: Incident) -> str:
    return f"{incident.worst_waiting} at the worst, over {incident.over}"
