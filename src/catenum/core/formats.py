"""Every JSON that Catenum writes, as a type: from these come its schema (``catenum schema NAME``),
its reading and its validation. The tests hold every JSON that a command prints against its type.

A format's name stands in it (``"format": "catenum-now/1"``); the number grows when a field is taken
away or changes its meaning, not when one is added. Lengths of time are in ms, moments are RFC 3339
in UTC. Where a field is a type of the model, its docstring says what it holds.
"""

from __future__ import annotations

import json
from functools import cache
from typing import TYPE_CHECKING, Annotated, Any, Literal, NotRequired, get_args, get_type_hints

from pydantic import AfterValidator, Field
from typing_extensions import (
    TypedDict,
    is_typeddict,
)  # pydantic asks for this one before Python 3.12

from catenum.core.check.result import Status
from catenum.core.compare.loop_comparison import LoopComparison
from catenum.core.compare.measure import Ratio, Spread
from catenum.core.compare.verdict import Rank
from catenum.core.errors import InputError, Place
from catenum.core.levels.matrix import Cell, CellResult, ChangedReader
from catenum.core.levels.need import LevelsTried
from catenum.core.levels.probes import ProbeName
from catenum.core.record.recording import Kind, Recording, TargetInfo
from catenum.core.record.recording_file import whole
from catenum.core.report.lines import Section
from catenum.core.scenario.model import Scenario
from catenum.core.servers.profile import Profile
from catenum.core.snapshot.history_rows import DeadlockRow, IncidentRow, PairRow, ReleaseRow
from catenum.core.snapshot.sample import State, Suspect, Timeout
from catenum.core.space.exploration_file import ExplorationFile

if TYPE_CHECKING:
    from pydantic import TypeAdapter

Provenance = dict[str, str]
#: A recording within another result.
WholeRecording = Annotated[Recording, AfterValidator(whole)]


# -- running servers -------------------------------------------------------------------------------


class SessionValue(TypedDict):
    """A session: see ``core.snapshot.sample.SessionInfo``, with the moments at which its work
    began.
    """

    id: str
    started: str | None
    user: str | None
    application: str | None
    host: str | None
    database: str | None
    state: State
    waits_on: str | None
    transaction: str | None
    transaction_ms: float | None
    statement_ms: float | None
    state_ms: float | None
    isolation: str
    statement: str | None
    statement_id: str | None
    cut: bool
    rows_changed: int | None
    background: bool
    kind: str | None
    port: int | None
    process: str | None
    undoing: bool
    killed: bool
    earlier: list[str]
    earlier_cut: bool
    took: str | None
    failed: bool
    trace: str | None
    transaction_since: NotRequired[str | None]
    statement_since: NotRequired[str | None]


class Depth(TypedDict):
    """A session below a head blocker, and how many waits deep."""

    session: str
    depth: int


class HeadValue(TypedDict):
    """A head blocker, with whom it blocks. ``exact``: otherwise the time is the most that it can
    be.
    """

    session: str
    directly: int
    in_all: int
    holds_up_ms: float
    exact: bool
    waiting: list[Depth]


class WaitValue(TypedDict):
    """One session waits for another. ``queued``: for its place in the queue, rather than for a lock
    that it has.
    """

    waiter: str
    holder: str
    over: str
    kind: str
    wanted: str
    held: str | None
    queued: bool
    waited_ms: float | None
    exact: bool


class LockValue(TypedDict):
    """A lock of a session."""

    session: str
    over: str
    mode: str
    granted: bool


class Cost(TypedDict):
    """What a check cost the server."""

    ms: float
    rows: int


class NowFile(TypedDict):
    """``catenum now --json`` of one server; ``name``: what the command was told to call it."""

    format: Literal["catenum-now/1"]
    name: NotRequired[str]
    at: str
    target: TargetInfo
    connected: int
    waiting: int
    longest_wait_ms: float
    longest_chain: int
    heads: list[HeadValue]
    cycles: list[list[str]]
    waits: list[WaitValue]
    suspects: list[Suspect]
    sessions: list[SessionValue]
    timeouts: list[Timeout]
    idle_open: list[str]
    locks: list[LockValue]
    deadlocks: int | None
    cost: Cost
    notes: list[str]
    partial: bool
    blind: str | None


class NotSeen(TypedDict):
    """A server that could not be seen, and why. Alone it is all that ``now`` prints."""

    name: str
    error: str | None


class NowOfSeveral(TypedDict):
    """``catenum now --json`` of several servers. ``across``: what goes from one to another."""

    format: Literal["catenum-now/1"]
    servers: list[NowFile | NotSeen]
    across: NowFile | None


class AlarmValue(TypedDict):
    """A limit that was passed."""

    id: str
    sessions: list[str]
    age_ms: float | None
    count: int | None
    limit: float | None


class HeadOfIncident(TypedDict):
    """Who held the others up for the longest."""

    session: str
    started: str | None
    user: str | None
    application: str | None
    host: str | None
    database: str | None
    held_ms: float
    exact: bool
    trace: str | None


class IncidentValue(TypedDict):
    """An incident as far as it has come."""

    id: int | None
    head: HeadOfIncident
    heads: int
    typical_ms: float | None
    object: str | None
    cycle: bool
    first_seen: str
    last_seen: str
    ended: str | None
    waiting: int
    chain: int
    wait_ms: float
    longest_ms: float
    statements: list[str]
    recording: NotRequired[WholeRecording]


class WatchLine(TypedDict):
    """One line of ``catenum watch --json``, and what a hook is given. ``event``: see
    ``live/events.py``.
    """

    format: Literal["catenum-watch/1"]
    event: str
    server: str
    at: str
    text: str
    report: NotRequired[str]
    alarm: NotRequired[AlarmValue]
    incident: NotRequired[IncidentValue]


class Gap(TypedDict):
    """A time in which a server was not seen. ``blind``: it was asked, and could not be seen."""

    server: str
    since: str
    until: str | None
    why: str | None
    blind: bool


class HistoryFile(TypedDict):
    """``catenum history --json``: rows of the store, see ``core.snapshot.history_rows``. Which of
    them stand in it depends on what was asked for.
    """

    format: Literal["catenum-history/1"]
    # what was seen in all
    wait_ms: NotRequired[float]
    longest_ms: NotRequired[float]
    waiting: NotRequired[int]
    chain: NotRequired[int]
    first: NotRequired[str | None]
    last: NotRequired[str | None]
    looks: NotRequired[int]
    blind_looks: NotRequired[int]
    gaps: NotRequired[list[Gap]]
    longest_gap: NotRequired[Gap | None]
    coverage: NotRequired[list[dict[str, Any]]]
    by: NotRequired[str]
    groups: NotRequired[list[dict[str, Any]]]
    pairs: NotRequired[list[PairRow]]
    # one or the other; with take, counts of what was taken
    incidents: NotRequired[int | list[IncidentRow]]
    deadlocks: NotRequired[int | list[DeadlockRow]]
    releases: NotRequired[list[ReleaseRow]]
    known: NotRequired[int]
    # a hand-over
    headline: NotRequired[str]
    since: NotRequired[str]
    until: NotRequired[str]
    open: NotRequired[list[IncidentRow]]
    alike: NotRequired[list[dict[str, Any]]]
    incidents_in_all: NotRequired[int]
    servers: NotRequired[list[dict[str, Any]]]


class ReleaseResult(TypedDict):
    """What came of it: see ``live.release.Result``."""

    way: Literal["cancel", "end"]
    gone: bool
    left: int
    state: str
    went_on: int
    behind: list[str]
    sent: bool
    failed: int
    ended: int


class ReleaseFile(TypedDict):
    """``catenum release --json``: the session, what it held up, and what came of it; null: nothing
    was done.
    """

    format: Literal["catenum-release/1"]
    session: SessionValue
    directly: int
    in_all: int
    longest_ms: float
    result: ReleaseResult | None


class CheckValue(TypedDict):
    """One thing that capture needs, and what would change it."""

    what: str
    state: Literal["on", "off", "missing", "not reported"]
    value: str
    why: str
    turn_on: str | None
    then: str | None
    needed: bool
    cost: str
    serves: list[str]


class LookCost(TypedDict):
    """What checks cost, measured."""

    looks: int
    median_ms: float
    worst_ms: float
    rows: int
    connected: int


class PreflightFile(TypedDict):
    """``catenum preflight --json``."""

    format: Literal["catenum-preflight/1"]
    target: TargetInfo
    login: str
    checks: list[CheckValue]
    cost: LookCost
    notes: list[str]


class ProfileCheckValue(TypedDict):
    """One thing that a profile says, and what the server did; ``costs``: what a wrong or missing
    word of it costs.
    """

    what: str
    state: Literal["right", "wrong", "missing", "not tested"]
    found: str
    costs: str


class ProfileCheckFile(TypedDict):
    """``catenum preflight --profile --json``."""

    format: Literal["catenum-profile-check/1"]
    target: TargetInfo
    profile: str
    checks: list[ProfileCheckValue]


class LocalServer(TypedDict):
    """A private server that is kept running."""

    server: str
    version: str
    process: int
    sockets: str
    answers: bool
    data: str


class LocalFile(TypedDict):
    """``catenum local status --json``."""

    format: Literal["catenum-local/1"]
    servers: list[LocalServer]


# -- logs ------------------------------------------------------------------------------------------


class MemberValue(TypedDict):
    """One who took part. ``provenance``: for each fact where it comes from."""

    session: str
    application: str | None
    user: str | None
    database: str | None
    statement: str | None
    history: list[str] | None
    later: list[str]
    ending: str | None
    whole: bool
    isolation: str | None
    provenance: Provenance


class CapturedWaitValue(TypedDict):
    """A wait that a log reports."""

    waiter: str
    holder: str | None
    object: str
    mode: str
    table: str | None
    index: str | None
    held_mode: str | None
    seconds: float | None
    provenance: Provenance


class ConflictValue(TypedDict):
    """A conflict in a log. ``code``: the server's own, of the error in which it ended."""

    number: int
    kind: str
    server: str
    at: str | None
    source: str
    code: str | None
    members: list[MemberValue]
    waits: list[CapturedWaitValue]
    victim: str | None
    relations: list[str]
    notes: list[str]
    provenance: Provenance
    report: str | None


class ConflictGroup(TypedDict):
    """Conflicts of one kind; ``conflicts`` are their numbers."""

    kind: str
    statements: list[str]
    relations: list[str]
    count: int
    first: str | None
    last: str | None
    conflicts: list[int]
    victims: dict[str, int]
    applications: dict[str, int]


class IntakeTable(TypedDict):
    """``catenum intake --by SIDE --json``: how many conflicts of each kind there were by an hour, a
    day, an application or a pair of statements, which has the side's name.
    """

    format: Literal["catenum-intake/1"]
    by: Literal["hour", "day", "application", "pair"]
    rows: list[dict[str, Any]]


class IntakeFile(TypedDict):
    """``catenum intake --json``. ``limits``: what a log of this server does not have; left out with
    ``--pick``.
    """

    format: Literal["catenum-intake/1"]
    limits: NotRequired[str | None]
    conflicts: list[ConflictValue]
    groups: list[ConflictGroup]


class Tried(TypedDict):
    """One way in which the scenario was played, and what came of it."""

    what: str
    outcome: str


class RestagedKind(TypedDict):
    """A kind of conflict, and the file with its scenario."""

    kind: str
    count: int
    file: str | None
    same: bool | None
    why: NotRequired[str]


class RestageFile(TypedDict):
    """``catenum restage --json``: of one conflict its scenario, with ``--all`` a file for each
    kind.
    """

    format: Literal["catenum-restage/1"]
    scenario: NotRequired[str]
    same: NotRequired[bool | None]
    tried: NotRequired[list[Tried]]
    differs: NotRequired[list[str]]
    notes: NotRequired[list[str]]
    scenarios: NotRequired[list[RestagedKind]]


# -- scenarios -------------------------------------------------------------------------------------


class LintProblem(TypedDict):
    """What is wrong in a scenario; line and column count from 1, 0: the file as a whole."""

    scenario: str
    line: int
    column: int
    message: str
    advice: str | None


class LintFile(TypedDict):
    """``catenum lint --json``."""

    format: Literal["catenum-lint/1"]
    #: By scenario, the server that read its statements.
    read_by: dict[str, str]
    problems: list[LintProblem]


class SampleEntry(TypedDict):
    """A scenario that ships."""

    name: str
    about: str | None


class SamplesFile(TypedDict):
    """``catenum sample --json``."""

    format: Literal["catenum-samples/1"]
    samples: list[SampleEntry]


class StoryFile(TypedDict):
    """``catenum explain --json``."""

    format: Literal["catenum-story/1"]
    headline: str
    sections: list[Section]


class DrawingsFile(TypedDict):
    """``catenum draw --json``: the files that were written."""

    format: Literal["catenum-drawings/1"]
    files: list[str]


class LevelsFile(TypedDict):
    """``catenum explore --isolation each --json``: an exploration at each level."""

    format: Literal["catenum-levels/1"]
    levels: list[ExplorationFile]


class MatrixFile(TypedDict):
    """``catenum levels --json``: what each isolation level prevents on a server. ``changed``:
    orders again, with the transaction that only reads changed. ``stricter``, ``weaker``: than the
    standard, as probe and level.
    """

    format: Literal["catenum-matrix/1"]
    target: str
    server: str
    version: str
    default_level: str
    levels: list[str]
    cells: list[Cell]
    changed: list[ChangedReader]
    same_levels: list[list[str]]
    stricter: list[tuple[str, str]]
    weaker: list[tuple[str, str]]


class MatrixDifference(TypedDict):
    """A probe at a level with the results of several servers, in their order."""

    probe: ProbeName
    level: str
    results: list[CellResult | None]


class MatrixOfSeveral(TypedDict):
    """``catenum levels --json`` of several targets."""

    format: Literal["catenum-matrix/1"]
    servers: list[MatrixFile]
    differences: list[MatrixDifference]


class NeedFile(TypedDict):
    """``catenum levels SCENARIO --json``: the least strict level for all transactions, and for each
    by itself; null where none is enough. ``tried``: how many assignments of levels were explored;
    ``all_tried``: all that are less strict were among them.
    """

    format: Literal["catenum-need/1"]
    scenario: str
    target: str
    server: str
    version: str
    default_level: str
    retries: int
    uniform: str | None
    each: dict[str, str | None]
    levels: list[LevelsTried]
    assignment: LevelsTried | None
    tried: int
    all_tried: bool
    why_not: list[str]
    notes: list[str]


class SweepKind(TypedDict):
    """Transactions with the same code."""

    name: str
    transactions: list[str]


class SweepCase(TypedDict):
    """One distinct case: ``coincide``: the places that have the same value, as
    ``transaction.parameter`` or ``transaction.list[1]``; ``equal``: how many assignments it stands
    for; ``ran`` false: no statements meet; ``alone``: who fails in it does
    so in a serial order as well.
    """

    kinds: list[str]
    transactions: list[str]
    words: str
    coincide: list[list[str]]
    missing: list[str]
    values: dict[str, dict[str, Any]]
    equal: int
    ran: bool
    outcome: str
    outcomes: dict[str, int]
    data: str
    anomalies: dict[str, int]
    broken: list[str]
    alone: bool
    bad: bool
    level: dict[str, str]
    proven: bool
    schedules: int
    shortest: str | None


class SweepCounts(TypedDict):
    """Assignments of values in all; of which no statements meet, that are the same as another, and
    that were run; ``audited``: run all the same, to check.
    """

    cases: int
    pruned: int
    equal: int
    run: int
    audited: int


class SweepTarget(TypedDict):
    """Where it was run."""

    server: str
    version: str
    url: str


class SweepGiven(TypedDict):
    """A parameter that keeps its value."""

    transaction: str
    parameter: str
    why: str


class SweepFault(TypedDict):
    """A check that failed."""

    words: str
    found: str
    expected: str


class SweepFile(TypedDict):
    """``catenum sweep --json``. ``proven``: it holds for all values, under the assumptions of
    docs/exploring.md.
    """

    format: Literal["catenum-sweep/1"]
    scenario: str
    target: SweepTarget
    kinds: list[SweepKind]
    cases: list[SweepCase]
    counts: SweepCounts
    proven: bool
    sampled: bool
    stopped: bool
    longest_list: int
    given: list[SweepGiven]
    faults: list[SweepFault]
    notes: list[str]
    ran_ms: float


class Interval(TypedDict):
    """A figure with its bootstrapped interval at 95 %; without an upper bound where there were
    fewer than three turns.
    """

    value: float
    low: float
    high: float | None


class RatioValue(TypedDict):
    """The same of a ratio."""

    ratio: float
    low: float
    high: float | None


class PaceLevel(TypedDict):
    """A level at a number of clients: see ``core.pace.measured``. ``turns``: commits a second of
    each; lock waits are null where the server does not count them, ``waiting`` (sessions that wait,
    in the mean) where it does.
    """

    level: str
    per_second: Interval
    ratio: RatioValue | None
    turns: list[float]
    committed: int
    retries: int
    retries_per_commit: float
    failures: dict[str, int]
    given_up: dict[str, int]
    p50_ms: float
    p95_ms: float
    p99_ms: float
    arrivals: int
    unserved: int
    cut_off: int
    turn_s: float
    lock_waits: int | None
    waiting: float | None
    load_cpu: float
    server_cpu: float | None
    busy: float
    cpus: int
    bottleneck: bool
    rough: bool
    unsteady: bool


class PaceStep(TypedDict):
    """All levels at one number of clients; ``stopped``: why it ended early."""

    clients: int
    stopped: str | None
    levels: list[PaceLevel]


class PaceFile(TypedDict):
    """``catenum pace --json`` and ``--save``. ``ratio`` of a level is to ``default_level``."""

    format: Literal["catenum-pace/1"]
    scenario: str
    target: str
    server: str
    version: str
    default_level: str
    started: str
    levels: list[str]
    for_ms: float
    rate: float | None
    think_ms: float
    shares: dict[str, float]
    retries: int
    seed: int
    steps: list[PaceStep]
    notes: list[str]
    stopped: str | None


class Failures(TypedDict):
    """How often a kind of failure came, with the interval of its rate."""

    count: int
    per_10000: float
    low: float
    high: float


class StuckLoop(TypedDict):
    """A loop that still waits at the end, and with what."""

    loop: str
    statement: int
    sql: str


class LoopFigures(TypedDict):
    """One transaction's loops."""

    iterations: int
    failures: dict[str, int]
    p50_ms: float
    p95_ms: float
    p99_ms: float


class MetCycle(TypedDict):
    """A deadlock cycle that came in loops, and how often."""

    cycle: str
    times: int
    first_iteration: int
    findings: list[str]


class ChurnFile(TypedDict):
    """``catenum churn --json``. ``handlers``: routines that catch errors, with what they catch."""

    format: Literal["catenum-churn/1"]
    scenario: str
    iterations: int
    seconds: float
    per_second: float
    lock_waits: int | None
    waiting_at_a_look: float | None
    stuck: list[StuckLoop]
    failures: dict[str, Failures]
    transactions: dict[str, LoopFigures]
    cycles: list[MetCycle]
    cycles_not_read: int
    deadlocks_hidden: int | None
    handlers: dict[str, list[str]]
    files: list[str]


class TrialVariant(TypedDict):
    """A scenario with some remedies, and what became of it."""

    name: str
    changes: list[str]
    outcomes: dict[Kind, int]
    waits: int
    longest_chain: int
    locks_taken: int | None
    attempts: int
    median_ms: float
    rules_broken: list[str]
    verdict: Rank | None
    reason: str | None
    runs: int
    anomalies: int
    complete: bool
    exploration: ExplorationFile | None
    recordings: list[WholeRecording]


class TrialFile(TypedDict):
    """``catenum trial --json``."""

    format: Literal["catenum-trial/1"]
    scenario: str
    orders: list[str]
    data_checked: bool
    variants: Annotated[list[TrialVariant], Field(min_length=1)]  # first the scenario as it is
    best: str | None


class ContestFile(TypedDict):
    """``catenum trial --churn --json``."""

    format: Literal["catenum-contest/1"]
    scenario: str
    variants: list[LoopComparison]
    best: str | None


class Counted(TypedDict):
    """A rate, per 10,000 iterations."""

    events: int
    rate: float
    low: float
    high: float


class LoadValue(TypedDict):
    """What loops gave."""

    iterations: int
    per_second: Spread
    p95_ms: Spread
    deadlocks: Counted
    conflicts: Counted
    faster: Ratio | None
    reason: str


class Figures(TypedDict):
    """What all schedules gave."""

    schedules: int
    complete: bool
    outcomes: dict[Kind, int]
    waits: int
    longest_chain: int
    locks: int | None
    attempts: int
    rules_broken: list[str]
    anomalies: int
    load: LoadValue | None


class CandidateCost(Figures):
    """The same of a candidate, with how many statements it changes."""

    changes: int


class CandidateValues(TypedDict):
    """Whether it cures for all values of the parameters (null: not every case was run); ``but``:
    the first case in which it does not.
    """

    holds: bool | None
    cases: int
    but: str | None
    shortest: str | None


class CandidateValue(TypedDict):
    """A change that was derived and tried. ``change``: as it stands under ``remedies`` in a
    scenario.
    """

    rank: int
    kind: str
    name: str
    because: list[str]
    change: dict[str, Any]
    statements: list[str]
    ddl: list[str]
    means: list[str]
    verdict: Rank
    reason: str
    proven: bool
    cost: CandidateCost
    serial_orders_compared: int
    changes_meaning: bool
    these_values_only: list[str]
    does_not_cure: list[str]
    values: CandidateValues | None
    harms: list[str]
    other_data: list[str]
    orders_run: int | None
    defect: str | None
    dominated: bool


class Dropped(TypedDict):
    """A change that was derived and not tried, and why."""

    name: str
    why: str


class Server(TypedDict):
    """Where it was tried."""

    server: str
    version: str
    url: str
    private: bool


class InsteadValue(TypedDict):
    """The case that is looked at, since with the values of the scenario nothing conflicts."""

    words: str
    values: dict[str, dict[str, Any]]


class ProposalFile(TypedDict):
    """``catenum propose --json``; with ``--save`` the worst schedule as it is, and with what is put
    first.
    """

    format: Literal["catenum-proposal/1"]
    scenario: str
    target: Server
    conflict: bool
    placeholders: list[str]
    instead: InsteadValue | None
    baseline: Figures
    candidates: list[CandidateValue]
    dropped: list[Dropped]
    why_first: str | None
    left_alone: list[str]
    stopped: bool
    interrupted: bool
    rules_broken_serially: list[str]
    before: NotRequired[WholeRecording]
    after: NotRequired[WholeRecording]


class DifferenceValue(TypedDict):
    """One thing that is not as expected, with the place of the expectation in the scenario."""

    about: str
    expected: str
    seen: str
    place: str


class OrderValue(TypedDict):
    """A named order as it was played; ``as_expected`` is null where nothing is expected of it on
    this server.
    """

    name: str
    order: list[str]
    as_expected: bool | None
    differences: list[DifferenceValue]
    recording: WholeRecording


class OrdersFile(TypedDict):
    """What ``play --json`` writes of a scenario with named orders."""

    format: Literal["catenum-orders/1"]
    scenario: str
    orders: list[OrderValue]


class BlameValue(TypedDict):
    """A statement that has a part in what is not as expected: see ``core.check.result``."""

    place: str
    text: str


class CheckCaseValue(TypedDict):
    """One expectation on one server: see ``core.check.result.CheckCase``."""

    scenario: str
    file: str
    target: str
    server: str
    version: str
    what: str
    level: str | None
    expected: str
    status: Status
    problems: list[str]
    rule: str
    blame: list[BlameValue]
    place: str | None
    seconds: float
    schedules: int | None
    schedule: list[str]
    allowed: str
    advice: str | None


class CheckFile(TypedDict):
    """``catenum check --json``."""

    format: Literal["catenum-check/1"]
    passed: bool
    interrupted: bool
    cases: list[CheckCaseValue]


#: What ``catenum schema`` knows, by name.
FORMATS: dict[str, Any] = {
    "orders": OrdersFile,
    "scenario": Scenario,
    "recording": Recording,
    "exploration": ExplorationFile,
    "levels": LevelsFile,
    "matrix": MatrixFile | MatrixOfSeveral,
    "need": NeedFile,
    "sweep": SweepFile,
    "pace": PaceFile,
    "trial": TrialFile,
    "contest": ContestFile,
    "churn": ChurnFile,
    "check": CheckFile,
    "proposal": ProposalFile,
    "story": StoryFile,
    "drawings": DrawingsFile,
    "lint": LintFile,
    "samples": SamplesFile,
    "now": NowFile | NowOfSeveral,
    "watch": WatchLine,
    "history": HistoryFile,
    "release": ReleaseFile,
    "preflight": PreflightFile,
    "profile": Profile,
    "profile-check": ProfileCheckFile,
    "local": LocalFile,
    "intake": IntakeFile | IntakeTable,
    "restage": RestageFile,
}

for _kind in [kind for kind in globals().values() if is_typeddict(kind)]:
    _kind.__pydantic_config__ = {
        "extra": "forbid"
    }  # a field that no type has is an error, not lost


@cache
def _adapter(name: str) -> TypeAdapter[Any]:
    from pydantic import TypeAdapter

    return TypeAdapter(FORMATS[name])


def schema_of(name: str) -> dict[str, Any]:
    """The JSON Schema (draft 2020-12) of a format, by its name in ``FORMATS``."""
    schema = {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        **_adapter(name).json_schema(),
    }
    return {**schema, "title": f"Catenum {name}"}


def read(name: str, data: bytes | str, file: str) -> Any:
    """What stands in a file of a format, checked. Raises InputError where it is none, or not
    whole.
    """
    try:
        found = _adapter(name).validate_json(data)
    except ValueError as error:
        first = error.errors()[0]  # type: ignore[attr-defined] # pydantic's
        path = ".".join(str(part) for part in first["loc"])
        why = first["msg"].removeprefix("Value error, ")
        raise InputError(
            f"not what Catenum writes as {name!r}: {path}: {why}", place=Place(file)
        ) from error
    return found


def format_name(plain: dict[str, Any]) -> str | None:
    """The name in ``FORMATS`` of a value that says its format; None where it says none, or
    another.
    """
    said = str(plain.get("format", "")).partition("/")[0].removeprefix("catenum-")
    return said if said in FORMATS else None


def version_of(name: str) -> str | None:
    """What stands under ``format`` in a file of that name, as this version writes it; None where it
    is written in several ways.
    """
    kind = FORMATS[name]
    kinds = get_args(kind) or (kind,)
    said = {_format_of(one) for one in kinds}
    return said.pop() if len(said) == 1 else None


def _format_of(kind: Any) -> str | None:
    hint = get_type_hints(kind).get("format")
    return next(iter(get_args(hint)), None)


def dumps(value: Any) -> str:
    """A value of any format as JSON text."""
    return json.dumps(value, indent=2, ensure_ascii=False)
