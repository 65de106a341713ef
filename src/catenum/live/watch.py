"""The watch: takes in what followers see, keeps it, and says what began, ended, passed a threshold
or was lost.
"""

from __future__ import annotations

import contextlib
import json
import queue
import shlex
import subprocess
import threading
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from catenum.core.errors import InputError, SaveError
from catenum.core.servers import rules_of
from catenum.core.snapshot.across import Ends, look_across, standing
from catenum.core.snapshot.alarms import Alarm, Alarms, Thresholds
from catenum.core.snapshot.incidents import Change, DeadlockCount, Incident, IncidentTracker
from catenum.core.snapshot.own import without_runs
from catenum.core.snapshot.rates import Counted, RateLog
from catenum.core.snapshot.sample import Sample
from catenum.core.snapshot.sight import Sight
from catenum.core.text import counted, duration
from catenum.engines.clock import Clock, milliseconds_between, seconds_of
from catenum.engines.monitor import Monitor
from catenum.live.client_sockets import client_ends
from catenum.live.events import WatchEvent, across_text, began_text, ended_text, event_value
from catenum.live.follow import CROWD_PAUSE_MS, Follower, Sighting
from catenum.live.logfile import LogFile
from catenum.store.buffered import BufferedStore
from catenum.store.store import Store

if TYPE_CHECKING:  # only a watch that has a collector loads its library
    from catenum.live.metrics import Meter

#: The store is trimmed this often (ms).
TRIM_EVERY_MS = 60_000.0
#: Incidents that are kept in mind while the store cannot be written to.
MOST_LEFT = 1_000
#: Samples of several servers that are no further apart than their checks are, and this (ms), are
#: looked at as one.
SLACK_MS = 500.0
#: The wall clock, which is written down, and elapsed time differ by more than this (ms) only where
#: one was changed.
JUMP_MS = 5_000.0
#: What process has which connection is asked for again after so long (ms).
ENDS_MS = 3_000.0


@dataclass(frozen=True, kw_only=True)
class WatchOptions:
    """How to watch. Lengths in ms.

    ``run``: a command for thresholds that are passed, the all-clear, and deadlocks. ``logs``: by
    the server's name. ``own_runs``: what waits in runs of Catenum is an incident as well.
    """

    every_s: float = 1.0
    at_least_ms: float = 500.0
    thresholds: Thresholds = field(default_factory=lambda: Thresholds(longer_than_ms=10_000.0))
    keep_ms: float = 14 * 86_400_000.0
    most_bytes: int = 1_000_000_000
    run: str | None = None
    mask: bool = False
    own_runs: bool = False
    logs: tuple[tuple[str, Path], ...] = ()


@dataclass
class Watch:
    """Follows servers by name, until ``stop`` is set."""

    servers: Mapping[str, Callable[[], Monitor]]
    options: WatchOptions
    store: Store | BufferedStore | None
    tell: Callable[[WatchEvent], None]
    seen: Callable[[str, Sample], None] | None = None
    stop: threading.Event = field(default_factory=threading.Event)
    meter: Meter | None = None

    def __post_init__(self) -> None:
        self.abandoned = False  # nobody looks any more: the watch has ended by itself
        self._clock = Clock()
        self._trackers = {name: IncidentTracker(self.options.at_least_ms) for name in self.servers}
        self._deadlocks = {name: DeadlockCount() for name in self.servers}
        self._alarms = {name: Alarms(self.options.thresholds) for name in self.servers}
        self._latest: dict[str, tuple[Sample, float]] = {}
        self._across = IncidentTracker(self.options.at_least_ms, "across")
        self._across_alarms = Alarms(
            Thresholds(longer_than_ms=self.options.thresholds.longer_than_ms)
        )
        self._across_before: Sample | None = None
        self._across_ms: float | None = None
        self._ends: tuple[Ends, float] | None = None
        self._rates: dict[str, RateLog] = {}
        self._sight = {name: Sight(self.options.every_s * 1000) for name in self.servers}
        self._seen_whole: set[str] = set()
        self._twins: dict[int, tuple[Incident, Incident]] = {}  # masked, beside what they are of
        self._deadlocks_left: dict[
            str, tuple[int, tuple[str, ...]]
        ] = {}  # not stored so far, and their reports
        self._unstored: dict[str, str] = {}  # since when nothing could be stored
        self._to_store: dict[str, list[Incident]] = {name: [] for name in self.servers}
        self._last_ms: dict[str, float] = {}
        self._last_at: dict[str, str] = {}  # of the last check that succeeded
        self._lost: dict[str, tuple[str, str]] = {}  # since when, and why
        self._noted: set[tuple[str, str]] = set()  # what hinders looking, told once for each server
        self._commands: list[subprocess.Popen[bytes]] = []
        self._store_failed = False
        self._store_trouble: str | None = None
        self._trimmed_ms = 0.0
        self._logs = [(name, LogFile(path)) for name, path in self.options.logs]
        self._command = shlex.split(self.options.run) if self.options.run else None
        if self.options.run and not self._command:
            raise InputError("--run names no command")

    def run(self) -> None:
        """Watch. Whatever was open is written down when this returns."""
        out: queue.SimpleQueue[Sighting] = queue.SimpleQueue()
        how = self.options
        followers = [
            Follower(
                name,
                connect,
                how.every_s,
                out,
                at_least_ms=how.at_least_ms,
                has_log=any(server == name for server, _ in self._logs),
            )
            for name, connect in self.servers.items()
        ]
        for follower in followers:
            follower.start()
        try:
            while not self.stop.is_set():
                try:
                    sighting = out.get(timeout=0.2)
                except queue.Empty:
                    if not any(follower.is_alive() for follower in followers):
                        self.abandoned = True
                        break
                    continue
                self.take(sighting)
        finally:
            for follower in followers:
                follower.stopping.set()
            at = self._clock.wall()
            for name, tracker in self._trackers.items():
                self._end(name, tracker.lost(at), at)
            self._end(self._all, self._across.lost(at), at)
            for follower in followers:
                follower.join(2.0)
            for command in self._commands:
                command.poll()

    @property
    def never_seen(self) -> list[tuple[str, str | None]]:
        """The servers of which no check ever saw all, and why not, where they could be looked
        at.
        """
        return [
            (name, self._sight[name].why) for name in self._trackers if name not in self._seen_whole
        ]

    def take(self, sighting: Sighting) -> None:
        name = sighting.name
        if sighting.sample is None:
            self._take_trouble(sighting)
            return
        whole = sighting.sample if self.options.own_runs else without_runs(sighting.sample)
        if name in self._lost:
            gone, why = self._lost.pop(name)
            self._keep(lambda store: store.gap(name, gone, sighting.at, why))
            text = f"seen again; not seen since {gone}"
            self._alert(WatchEvent(what="back", server=name, at=sighting.at, text=text))
        for said in (sighting.pace, sighting.note):
            if said is not None:
                self._say(WatchEvent(what="note", server=name, at=sighting.at, text=said))
        sample = whole.masked() if self.options.mask else whole
        for note in sample.notes:
            if (name, note) not in self._noted:
                self._noted.add((name, note))
                self._say(WatchEvent(what="note", server=name, at=sighting.at, text=note))
        now = self._clock.now_ms()
        since = now - self._last_ms.get(name, now)
        before = self._last_at.get(name, sample.at)
        self._take_jump(name, before, sample.at, since)
        self._last_ms[name], self._last_at[name] = now, sample.at
        self._take_sight(name, sample.at, sample.blind, since)
        # Masking changes what is shown and stored, never what belongs together.
        change = self._shown(self._trackers[name].update(whole, since_last_ms=since))
        reports = [
            *([sighting.report.text] if sighting.report else []),
            *self._from_logs(name, sample.target.server),
        ]
        has_counter = sample.deadlocks is not None
        deadlocks = self._deadlocks[name].take(
            change.deadlocks, len(reports), has_counter=has_counter
        )
        report = "\n\n".join(reports) or None
        if report and self.options.mask:
            report = rules_of(sample.target.server).sql.masked_report(report)
        changed = [*change.began, *change.went_on, *change.ended]
        self._store_look(name, before, sample, changed, deadlocks, report)
        self._take_rates(name, sighting, now)
        self._tell_change(name, sample, change)
        self._tell_deadlocks(name, sample.at, deadlocks, report)
        open_now = [self._twin(incident) for incident in self._trackers[name].open]
        self._tell_alarms(
            name, sample.at, self._alarms[name].take(sample, open_now, deadlocks, now)
        )
        if self.meter is not None:
            self.meter.deadlocks(name, deadlocks)
            self.meter.sample(name, whole, self._trackers[name].open, seconds_of(sample.at))
        self._look_across(name, whole, now)
        if self.seen is not None:
            self.seen(name, sample)
        self._commands = [command for command in self._commands if command.poll() is None]
        self._tell_store()
        if self.store is not None and now - self._trimmed_ms > TRIM_EVERY_MS:
            self._trimmed_ms = now
            self.store.trim(self.options.keep_ms, self.options.most_bytes)

    def _take_rates(self, name: str, sighting: Sighting, now_ms: float) -> None:
        """Store how often those statements run that take part in incidents; their shapes have no
        literals.
        """
        sample = sighting.sample
        if sample is None:
            return
        log = self._rates.get(name)
        if log is None:
            if sighting.rates is None:
                return
            log = self._rates[name] = RateLog(rules_of(sample.target.server).sql.shape)
        log.want(self._trackers[name].open, now_ms)
        if sighting.rates is not None:
            counted = {
                one.text: Counted(one.calls, one.total_ms, one.lock_ms) for one in sighting.rates
            }
            log.take(sighting.rates_at or sighting.at, now_ms, counted)
            steps = log.steps(now_ms)
            if steps:
                self._keep(lambda store: store.rate(name, steps))

    def _take_jump(self, name: str, before: str, at: str, since_last_ms: float) -> None:
        """The clock of this machine was set, or the machine slept: what was open is over as far as
        anybody knows, and a time that passed without a check is a gap.
        """
        jump_ms = milliseconds_between(before, at) - since_last_ms
        if abs(jump_ms) < JUMP_MS:
            return
        way = "forward" if jump_ms > 0 else "back"
        text = (
            f"the clock of this machine went {way} by {duration(abs(jump_ms))}: it was set, or the"
            " machine slept"
        )
        self._say(WatchEvent(what="note", server=name, at=at, text=text))
        self._end(name, self._trackers[name].lost(before, counts=True), before)
        if jump_ms > 0:
            self._keep(lambda store: store.gap(name, before, at, text))

    def _store_look(
        self,
        name: str,
        before: str,
        sample: Sample,
        changed: Sequence[Incident],
        deadlocks: int,
        report: str | None,
    ) -> None:
        """Store a look; what could not be stored in the meantime is a gap, and what has become of
        its incidents is not forgotten.
        """
        left = [*self._to_store[name], *(one for one in changed if one not in self._to_store[name])]
        more, reports = self._deadlocks_left.pop(name, (0, ()))
        deadlocks, reports = deadlocks + more, (*reports, *([report] if report else []))
        whole = "\n\n".join(reports) or None
        if self._keep(lambda store: store.write(name, sample, left, deadlocks, whole)):
            self._to_store[name] = []
            since = self._unstored.pop(name, None)
            if since is not None:
                self._keep(
                    lambda store: store.missed(
                        name, since, sample.at, "the store could not be written to"
                    )
                )
            return
        self._unstored.setdefault(name, before)
        self._deadlocks_left[name] = (deadlocks, reports[-MOST_LEFT:])
        self._to_store[name] = left[-MOST_LEFT:]

    def _look_across(self, name: str, sample: Sample, now_ms: float) -> None:
        """What goes over several servers: their latest samples as one, where that stands in two
        looks running.
        """
        if len(self.servers) < 2:
            return
        self._latest[name] = (sample, now_ms)
        oldest = now_ms - 2 * max(self.options.every_s * 1000, CROWD_PAUSE_MS) - SLACK_MS
        fresh = {server: one for server, (one, at) in self._latest.items() if at >= oldest}
        if self._across_ms is not None and any(
            self._latest[server][1] <= self._across_ms for server in fresh
        ):
            return  # two looks running are two looks at each of them
        whole = look_across(fresh, partial(self._client_ends, now_ms))
        found, self._across_before = standing(self._across_before, whole), whole
        since, self._across_ms = now_ms - (self._across_ms or now_ms), now_ms
        if found is None and not self._across.open:
            return
        whole = found or replace(sample, edges=(), sessions=(), by_id={})
        change = self._shown(self._across.update(whole, since_last_ms=since))
        shown = whole.masked() if self.options.mask else whole
        changed = (*change.began, *change.went_on, *change.ended)
        left = [*self._to_store.pop(self._all, ()), *changed]
        failed = [one for one in left if not self._keep(partial(_write_end, self._all, one))]
        self._to_store[self._all] = failed[-MOST_LEFT:]
        self._tell_change(self._all, shown, change)
        open_now = [self._twin(incident) for incident in self._across.open]
        for incident in change.began:
            if incident.cycle:
                text = across_text(incident)
                self._alert(
                    WatchEvent(
                        what="deadlock",
                        server=self._all,
                        at=sample.at,
                        text=text,
                        incident=incident,
                    )
                )
        self._tell_alarms(
            self._all, sample.at, self._across_alarms.take(shown, open_now, 0, now_ms)
        )

    def _client_ends(self, now_ms: float) -> Ends:
        """Who has which connection; asking again for each check would cost more than the check."""
        if self._ends is None or now_ms - self._ends[1] > ENDS_MS:
            self._ends = (client_ends(), now_ms)
        return self._ends[0]

    @property
    def _all(self) -> str:
        return " + ".join(sorted(self.servers))

    def _take_trouble(self, sighting: Sighting) -> None:
        name, text = sighting.name, sighting.trouble or "not seen"
        since = self._last_at.get(
            name, sighting.at
        )  # what was not seen began behind the last check
        if not sighting.lost:
            self._take_sight(name, sighting.at, text)
            return
        if name in self._lost:
            return
        self._lost[name] = (since, text)
        self._sight[name].lost()
        self._alarms[name].lost()
        self._end(name, self._trackers[name].lost(sighting.at), sighting.at)
        self._keep(lambda store: store.gap(name, since, None, text))
        self._alert(WatchEvent(what="lost", server=name, at=sighting.at, text=text))

    def _take_sight(self, name: str, at: str, why: str | None, since_last_ms: float = 0.0) -> None:
        """Store that a check was blind, and say it when that begins and ends."""
        sight = self._sight[name]
        was = sight.why
        spell, turn = sight.take(at, why, since_last_ms=since_last_ms)
        if why is None:
            self._seen_whole.add(name)
        if spell is not None:
            self._keep(lambda store: store.missed(name, spell.since, spell.until, spell.why))
        if turn == "blind":
            self._alert(
                WatchEvent(what="blind", server=name, at=at, text=f"the watch is blind: {why}")
            )
        elif turn == "sees":
            self._alert(
                WatchEvent(
                    what="sees",
                    server=name,
                    at=at,
                    text=f"the watch sees again; it was blind: {was}",
                )
            )

    def _shown(self, change: Change) -> Change:
        """The same with incidents as they are shown and stored."""
        if not self.options.mask:
            return change
        began, went_on = (
            [self._twin(one) for one in part] for part in (change.began, change.went_on)
        )
        return Change(
            began, went_on, [self._twin(one, last=True) for one in change.ended], change.deadlocks
        )

    def _twin(self, incident: Incident, *, last: bool = False) -> Incident:
        """An incident as it is shown and stored: the same object each time, brought up to date."""
        if not self.options.mask:
            return incident
        _, twin = self._twins.get(id(incident), (incident, None))
        fresh = incident.masked()
        if twin is not None:
            fresh.number, fresh.kept_at = twin.number, twin.kept_at
            vars(twin).update(vars(fresh))
        twin = twin or fresh
        self._twins[id(incident)] = (incident, twin)
        if last:
            del self._twins[id(incident)]
        return twin

    def _end(self, name: str, incidents: Sequence[Incident], at: str) -> None:
        for incident in (self._twin(one, last=True) for one in incidents):
            if not self._keep(partial(_write_end, name, incident)):
                self._to_store.setdefault(name, []).append(incident)
            self._say(
                WatchEvent(
                    what="ended", server=name, at=at, text=ended_text(incident), incident=incident
                )
            )

    # -- saying ------------------------------------------------------------------------------------

    def _tell_change(self, name: str, sample: Sample, change: Change) -> None:
        for incident in change.began:
            self._say(
                WatchEvent(
                    what="began",
                    server=name,
                    at=sample.at,
                    text=began_text(incident, sample),
                    incident=incident,
                )
            )
        for incident in change.ended:
            self._say(
                WatchEvent(
                    what="ended",
                    server=name,
                    at=sample.at,
                    text=ended_text(incident),
                    incident=incident,
                )
            )

    def _tell_alarms(self, name: str, at: str, alarms: Iterable[Alarm]) -> None:
        for alarm in alarms:
            reported = WatchEvent(
                what=alarm.what,
                server=name,
                at=at,
                text=alarm.text,
                incident=alarm.incident,
                alarm=alarm,
            )
            self._alert(reported)

    def _say(self, reported: WatchEvent) -> None:
        if self.meter is not None:
            self.meter.event(reported)
        self.tell(reported)

    def _alert(self, reported: WatchEvent) -> None:
        """Say it, and start the command for it."""
        self._say(reported)
        self._run(reported)

    def _tell_deadlocks(self, name: str, at: str, count: int, report: str | None) -> None:
        if count:
            text = (
                f"{count}"
                f" deadlock{'s' if count != 1 else ''}{'' if report else '; no report so far'}"
            )
            self._alert(WatchEvent(what="deadlock", server=name, at=at, text=text, report=report))
        elif report:
            self._say(
                WatchEvent(
                    what="report",
                    server=name,
                    at=at,
                    text="the report of that deadlock",
                    report=report,
                )
            )

    def _from_logs(self, name: str, kind: str) -> list[str]:
        found = []
        for log in (log for server, log in self._logs if server == name):
            for conflict in log.of_server(kind).conflicts():
                if self.meter is not None:
                    self.meter.logged(name, conflict.kind)
                if conflict.kind == "deadlock":
                    found.append(conflict.report)
        for log in (log for server, log in self._logs if server == name and log.trouble):
            if (name, log.trouble) not in self._noted:
                self._noted.add((name, str(log.trouble)))
                self._say(
                    WatchEvent(
                        what="note", server=name, at=self._clock.wall(), text=str(log.trouble)
                    )
                )
        return found

    def _run(self, reported: WatchEvent) -> None:
        """Start the command with what was reported as JSON on its standard input."""
        if not self._command:
            return
        try:
            process = subprocess.Popen(self._command, stdin=subprocess.PIPE, start_new_session=True)
        except OSError as error:
            text = f"--run: cannot start {self._command[0]}: {error.strerror}"
            self._say(WatchEvent(what="trouble", server=reported.server, at=reported.at, text=text))
            return
        self._commands.append(process)
        value = json.dumps(event_value(reported, recording=True)).encode()
        # A command that does not read must not hold up the watch.
        threading.Thread(target=_hand_over, args=(process, value), daemon=True).start()

    @property
    def store_fails(self) -> bool:
        """Whether the latest that was to be stored could not be."""
        return self._store_failed

    def _tell_store(self) -> None:
        """That what is to be stored waits, and that it does no longer."""
        trouble = self.store.trouble if self.store is not None else None
        if (trouble is None) == (self._store_trouble is None):
            return
        self._store_trouble = trouble
        text = f"{trouble}; what is seen is kept in memory as long as it may be stored yet"
        if trouble is None and self.store is not None:
            dropped = self.store.lost
            lost = "nothing was lost"
            if dropped:
                lost = f"it did not take {counted(dropped, 'thing')} of what was kept"
            text = f"the store can be written to again; {lost}"
        self._alert(WatchEvent(what="store", server="", at=self._clock.wall(), text=text))

    def _keep(self, write: Callable[[Store | BufferedStore], None]) -> bool:
        """Write to the store, and return whether that was done; where it fails, say so once and go
        on watching.
        """
        if self.store is None:
            return True
        try:
            write(self.store)
        except SaveError as error:
            if not self._store_failed:
                text = f"{error.problems[0].message}; what is seen is reported, but not stored"
                self._alert(WatchEvent(what="store", server="", at=self._clock.wall(), text=text))
            self._store_failed = True
            return False
        if self._store_failed:
            self._store_failed = False
            text = "the store can be written to again"
            self._alert(WatchEvent(what="store", server="", at=self._clock.wall(), text=text))
        return True


def _write_end(name: str, incident: Incident, store: Store | BufferedStore) -> None:
    store.write_end(name, incident)


def _hand_over(process: subprocess.Popen[bytes], value: bytes) -> None:
    with contextlib.suppress(OSError, ValueError):  # it may end without having read it all
        if process.stdin is not None:
            with process.stdin:
                process.stdin.write(value)
