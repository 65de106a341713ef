"""Which isolation levels a scenario needs: for all transactions together, and for each by itself.

Levels are compared by their place in the standard's list. Of assignments (a level for each
transaction) the one with the least sum of places is the least strict; of equals the first that is
tried, which leaves the first transactions of the scenario at the lower levels.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import product
from typing import Protocol

from catenum.core.display import Displayed
from catenum.core.record.recording import DataVerdict
from catenum.core.space.exploration import Exploration
from catenum.core.space.tally import Path, shorter

Levels = Mapping[str, str]
#: So many assignments are all tried; of more, levels are lowered one transaction at a time.
MOST_ASSIGNMENTS = 81


@dataclass(frozen=True, slots=True, kw_only=True)
class LevelsTried:
    """A scenario explored with each transaction at a level. Counts are of schedules;
    ``stopped``: it was ended at the first wrong one, so they are of a part.

    ``right``: no data but that of a serial order, and no rule false where every transaction ended
    as it was to. ``wrong``: a shortest schedule that is not. ``unfinished``: schedules in which a
    rule is false and a transaction was given up: whether the rule is true once that one is run
    again, ``retried`` says. ``broken``: rules, and in how many schedules each is false.
    """

    levels: dict[str, str]
    right: bool
    proven: bool
    stopped: bool
    schedules: int
    refused: int
    deadlocks: int
    waited: int
    other_ends: dict[str, int]
    anomalies: dict[str, int]
    broken: dict[str, int]
    unfinished: int
    ended_well: int
    attempts: int
    wrong: Path | None
    retried: LevelsTried | None = None

    @property
    def enough(self) -> bool:
        """Whether these levels are enough, and this is proven."""
        if not self.unfinished:
            return self.right and self.proven
        return self.right and self.proven and self.retried is not None and self.retried.enough

    @property
    def gives_up(self) -> bool:
        """Whether the server gives up a transaction in some schedule."""
        return bool(self.refused or self.deadlocks)


@dataclass(frozen=True, slots=True, kw_only=True)
class Need(Displayed):
    """What was found. ``uniform``: the least strict level for all, or None; ``each``: the least
    strict assignment, or None for every transaction.

    ``all_tried``: every assignment that is less strict than ``each`` was run; otherwise no
    transaction of it can be at a lower level by itself. ``why_not``: where no level is enough.
    ``rules``: how many the scenario has.
    """

    scenario: str
    server: str
    version: str
    default_level: str
    rules: int
    retries: int
    uniform: str | None
    each: dict[str, str | None]
    levels: tuple[LevelsTried, ...]
    assignment: LevelsTried | None
    tried: int
    all_tried: bool
    why_not: tuple[str, ...]
    notes: tuple[str, ...] = ()

    @property
    def uncommitted_differs(self) -> bool:
        """Whether the server has a read uncommitted of its own."""
        return any("read uncommitted" in one.levels.values() for one in self.levels)

    @property
    def found(self) -> bool:
        """Whether some assignment is enough."""
        return all(level is not None for level in self.each.values())


class _Result(Protocol):
    """A run, or the outcome of some."""

    @property
    def data(self) -> DataVerdict: ...

    @property
    def holds(self) -> Mapping[str, bool | None]: ...

    @property
    def status(self) -> Mapping[str, str]: ...


def is_wrong(one: _Result) -> bool:
    """Whether no serial order gives its data, or a rule is false though nobody was given up."""
    given_up = "failed" in one.status.values()
    return one.data == "anomaly" or (_breaks_a_rule(one) and not given_up)


def _breaks_a_rule(one: _Result) -> bool:
    return any(value is not True for value in one.holds.values())


def tried_of(levels: Levels, found: Exploration, *, stopped: bool) -> LevelsTried:
    """What an exploration says of these levels. ``stopped``: it was ended at a wrong schedule."""
    tally = found.tally
    outcomes = tally.outcomes.values()
    wrong: Path | None = None
    for one in outcomes:
        if is_wrong(one):
            wrong = shorter(wrong, one.shortest)
    unfinished = [one for one in outcomes if _breaks_a_rule(one) and not is_wrong(one)]
    unchecked = any(one.data == "unchecked" for one in outcomes)
    anomalies = dict(tally.anomalies_in("rows"))
    for name, count in tally.anomalies_in("reads").items():
        anomalies[name] = anomalies.get(name, 0) + count
    broken = {title: count for title, count in tally.broken_rules.items() if count}
    return LevelsTried(
        levels=dict(levels),
        right=wrong is None and not unchecked,
        proven=wrong is not None or (found.reach.complete and not unchecked),
        stopped=stopped,
        schedules=tally.schedules,
        refused=tally.met("refused"),
        deadlocks=tally.met("deadlock"),
        waited=tally.met("waited"),
        other_ends={
            kind: count for kind in ("timeout", "stuck", "error") if (count := tally.count_of(kind))
        },
        anomalies=anomalies,
        broken=broken,
        unfinished=sum(one.count for one in unfinished),
        ended_well=tally.ended_well,
        attempts=max(tally.attempts.values(), default=1),
        wrong=wrong,
    )


def assignments(names: Sequence[str], levels: Sequence[str]) -> Iterator[dict[str, str]]:
    """Every assignment of ``levels`` (from the least strict), the least strict first."""
    ranked = sorted(product(range(len(levels)), repeat=len(names)), key=lambda r: (sum(r), r))
    for ranks in ranked:
        yield {name: levels[rank] for name, rank in zip(names, ranks, strict=True)}


def lower(levels: Sequence[str], chosen: Levels) -> Iterator[dict[str, str]]:
    """The same assignment with one transaction at a lower level, the lowest first."""
    for name, level in chosen.items():
        for less in levels[: levels.index(level)]:
            yield {**chosen, name: less}
