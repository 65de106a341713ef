"""What would be put first, checked whole: in every order where these are few, and on other data.

A candidate that cures the case at hand may rest on a row that is there, a value that is not NULL, a
table without an index. So the first is tried on variations of the data; where it changes what the
transactions do it loses, where it does not cure that is said, and the next may come before it.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field, replace
from typing import Protocol

from catenum.core.compare.verdict import Figures, Verdict, figures_of, judge
from catenum.core.errors import InputError
from catenum.core.propose.candidate import Candidate
from catenum.core.propose.ranking import Proposal, ranked
from catenum.core.propose.variations import Variation
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.remedies import apply_remedy
from catenum.core.space.exploration import Exploration
from catenum.core.space.tally import OutcomeEntry
from catenum.engines.clock import Clock
from catenum.engines.ports import NotRestored
from catenum.lab.explore.audit import ONE_IN
from catenum.lab.explore.jobs import Explored
from catenum.lab.explore.meaning import Serial, difference
from catenum.lab.explore.walker import ExploreOptions

#: So many of those that would be put first are checked, at most; and schedules of each on other
#: data.
MOST_CONFIRMED, MOST_ON_OTHER_DATA = 5, 100


class Tries(Protocol):
    """What explores a changed scenario, within the time that is left (see ``propose.Proposer``)."""

    how: ExploreOptions
    tried_how: ExploreOptions

    def explore(
        self, name: str, scenario: Scenario, ddl: Sequence[str], how: ExploreOptions
    ) -> Explored:
        """Explore, with SQL behind the data, and run the serial orders."""

    def within(self, how: ExploreOptions) -> ExploreOptions:
        """The same, but for no longer than is left."""

    def over(self) -> bool:
        """Whether no time is left."""


@dataclass
class Confirmation:
    """Checks proposals of one scenario. ``others``: the data to try them on, as long as
    ``budget_ms`` allows; ``failed_serially``: who fails in some serial order.
    """

    tries: Tries
    scenario: Scenario
    baseline: Figures
    others: Sequence[Variation]
    budget_ms: float
    failed_serially: Collection[str] = ()
    _clock: Clock = field(default_factory=Clock)
    _before: dict[str, Serial] = field(default_factory=dict)  # by variation, the scenario as it is

    def confirm(self, tried: list[Proposal]) -> None:
        """Check what would be first in ``tried``, which is changed, until what is first then was
        checked.
        """
        settled: list[Candidate] = []
        for _ in range(MOST_CONFIRMED):
            first = next((one for one in ranked(tried) if one.cures), None)
            if first is None or first.candidate in settled or first.by_loops or self.tries.over():
                return
            settled.append(first.candidate)
            place = next(n for n, one in enumerate(tried) if one.candidate is first.candidate)
            tried[place] = self._on_all_data(self._in_every_order(first))

    def _in_every_order(self, one: Proposal) -> Proposal:
        changed, ddl = apply_remedy(self.scenario, one.candidate.remedy)
        tries = self.tries
        whole = replace(
            tries.tried_how, thorough=True, all_orders=tries.how.all_orders, check_one_in=ONE_IN
        )
        explored = tries.explore(one.candidate.name, changed, ddl, tries.within(whole)).exploration
        numbers = figures_of(explored, changed, None, failed_serially=self.failed_serially)
        numbers = replace(numbers, locks=one.figures.locks, time_ms=one.figures.time_ms)
        return replace(
            one,
            figures=numbers,
            verdict=judge(self.baseline, numbers),
            orders_run=explored.reach.all_orders,
        )

    def _on_all_data(self, one: Proposal) -> Proposal:
        for other in self.others:
            if self.tries.over() or not one.cures or self._clock.now_ms() > self.budget_ms:
                break
            try:
                one = self._on_other_data(one, other)
            except (InputError, NotRestored):
                continue  # such data cannot be: a constraint or a trigger is against it
        return one

    def _on_other_data(self, one: Proposal, other: Variation) -> Proposal:
        """Raises InputError where there can be no such data."""
        how, candidate = replace(self.tries.tried_how, limit=MOST_ON_OTHER_DATA), one.candidate
        if other.title not in self._before:
            as_it_is = self.tries.explore(
                f"where {other.title}",
                self.scenario,
                other.sql,
                replace(how, limit=0),  # the serial orders alone
            )
            self._before[other.title] = as_it_is.serial
        was = self._before[other.title]
        changed, ddl = apply_remedy(self.scenario, candidate.remedy)
        name = f"{candidate.name}, where {other.title}"
        tried = self.tries.explore(name, changed, (*ddl, *other.sql), self.tries.within(how))
        defect = difference(
            was,
            tried.serial,
            decides=candidate.decides,
            dropped=candidate.remedy.drop,
            by_count=candidate.by_count,
        )
        if defect is not None and not candidate.decides and not candidate.splits:
            reported = f"where {other.title}, {defect}"
            verdict = Verdict(
                rank="loses", reason=f"it changes what the transactions do: {reported}"
            )
            return replace(one, verdict=verdict, defect=reported)
        wrong = still_wrong(tried.exploration, was)
        if wrong is not None:
            return replace(one, only_while=(*one.only_while, f"where {other.title}, {wrong}"))
        return replace(one, varied=(*one.varied, other.title))


def still_wrong(explored: Exploration, before: Serial) -> str | None:
    """What is wrong on other data, in words; None where nothing is. Rules count that hold there one
    after another.
    """
    tally = explored.tally
    for kind, reported in (
        ("deadlock", "some schedules still deadlock"),
        ("refused", "a transaction is still refused in some schedules"),
        ("timeout", "a transaction still runs into its timeout in some schedules"),
        ("stuck", "a transaction still waits at the end of some schedules"),
    ):
        if any(_ends_by(entry, kind) for entry in tally.outcomes.values()):
            return reported
    if any(entry.rejected - before.failed for entry in tally.outcomes.values()):
        return "a statement is rejected in some schedules, but in no serial order"
    if tally.anomalies:
        return "some schedules still give data that no serial order gives"
    broken = [title for title in tally.broken_rules if title not in before.broken]
    return f"the rule '{broken[0]}' is still false after some schedules" if broken else None


def _ends_by(entry: OutcomeEntry, kind: str) -> bool:
    """Whether somebody came to no end for that, after all that was begun again."""
    last = {kinds[-1] for name, kinds in entry.failed_by.items() if entry.status[name] == "failed"}
    cut_off = "cut off" in entry.status.values() and entry.met(kind)
    return kind in last or cut_off or (kind == "deadlock" and entry.hidden)
