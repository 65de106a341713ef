"""What ``propose`` found for a scenario, as values."""

from __future__ import annotations

from dataclasses import dataclass, field

from catenum.core.compare.verdict import Figures
from catenum.core.display import Displayed
from catenum.core.propose.ranking import Load, Proposal
from catenum.core.record.recording import Recording
from catenum.core.scenario.model import Scenario
from catenum.core.space.exploration import Exploration
from catenum.core.sweep.result import CaseResult, Sweep


@dataclass(kw_only=True)
class Proposals(Displayed):
    """What was found: the scenario as it is, and the proposals, the best first."""

    scenario: Scenario
    explored: Exploration
    baseline: Figures
    played: Recording
    tried: list[Proposal] = field(default_factory=list)
    dropped: list[tuple[str, str]] = field(default_factory=list)
    looped: tuple[Recording, ...] = ()
    load: Load | None = None  # of the scenario as it is, beside the best few in loops
    left_alone: tuple[str, ...] = ()  # statements of which it is not certain what they do
    stopped: bool = False
    interrupted: bool = False
    first_cure_ms: float | None = None
    #: The schedule that ends worst, as it is and with what is put first; None where nothing cures.
    before: Recording | None = None
    after: Recording | None = None
    #: All ways in which its parameters can coincide; None where it has none, or nothing cures.
    swept: Sweep | None = None
    #: The case that is looked at in place of the values at hand, with which nothing conflicts.
    instead: CaseResult | None = None
    notes: tuple[str, ...] = ()
    serial_breaks: tuple[
        str, ...
    ] = ()  # rules that are false in some order of whole transactions, too

    @property
    def conflict(self) -> bool:
        """Whether a schedule, or loops, ended in more than waiting, or the data was wrong."""
        return bool(self.baseline.conflicts or self.baseline.broken or self.looped)

    @property
    def cures(self) -> list[Proposal]:
        return [one for one in self.tried if one.cures]
