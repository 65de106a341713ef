"""Which proposals are better, by rules that a reader can check.

In this order: the data is right in every schedule; no transaction is refused or deadlocks; whoever
is, comes to its end by a bounded retry; fewer schedules with waits, then shorter chains; more
throughput, where loops ran and their figures support a difference from the scenario as it is; fewer
locks; the smallest change. A proposal that changes what transactions mean is a defect, whatever
else it cures. One that is nowhere better than another, and somewhere worse, is dominated; so is
whatever does not cure where something does.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from catenum.core.compare.measure import Rate, Ratio, Spread
from catenum.core.compare.verdict import Figures, Verdict
from catenum.core.propose.candidate import Candidate

RANKS = ("cures", "eases", "no better", "worse", "loses")


@dataclass(frozen=True, slots=True, kw_only=True)
class Load:
    """What loops gave. ``faster``: throughput against the scenario as it is in the same turns; None
    for that one.
    """

    iterations: int
    per_second: Spread
    p95_ms: Spread
    deadlocks: Rate
    conflicts: Rate
    faster: Ratio | None
    reason: str

    @property
    def supported(self) -> float:
        """How many times the throughput is that of the scenario as it is; 1 where the interval has
        1 in it.
        """
        if self.faster is None or self.faster.low <= 1 <= self.faster.high:
            return 1.0
        return self.faster.ratio


@dataclass(frozen=True, slots=True, kw_only=True)
class ForValues:
    """Whether a proposal cures for all values of the parameters, as far as a sweep covers them.

    ``holds`` None: not every case was run. ``cases``: distinct ones that were run; ``but``: the
    first in which it does not, in words; ``shortest``: a schedule that shows it.
    """

    holds: bool | None
    cases: int
    but: str | None = None
    shortest: tuple[str, ...] | None = None
    longest: int = 0

    @property
    def said(self) -> str:
        """In a line."""
        if self.holds:
            return (
                f"cures for all values: {self.cases:,} distinct cases, every schedule of each"
                f" (lists of up to {self.longest})"
            )
        if self.holds is None:
            return f"not known for all values: {self.cases:,} cases were run{self._but()}"
        return f"cures this case only{self._but()}"

    def _but(self) -> str:
        return f": {self.but}" if self.but else ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Proposal:
    """A candidate, tried. ``defect``: why it must not be made, although its schedules may be
    better. ``load``: what loops gave; ``by_loops``: the verdict is theirs, since the schedules have
    no conflict. ``only_while``: other data on which it does not cure; ``varied``: other data on
    which it was tried and means the same; ``orders_run``: so many orders can be made with it, and
    all were run as well. ``values``: None where the scenario has no parameters to sweep.
    """

    candidate: Candidate
    figures: Figures
    verdict: Verdict
    defect: str | None = None
    checked_orders: int = 0
    dominated: bool = False
    load: Load | None = None
    by_loops: bool = False
    only_while: tuple[str, ...] = ()
    varied: tuple[str, ...] = ()
    orders_run: int | None = None
    values: ForValues | None = None

    @property
    def this_case_only(self) -> bool:
        """Whether it is known to fit the values or the rows at hand only."""
        by_values = self.values is not None and self.values.holds is False
        return bool(self.these_values or self.only_while or by_values)

    @property
    def these_values(self) -> tuple[str, ...]:
        """Why it fits the values at hand only, where no sweep has shown that it fits all."""
        return () if self.values and self.values.holds else self.candidate.these_values

    @property
    def _breadth(self) -> float:
        """0 for what holds for all values, or where nothing says that it does not."""
        if self.this_case_only:
            return 1.0
        if self.candidate.splits:
            return 0.75
        return 0.5 if self.values is not None and self.values.holds is None else 0.0

    @property
    def proven(self) -> bool:
        """Whether the verdict rests on every schedule that can differ."""
        return self.figures.complete and not self.by_loops

    @property
    def cures(self) -> bool:
        """Whether it can be recommended."""
        return self.defect is None and self.verdict.wins

    @property
    def measure(self) -> tuple[float, ...]:
        """What it is compared by: smaller is better, place by place. Waits are those of a schedule
        on average.
        """
        figures = self.figures
        runs = max(1, figures.runs)
        return (
            self._breadth,
            float(bool(figures.broken)),
            figures.conflicts / runs,
            (figures.runs - figures.ended_well) / runs,
            float(bool(self.candidate.harms)),
            figures.waits / runs,
            float(figures.longest_chain),
            -self.load.supported if self.load is not None else -1.0,
            float(figures.locks or 0),
            float(self.candidate.size),
        )


def ranked(proposals: Sequence[Proposal]) -> list[Proposal]:
    """The best first, each with whether another dominates it."""
    order = sorted(
        proposals, key=lambda p: (p.defect is not None, RANKS.index(p.verdict.rank), p.measure)
    )
    return [replace(one, dominated=any(_dominates(other, one) for other in order)) for one in order]


def _dominates(one: Proposal, other: Proposal) -> bool:
    if one is other or one.defect is not None:
        return False
    if other.defect is not None:
        return True
    better = RANKS.index(one.verdict.rank) <= RANKS.index(other.verdict.rank)
    if one.cures and not other.cures:
        return True
    pairs = list(zip(one.measure, other.measure, strict=True))
    return better and all(a <= b for a, b in pairs) and any(a < b for a, b in pairs)


def why_first(order: Sequence[Proposal]) -> str | None:
    """Why the first is first, and what would make the second the better choice."""
    cures = [one for one in order if one.cures]
    if not cures:
        return None
    first = cures[0]
    reported = f"'{first.candidate.name}' is first: {_strength(first)}"
    if first.values is not None and first.values.holds:
        reported += ", for all values"
    elif first.values is not None and first.this_case_only:
        reported += ", but only for the values of this case"
    if len(cures) < 2:
        return f"{reported}; nothing else that was tried cures."
    second = cures[1]
    place = next(
        (n for n, (a, b) in enumerate(zip(first.measure, second.measure, strict=True)) if a < b),
        None,
    )
    if place is None:
        return f"{reported}; '{second.candidate.name}' measures the same."
    better = next(
        (n for n, (a, b) in enumerate(zip(first.measure, second.measure, strict=True)) if a > b),
        None,
    )
    reported += f", and ahead of '{second.candidate.name}' by {_NAMES[place]}"
    if better is not None:
        return (
            f"{reported}; '{second.candidate.name}' would be the better choice where"
            f" {_CASES[better]} counts more."
        )
    return (
        f"{reported}; '{second.candidate.name}' would be the better choice only where the first"
        " cannot be made."
    )


_NAMES = (
    "what is known to hold for all values of the code",
    "fewer wrong results",
    "fewer conflicts",
    "fewer transactions that fail",
    "no new queue",
    "fewer waits",
    "shorter chains",
    "more throughput",
    "fewer locks",
    "less to change",
)
_CASES = (
    "the case at hand",
    "the data",
    "that no conflict happens at all",
    "that every transaction completes",
    "that nobody else is blocked",
    "that fewer wait",
    "that chains stay short",
    "throughput",
    "the number of locks",
    "that little is changed",
)


def _strength(one: Proposal) -> str:
    figures = one.figures
    if figures.conflicts:
        return "every conflict is resolved by a retry"
    return (
        "nobody waits, and nothing fails" if not figures.waits else "no schedule ends in a conflict"
    )
