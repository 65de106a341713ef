"""Adds up the outcomes of many schedules, in space that does not grow with their number.

Every entry can be added to another of its kind in any order with the same result, so that a space
may be split among several at will: counts are summed, and of several schedules the one with the
fewest moves is kept, then the one with the fewest changes of turn, then the first by name.
"""

from __future__ import annotations

import json
import zlib
from dataclasses import dataclass, field, replace
from itertools import pairwise

from catenum.core.record.outcome import BY_OTHERS, KINDS
from catenum.core.record.recording import DataVerdict, Kind
from catenum.core.space.run import DeadlockOutline, Run, WaitPair, Wrong

Path = tuple[str, ...]
#: Schedules kept for the map; beyond it every second one is left out, again and again.
MOST_ON_MAP = 2000


def shorter(a: Path | None, b: Path | None) -> Path | None:
    """The better example of two: fewer moves, then fewer changes of turn, then the first by
    name.
    """
    paths = [path for path in (a, b) if path is not None]
    return min(paths, key=lambda p: (len(p), sum(x != y for x, y in pairwise(p)), p), default=None)


@dataclass(kw_only=True)
class OutcomeEntry:
    """One distinct outcome: what it is, how often it came, the shortest schedule to it.

    ``went_on``: which statements that waited went on in that schedule, in order. ``chosen``: how
    often it came only since the server went on otherwise than it does as a rule.
    """

    kind: Kind
    data: DataVerdict
    anomaly: str | None
    holds: dict[str, bool | None]
    status: dict[str, str]
    failed_by: dict[str, tuple[str, ...]]
    count: int = 0
    shortest: Path | None = None
    transactions: tuple[str, ...] = ()
    evidence: tuple[str, ...] = ()
    went_on: tuple[str, ...] = ()
    chosen: int = 0
    wrong: Wrong | None = None
    hidden: bool = False  # a deadlock that no client received

    @property
    def only_chosen(self) -> bool:
        """Whether no schedule leads there unless the server makes its other choice."""
        return self.chosen == self.count > 0

    def take_shortest(self, other: OutcomeEntry) -> None:
        """Take over the other's schedule where it is better to show: it leads there by itself, or
        is shorter.
        """
        if self.shortest is not None and self.only_chosen == other.only_chosen:
            if shorter(self.shortest, other.shortest) == self.shortest:
                return
        elif self.shortest is not None and other.only_chosen:
            return
        self.shortest, self.went_on = other.shortest, other.went_on
        self.transactions, self.evidence = other.transactions, other.evidence

    @property
    def bad(self) -> bool:
        """Whether a build should fail on it."""
        broken = any(value is not True for value in self.holds.values())
        return self.kind not in ("clean", "waited") or self.data == "anomaly" or broken

    @property
    def ends_in_error(self) -> bool:
        """Whether a statement was rejected and its transaction failed for good."""
        return self.kind == "error" and bool(self.rejected)

    @property
    def rejected(self) -> set[str]:
        """Who failed for good since the server rejected a statement."""
        return {
            name
            for name, kinds in self.failed_by.items()
            if self.status.get(name) == "failed" and kinds[-1] not in BY_OTHERS
        }

    def met(self, kind: str) -> bool:
        """Whether ``kind`` happened, be it that something worse came after: a cycle, and then
        somebody stuck.
        """
        if kind == "deadlock" and self.hidden:
            return True
        return kind == self.kind or any(kind in kinds for kinds in self.failed_by.values())


@dataclass(kw_only=True)
class DeadlockEntry:
    """One distinct deadlock, by the statements in it. ``unended``: how often the server did not end
    it.
    """

    members: tuple[tuple[str, int | None], ...]
    resources: tuple[str, ...]
    victims: dict[str, int] = field(default_factory=dict)
    count: int = 0
    shortest: Path | None = None
    unended: int = 0
    named: bool = True

    def take_names(self, resources: tuple[str, ...], *, named: bool) -> None:
        """Of two ways of naming the same resources, the one that names rows is kept, else the first
        by name.
        """
        if (not named, resources) < (not self.named, self.resources):
            self.resources, self.named = resources, named


@dataclass(kw_only=True)
class WaitPairEntry:
    """One pair of statements of which the first waited for the second's transaction; ``count`` in
    schedules.
    """

    waiter: str
    statement: int | None
    holder: str
    holder_statement: int | None
    resource: str
    wanted: str
    count: int = 0
    holder_candidates: tuple[int, ...] = ()

    @property
    def holder_numbers(self) -> str:
        """Which of the holder's statements took the lock: ``1``, ``1 or 2`` where that is not
        certain.
        """
        known = (
            self.holder_candidates if self.holder_statement is None else (self.holder_statement,)
        )
        return " or ".join(map(str, known))


_SUMS = (
    *("schedules", "broken_off", "ruled_out", "diverged", "given_up", "swaps", "repeated", "races"),
    *("overtaken", "waits", "tries", "ended_well", "deadlocks", "uncounted"),
)


@dataclass(kw_only=True)
class Tally:
    """The outcomes of a number of schedules."""

    schedules: int = 0
    broken_off: int = 0
    ruled_out: int = 0
    diverged: int = 0
    given_up: int = 0
    swaps: int = 0  # independent neighbours exchanged, with the same result
    special: dict[str, bool] = field(
        default_factory=dict
    )  # pairs independent for a special reason: checked?
    repeated: int = 0  # schedules run again, since the server may decide something by itself
    races: int = 0  # of those, how many ended in two ways
    race: Path | None = None
    overtaken: int = (
        0  # runs made again, since of two that waited the one that came later went on first
    )
    # schedules in which the server chose so, and no other schedule stands for the other choice
    contests: int = 0
    contest: Path | None = None  # one of them, and between whom it chose
    contestants: tuple[str, str] | None = None
    outcomes: dict[str, OutcomeEntry] = field(default_factory=dict)
    cycles: dict[str, DeadlockEntry] = field(default_factory=dict)
    wait_pairs: dict[str, WaitPairEntry] = field(default_factory=dict)
    chain: int = 0
    longest: Path | None = None
    waits: int = 0
    locks: int | None = None
    attempts: dict[str, int] = field(default_factory=dict)
    tries: int = 0
    ended_well: int = 0
    map: list[tuple[Path, str]] = field(default_factory=list)
    every: int = 1  # of the schedules, the map has one in so many
    deadlocks: int = 0  # of which clients were told, in whatever was run, checks among it
    uncounted: int = (
        0  # that the server counted beyond those, and beyond the hidden ones of single runs
    )
    may_hide: bool = (
        False  # a routine catches errors, and the server's own count could not be compared
    )
    broken_serially: dict[str, Path] = field(
        default_factory=dict
    )  # rules, and a serial order that breaks each

    def add(self, run: Run) -> None:
        """Take one schedule in."""
        if run.broken_off:
            self.broken_off += 1
            return
        self.schedules += 1
        key = _key(run.outcome)
        self._add_outcome(key, run)
        for cycle in run.cycles:
            self._add_cycle(cycle, run.path)
        for wait_pair in {_key(_pair(m)): m for m in run.wait_pairs}.values():
            self._add_wait_pair(wait_pair)
        self._add_chain(run.chain, run.path)
        self.waits += len({(m.waiter, m.statement) for m in run.wait_pairs})
        if run.locks is not None:
            self.locks = (self.locks or 0) + run.locks
        for name, attempts in run.attempts.items():
            self.attempts[name] = max(self.attempts.get(name, 1), attempts)
            self.tries += attempts
        self.ended_well += run.ended_well
        self._add_to_map(run.path, key)

    def merge(self, other: Tally) -> None:
        """Take in what was added up elsewhere."""
        for name in _SUMS:
            setattr(self, name, getattr(self, name) + getattr(other, name))
        for title, order in other.broken_serially.items():
            self.broken_serially.setdefault(title, order)
        for swapped, done in other.special.items():
            self.special[swapped] = self.special.get(swapped, False) or done
        self.race = shorter(self.race, other.race)
        self.note_contest(other.contest, other.contestants, other.contests)
        if other.locks is not None:
            self.locks = (self.locks or 0) + other.locks
        for key, outcome in other.outcomes.items():
            self._take_outcome(key, outcome)
        for key, cycle in other.cycles.items():
            blank = DeadlockEntry(
                members=cycle.members, resources=cycle.resources, named=cycle.named
            )
            known = self.cycles.setdefault(key, blank)
            known.count += cycle.count
            known.unended += cycle.unended
            known.shortest = shorter(known.shortest, cycle.shortest)
            known.take_names(cycle.resources, named=cycle.named)
            for name, count in cycle.victims.items():
                known.victims[name] = known.victims.get(name, 0) + count
        for key, wait_pair in other.wait_pairs.items():
            pair = self.wait_pairs.setdefault(key, WaitPairEntry(**{**vars(wait_pair), "count": 0}))
            pair.count += wait_pair.count
            pair.resource, pair.wanted = min(
                (pair.resource, pair.wanted), (wait_pair.resource, wait_pair.wanted)
            )
        if other.longest is not None:
            self._add_chain(other.chain, other.longest)
        for name, attempts in other.attempts.items():
            self.attempts[name] = max(self.attempts.get(name, 1), attempts)
        self.every = max(self.every, other.every)
        self.map = [entry for entry in self.map if _on_map(entry[0], self.every)]
        for path, key in other.map:
            self._add_to_map(path, key)

    def note_contest(
        self, path: Path | None, between: tuple[str, str] | None, count: int = 1
    ) -> None:
        """In so many schedules, this one among them, the server chose what no other schedule stands
        for.
        """
        self.contests += count
        if path is not None and shorter(self.contest, path) == path:
            self.contest, self.contestants = path, between

    def _add_outcome(self, key: str, run: Run) -> None:
        self._take_outcome(
            key,
            OutcomeEntry(
                kind=run.kind,
                data=run.data,
                anomaly=run.anomaly.name if run.anomaly else None,
                holds=run.holds,
                status=dict(run.status),
                failed_by=run.failed_by,
                count=1,
                shortest=run.path,
                transactions=run.anomaly.transactions if run.anomaly else (),
                evidence=run.anomaly.evidence if run.anomaly else (),
                went_on=run.went_on,
                chosen=int(run.chosen),
                wrong=run.wrong,
                hidden=bool(run.hidden),
            ),
        )

    def _take_outcome(self, key: str, outcome: OutcomeEntry) -> None:
        mine = self.outcomes.get(key)
        if mine is None:
            self.outcomes[key] = replace(outcome)
            return
        mine.take_shortest(outcome)
        mine.count += outcome.count
        mine.chosen += outcome.chosen

    def _add_cycle(self, cycle: DeadlockOutline, path: Path) -> None:
        blank = DeadlockEntry(members=cycle.members, resources=cycle.resources, named=cycle.named)
        entry = self.cycles.setdefault(_key(cycle.members), blank)
        entry.count += 1
        entry.unended += cycle.unended
        entry.shortest = shorter(entry.shortest, path)
        entry.take_names(cycle.resources, named=cycle.named)
        if cycle.victim is not None:
            entry.victims[cycle.victim] = entry.victims.get(cycle.victim, 0) + 1

    def _add_wait_pair(self, wait_pair: WaitPair) -> None:
        key = _key(_pair(wait_pair))
        blank = WaitPairEntry(
            waiter=wait_pair.waiter,
            statement=wait_pair.statement,
            holder=wait_pair.holder,
            holder_statement=wait_pair.holder_statement,
            resource=wait_pair.resource,
            wanted=wait_pair.wanted,
            holder_candidates=wait_pair.holder_candidates,
        )
        entry = self.wait_pairs.setdefault(key, blank)
        entry.count += 1
        entry.resource, entry.wanted = min(
            (entry.resource, entry.wanted), (wait_pair.resource, wait_pair.wanted)
        )

    def _add_chain(self, chain: int, path: Path) -> None:
        if chain > self.chain:
            self.chain, self.longest = chain, path
        elif chain == self.chain and chain:
            self.longest = shorter(self.longest, path)

    def _add_to_map(self, path: Path, key: str) -> None:
        if _on_map(path, self.every):
            self.map.append((path, key))
        while len(self.map) > MOST_ON_MAP:
            self.every *= 2
            self.map = [entry for entry in self.map if _on_map(entry[0], self.every)]

    # -- questions ---------------------------------------------------------------------------------

    @property
    def ordered(self) -> list[OutcomeEntry]:
        """The outcomes, the worst first."""
        return sorted(
            self.outcomes.values(),
            key=lambda e: (
                -KINDS.index(e.kind),
                e.data != "anomaly",
                not e.bad,
                -e.count,
                e.shortest or (),
            ),
        )

    def most_met_cycles(self) -> list[DeadlockEntry]:
        """The cycles, the one met most often first. A member that was at its end has no number of a
        statement.
        """
        return sorted(
            self.cycles.values(),
            key=lambda e: (-e.count, [(name, at or 0) for name, at in e.members]),
        )

    def count_of(self, kind: Kind) -> int:
        """How many schedules ended in ``kind``."""
        return sum(entry.count for entry in self.outcomes.values() if entry.kind == kind)

    def met(self, kind: Kind) -> int:
        """In how many schedules ``kind`` happened, whatever worse came after."""
        return sum(entry.count for entry in self.outcomes.values() if entry.met(kind))

    @property
    def anomalies(self) -> int:
        """How many schedules left or saw data that no serial order gives."""
        return sum(entry.count for entry in self.outcomes.values() if entry.data == "anomaly")

    def anomalies_in(self, wrong: Wrong) -> dict[str, int]:
        """In how many schedules each anomaly was seen, in the rows at the end or only in what was
        read.
        """
        found: dict[str, int] = {}
        for entry in self.outcomes.values():
            if entry.anomaly and entry.wrong == wrong:
                found[entry.anomaly] = found.get(entry.anomaly, 0) + entry.count
        return found

    @property
    def broken_rules(self) -> dict[str, int]:
        """In how many schedules each rule that was ever broken is false."""
        found: dict[str, int] = {}
        for entry in self.outcomes.values():
            for title, value in entry.holds.items():
                if value is not True:
                    found[title] = found.get(title, 0) + entry.count
        return found

    @property
    def bad(self) -> int:
        """How many schedules ended in a conflict, an anomaly, or with a rule broken."""
        return sum(entry.count for entry in self.outcomes.values() if entry.bad) or int(
            bool(self.uncounted)
        )


def _pair(wait_pair: WaitPair) -> tuple[object, ...]:
    held = (
        wait_pair.holder_statement
        if wait_pair.holder_statement is not None
        else wait_pair.holder_candidates
    )
    return (wait_pair.waiter, wait_pair.statement, wait_pair.holder, held)


def _key(value: object) -> str:
    return json.dumps(value, separators=(",", ":"))


def _on_map(path: Path, every: int) -> bool:
    return zlib.crc32(" ".join(path).encode()) % every == 0
