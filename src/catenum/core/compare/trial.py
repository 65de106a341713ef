"""A trial: the baseline and each remedy, side by side, as values."""

from __future__ import annotations

from dataclasses import dataclass

from catenum.core.compare.verdict import Figures, Verdict
from catenum.core.display import Displayed
from catenum.core.record.recording import Recording
from catenum.core.space.exploration import Exploration

BASELINE = "as it is"
#: Of a remedy that the server does not take.
NOT_RUN = Figures(
    runs=0,
    kinds={},
    waits=0,
    longest_chain=0,
    locks=None,
    time_ms=0.0,
    broken=(),
    ended_well=0,
    attempts=0,
)


@dataclass(frozen=True)
class Variant:
    """The baseline, or one remedy: what it changes, its runs, and their results."""

    name: str
    changes: tuple[str, ...]
    runs: tuple[Recording, ...]
    figures: Figures
    verdict: Verdict | None = None
    explored: Exploration | None = None

    @property
    def wins(self) -> bool:
        """Whether it can be recommended."""
        return self.verdict is not None and self.verdict.wins


@dataclass(frozen=True)
class Trial(Displayed):
    """All variants, the baseline first, and the schedules that each was run on (none where all were
    explored).
    """

    scenario: str
    orders: tuple[tuple[str, ...], ...]
    variants: tuple[Variant, ...]
    unchecked: bool

    @property
    def baseline(self) -> Variant:
        return self.variants[0]

    @property
    def winners(self) -> list[Variant]:
        """Remedies that can be recommended, those with the least waiting first."""
        won = [variant for variant in self.variants[1:] if variant.wins]
        return sorted(won, key=rank_of)


def rank_of(variant: Variant) -> tuple[int, int, int]:
    """What winners are ordered by: those with the least waiting first."""
    return (variant.figures.conflicts, variant.figures.waits, variant.figures.longest_chain)
