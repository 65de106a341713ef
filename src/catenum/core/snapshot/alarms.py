"""Thresholds of a watched server: what passed one, and that all is over again.

Each alarm is raised once, for as long as it stands; when none stands any more, one all-clear is
given.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Literal

from catenum.core.snapshot.incidents import LOOKS_TO_END, Head, Incident
from catenum.core.snapshot.sample import Sample
from catenum.core.text import duration

MINUTE_MS = 60_000.0
What = Literal["long", "many", "idle", "deadlocks", "clear"]


@dataclass(frozen=True, kw_only=True)
class Thresholds:
    """From where on something is told; None: never. Lengths in ms.

    ``longer_than_ms``: of a wait; ``waiting``: sessions at once; ``idle_ms``: the age of an open
    transaction that does nothing; ``deadlocks``: in one minute.
    """

    longer_than_ms: float | None = None
    waiting: int | None = None
    idle_ms: float | None = None
    deadlocks: int | None = None


@dataclass(frozen=True, kw_only=True)
class Alarm:
    """One threshold passed, or (``clear``) that nothing stands any more.

    ``id``: the same for an alarm and its all-clear, and no other's. ``sessions``: who is meant.
    ``age_ms``: the length that passed the threshold; ``count``: the number that did; ``limit``: the
    threshold, in the same unit.
    """

    what: What
    text: str
    id: str
    incident: Incident | None = None
    sessions: tuple[str, ...] = ()
    age_ms: float | None = None
    count: int | None = None
    limit: float | None = None


@dataclass
class Alarms:
    """One server's alarms: one for each kind and incident; of transactions that are idle, one a
    minute.
    """

    thresholds: Thresholds
    _standing: dict[tuple[object, ...], int] = field(
        default_factory=dict
    )  # looks since it was last seen to stand
    _since_ms: float = 0.0
    _first: str = ""  # the id of the alarm with which it began
    _idle_ms: float | None = None  # when the last alarm for idle transactions was raised
    _deadlocks: deque[tuple[float, int]] = field(default_factory=deque)

    def take(
        self, sample: Sample, open_now: Sequence[Incident], deadlocks: int, now_ms: float
    ) -> Iterator[Alarm]:
        """What a sample raises. ``open_now``: the incidents that go on; ``deadlocks``: how many are
        news.
        """
        stands: dict[tuple[object, ...], int] = {}
        for key, alarm in (
            *self._long(open_now),
            *self._many(sample),
            *self._often(sample, deadlocks, now_ms),
            *self._idle(sample, now_ms),
        ):
            stands[key] = 0
            if alarm is not None and key not in self._standing:
                if not self._standing and len(stands) == 1:
                    self._since_ms, self._first = now_ms, alarm.id
                yield alarm
        yield from self._over(sample, stands, now_ms)

    def lost(self) -> None:
        """The server is not seen: what stands is not known, so nothing is said to be over."""
        self._standing.clear()

    def _over(
        self, sample: Sample, stands: dict[tuple[object, ...], int], now_ms: float
    ) -> Iterator[Alarm]:
        stood = self._standing
        # A queue that drains may be short at one look: what one look does not show is not over.
        left = {
            key: looks + 1
            for key, looks in stood.items()
            if key not in stands and looks + 1 < LOOKS_TO_END
        }
        self._standing = stands = {**left, **stands}
        if stood and not stands:
            lasted = now_ms - self._since_ms
            text = f"all clear: nothing is beyond a threshold any more, after {duration(lasted)}"
            yield Alarm(what="clear", text=text, id=f"clear/{self._first}", age_ms=lasted)

    def _long(self, open_now: Sequence[Incident]) -> Iterator[tuple[tuple[object, ...], Alarm]]:
        limit = self.thresholds.longer_than_ms
        for incident in open_now:
            if limit is None or incident.longest_ms < limit:
                continue
            head = incident.longest_held
            blamed = head.held_ms >= limit
            if blamed:
                reported = (
                    f"session {head.session.who} has held others up for {_held(head)}:"
                    f" {_worst(incident)}"
                )
            else:
                reported = (
                    f"sessions have waited for up to {duration(incident.longest_ms)}:"
                    f" {_worst(incident)}; {incident.head_count} heads one after the other, none"
                    f" held for long ({_held(head)} at the most)"
                )
            alarm = Alarm(
                what="long",
                text=reported,
                id=f"long/{incident.key}",
                incident=incident,
                sessions=(head.session.id,) if blamed else (),
                age_ms=head.held_ms if blamed else incident.longest_ms,
                count=len(incident.waiting),
                limit=limit,
            )
            yield ("long", id(incident)), alarm

    def _many(self, sample: Sample) -> Iterator[tuple[tuple[object, ...], Alarm]]:
        limit, waiting = self.thresholds.waiting, len(sample.graph.waiters)
        if limit is not None and waiting >= limit:
            heads = tuple(sample.graph.heads())
            text = f"{waiting} sessions wait for locks"
            alarm = Alarm(
                what="many",
                text=text,
                id=f"many/{sample.at}",
                sessions=heads,
                count=waiting,
                limit=float(limit),
            )
            yield ("many",), alarm

    def _idle(
        self, sample: Sample, now_ms: float
    ) -> Iterator[tuple[tuple[object, ...], Alarm | None]]:
        """Those that are new in one alarm, which names the oldest; no more than one a minute."""
        limit = self.thresholds.idle_ms
        old = [
            one
            for one in sample.idle_open
            if limit is not None and (one.transaction_ms or 0.0) >= limit
        ]
        fresh = []
        for session in old:
            key = ("idle", *session.key, session.transaction)
            if key in self._standing:
                yield key, None
            else:
                fresh.append((key, session))
        if not fresh or (self._idle_ms is not None and now_ms - self._idle_ms < MINUTE_MS):
            return  # they are told with the next alarm
        self._idle_ms = now_ms
        first = fresh[0][1]
        reported = (
            f"session {first.who} has a transaction open for {duration(first.transaction_ms)}, and"
            " is idle"
        )
        held_up = len(sample.graph.held_up_by(first.id))
        reported += f"; it blocks {held_up}" if held_up else ""
        reported += f"; {len(fresh) - 1} more are as old" if len(fresh) > 1 else ""
        alarm = Alarm(
            what="idle",
            text=reported,
            id=f"idle/{sample.at}",
            sessions=tuple(session.id for _, session in fresh),
            age_ms=first.transaction_ms,
            count=len(fresh),
            limit=limit,
        )
        yield fresh[0][0], alarm
        for key, _ in fresh[1:]:
            yield key, None

    def _often(
        self, sample: Sample, deadlocks: int, now_ms: float
    ) -> Iterator[tuple[tuple[object, ...], Alarm]]:
        limit = self.thresholds.deadlocks
        if deadlocks:
            self._deadlocks.append((now_ms, deadlocks))
        while self._deadlocks and self._deadlocks[0][0] <= now_ms - MINUTE_MS:
            self._deadlocks.popleft()
        count = sum(number for _, number in self._deadlocks)
        if limit is not None and count >= limit:
            text = f"{count} deadlocks within a minute"
            alarm = Alarm(
                what="deadlocks",
                text=text,
                id=f"deadlocks/{sample.at}",
                count=count,
                limit=float(limit),
            )
            yield ("deadlocks",), alarm


def _held(head: Head) -> str:
    return f"{'' if head.exact else 'at most '}{duration(head.held_ms)}"


def _worst(incident: Incident) -> str:
    return f"{incident.worst_waiting} at the worst, over {incident.over}"
