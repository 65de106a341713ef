"""Whether what cures the case at hand cures the code: each proposal on every way in which the
parameters can coincide.

The bad cases of the scenario as it is are found once; a proposal is tried on those first, so that
one which fits these values only is refuted soon.
"""

from __future__ import annotations

import contextlib
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace

from catenum.core.errors import InputError
from catenum.core.propose.ranking import ForValues, Proposal, ranked
from catenum.core.scenario.model import Remedy, Scenario
from catenum.core.sweep.carried_over import OnlyHere
from catenum.core.sweep.cases import Case, CasePlan
from catenum.core.sweep.result import CaseResult, Sweep
from catenum.engines.clock import Clock
from catenum.lab.explore.jobs import Job
from catenum.lab.explore.meaning import Serial, difference
from catenum.lab.propose.confirm import still_wrong
from catenum.lab.sweep.sweep import Sweeper

#: Bad cases that every proposal is tried on first; and how many times what the sweep of the
#: scenario took proposals may take together.
MOST_BAD_FIRST, TIMES_SWEEP, LEAST_MS = 12, 2.0, 5_000.0
#: Why nothing is known of what was not tried to its end.
OVER = "the time was over"
#: Bad cases for what comes behind one that holds.
MOST_BAD_AFTER = 3
#: Schedules of a case in which somebody fails in every serial order as it is: that is due to its
#: values, and nothing that a proposal could cure.
MOST_WHERE_IT_FAILS = 100


@dataclass
class ForAllValues:
    """Checks proposals of one scenario. ``left_ms``: how much of the time allowed is left."""

    sweeper: Sweeper
    _fine: set[str] = field(default_factory=set)
    #: By the text of its values, how many proposals a case has refuted.
    _refuted: Counter[str] = field(default_factory=Counter)
    swept: Sweep = field(init=False)
    budget_ms: float = field(init=False)
    _clock: Clock = field(init=False)

    def __post_init__(self) -> None:
        self.swept = self.sweeper.run()
        self._clock = Clock()
        self.budget_ms = max(LEAST_MS, TIMES_SWEEP * self.swept.ran_ms)
        self.plans = self.sweeper.planned
        self.bad = [one for one in self.swept.ordered() if one.bad]

    def check(self, tried: list[Proposal]) -> None:
        """Say of what cures in ``tried``, which is changed, whether it does so for all values: the
        first of those that are known to, and all that come before it. What was said before stays.
        """
        while True:
            cures = [one for one in ranked(tried) if one.cures]
            first = next((one for one in cures if one.values is None), None)
            if first is None:
                return
            settled = next((one for one in cures if one.values and one.values.holds), None)
            place = next(n for n, one in enumerate(tried) if one.candidate is first.candidate)
            if self.over:
                tried[place] = replace(first, values=self._unknown(OVER))
            else:
                tried[place] = self._on_bad(first, MOST_BAD_AFTER if settled else MOST_BAD_FIRST)
                holds = tried[place].values
                if settled is None and holds is None:
                    tried[place] = self._on_all(tried[place])
                elif holds is None:
                    tried[place] = replace(
                        first, values=self._unknown("it came after one that holds")
                    )

    def go_on(self, tried: list[Proposal]) -> None:
        """As long again: for that of ``tried``, which is changed, for which the time was over, and
        for what is tried behind it.
        """
        self._clock = Clock()
        for place, one in enumerate(tried):
            if one.values is not None and one.values.but == OVER:
                tried[place] = replace(one, values=None)

    @property
    def over(self) -> bool:
        """Whether the time is over that proposals may take together."""
        return self._clock.now_ms() > self.budget_ms

    def _unknown(self, why: str, cases: int = 0) -> ForValues:
        return ForValues(holds=None, cases=cases, but=why, longest=self.sweeper.length)

    def _on_bad(self, one: Proposal, most: int) -> Proposal:
        """On cases that are bad as it is; its values stay None where it cures them."""
        # what has refuted another is likely to refute this one
        bad = sorted(self.bad, key=lambda result: -self._refuted[repr(result.case.values)])[:most]
        cases = [(*self._plan_of(result), result.case) for result in bad]
        jobs = self._jobs_of(one.candidate.remedy, [(base, case, None) for base, _, case in cases])
        self.sweeper.explores.expect(jobs)
        for number, (base, plan, case) in enumerate(cases, 1):
            found = self._try(one, base, plan, case, number)
            if found is not None:
                self._refuted[repr(case.values)] += 1
                self.sweeper.explores.forget()
                return found
        self._fine = {repr(result.case.values) for result in bad}
        return one

    def _plan_of(self, result: CaseResult) -> tuple[Scenario, CasePlan]:
        return next((base, plan) for base, plan in self.plans if plan.members == result.members)

    def _jobs_of(
        self, remedy: Remedy, cases: Iterable[tuple[Scenario, Case, int | None]]
    ) -> Iterator[Job]:
        """What is asked for where a remedy is tried on these cases, one after another, each on so
        many schedules.
        """
        for base, case, most in cases:
            scenario = self.sweeper.scenario_of(base, case.values)
            with contextlib.suppress(OnlyHere, InputError):
                if self.sweeper.serial_of(case.values) is None:
                    yield self.sweeper.job(scenario, serially=True, limit=0)
                yield self.sweeper.job(scenario, remedy, serially=True, limit=most)

    def _on_all(self, one: Proposal) -> Proposal:
        try:
            plans = self.sweeper.plans(one.candidate.remedy, self._fine)
        except (OnlyHere, InputError) as error:
            return self._only(one, str(error), 0)
        left = (
            (base, case, 0 if self.sweeper.known_fine(plan, case) else None)
            for base, plan in plans
            for case in plan.to_run
            if repr(case.values) not in self._fine
        )
        self.sweeper.explores.expect(self._jobs_of(one.candidate.remedy, left))
        try:
            return self._on_cases(one, plans)
        finally:
            self.sweeper.explores.forget()

    def _on_cases(self, one: Proposal, plans: Sequence[tuple[Scenario, CasePlan]]) -> Proposal:
        done = 0
        for base, plan in plans:
            if plan.sampled:
                return replace(one, values=self._unknown("there are too many cases", done))
            for case in plan.to_run:
                if repr(case.values) in self._fine:
                    done += 1
                    continue  # it was among the bad ones
                if self.over:
                    return replace(one, values=self._unknown(OVER, done))
                done += 1
                known = self.sweeper.known_fine(plan, case)
                found = self._try(one, base, plan, case, done, known=known)
                if found is not None:
                    return found
        held = ForValues(holds=True, cases=done, longest=self.sweeper.length)
        return replace(one, values=held if self.swept.proven else self._unknown("", done))

    def _only(self, one: Proposal, but: str, cases: int) -> Proposal:
        values = ForValues(holds=False, cases=cases, but=but, longest=self.sweeper.length)
        return replace(one, values=values)

    def _try(
        self,
        one: Proposal,
        base: Scenario,
        plan: CasePlan,
        case: Case,
        number: int,
        *,
        known: bool = False,
    ) -> Proposal | None:
        """The proposal with why it is one for this case only; None where it cures this, too.
        ``known``: with it the case comes to one that is fine, so that no schedule is run.
        """
        words = self.sweeper.words(plan, case)
        candidate = one.candidate
        try:
            scenario = self.sweeper.scenario_of(base, case.values)
            was = self._before(scenario, case)
            most = 0 if known else MOST_WHERE_IT_FAILS if was.always_fails else None
            tried = self.sweeper.explore(
                self.sweeper.job(scenario, candidate.remedy, serially=True, limit=most)
            )
        except OnlyHere as error:
            return self._only(one, str(error), number)
        except InputError as error:
            return self._only(one, f"with {words}, {error.problems[0].message}", number)
        explored = tried.exploration
        wrong = still_wrong(explored, was)
        if wrong is not None:
            bad = next((entry for entry in explored.outcomes if entry.bad), None)
            found = self._only(one, f"with {words}, {wrong}", number)
            shortest = bad.shortest if bad is not None else None
            return replace(found, values=replace(found.values, shortest=shortest))  # type: ignore[type-var]
        carried = self.sweeper.carried(candidate.remedy, scenario)
        defect = difference(
            was,
            tried.serial,
            decides=candidate.decides,
            dropped=carried.drop if carried is not None else None,
            by_count=candidate.by_count,
        )
        if defect is not None and not candidate.decides and not candidate.splits:
            return self._only(one, f"with {words}, {defect}", number)
        if not (explored.reach.complete or known or was.always_fails):
            return replace(one, values=self._unknown("not every schedule was run", number))
        return None

    def _before(self, scenario: Scenario, case: Case) -> Serial:
        """The serial orders of a case as it is."""
        known = self.sweeper.serial_of(case.values)
        if known is None:
            found = self.sweeper.explore(self.sweeper.job(scenario, serially=True, limit=0))
            known = self.sweeper.keep_serial(case.values, found.serial)
        return known
