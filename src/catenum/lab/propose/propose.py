"""Explores a scenario, derives candidates, tries each alone and some together, and ranks what came
of them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import combinations, islice, zip_longest

from catenum.core.compare.loop_comparison import LoopComparison
from catenum.core.compare.verdict import Figures, Verdict, figures_of, held_shorter, judge
from catenum.core.errors import InputError
from catenum.core.propose import isolation
from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, merged
from catenum.core.propose.caveats import at_real_size, with_caveats
from catenum.core.propose.passes import all_series
from catenum.core.propose.proposals import Proposals
from catenum.core.propose.ranking import Load, Proposal, ranked
from catenum.core.propose.variations import variations
from catenum.core.record.recording import Recording
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.scenario.remedies import apply_remedy
from catenum.core.servers import rules_of
from catenum.core.sweep.result import CaseResult
from catenum.engines.clock import Clock
from catenum.engines.ports import Engine
from catenum.lab.compare.loop_comparison import contest
from catenum.lab.explore.jobs import Explored, Explores, Job
from catenum.lab.explore.meaning import Order, Serial, StillBad, difference
from catenum.lab.explore.walker import ExploreOptions, Explorer
from catenum.lab.load.churn import Churn
from catenum.lab.load.cycles import cycles
from catenum.lab.propose.confirm import Confirmation
from catenum.lab.propose.for_values import ForAllValues
from catenum.lab.run.loading import load
from catenum.lab.run.play import PlayOptions, play
from catenum.lab.sweep.sweep import MOST_SCHEDULES, Sweeper

#: A candidate's exploration may take so many times the baseline's, in schedules too, and at least
#: so long (ms).
TIMES_BASELINE, LEAST_MS = 4.0, 6_000.0
#: At least so long (ms) what would be put first is tried on other data.
LEAST_CONFIRM_MS = 10_000.0
#: Of so many runs of a candidate one is spent on checking what is assumed; of the scenario as it is
#: one of ten.
CHECK_ONE_IN = 30
#: Schedules that end badly as it is, which are tried first with a candidate.
MOST_SCREENED, MOST_TURNS = 1, 1
#: Turns of each transaction in a schedule of turns; what is over takes none.
MOST_MOVES = 20
#: Pairs of candidates that are tried together.
MOST_PAIRS = 6
#: How long loops run (s), and how many proposals are tried in them.
LOOPS_S, MOST_LOADED = 5.0, 4


@dataclass(kw_only=True)
class Proposer:
    """Tries candidates on one engine."""

    connect: Callable[[], Engine]
    engine: Engine
    explores: Explores
    scenario: Scenario
    options: PlayOptions
    how: ExploreOptions
    file: ScenarioFile | None = None
    for_ms: float | None = None
    progress: Callable[[str, Explorer | None], None] | None = None
    #: Whether the worst schedule is played as it is and with what is put first, to be shown.
    shown: bool = False
    #: Whether nothing more is tried once something cures.
    first_only: bool = False
    #: Told of the first candidate that cures, as soon as it is found.
    first: Callable[[Proposal], None] = lambda proposal: None
    #: Loops of each transaction for conflicts inside statements; None where none are run.
    copies: Mapping[str, int] | None = None
    #: The case of a sweep that the scenario is, where the values at hand meet no conflict.
    instead: CaseResult | None = None
    #: What ``run`` has found out so far: the serial orders, the evidence, how candidates are tried,
    #: schedules that end badly, candidates that wait their turn, and those that deadlock.
    tried_how: ExploreOptions = field(init=False)
    _clock: Clock = field(init=False)
    _serial: Serial = field(init=False)
    _evidence: Evidence = field(init=False)
    _screen: list[tuple[str, ...]] = field(init=False)
    _deferred: list[Candidate] = field(init=False)
    _deadlocked: list[Candidate] = field(init=False)
    #: How long it may take to check whole what would be put first.
    _budget_ms: float = field(init=False)

    def run(self) -> Proposals:
        """Everything. Raises InputError, TargetError as exploring does."""
        self._clock = clock = Clock()
        bare = self.scenario.for_server(self.engine.info.server)
        scenario = bare.model_copy(update={"remedies": {}})  # nothing is read from them
        as_it_is = self.explore("as it is", scenario, (), self.within(self.how))
        explored = as_it_is.exploration
        took = clock.now_ms()
        played = self._played(scenario)
        if not explored.tally.schedules:
            raise InputError("no schedule was run, so nothing is known of the scenario as it is")
        failed = as_it_is.serial.failed
        baseline = figures_of(explored, scenario, played, failed_serially=failed)
        found = Proposals(scenario=scenario, explored=explored, baseline=baseline, played=played)
        found.instead = self.instead
        found.looped = tuple(self._loops(scenario)) if self.copies is not None else ()
        found.serial_breaks = as_it_is.serial.broken
        found.stopped = self.over()
        if found.stopped and not explored.reach.whole:
            return found
        if not found.conflict and self.instead is None and not self.over():
            case = self._bad_case(scenario)
            if case is not None and case.scenario is not None:
                return self._on(case)
        if not found.conflict and not found.baseline.waits:
            return found
        self._serial = as_it_is.serial
        evidence = Evidence(
            scenario=scenario,
            rules=rules_of(self.engine.info.server),
            explored=explored,
            played=played,
            tables=played.tables,
            loaded=as_it_is.loaded,
            serial_breaks=self._serial.broken,
            looped=found.looped,
        )
        self._evidence = evidence
        found.left_alone = tuple(evidence.not_understood)
        self.tried_how = self._tried_how(as_it_is, took)
        bad = (entry.shortest for entry in explored.tally.ordered if entry.bad and entry.shortest)
        self._screen = [
            *islice(bad, MOST_SCREENED),
            *islice(_turns(list(scenario.transactions)), MOST_TURNS),
        ]
        self._deferred: list[Candidate] = []
        self._deadlocked: list[Candidate] = []  # of these, those that a deadlock ended
        try:
            self._try_all(evidence, found)
            self._budget_ms = max(LEAST_CONFIRM_MS, took * TIMES_BASELINE)
            if not self.first_only:
                self._confirm(found)
        except KeyboardInterrupt:
            found.interrupted = found.stopped = True
        if not (self.first_only or found.interrupted or self.over()):
            self._for_all_values(found)
        found.stopped = found.stopped or self.over()
        found.tried = ranked(found.tried)
        if self.shown:
            self._show(found)
        return found

    def _tried_how(self, as_it_is: Explored, took_ms: float) -> ExploreOptions:
        """How candidates are explored: faster than the scenario as it is, which took so long."""
        limit, explored = self.how.limit, as_it_is.exploration
        if limit is not None and explored.reach.complete:
            # who does not wait any more has more orders: where the time allows they are all run
            limit = max(limit, int(TIMES_BASELINE) * explored.tally.schedules)
        return replace(
            self.how,
            for_ms=max(LEAST_MS, took_ms * TIMES_BASELINE),
            limit=limit,
            # what the texts told is so in a candidate, which says it of the same tables
            looked=not as_it_is.opened,
            check_one_in=CHECK_ONE_IN,
            thorough=False,  # what is put first is checked whole at the end
            all_orders=0,
            stage=replace(self.how.stage, sure=True),
        )

    def _on(self, case: CaseResult) -> Proposals:
        """The same for a case in the place of the values at hand."""
        assert case.scenario is not None
        options = replace(self.options, order=None, victim=None)
        return replace(self, scenario=case.scenario, file=None, options=options, instead=case).run()

    def _confirm(self, found: Proposals) -> None:
        """Check whole what would be put first."""
        Confirmation(
            self,
            _whoever_fails(found.scenario),
            found.baseline,
            variations(self._evidence),
            self._budget_ms,
            self._serial.failed,
        ).confirm(found.tried)

    def _for_all_values(self, found: Proposals) -> None:
        """Of a scenario with parameters: whether what cures this case cures the code."""
        if not found.cures:
            return
        try:
            sweeper = self._sweeper(found.scenario)
            if sweeper is None:
                return
            check = ForAllValues(sweeper)
        except InputError as error:
            found.notes = (*found.notes, f"for all values: {error.problems[0].message}")
            return
        found.swept = check.swept
        check.check(found.tried)
        if not check.swept.proven or any(one.values and one.values.holds for one in found.cures):
            return
        check.go_on(found.tried)
        check.check(found.tried)
        if any(one.values is None or one.values.holds is not False for one in found.cures):
            return
        for pair in self._pairs(found, for_values=True):
            if self.over() or check.over:
                return
            proposal = self.attempt(pair, found)
            if proposal is None or not proposal.cures:
                continue
            check.check(found.tried)
            if any(one.values and one.values.holds for one in found.cures):
                self._confirm(found)
                return

    def _sweeper(self, scenario: Scenario) -> Sweeper | None:
        """What runs the scenario with other values; None where it has none to choose. Raises
        InputError where they cannot be chosen.
        """
        if not any(one.parameters for one in scenario.transactions.values()):
            return None
        left = self.for_ms - self._clock.now_ms() if self.for_ms is not None else None
        sweeper = Sweeper(
            explores=self.explores,
            engine=self.engine,
            scenario=scenario,
            options=replace(self.how, limit=MOST_SCHEDULES),
            for_ms=left,
            progress=self._swept,
        )
        return sweeper if sweeper.domains.slots else None

    def _bad_case(self, scenario: Scenario) -> CaseResult | None:
        """Values with which the same code meets a conflict, where those at hand meet none."""
        try:
            sweeper = self._sweeper(scenario)
            cases = sweeper.run().ordered() if sweeper is not None else []
        except InputError:
            return None  # then the values at hand are all that there is to say
        return next((one for one in cases if one.bad), None)

    def _swept(self, part: float, what: str) -> None:
        if self.progress is not None:
            self.progress(f"all values, {what}", None)

    def _show(self, found: Proposals) -> None:
        """The schedule that ends worst, played as it is and with what is put first."""
        bad = next((entry for entry in found.explored.outcomes if entry.bad), None)
        if bad is None or bad.shortest is None or not found.cures:
            return
        how = replace(self.options, order=bad.shortest, locks="full")
        changed, ddl = apply_remedy(found.scenario, found.cures[0].candidate.remedy)
        found.before = play(self.engine, found.scenario, how, file=self.file)
        found.after = play(self.engine, changed, how, file=self.file, ddl=ddl)

    def _try_all(self, evidence: Evidence, found: Proposals) -> None:
        slow = self.engine.capabilities.timeout_step_ms > 1
        every = list(all_series(evidence))
        self.explores.expect(self._jobs_of(every, found))
        cured = False
        for number, series in enumerate(every):
            if found.cures and not cured:
                cured = True  # from now on candidates are explored whole
                self.explores.forget()
                self.explores.expect(self._jobs_of(every[number:], found))
            if self._is_enough(found):
                break
            if slow and found.cures and series[0].remedy.timeout and series[0].eases_only:
                why = (
                    "it only ends waits by failing, each after a second here, and something else"
                    " cures"
                )
                found.dropped.append((series[0].name, why))
                continue
            for proposal in self._climb(evidence, series, found):
                if self.over() or (self.first_only and proposal.cures):
                    break
        for candidate in list(self._deferred):
            if self._is_enough(found):
                break
            self.attempt(candidate, found)
        self.explores.forget()
        for pair in self._pairs(found):
            if self.over():
                break
            self.attempt(pair, found)
        if found.looped and not self.over():
            self._under_load(found)

    def within(self, how: ExploreOptions) -> ExploreOptions:
        """The same, but for no longer than is left of the time allowed."""
        if self.for_ms is None:
            return how
        left = max(1.0, self.for_ms - self._clock.now_ms())
        return replace(how, for_ms=min(left, how.for_ms) if how.for_ms is not None else left)

    def over(self) -> bool:
        return self.for_ms is not None and self._clock.now_ms() > self.for_ms

    def _is_enough(self, found: Proposals) -> bool:
        """Whether the time is over, or the first cure is all that was asked for."""
        return self.over() or (self.first_only and found.first_cure_ms is not None)

    # -- trying ------------------------------------------------------------------------------------

    def _climb(
        self, evidence: Evidence, series: CandidateSeries, found: Proposals
    ) -> Iterator[Proposal]:
        """The candidates up to the first that cures; of levels, then lower ones for single
        transactions.
        """
        for place, candidate in enumerate(series):
            if candidate.excludes and any(one in self._deadlocked for one in series[:place]):
                self._deferred.append(
                    candidate
                )  # a cycle that one exclusive lock lets close, another hardly breaks
                continue
            proposal = self.attempt(candidate, found, screened=not found.cures)
            if proposal is None:
                continue
            yield proposal
            if proposal.cures:
                if (
                    candidate.kind == "isolation"
                    and candidate.remedy.retry
                    and not proposal.figures.conflicts
                ):
                    continue  # nobody was refused, so it may do without the retry
                if candidate.kind == "isolation":
                    yield from self._lower(evidence, proposal, found)
                return
            if candidate.kind == "portions" and not proposal.figures.escalated:
                return  # smaller ones only cost more

    def _lower(self, evidence: Evidence, cure: Proposal, found: Proposals) -> Iterator[Proposal]:
        """Lower one transaction's level after another, as long as every schedule stays right."""
        while cure is not None:
            levels = cure.candidate.remedy.isolation
            if not isinstance(levels, dict):
                return
            lower: Proposal | None = None
            whole = {name: evidence.level(name) for name in evidence.transactions} | levels
            retried = cure.candidate.remedy.retry is not None
            for candidate in isolation.lowered(evidence, whole, retried=retried):
                proposal = self.attempt(candidate, found)
                if proposal is not None:
                    yield proposal
                    if proposal.cures:
                        lower = proposal
                        break
            if lower is None:
                return
            cure = lower

    def attempt(
        self, candidate: Candidate, found: Proposals, *, screened: bool = False
    ) -> Proposal | None:
        """Try one; None where it is dropped. ``screened``: as long as nothing cures, one in which a
        bad schedule is still possible is put off, since it cannot be the cure.
        """
        if any(one.candidate.remedy == candidate.remedy for one in found.tried):
            return None
        if candidate.splits and found.cures:
            return None  # what keeps the meaning cures
        candidate = with_caveats(self._evidence, candidate)
        changed, ddl = apply_remedy(_whoever_fails(found.scenario), candidate.remedy)
        try:
            given = (
                play(self.engine, changed, self.options, file=self.file, ddl=ddl) if ddl else None
            )
            indexed = given is not None and candidate.remedy.index and not candidate.for_checks
            why = _of_no_use(found.played, given) if given is not None and indexed else None
            if why is not None:
                found.dropped.append((candidate.name, why))
                return None
            tried = self.explore(
                candidate.name,
                changed,
                ddl,
                self.within(self.tried_how),
                self._schedules_for(candidate, screened=screened),
            )
        except StillBad as bad:
            self._deferred.append(candidate)
            if bad.run.kind == "deadlock" and candidate.excludes:
                self._deadlocked.append(candidate)
            return None
        except InputError as error:
            found.dropped.append((candidate.name, error.problems[0].message))
            return None
        explored, after = tried.exploration, tried.serial
        defect = None  # one that splits says itself that it means something else
        if not candidate.splits:
            defect = difference(
                self._serial,
                after,
                decides=candidate.decides,
                dropped=candidate.remedy.drop,
                by_count=candidate.by_count,
            )
        numbers = figures_of(explored, changed, given, failed_serially=self._serial.failed)
        verdict = self._verdict(candidate, found, numbers, defect)
        if candidate.for_checks and self._needs_load(verdict, found):
            why = (
                "no schedule is better with it; --churn measures whether those checks are faster"
                " under load"
            )
            found.dropped.append((candidate.name, why))
            return None
        given = given or self._played(changed, ddl)
        proposal = Proposal(
            candidate=at_real_size(self._evidence, candidate, given),
            figures=replace(numbers, locks=given.locks_taken(), time_ms=given.duration_ms),
            verdict=verdict,
            defect=defect,
            checked_orders=len(after.runs if candidate.decides else self._serial.ended),
        )
        found.tried.append(proposal)
        if proposal.cures and found.first_cure_ms is None:
            found.first_cure_ms = self._clock.now_ms()
            self.first(proposal)
        return proposal

    def _needs_load(self, verdict: Verdict, found: Proposals) -> bool:
        """Whether only a load could show what it is good for, and none is measured."""
        better = verdict.rank in ("cures", "eases")
        return not better and found.load is None and not self.copies

    def _played(self, scenario: Scenario, ddl: Sequence[str] = ()) -> Recording:
        """One schedule of what was explored."""
        with self.explores.lent(scenario, ddl) as standing:
            return play(
                self.engine, scenario, self.options, file=self.file, ddl=ddl, standing=standing
            )

    def _verdict(
        self, candidate: Candidate, found: Proposals, numbers: Figures, defect: str | None
    ) -> Verdict:
        """By its figures, and by what kind of change it is."""
        if defect is not None:
            return Verdict(rank="loses", reason=f"it changes what the transactions do: {defect}")
        parted = candidate.splits and not found.scenario.holds
        verdict = judge(found.baseline, numbers, parted=parted)
        if candidate.eases_only and verdict.rank == "cures":
            return Verdict(rank="eases", reason=verdict.reason)
        if candidate.held is not None and verdict.rank == "no better":
            return held_shorter(candidate.held, verdict)
        return verdict

    def _schedules_for(self, candidate: Candidate, *, screened: bool) -> tuple[Order, ...]:
        """Those that end badly as it is, where a cure must not have them."""
        fails_by_itself = candidate.remedy.retry or candidate.eases_only or candidate.splits
        return tuple(self._screen) if screened and not fails_by_itself else ()

    def _jobs_of(self, every: Sequence[CandidateSeries], found: Proposals) -> Iterator[Job]:
        """What candidates are tried by: the first of each series, then the second ones."""
        for rank in zip_longest(*every):
            for candidate in rank:
                if candidate is None:
                    continue
                changed, ddl = apply_remedy(_whoever_fails(found.scenario), candidate.remedy)
                screen = self._schedules_for(candidate, screened=not found.cures)
                yield self._job(changed, ddl, self.tried_how, screen)

    def _job(
        self,
        scenario: Scenario,
        ddl: Sequence[str],
        how: ExploreOptions,
        schedules: tuple[Order, ...],
    ) -> Job:
        return Job(
            scenario=scenario,
            options=how,
            ddl=tuple(ddl),
            file=self.file,
            serially=True,
            schedules=schedules,
        )

    def explore(
        self,
        name: str,
        scenario: Scenario,
        ddl: Sequence[str],
        how: ExploreOptions,
        schedules: tuple[Order, ...] = (),
    ) -> Explored:
        """Explore, with SQL behind the data, and run the serial orders. Raises StillBad where one
        of ``schedules`` ends badly.
        """
        progress = self.progress
        return self.explores.explored(
            self._job(scenario, ddl, how, schedules),
            (lambda explorer: progress(name, explorer)) if progress is not None else None,
        )

    # -- in loops ----------------------------------------------------------------------------------

    def _loops(self, scenario: Scenario) -> Iterator[Recording]:
        """The deadlocks that loops bring, one recording for each kind."""
        copies = {name: (self.copies or {}).get(name, 1) for name in scenario.transactions}
        if self.progress is not None:
            self.progress("in loops, for conflicts inside statements", None)
        load(self.engine, scenario, self.file)
        churn = Churn(self.engine, scenario, copies=copies, file=self.file)
        try:
            churn.ready()
            while churn.seconds < LOOPS_S:
                churn.turn(1.0)
        finally:
            churn.close()
        for kind in cycles(churn):
            if kind.recording is not None:
                yield kind.recording

    def _under_load(self, found: Proposals) -> None:
        """The best few under the same load as the scenario as it is: there it must show."""
        best = [
            one
            for one in ranked(found.tried)
            if one.defect is None and one.verdict.rank not in ("worse", "loses")
        ]
        names = {
            f"{number} {one.candidate.kind}": one
            for number, one in enumerate(best[:MOST_LOADED], 1)
        }
        if not names:
            return
        if self.progress is not None:
            self.progress("under load", None)
        loaded = found.scenario.model_copy(
            update={"remedies": {name: one.candidate.remedy for name, one in names.items()}}
        )
        copies = {name: (self.copies or {}).get(name, 1) for name in found.scenario.transactions}
        results = contest(self.connect, loaded, copies=copies, seconds=LOOPS_S, file=self.file)
        found.load = _load(results[0])
        for result in results:
            one = names.get(result.name)
            if one is None or result.verdict is None:
                continue
            by_loops = not found.baseline.conflicts and not found.baseline.broken
            verdict = result.verdict if by_loops else one.verdict
            place = next(
                n for n, other in enumerate(found.tried) if other.candidate is one.candidate
            )
            found.tried[place] = replace(
                one, verdict=verdict, load=_load(result), by_loops=by_loops
            )

    # -- together ----------------------------------------------------------------------------------

    def _pairs(self, found: Proposals, *, for_values: bool = False) -> Iterator[Candidate]:
        """Of what helps and does not cure, two together; none where something cures already.
        ``for_values``: what cures the case at hand only, with what may cure the others.
        """
        usable = [
            one
            for one in ranked(found.tried)
            if one.defect is None
            and one.verdict.rank not in ("worse", "loses")
            and not one.candidate.eases_only
            and not one.candidate.splits
        ]
        if for_values:
            usable.sort(key=lambda one: not one.cures)
            pairs = [(one, other) for one, other in combinations(usable, 2) if one.cures]
            # what begins again has the conflict still
            pairs.sort(key=lambda pair: any(part.candidate.remedy.retry for part in pair))
        elif found.cures:
            return
        else:
            usable.sort(key=lambda one: one.measure)
            before = found.baseline
            pairs = [
                pair
                for pair in combinations(usable, 2)
                if any(_helps(part.figures, before) for part in pair)
            ]
        together = (merged(one.candidate, other.candidate) for one, other in pairs)
        yield from islice(filter(None, together), MOST_PAIRS)


def _whoever_fails(scenario: Scenario) -> Scenario:
    """The scenario for candidates, which have to cure whoever is the victim: the one that a log
    shows was so once. To make a server choose it takes half a second for each deadlock, too.
    """
    return scenario.model_copy(update={"victim": None})


def _load(result: LoopComparison) -> Load:
    return Load(
        iterations=result.iterations,
        per_second=result.per_second,
        p95_ms=result.p95_ms,
        deadlocks=result.deadlocks,
        conflicts=result.conflicts,
        faster=result.faster,
        reason=result.verdict.reason if result.verdict is not None else "",
    )


def _turns(names: Sequence[str]) -> Iterator[tuple[str, ...]]:
    """Schedules in which everybody takes turns, each time another first: there most cycles
    close.
    """
    for first in range(len(names)):
        yield (*names[first:], *names[:first]) * MOST_MOVES


def _helps(after: Figures, before: Figures) -> bool:
    return after.conflicts < before.conflicts or len(after.broken) < len(before.broken)


def _of_no_use(before: Recording, after: Recording) -> str | None:
    """Why an index is not proposed: the plans are the same, or no lock less is taken. Of a server
    whose plans are not known exploring it decides.
    """
    if not any(plan.steps for plan in (*before.plans, *after.plans)):
        return None
    changed = [plan for plan in after.plans if plan not in before.plans]
    if not changed:
        return "the server does not use it: no plan changes"
    mine, theirs = before.locks_taken(), after.locks_taken()
    if mine is not None and theirs is not None and theirs >= mine:
        return f"the plan changes, but no fewer locks are taken ({mine} → {theirs})"
    return None
