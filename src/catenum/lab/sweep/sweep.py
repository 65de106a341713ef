"""Runs the distinct ways in which the parameters of a scenario's transactions coincide, each on
every schedule that can differ, over rows that are the same for all of them.
"""

from __future__ import annotations

from collections.abc import Callable, Container, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import dropwhile, islice

from catenum.core.errors import InputError
from catenum.core.record.recording import TableKeys, TableRows
from catenum.core.scenario.loops import Loop, code_of, with_values
from catenum.core.scenario.model import (
    REMEDY_KINDS,
    Data,
    Given,
    Remedy,
    Scalar,
    Scenario,
    Transaction,
)
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.scenario.remedies import apply_remedy
from catenum.core.servers import Rules, rules_of
from catenum.core.space.dependence import Dependence
from catenum.core.space.exploration import Exploration
from catenum.core.sweep.carried_over import carried_over
from catenum.core.sweep.cases import (
    LONGEST,
    MOST_ASSIGNMENTS,
    Assignment,
    Case,
    CasePlan,
    Member,
    plan_cases,
)
from catenum.core.sweep.domains import ColumnKey, Domains, Slot, domains_of, parameters_of
from catenum.core.sweep.result import CaseResult, Fault, Sweep, outcomes_of
from catenum.core.sweep.universe import Universe, universe_of
from catenum.core.sweep.words import words_of
from catenum.core.text import listed
from catenum.engines.clock import Clock
from catenum.engines.ports import Engine
from catenum.lab.explore.jobs import Explored, Explores, Job
from catenum.lab.explore.meaning import Serial
from catenum.lab.explore.walker import ExploreOptions
from catenum.lab.run.loading import load

#: Rows that are read of the scenario's data.
MOST_ROWS = 2_000
#: Assignments that need no run, and those that came to the same as another, run all the same.
AUDITED_APART, AUDITED_EQUAL = 2, 3
#: With more distinct cases than this lists have up to SHORTER elements, unless more are asked for.
MANY_CASES, SHORTER = 400, 2
#: Distinct cases of one set of transactions that are run at the most.
MOST_CASES = 1_000
#: Schedules of one case at the most.
MOST_SCHEDULES = 2_000
#: Of so many schedules of a case one may be spent on checking what is assumed.
CHECK_ONE_IN = 20
COPY = "-2"

#: Hears how far it is, from 0 to 1, and what is run.
Progress = Callable[[float, str], None]


@dataclass(kw_only=True)
class Sweeper:
    """Sweeps one scenario on one engine; a remedy may be applied to its code."""

    explores: Explores
    engine: Engine
    scenario: Scenario
    options: ExploreOptions
    file: ScenarioFile | None = None
    ddl: tuple[str, ...] = ()
    longest: int | None = None
    most: int = MOST_ASSIGNMENTS
    cases: int = MOST_CASES
    for_ms: float | None = None
    progress: Progress = lambda part, what: None
    #: How long lists get; shorter than ``longest`` says by default, where that is many cases.
    length: int = field(init=False)
    rules: Rules = field(init=False)
    domains: Domains = field(init=False)
    universe: Universe = field(init=False)
    tables: Mapping[str, TableKeys] = field(init=False)
    #: The cases that ``run`` runs.
    planned: list[tuple[Scenario, CasePlan]] = field(init=False)
    clock: Clock = field(default_factory=Clock)
    notes: list[str] = field(default_factory=list)
    _serial: dict[str, Serial] = field(default_factory=dict)
    _fine: set[tuple[tuple[Member, ...], object]] = field(default_factory=set)

    def __post_init__(self) -> None:
        server = self.engine.info.server
        self.length = self.longest or LONGEST
        self.rules = rules_of(server)
        self.scenario = self.scenario.for_server(server)
        self.domains = domains_of(self.scenario, self.rules)
        self._looked = False
        self._like = {one.name: one.like for members in self.sets() for one in members}
        self._ready()

    # -- rows and values ---------------------------------------------------------------------------

    def _ready(self) -> None:
        """Load the data once, and make up the values and rows that it lacks."""
        load(self.engine, self.scenario, self.file, self.ddl)
        self.tables = self.engine.tables()
        self.functions = self.engine.functions()
        loaded = self.engine.rows(MOST_ROWS)
        counts: dict[ColumnKey, int] = {}
        for members in self.sets():
            own: dict[ColumnKey, int] = {}
            for member in members:
                for slot in self.domains.of(member.like):
                    more = self.length if slot.listed else 1
                    own[slot.domain] = own.get(slot.domain, 0) + more
            for domain, count in own.items():
                counts[domain] = max(counts.get(domain, 0), count)
        for domain, crossing in self.domains.crossed.items():
            both = counts.get(domain, 0) + counts.get(crossing.by, 0)
            counts |= {domain: both, crossing.by: max(both, counts.get(crossing.by, 0))}
        self.universe = self._universe(loaded, counts)
        self.notes += self.universe.notes
        lacking = [
            domain
            for domain in counts
            if not (self.universe.there[domain] or self.universe.missing[domain])
        ]
        if lacking:
            raise InputError(
                f"no row has a value of {'.'.join(lacking[0])}, and none can be made up",
                advice="Give 'data' a row, or name the parameter's column: {value: 3, from: t.c}.",
            )

    def _universe(
        self, loaded: Mapping[str, TableRows], counts: Mapping[ColumnKey, int]
    ) -> Universe:
        first: dict[ColumnKey, list[Scalar]] = {}
        for slot in self.domains.slots:
            given = self.scenario.transactions[slot.transaction].parameters.get(slot.name)
            values = given.values if isinstance(given, Given) else None
            single = given.value if isinstance(given, Given) else given
            found = first.setdefault(slot.domain, [])
            found += values if values is not None else ()
            if isinstance(single, bool | int | float | str) and slot.name not in self._drawn(slot):
                found.append(single)
        made = universe_of(self.domains, loaded, first, counts)
        if made.script:
            try:
                load(self.engine, self.with_rows(made), None, self.ddl)
            except InputError as error:
                why = error.problems[0].message.splitlines()[-1].strip()
                self.notes.append(
                    f"no other rows can be made up, so those of the data are taken: {why}"
                )
                load(self.engine, self.scenario, self.file, self.ddl)
                made = universe_of(self.domains, loaded, first, counts, make=False)
        return made

    def _drawn(self, slot: Slot) -> Mapping[str, object]:
        """The parameters that have no value of their own, but a domain."""
        return self.scenario.transactions[slot.transaction].domains

    def with_rows(self, universe: Universe | None = None) -> Scenario:
        """The scenario with the rows that are made up behind its data."""
        found = universe or self.universe
        if not found.script:
            return self.scenario
        script = self.scenario.data.script_for(self.rules.name).rstrip()
        ended = script if script.endswith(";") else f"{script};"
        data = Data.model_validate({"common": f"{ended}\n{found.script}"})
        return self.scenario.model_copy(update={"data": data})

    # -- which transactions together ---------------------------------------------------------------

    def kinds(self) -> dict[str, tuple[str, ...]]:
        """The transactions by their code: those that differ in values only are one kind."""
        found: dict[str, list[str]] = {}
        codes: list[tuple[object, str]] = []
        for name, transaction in self.scenario.transactions.items():
            code = _code_key(transaction)
            known = next((kind for other, kind in codes if other == code), None)
            if known is None:
                codes.append((code, name))
                known = name
            found.setdefault(known, []).append(name)
        return {kind: tuple(names) for kind, names in found.items()}

    def sets(self) -> list[tuple[Member, ...]]:
        """The transactions that are run together: all of the scenario, and each kind of which it
        has one with a second copy of itself.
        """
        kinds = self.kinds()
        kind_of = {name: kind for kind, names in kinds.items() for name in names}
        found = []
        if len(self.scenario.transactions) > 1:
            found.append(
                tuple(Member(name, kind_of[name], name) for name in self.scenario.transactions)
            )
        for kind, names in kinds.items():
            single = self.scenario.transactions[kind]
            if len(names) == 1 and single.connection is None:
                found.append((Member(kind, kind, kind), Member(f"{kind}{COPY}", kind, kind)))
        return found

    def together(self, members: Sequence[Member]) -> Scenario:
        """A scenario of these members alone."""
        transactions = {one.name: self.scenario.transactions[one.like] for one in members}
        return self.with_rows().model_copy(
            update={
                "transactions": transactions,
                "order": None,
                "orders": {},
                "outcomes": None,
                "expect": None,
                "victim": None,
                "remedies": {},
            }
        )

    # -- running -----------------------------------------------------------------------------------

    def _with(self, base: Scenario, remedy: Remedy, members: Sequence[Member]) -> Scenario:
        like = {one.name: one.like for one in members}
        carried = carried_over(remedy, self.scenario, base, like)
        return apply_remedy(base, carried)[0] if carried is not None else base

    def plans(
        self, remedy: Remedy | None = None, tried: Container[str] = ()
    ) -> list[tuple[Scenario, CasePlan]]:
        """The distinct cases of each set of members; of shorter lists where they are very many and
        nobody asked for these. ``tried``: the texts of values with which the remedy was tried,
        which stand for what comes to the same.
        """
        known = {text: 1 + (text in tried) for text in self._serial}
        found = self._plans(remedy, known)
        cases = sum(len(plan.to_run) for _, plan in found)
        if self.longest is None and self.length > SHORTER and cases > MANY_CASES:
            self.notes.append(
                f"lists of up to {self.length} would be {cases:,} distinct cases, so they have up"
                f" to {SHORTER} (--longest {self.length} runs all)"
            )
            self.length = SHORTER
            found = self._plans(remedy, known)
        return [(base, self._most_connected(plan)) for base, plan in found]

    def _most_connected(self, plan: CasePlan) -> CasePlan:
        """Of very many cases those in which most coincides; a sample."""
        run = plan.to_run
        if len(run) <= self.cases:
            return plan
        first = sorted(run, key=lambda case: -sum(map(len, case.coincide)))[: self.cases]
        self.notes.append(
            f"of {len(run):,} distinct cases the {self.cases:,} in which most coincides are run"
            " (--cases N sets how many), so this is a sample"
        )
        return replace(plan, cases=(*first, *plan.apart), sampled=True)

    def _plans(
        self, remedy: Remedy | None, known: Mapping[str, int]
    ) -> list[tuple[Scenario, CasePlan]]:
        found = []
        for members in self.sets():
            base = self.together(members)
            changed = self._with(base, remedy, members) if remedy is not None else base
            dependence = Dependence(
                changed,
                self.rules,
                self.tables,
                self.engine.info.default_isolation,
                functions=self.functions,
            )
            try:
                made = plan_cases(
                    changed,
                    members,
                    self.domains,
                    self.universe,
                    dependence,
                    self.rules,
                    longest=self.length,
                    sorts=_sorts(remedy, members),
                    seed=self.options.seed,
                    most=self.most,
                    given=base,
                    sorts_alone=remedy is not None and _sorts_alone(remedy),
                    known=known,
                )
            except ValueError as error:
                raise InputError(f"this cannot be swept: {error}") from error
            found.append((base, made))
        return found

    def run(self) -> Sweep:
        """Every distinct case, and a sample of those that need no run. Raises InputError where no
        value can be another.
        """
        if not self.domains.slots:
            raise InputError(
                "no parameter of this scenario can be swept",
                advice=(
                    "'catenum lint --parameters FILE' writes it with parameters; or name a column:"
                    " parameters: {berth: {value: 3, from: berth.id}}."
                ),
            )
        self.planned = plans = self.plans()
        found = Sweep(
            scenario=self.scenario.scenario,
            target=self.engine.info,
            kinds=self.kinds(),
            cases=[],
            given=dict(self.domains.given),
            longest=self.length,
        )
        total = sum(len(plan.to_run) for _, plan in plans) or 1
        for base, plan in plans:
            expected = False
            found.assignments += plan.assignments
            found.pruned += plan.pruned
            found.sampled = found.sampled or plan.sampled
            for case in plan.cases:
                if not case.meets:
                    found.cases.append(self._untouched(plan, case))
                    continue
                if self.over():
                    found.stopped = True
                    break
                if self._looked and not expected:
                    expected = True
                    self.explores.expect(self._jobs_of(base, plan, case))
                found.cases.append(self.try_case(base, plan, case))
                self.progress(found.run / total, f"{found.run} of {total} cases")
            self._audit(base, plan, found)
            self.explores.forget()
        found.notes = tuple(dict.fromkeys(self.notes))
        found.ran_ms = self.clock.now_ms()
        return found

    def _jobs_of(self, base: Scenario, plan: CasePlan, first: Case) -> Iterator[Job]:
        """What the cases from ``first`` on are run by."""
        left = dropwhile(lambda case: case is not first, plan.cases)
        for case in left:
            if case.meets:
                yield self.job(self.scenario_of(base, case.values), serially=True)

    def over(self) -> bool:
        """Whether the time allowed is over."""
        return self.for_ms is not None and self.clock.now_ms() > self.for_ms

    def _untouched(self, plan: CasePlan, case: Case) -> CaseResult:
        words = self.words(plan, case)
        return CaseResult(
            members=plan.members,
            case=case,
            words=f"{words}, and the like" if case.equal > 1 else words,
            level=self._levels(plan.members),
            ran=False,
        )

    def words(self, plan: CasePlan, case: Case) -> str:
        """A case in words."""
        absent = [domain for domain, there in self.universe.there.items() if not there]
        return words_of(case, plan.members, self.domains, absent, self.universe.beside)

    def _levels(self, members: Sequence[Member]) -> dict[str, str]:
        default = self.engine.info.default_isolation
        return {
            one.name: self.scenario.transactions[one.like].isolation or default for one in members
        }

    def scenario_of(self, base: Scenario, values: Assignment) -> Scenario:
        """The members with the values of a case."""
        transactions = {
            name: with_values(transaction, values.get(name, {}))
            for name, transaction in base.transactions.items()
        }
        # one whose loops have nothing to go through does nothing at all
        some = {name: one for name, one in transactions.items() if one.statements}
        return base.model_copy(update={"transactions": some})

    def try_case(
        self, base: Scenario, plan: CasePlan, case: Case, remedy: Remedy | None = None
    ) -> CaseResult:
        """Run a case on every schedule that can differ."""
        scenario = self.scenario_of(base, case.values)
        found = self.explore(self.job(scenario, remedy, serially=True))
        result = self._result(plan, case, scenario, found.exploration, found.serial)
        if remedy is None:
            self.keep_serial(case.values, found.serial)
            if result.fine and case.form is not None:
                self._fine.add((plan.members, case.form))
        return result

    def known_fine(self, plan: CasePlan, case: Case) -> bool:
        """Whether a case with a remedy comes, statement by statement, to one in which nothing goes
        wrong as it is: then there is only its meaning left to compare.
        """
        return (plan.members, case.form) in self._fine

    def carried(self, remedy: Remedy, scenario: Scenario) -> Remedy | None:
        """A remedy of the scenario as one of a case. Raises OnlyHere."""
        like = {name: self._like[name] for name in scenario.transactions}
        return carried_over(remedy, self.scenario, scenario, like)

    def serial_of(self, values: Assignment) -> Serial | None:
        """The serial orders of a case as it is, where they were run."""
        return self._serial.get(repr(values))

    def keep_serial(self, values: Assignment, found: Serial) -> Serial:
        """Keep them for proposals, which must mean the same."""
        self._serial[repr(values)] = found
        return found

    def job(
        self,
        scenario: Scenario,
        remedy: Remedy | None = None,
        *,
        serially: bool = False,
        limit: int | None = None,
    ) -> Job:
        """What runs a case on every schedule that can differ (or on ``limit``; 0: in the serial
        orders alone), with a remedy of the scenario carried over to it. Raises OnlyHere.
        """
        ddl: tuple[str, ...] = self.ddl
        if remedy is not None:
            carried = self.carried(remedy, scenario)
            if carried is not None:
                scenario, more = apply_remedy(scenario, carried)
                ddl = (*ddl, *more)
        how = self.quick if self._looked else self.options
        if limit is not None:
            how = replace(how, limit=limit)
        return Job(scenario=scenario, options=how, ddl=ddl, serially=serially)

    def explore(self, job: Job) -> Explored:
        """Raises as exploring does."""
        found = self.explores.explored(job)
        self._looked = True  # the texts are the same in every case
        return found

    @property
    def quick(self) -> ExploreOptions:
        """As of the first case, without asking again what is the same in every case."""
        return replace(
            self.options,
            looked=True,
            thorough=False,
            all_orders=0,
            check_one_in=CHECK_ONE_IN,
            stage=replace(self.options.stage, sure=True),
        )

    def _result(
        self,
        plan: CasePlan,
        case: Case,
        scenario: Scenario,
        explored: Exploration,
        serially: Serial,
    ) -> CaseResult:
        entries = explored.outcomes
        kinds, anomalies, broken = outcomes_of(entries)
        serially_broken = serially.broken
        if serially_broken:  # by the values and rows, whatever the order
            rules = listed([f"'{rule}'" for rule in serially_broken])
            self.notes.append(f"not asked where a serial order breaks it as well: {rules}")
            broken = tuple(rule for rule in broken if rule not in serially_broken)
        bad = next(
            (
                entry
                for entry in entries
                if entry.kind not in ("clean", "waited", "error")
                or entry.rejected - serially.failed
                or entry.data == "anomaly"
                or any(entry.holds.get(rule) is not True for rule in broken)
            ),
            None,
        )
        failed = [entry for entry in entries if entry.kind == "error"]
        return CaseResult(
            members=plan.members,
            case=case,
            words=self.words(plan, case),
            level=dict(explored.levels),
            outcomes=kinds,
            anomalies=anomalies,
            broken=broken,
            schedules=explored.tally.schedules,
            proven=explored.reach.complete,
            alone=bool(failed) and all(entry.rejected <= serially.failed for entry in failed),
            unchecked=any(entry.data == "unchecked" for entry in entries),
            shortest=bad.shortest if bad is not None else None,
            scenario=scenario,
            keys=frozenset(map(_outcome_key, entries)),
        )

    def _audit(self, base: Scenario, plan: CasePlan, found: Sweep) -> None:
        """Run some of what needs no run: it must come out as was said."""
        apart = [case for case in plan.cases if not case.meets][-AUDITED_APART:]
        for case in apart:
            if self.over():
                return
            scenario = self.scenario_of(base, case.values)
            if not scenario.transactions:
                continue
            explored = self.explore(self.job(scenario)).exploration
            found.audited += 1
            kinds, anomalies, _ = outcomes_of(explored.outcomes)
            if set(kinds) - {"clean", "error"} or anomalies:
                words = self.words(plan, case)
                found.faults.append(Fault(words=words, found=_told(explored), expected="clean"))
        same = [case for case in plan.cases if case.meets and case.another is not None]
        known = {id(result.case): result for result in found.cases}
        for case in islice(_spread(same), AUDITED_EQUAL):
            result = known.get(id(case))
            if self.over() or result is None or case.another is None:
                continue
            other = self.scenario_of(base, case.another)
            explored = self.explore(self.job(other)).exploration
            found.audited += 1
            kinds, anomalies, _ = outcomes_of(explored.outcomes)
            mine = (set(kinds) - {"waited"}, set(anomalies))
            if mine != (set(result.outcomes) - {"waited"}, set(result.anomalies)):
                found.faults.append(
                    Fault(
                        words=result.words,
                        found=_told(explored),
                        expected=", ".join([*result.outcomes, *result.anomalies]),
                    )
                )


def _spread(cases: Sequence[Case]) -> Iterator[Case]:
    """Those that stand for most first."""
    yield from sorted(cases, key=lambda case: -case.equal)


def _told(explored: Exploration) -> str:
    kinds, anomalies, _ = outcomes_of(explored.outcomes)
    return ", ".join([*kinds, *anomalies])


def _outcome_key(entry: object) -> str:
    return f"{getattr(entry, 'kind', '')} {getattr(entry, 'data', '')}"


def _code_key(transaction: Transaction) -> object:
    """What is the same of two transactions that differ in values only."""
    code = code_of(transaction)
    plain = transaction.model_dump(mode="json", exclude={"statements", "parameters", "share"})
    names = sorted(parameters_of(transaction))
    if code is None:
        return repr((plain, names, transaction.statements))
    told = [
        (part.lists, [one.model_dump(mode="json") for one in part.body])
        if isinstance(part, Loop)
        else part.model_dump(mode="json")
        for part in code
    ]
    return repr((plain, names, told))


def _sorts_alone(remedy: Remedy) -> bool:
    return all(
        getattr(remedy, part) is None if part != "sort" else remedy.sort for part in REMEDY_KINDS
    )


def _sorts(remedy: Remedy | None, members: Sequence[Member]) -> dict[str, str]:
    """By member, the list that a remedy sorts."""
    found = (remedy.sort if remedy is not None else None) or {}
    return {one.name: found[one.like] for one in members if one.like in found}
