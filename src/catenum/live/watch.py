"""The watch: takes in what followers see, keeps it, and says what began, ended, passed a threshold or was lost."""

from __future__ import annotations

import contextlib
import json
import queue
import shlex
import subprocess
import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any, Literal

from catenum.core.errors import InputError, SaveError
from catenum.core.moment.episodes import Change, DeadlockCount, Episode, EpisodeTracker
from catenum.core.moment.recording import recording_of
from catenum.core.moment.sample import Sample
from catenum.core.record.recording_file import to_plain
from catenum.core.servers import rules_of
from catenum.engines.clock import Clock
from catenum.engines.lookout import Lookout
from catenum.live.follow import Follower, Sighting
from catenum.live.logfile import LogFile
from catenum.live.store import Store

FORMAT = "catenum-watch/1"
What = Literal["began", "ended", "long", "deadlock", "report", "lost", "back", "trouble", "note", "store"]
#: The store is trimmed this often (ms).
TRIM_EVERY_MS = 60_000.0


@dataclass(frozen=True, kw_only=True)
class Told:
    """One thing that a watch has to say."""

    what: What
    server: str
    at: str
    text: str
    episode: Episode | None = None
    report: str | None = None


@dataclass(frozen=True, kw_only=True)
class WatchOptions:
    """How to watch. Lengths in ms.

    ``run``: a command for episodes that last ``longer_than_ms``, and for deadlocks. ``logs``: by the server's name.
    """

    every_s: float = 1.0
    at_least_ms: float = 500.0
    longer_than_ms: float = 10_000.0
    keep_ms: float = 14 * 86_400_000.0
    most_bytes: int = 1_000_000_000
    run: str | None = None
    mask: bool = False
    logs: tuple[tuple[str, Path], ...] = ()


@dataclass
class Watch:
    """Follows servers by name, until ``stop`` is set."""

    servers: Mapping[str, Callable[[], Lookout]]
    options: WatchOptions
    store: Store | None
    tell: Callable[[Told], None]
    seen: Callable[[str, Sample], None] | None = None
    stop: threading.Event = field(default_factory=threading.Event)

    def __post_init__(self) -> None:
        self._clock = Clock()
        self._trackers = {name: EpisodeTracker(self.options.at_least_ms) for name in self.servers}
        self._deadlocks = {name: DeadlockCount() for name in self.servers}
        self._last_ms: dict[str, float] = {}
        self._last_at: dict[str, str] = {}  # of the last check that succeeded
        self._lost: dict[str, str] = {}
        self._noted: set[tuple[str, str]] = set()  # what hinders looking, told once for each server
        self._commands: list[subprocess.Popen[bytes]] = []
        self._store_failed = False
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
            Follower(name, connect, how.every_s, out, at_least_ms=how.at_least_ms)
            for name, connect in self.servers.items()
        ]
        for follower in followers:
            follower.start()
        try:
            while not self.stop.is_set():
                try:
                    sighting = out.get(timeout=0.2)
                except queue.Empty:
                    continue
                self.take(sighting)
        finally:
            for follower in followers:
                follower.stopping.set()
            at = self._clock.wall()
            for name, tracker in self._trackers.items():
                self._end(name, tracker.lost(at), at)
            for follower in followers:
                follower.join(2.0)
            for command in self._commands:
                command.poll()

    @property
    def never_seen(self) -> list[str]:
        """The servers of which no check ever succeeded."""
        return [name for name in self._trackers if name not in self._last_ms]

    def take(self, sighting: Sighting) -> None:
        """Take in one sighting."""
        name = sighting.name
        if sighting.sample is None:
            self._take_trouble(sighting)
            return
        if name in self._lost:
            self._keep(lambda store: store.gap(name, self._lost[name], sighting.at, ""))
            self.tell(
                Told(
                    what="back", server=name, at=sighting.at, text=f"seen again; not seen since {self._lost.pop(name)}"
                )
            )
        if sighting.pace is not None:
            self.tell(Told(what="note", server=name, at=sighting.at, text=sighting.pace))
        sample = sighting.sample.masked() if self.options.mask else sighting.sample
        for note in sample.notes:
            if (name, note) not in self._noted:
                self._noted.add((name, note))
                self.tell(Told(what="note", server=name, at=sighting.at, text=note))
        now = self._clock.now_ms()
        since = now - self._last_ms.get(name, now)
        self._last_ms[name], self._last_at[name] = now, sample.at
        change = self._trackers[name].update(sample, since_last_ms=since)
        reports = [sighting.report.text] if sighting.report else self._from_logs(name)
        has_counter = sample.deadlocks is not None
        deadlocks = self._deadlocks[name].take(change.deadlocks, len(reports), has_counter=has_counter)
        report = "\n\n".join(reports) or None
        if report and self.options.mask:
            report = rules_of(sample.target.server).masked_report(report)
        changed = [*change.began, *change.went_on, *change.ended]
        self._keep(lambda store: store.write(name, sample, changed, deadlocks, report))
        self._tell_change(name, sample, change)
        self._tell_deadlocks(name, sample.at, deadlocks, report)
        if self.seen is not None:
            self.seen(name, sample)
        self._commands = [command for command in self._commands if command.poll() is None]
        if self.store is not None and now - self._trimmed_ms > TRIM_EVERY_MS:
            self._trimmed_ms = now
            self.store.trim(self.options.keep_ms, self.options.most_bytes)

    def _take_trouble(self, sighting: Sighting) -> None:
        name, text = sighting.name, sighting.trouble or "not seen"
        since = self._last_at.get(name, sighting.at)  # what was not seen began behind the last check
        if not sighting.lost:
            self._keep(lambda store: store.missed(name, since, sighting.at, text))
            self.tell(Told(what="trouble", server=name, at=sighting.at, text=text))
            return
        if name in self._lost:
            return
        self._lost[name] = since
        self._end(name, self._trackers[name].lost(sighting.at), sighting.at)
        self._keep(lambda store: store.gap(name, since, None, text))
        self.tell(Told(what="lost", server=name, at=sighting.at, text=text))

    def _end(self, name: str, episodes: Sequence[Episode], at: str) -> None:
        for episode in episodes:
            self._keep(partial(Store.write_end, name=name, episode=episode))
            self.tell(Told(what="ended", server=name, at=at, text=_ended(episode), episode=episode))

    # -- saying ------------------------------------------------------------------------------------------------------

    def _tell_change(self, name: str, sample: Sample, change: Change) -> None:
        for episode in change.began:
            self.tell(Told(what="began", server=name, at=sample.at, text=_began(episode, sample), episode=episode))
        for episode in (*change.began, *change.went_on):
            if episode.longest_ms >= self.options.longer_than_ms and not episode.reported:
                episode.reported = True
                told = Told(what="long", server=name, at=sample.at, text=_long(episode), episode=episode)
                self.tell(told)
                self._run(told)
        for episode in change.ended:
            self.tell(Told(what="ended", server=name, at=sample.at, text=_ended(episode), episode=episode))

    def _tell_deadlocks(self, name: str, at: str, count: int, report: str | None) -> None:
        if count:
            text = f"{count} deadlock{'s' if count != 1 else ''}{'' if report else '; no report so far'}"
            told = Told(what="deadlock", server=name, at=at, text=text, report=report)
            self.tell(told)
            self._run(told)
        elif report:
            self.tell(Told(what="report", server=name, at=at, text="the report of that deadlock", report=report))

    def _from_logs(self, name: str) -> list[str]:
        return [report for server, log in self._logs if server == name for report in log.deadlocks()]

    def _run(self, told: Told) -> None:
        """Start the command with what was reported as JSON on its standard input."""
        if not self._command:
            return
        try:
            process = subprocess.Popen(self._command, stdin=subprocess.PIPE, start_new_session=True)
        except OSError as error:
            text = f"--run: cannot start {self._command[0]}: {error.strerror}"
            self.tell(Told(what="trouble", server=told.server, at=told.at, text=text))
            return
        self._commands.append(process)
        value = json.dumps(told_value(told, recording=True)).encode()
        # A command that does not read must not hold up the watch.
        threading.Thread(target=_hand_over, args=(process, value), daemon=True).start()

    def _keep(self, write: Callable[[Store], None]) -> None:
        """Write to the store; where that fails, say so once and go on watching."""
        if self.store is None:
            return
        try:
            write(self.store)
        except SaveError as error:
            if not self._store_failed:
                text = f"{error.problems[0].message}; what is seen is reported, but not stored"
                self.tell(Told(what="store", server="", at=self._clock.wall(), text=text))
            self._store_failed = True
            return
        if self._store_failed:
            self._store_failed = False
            self.tell(Told(what="store", server="", at=self._clock.wall(), text="the store can be written to again"))


def _hand_over(process: subprocess.Popen[bytes], value: bytes) -> None:
    with contextlib.suppress(OSError, ValueError):  # it may end without having read it all
        if process.stdin is not None:
            with process.stdin:
                process.stdin.write(value)


def _began(episode: Episode, sample: Sample) -> str:
    waiting = len(sample.graph.held_up_by(episode.head.id))
    if episode.cycle:
        return f"a cycle of {episode.worst_waiting} sessions, with {episode.head.who}: {_over(episode)}"
    return f"session {episode.head.who} holds up {waiting}: {_over(episode)}"


def _over(episode: Episode) -> str:
    edge = next((e for e in episode.worst.edges if e.holder == episode.head.id), None)
    return f"over {edge.resource.text}" if edge is not None else "over what is not reported"


def _long(episode: Episode) -> str:
    return (
        f"session {episode.head.who} has held others up for {episode.longest_ms / 1000:.1f} s: "
        f"{episode.worst_waiting} at the worst, {_over(episode)}"
    )


def _ended(episode: Episode) -> str:
    if episode.cycle:
        return (
            f"the cycle with {episode.head.who} is over: {episode.worst_waiting} sessions at the worst, longest "
            f"wait {episode.longest_ms / 1000:.1f} s, {_over(episode)}"
        )
    return (
        f"session {episode.head.who} holds up nobody any more: {episode.worst_waiting} at the worst, chain of "
        f"{episode.chain}, longest wait {episode.longest_ms / 1000:.1f} s, {_over(episode)}"
    )


def told_value(told: Told, *, recording: bool = False) -> dict[str, Any]:
    """What was reported as plain values, one JSON line."""
    value: dict[str, Any] = {
        "format": FORMAT,
        "event": told.what,
        "server": told.server,
        "at": told.at,
        "text": told.text,
    }
    if told.report is not None:
        value["report"] = told.report
    episode = told.episode
    if episode is not None:
        value["episode"] = {
            "id": episode.number,
            "head": {
                "session": episode.head.id,
                "started": episode.head.started,
                "user": episode.head.user,
                "application": episode.head.application,
                "host": episode.head.host,
                "database": episode.head.database,
            },
            "cycle": episode.cycle,
            "ring": episode.cycle,  # the former name, as this version of the format promised it
            "first_seen": episode.first_seen,
            "last_seen": episode.last_seen,
            "ended": episode.ended,
            "waiting": episode.worst_waiting,
            "chain": episode.chain,
            "wait_ms": round(episode.wait_ms, 1),
            "longest_ms": round(episode.longest_ms, 1),
            "statements": list(episode.statements.get(episode.head.id, ())),
        }
        if recording:
            value["recording"] = to_plain(recording_of(episode.worst, episode.statements, title="episode"))
    return value
