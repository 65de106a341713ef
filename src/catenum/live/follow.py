"""Follows servers: one thread each looks again and again, and survives restarts of the server and
of the network.

What they see comes out of one queue, so that everything else happens in one place.
"""

from __future__ import annotations

import queue
import threading
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from statistics import median

from catenum.core.errors import TargetError
from catenum.core.record.recording_file import prepare as prepare_recordings
from catenum.core.servers import rules_of
from catenum.core.snapshot.sample import Sample
from catenum.core.text import duration
from catenum.engines.clock import Clock, wall
from catenum.engines.monitor import CheckFailed, DeadlockReport, Monitor, StatementRate

FIRST_PAUSE_S, LONGEST_PAUSE_S = 1.0, 60.0
#: Looking takes at most this share of the server's time: what takes long there is done more rarely,
#: and yet so often (ms) that an incident is seen more than once.
MOST_LOOKING, MOST_PAUSE_MS = 1 / 25, 10_000.0
#: By the middle one of so many checks: a network that stands still for a moment is no cost to the
#: server.
COSTS = 5
#: While the login may not see all, its rights are asked for again this often (ms).
RIGHTS_EVERY_MS = 10_000.0
#: A check is long from here on (ms); a quick one may be asked for as often as somebody likes.
LONG_LOOK_MS = 150.0
#: Where so many wait, a check comes no more often than this (ms): who passes a row on has no time
#: to spare.
MANY, CROWD_PAUSE_MS = 100, 2_500.0


#: Statement statistics are asked for this often (ms), and no more where that took longer than a
#: check, and this (ms), twice running.
STATISTICS_EVERY_MS, CHEAP_MS = 10_000.0, 50.0


@dataclass(frozen=True)
class Sighting:
    """What a follower has to say: a sample (perhaps with a deadlock's report), or that the server
    is not seen.

    ``pace``: how often it looks from now on, where that changes. ``rates``: how often statements
    ran, where that was asked for, at ``rates_at``. ``note``: what else is to be said, once.
    """

    name: str
    at: str
    sample: Sample | None = None
    report: DeadlockReport | None = None
    trouble: str | None = None
    lost: bool = False
    pace: str | None = None
    rates: Sequence[StatementRate] | None = None
    rates_at: str | None = None
    note: str | None = None


class Follower(threading.Thread):
    """Samples one server every ``every_s`` seconds."""

    def __init__(
        self,
        name: str,
        connect: Callable[[], Monitor],
        every_s: float,
        out: queue.SimpleQueue[Sighting],
        *,
        at_least_ms: float = 0.0,
        has_log: bool = False,
    ) -> None:
        super().__init__(name=f"follow {name}", daemon=True)
        self.server, self.connect, self.every_s, self.out = name, connect, every_s, out
        self.at_least_ms, self.has_log = at_least_ms, has_log
        self.stopping = threading.Event()
        self._deadlocks: int | None = None
        self._report: str | None = None
        self._slowed = False
        self._costs: deque[float] = deque(maxlen=COSTS)
        self._calm_pause_ms = every_s * 1000  # between checks while nobody waited
        self._reported_by_log = False  # each deadlock's report is in the log that is followed

    def run(self) -> None:
        """Until asked to stop."""
        pause = FIRST_PAUSE_S
        while not self.stopping.is_set():
            monitor: Monitor | None = None
            try:
                monitor = self.connect()
                pause = FIRST_PAUSE_S
                self._follow(monitor)
            except TargetError as error:
                reported = error.problems[0].message
                self.out.put(Sighting(self.server, wall(), trouble=reported, lost=True))
                self.stopping.wait(pause)
                pause = min(LONGEST_PAUSE_S, pause * 2)
            except Exception as error:  # a fault of ours must not leave the watch blind and silent
                reported = f"a fault while looking ({type(error).__name__}: {error}); looking again"
                self.out.put(Sighting(self.server, wall(), trouble=reported, lost=True))
                self.stopping.wait(pause)
                pause = min(LONGEST_PAUSE_S, pause * 2)
            finally:
                if monitor is not None:
                    monitor.close()

    def _follow(self, monitor: Monitor) -> None:
        """Until asked to stop, or until the login's rights are to be asked for again."""
        _prepare(monitor.info.server)
        clock = Clock()
        due = 0.0
        statistics = _Statistics(monitor)
        asked: _Asked = (None, None, None)
        self._deadlocks = None
        self._reported_by_log = self.has_log and monitor.logs_deadlocks()
        latest = monitor.deadlock_report()
        self._report = latest.key if latest else None  # one from before we came is no news
        while not self.stopping.is_set():
            try:
                sample = monitor.sample(at_least_ms=self.at_least_ms)
                report = self._fresh_report(monitor, sample)
                self._costs.append(max(0.0, sample.cost_ms - monitor.link_ms(sample.cost_ms)))
                waiting = len(sample.graph.waiters)
                pause_ms = self._pause_ms(waiting)
                pace = self._pace(pause_ms, median(self._costs), waiting)
                rates, rates_at, note = asked
                seen = Sighting(
                    self.server,
                    sample.at,
                    sample,
                    report,
                    pace=pace,
                    rates=rates,
                    rates_at=rates_at,
                    note=note,
                )
                self.out.put(seen)
                # Behind the check, which comes first whatever the statistics cost; told with the
                # next one.
                asked = statistics.due(median(self._costs))
                if sample.partial and clock.now_ms() > RIGHTS_EVERY_MS:
                    return
            except CheckFailed as error:
                pause_ms = self.every_s * 1000
                self.out.put(Sighting(self.server, wall(), trouble=error.problems[0].message))
            due = max(due + pause_ms, clock.now_ms())
            self.stopping.wait(max(0.0, due - clock.now_ms()) / 1000)

    def _pause_ms(self, waiting: int) -> float:
        """How long to the next check, by what checks cost the server; no longer in an incident than
        before it.
        """
        pause, cost = self.every_s * 1000, median(self._costs)
        if cost > LONG_LOOK_MS:
            pause = max(pause, min(MOST_PAUSE_MS, cost / MOST_LOOKING))
        if not waiting:
            self._calm_pause_ms = pause
            return pause
        pause = min(pause, self._calm_pause_ms)
        if waiting >= (
            MANY // 2 if self._slowed else MANY
        ):  # a queue that drains is short now and then
            pause = max(pause, CROWD_PAUSE_MS)
        return pause

    def _pace(self, pause_ms: float, cost_ms: float, waiting: int = 0) -> str | None:
        """What is to be said of how often it looks: when that becomes rarer than asked for, and
        when it is so again.
        """
        slowed = pause_ms > self.every_s * 1000
        if slowed == self._slowed:
            return None
        self._slowed = slowed
        if slowed:
            why = f"{waiting} sessions wait, and" if waiting >= MANY else ""
            takes = f"{why} a check takes {duration(cost_ms)}".strip()
            return f"{takes}: the next ones come every {duration(pause_ms)} or so"
        return f"checks are quick again: one every {duration(self.every_s * 1000)}"

    def _fresh_report(self, monitor: Monitor, sample: Sample) -> DeadlockReport | None:
        """The report of a deadlock that the server has counted since the last check."""
        before, self._deadlocks = self._deadlocks, sample.deadlocks
        if (
            before is None
            or sample.deadlocks is None
            or sample.deadlocks <= before
            or self._reported_by_log
        ):
            return None
        report = monitor.deadlock_report()
        if report is None or report.key == self._report:
            return None
        self._report = report.key
        return report


_Asked = tuple[Sequence[StatementRate] | None, str | None, str | None]


class _Statistics:
    """The server's statement statistics: asked for now and then, as long as that costs no more than
    a check.
    """

    def __init__(self, monitor: Monitor) -> None:
        self._monitor, self._clock, self._at = monitor, Clock(), -STATISTICS_EVERY_MS
        self._costly = 0
        self._off = False

    def due(self, check_ms: float) -> _Asked:
        """The statistics where it is time to ask for them, when that was, and what is to be said of
        it.
        """
        if self._off or self._clock.now_ms() - self._at < STATISTICS_EVERY_MS:
            return None, None, None
        self._at = before = self._clock.now_ms()
        rates = self._monitor.rates()
        at = wall()
        if rates is None:
            self._off = True
            return None, None, None
        took = self._clock.now_ms() - before
        self._costly = self._costly + 1 if took > max(check_ms, CHEAP_MS) else 0
        if self._costly < 2:
            return rates, at, None
        self._off = True
        note = (
            f"statement statistics took {duration(took)}, longer than a check: they are not asked"
            " for any more"
        )
        return rates, at, note


def _prepare(server: str) -> None:
    """Load what the first incident needs before the first check: the SQL parser, the form of
    recordings. Within a check it would count as the server's time, and checks would be made more
    rarely for it.
    """
    rules_of(server).sql.footprint("update berth set moved = 1 where id = 3")
    prepare_recordings()
