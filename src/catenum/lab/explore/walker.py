"""Explores a scenario: runs every schedule that can differ, or a sample, and adds up their results.

Where to go on is kept as plain *shares*: a walk through a part of the space, or a list of schedules
drawn by chance. One process works them off here; several do in ``lab.workers``, by the same
function.
"""

from __future__ import annotations

import functools
import json
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from hashlib import sha256
from typing import Any

from catenum.core.scenario.model import Scenario
from catenum.core.space.counting import Classes, TooMany, schedules
from catenum.core.space.dependence import Dependence
from catenum.core.space.exploration import Exploration, Reach
from catenum.core.space.run import Run
from catenum.core.space.search import Space, Walk
from catenum.core.space.state import Step
from catenum.core.space.tally import Tally, shorter
from catenum.core.text import counted, listed, one_line
from catenum.engines.clock import Clock
from catenum.engines.ports import Engine
from catenum.lab.explore.audit import (
    MOST_TRIES,
    ONE_IN,
    Audit,
    Exchange,
    Widened,
    exchanges,
    step_name,
)
from catenum.lab.explore.hold import held
from catenum.lab.explore.serial import Oracle
from catenum.lab.explore.stage import TIMEOUT_MS, Stage, StageOptions
from catenum.lab.run.play import timeout_notes
from catenum.lab.run.safety import warnings

Share = dict[str, Any]
#: Schedules of a drawn share: a worker takes so many at a time.
DRAWN_AT_A_TIME = 20
#: So many times the limit a number of classes may be for a walk to be tried nonetheless, or so many
#: in any case.
WORTH_A_WALK, SOON_WALKED = 4, 6_000
#: Orders that are all run as well, after the reduced walk.
ALL_ORDERS = 200


@dataclass(frozen=True, kw_only=True)
class ExploreOptions:
    """How far to go: ``every`` without reduction, at most ``limit`` schedules, for ``for_ms``;
    ``seed`` for samples.
    """

    every: bool = False
    limit: int | None = None
    for_ms: float | None = None
    seed: int = 1
    stage: StageOptions = field(default_factory=StageOptions)
    #: Pairs of moves that were seen to depend on each other, and statements that were seen to touch
    #: more than is known.
    widened: tuple[tuple[Step, Step], ...] = ()
    opened: tuple[Step, ...] = ()
    #: Whether it is known already that the statements lock nothing else than their texts tell.
    looked: bool = False
    #: Statements that were seen not to wait, or that may not.
    passing: tuple[Step, ...] = ()
    #: Of so many runs one may be spent on checking what is assumed (see ``audit``); ``thorough``:
    #: whatever rests on a special reason is checked in any case.
    check_one_in: int = ONE_IN
    thorough: bool = True
    #: Where no more orders than this can be made, all of them are run as well (see ``complete``).
    all_orders: int = ALL_ORDERS


@dataclass(kw_only=True)
class Plan:
    """What is to be explored, as counted before the start."""

    orders: int
    classes: int | None
    sampled: bool
    shares: list[Share]
    not_understood: list[str]
    digest: str
    #: What is run where a walk turns out to be longer than the limit.
    draw: Callable[[], list[Share]] = field(default=lambda: [], repr=False)
    every: bool = False


def plan(
    scenario: Scenario, dependence: Dependence, options: ExploreOptions, salt: str = ""
) -> Plan:
    """Count the space and cut it into shares: one walk, or schedules drawn by chance where the
    limit is smaller.
    """
    moves = {name: transaction.moves for name, transaction in scenario.transactions.items()}
    timed = dependence.timed if scenario.timeouts == "by order" else ()
    most = {n: count + (n in timed) * len(dependence.statements[n]) for n, count in moves.items()}
    for name, transaction in scenario.transactions.items():
        most[name] -= transaction.sent_at_once
    orders = schedules(most, scenario.connections.values())
    classes = Classes(dependence, moves, every=options.every, previous=scenario.previous)
    count: int | None
    try:
        at_once = any(one.sent_at_once for one in scenario.transactions.values())
        count = orders if timed or at_once else classes.count()
    except TooMany:
        count = None
    sampled = options.limit is not None and (count is None or count > options.limit)

    def draw() -> list[Share]:
        if not sampled or options.limit is None:
            return []
        chosen = [list(order) for order in classes.sample(options.limit, count, options.seed)]
        return [
            {"drawn": chosen[i : i + DRAWN_AT_A_TIME]}
            for i in range(0, len(chosen), DRAWN_AT_A_TIME)
        ]

    # Waiting rules many classes out, so a space not much larger than the limit is walked first: it
    # may be small enough.
    walk_first = (
        sampled
        and count is not None
        and count <= max(WORTH_A_WALK * (options.limit or 0), SOON_WALKED)
    )
    return Plan(
        orders=orders,
        classes=count,
        sampled=sampled and not walk_first,
        shares=[{"walk": {"more": True, "nodes": []}}] if walk_first or not sampled else draw(),
        draw=draw,
        every=options.every,
        not_understood=[
            f"{name} statement {number + 1}"
            for name, number in dependence.not_understood()
            if number is not None
        ],
        digest=_digest(scenario, options, salt),
    )


def _digest(scenario: Scenario, options: ExploreOptions, salt: str) -> str:
    """What must be the same for an exploration to be gone on with."""
    text = [
        scenario.model_dump_json(),
        options.every,
        options.limit,
        options.seed,
        options.stage.victim,
        salt,
    ]
    return sha256(json.dumps(text).encode()).hexdigest()[:16]


def space_of(stage: Stage, *, reduce: bool) -> Space:
    """The space of a stage's scenario."""
    transactions = stage.scenario.transactions
    return Space(
        stage.dependence,
        {name: transaction.moves for name, transaction in transactions.items()},
        {
            name: transaction.retry.times if transaction.retry else 0
            for name, transaction in transactions.items()
        },
        reduce=reduce,
        previous=stage.scenario.previous,
    )


class Worker:
    """Works shares off on one stage, run by run, so that its caller can stop, report or split in
    between.
    """

    def __init__(
        self,
        stage: Stage,
        options: ExploreOptions,
        heard: Callable[[Run], None] = lambda judged: None,
    ) -> None:
        """``heard`` is told of each schedule that was run; what it raises ends the work."""
        self.stage, self.options, self.heard = stage, options, heard
        self.oracle = Oracle(stage)
        stage.widen(options.widened, options.opened, options.passing)
        self.space = space_of(stage, reduce=not options.every)
        self.audit = Audit(stage, self.space, options.check_one_in, thorough=options.thorough)
        self._run: set[int] = set()  # the classes of the drawn schedules that were run
        self._met: set[tuple[tuple[str, ...], str, str]] = (
            set()
        )  # where somebody was overtaken, and by whom
        self.walk: Walk | None = None
        self.drawn: list[list[str]] = []
        self.tally = Tally()
        self._deadlocks = stage.deadlocks

    def take(self, share: Share) -> None:
        if "walk" in share:
            self.walk = Walk.from_plain(self.space, share["walk"])
        else:
            self.drawn = list(share["drawn"])

    @property
    def busy(self) -> bool:
        """Whether anything is left."""
        return bool(self.drawn) or (self.walk is not None and self.walk.more)

    def share(self) -> Share | None:
        if not self.busy:
            return None
        return (
            {"walk": self.walk.to_plain()}
            if self.walk is not None and self.walk.more
            else {"drawn": self.drawn}
        )

    def split(self) -> Share | None:
        """Give a part of the share away."""
        given = self.walk.split() if self.walk is not None and self.walk.more else None
        return {"walk": given.to_plain()} if given is not None and given.more else None

    def give_all(self, parts: int) -> list[Share]:
        """Give away all that is left, in up to so many parts."""
        given: list[Share] = []
        while len(given) < parts - 1 and self.walk is not None and (part := self.split()):
            given.append(part)
        if self.drawn:
            size = -(-len(self.drawn) // parts)
            given += [{"drawn": self.drawn[i : i + size]} for i in range(0, len(self.drawn), size)]
        elif (left := self.share()) is not None:
            given.append(left)
        self.walk, self.drawn = None, []
        return given

    def step(self) -> None:
        if self.walk is not None and self.walk.more:
            self._walk_on(self.walk)
            return
        order = self.drawn[0]
        run = self.stage.run(
            order=order
        )  # a move of one that waits is held back, so another schedule may come of it
        kind = hash((self.classes.normal_form(run.path), tuple(run.attempts.items()), run.kind))
        made = self._judged(run) if kind not in self._run else None
        with held:
            self.drawn.pop(0)
            self._run.add(kind)
            if made is not None:
                self.tally.add(made)
            else:
                self.tally.ruled_out += 1
        if made is not None:
            self.heard(made)

    def _walk_on(self, walk: Walk) -> None:
        """One schedule of a walk. Where the server lets two that wait go on now in this order, now
        in that, the same moves do not always lead to the same state: then they are made again, and
        finally dropped.
        """
        for _ in range(MOST_TRIES):
            run = self.stage.run(walk)
            if walk.overtaken is not None:
                self._overtaken(walk, run)
                walk.again()
                continue
            if walk.did_not_wait is not None:
                name, number = walk.did_not_wait
                raise Widened(
                    [],
                    f"{name} statement {(number or 0) + 1} did not wait as expected",
                    [(name, number)],
                )
            if not walk.diverged:
                judged = self._judged(run)
                if not run.broken_off:
                    for bar in walk.bars():
                        self.audit.bar(*bar)
                contests = list(walk.open_contests)
                possible = (
                    list(exchanges(walk, run.path))
                    if self.space.reduce and not run.broken_off
                    else []
                )
                with held:
                    walk.turn()
                    self.tally.add(judged)
                    if contests and not run.broken_off:
                        contest = contests[0]
                        self.tally.note_contest(run.path, (contest.first, contest.second))
                if not run.broken_off:
                    self.heard(judged)
                    self._check(
                        judged,
                        possible,
                        contested=any(contest.two_ways for contest in contests),
                        last=not walk.more,
                    )
                return
            self.tally.diverged += 1
            walk.again()
        self.stage.run(walk)
        with held:
            self.tally.given_up += 1
            walk.give_up()

    def _overtaken(self, walk: Walk, run: Run) -> None:
        """The one that came later went on first. Where no schedule stands for that, it is one more
        outcome.
        """
        contest = walk.overtaken
        with held:
            self.tally.overtaken += 1
        if contest is None or run.broken_off:
            return
        met = (walk.path, contest.first, contest.second)
        if met not in self._met:
            judged = replace(self._judged(run), chosen=True)
            with held:
                self._met.add(met)
                self.tally.add(judged)
                self.tally.note_contest(run.path, (contest.first, contest.second))
            self.heard(judged)

    def _check(self, run: Run, possible: list[Exchange], *, contested: bool, last: bool) -> None:
        """Compare what was assumed with what happened. Raises Widened."""

        def compare() -> None:
            self.audit.saw(run, possible, contested=contested)
            if last:
                self.audit.finish()

        self._audited(compare)

    def finish(self) -> None:
        """Check what was assumed and not come round to. Raises Widened."""
        self._audited(self.audit.finish)

    def _audited(self, compare: Callable[[], None]) -> None:
        audit, tally = self.audit, self.tally
        before = (audit.swaps, audit.repeated, audit.races, audit.overtaken)
        compare()
        with held:
            for (a, b), done in audit.special.items():
                key = f"{step_name(a)} | {step_name(b)}"
                tally.special[key] = tally.special.get(key, False) or done
            tally.swaps += audit.swaps - before[0]
            tally.repeated += audit.repeated - before[1]
            tally.races += audit.races - before[2]
            tally.overtaken += audit.overtaken - before[3]
            tally.race = shorter(tally.race, audit.race)
            fresh = [self._judged(other) for other in audit.fresh]
            for other in fresh:
                tally.add(other)
            audit.fresh.clear()
        for other in fresh:
            self.heard(other)

    def _judged(self, run: Run) -> Run:
        return run if run.broken_off else self.oracle.judge(run)

    @functools.cached_property
    def classes(self) -> Classes:
        """Which schedules are equivalent."""
        return Classes(
            self.space.dependence,
            self.space.moves,
            every=self.options.every,
            previous=self.space.previous,
        )

    def take_tally(self) -> Tally:
        """What was added up since the last time."""
        tally, self.tally = self.tally, Tally()
        tally.broken_serially = dict(self.oracle.broken)
        tally.deadlocks, self._deadlocks = (
            self.stage.deadlocks - self._deadlocks,
            self.stage.deadlocks,
        )
        return tally


@dataclass(kw_only=True)
class Explorer:
    """The state of an exploration: what is left, and what has been found so far."""

    plan: Plan
    shares: list[Share]
    tally: Tally = field(default_factory=Tally)
    ran_ms: float = 0.0
    all_orders: int | None = (
        None  # orders run as well, all that can be made; the outcomes were the same
    )

    @property
    def fraction(self) -> float:
        """About how much of the space has been worked off, 0 to 1."""
        if self.plan.sampled:
            left = sum(len(share["drawn"]) for share in self.shares)
            whole = left + self.tally.schedules + self.tally.ruled_out
            return 1 - left / whole if whole else 0.0
        return max(0.0, 1 - sum(left_of(share["walk"]) for share in self.shares))


def left_of(walk: Mapping[str, Any]) -> float:
    """The part of the space that a walk still has before it, as though all branches of a node were
    alike.
    """
    if not walk["more"]:
        return 0.0
    left, width = 0.0, 1.0
    for node in walk["nodes"]:
        ways = max(1, len(set(node["ready"]) - set(node["sleep"])))
        width /= ways
        if not node["handed_over"]:
            left += width * max(0, ways - len(node["walked"]))
    return min(1.0, left + width)


def explore_here(
    stage: Stage,
    explorer: Explorer,
    options: ExploreOptions,
    progress: Callable[[Explorer], None] | None = None,
    heard: Callable[[Run], None] = lambda judged: None,
) -> None:
    """Work everything off on one stage. What is left when this returns or raises stands in
    ``explorer``.
    """
    clock, reported = Clock(), 0.0
    worker = Worker(stage, options, heard)
    already = explorer.ran_ms
    try:
        while explorer.shares:
            with held:
                worker.take(explorer.shares.pop())
            try:
                while (
                    worker.busy
                    and not _over(clock, options)
                    and not full(explorer, options, worker.tally.schedules)
                ):
                    worker.step()
                    if progress is not None and clock.now_ms() - reported > 200:
                        reported = clock.now_ms()
                        with held:
                            explorer.tally.merge(worker.take_tally())
                        explorer.ran_ms = already + reported
                        left = worker.share()
                        progress(
                            replace(explorer, shares=[*explorer.shares, *([left] if left else [])])
                        )
            finally:
                explorer.tally.merge(worker.take_tally())
                if (left := worker.share()) is not None:
                    explorer.shares.append(left)
            if _over(clock, options) or full(explorer, options):
                break
    finally:
        explorer.ran_ms = already + clock.now_ms()


def full(explorer: Explorer, options: ExploreOptions, more: int = 0) -> bool:
    """Whether a walk has run as many schedules as were allowed: retries can make more of them than
    were counted.
    """
    if options.limit is None or explorer.plan.sampled:
        return False
    return explorer.tally.schedules + more >= options.limit


def turn_to_sample(explorer: Explorer, options: ExploreOptions) -> bool:
    """Where a walk ran as far as it may and was not through: begin again with a sample, which is
    fair to all parts.

    Returns whether it did. Where retries made more schedules than were counted there is none to
    draw.
    """
    drawn = explorer.plan.draw() if full(explorer, options) and explorer.shares else []
    if not drawn:
        return False
    explorer.plan.sampled = True
    explorer.shares, explorer.tally = drawn, Tally()
    return True


def _over(clock: Clock, options: ExploreOptions) -> bool:
    return options.for_ms is not None and clock.now_ms() > options.for_ms


def exploration(
    scenario: Scenario, engine: Engine, stage: Stage, explorer: Explorer, levels: Mapping[str, str]
) -> Exploration:
    """The result, as it is shown and saved."""
    tally = explorer.tally
    raced = bool(
        tally.given_up or tally.diverged or tally.races or tally.contests or stage.unsteady
    )
    walked = not explorer.shares and not explorer.plan.sampled
    reach = Reach(
        orders=explorer.plan.orders,
        classes=explorer.plan.classes,
        complete=walked and not raced,
        raced=walked and raced,
        sampled=explorer.plan.sampled,
        every=explorer.plan.every,
        left=len(explorer.shares),
        all_orders=explorer.all_orders,
    )
    return Exploration(
        scenario=scenario.scenario,
        about=scenario.about,
        target=engine.info,
        levels=dict(levels),
        statements={
            name: tuple(s.text for s in t.statements)
            for name, t in stage.scenario.transactions.items()
        },
        ends={name: t.ends for name, t in stage.scenario.transactions.items()},
        reach=reach,
        tally=explorer.tally,
        ran_ms=round(explorer.ran_ms, 1),
        ignored=dict(stage.ignored.left_out()),
        notes=tuple(notes_of(stage, explorer.plan, explorer.tally)),
    )


def notes_of(stage: Stage, made: Plan, tally: Tally) -> Iterator[str]:
    """What a reader should know of how it was explored."""
    yield from stage.notes
    if len(stage.scenario.transactions) == 1:
        yield "a single transaction has one schedule"
    for what in made.not_understood:
        yield (
            f"it is not certain what {what} touches, so it is assumed to touch everything: "
            "more schedules are run than needed"
        )
    yield from _notes_of_restoring(stage)
    yield from warnings(stage.scenario, stage.engine.info)
    yield from _notes_of_limits(stage)
    each = [name for name, t in stage.scenario.transactions.items() if t.autocommit]
    if each:
        yield (
            f"{listed(each)} commit{'s' if len(each) == 1 else ''} each statement by itself: the"
            " data is judged statement by statement, not as one piece of work"
        )
    if any(t.retry is not None for t in stage.scenario.transactions.values()):
        yield (
            "retries do not pause here; the schedules cover every point at which a retry can start"
        )
    yield from _notes_of_races(stage, tally)


def _notes_of_restoring(stage: Stage) -> Iterator[str]:
    """What a rollback does not undo, and what is done about it between schedules."""
    found = stage.footprints.values()
    by_nature = sorted({name for f in found for name in f.by_nature})
    if by_nature:
        yield (
            f"statements call {', '.join(by_nature)}: values that differ from run to run are left"
            " out of comparisons"
        )
    if "nextval" in by_nature or stage.ignored.made:
        yield (
            "sequences and automatic numbers are not undone by a rollback; they are reset between"
            " schedules"
        )
    if any(a.verb == "schema" and a.lock_mode is None for f in found for a in f.accesses):
        yield (
            "statements change tables, so the data is loaded again after each schedule, which is"
            " slower"
        )
    elif stage.outlives:
        kept = "numbers that they took" if stage.only_numbers else "a setting or a named lock"
        yield f"sessions may keep {kept} beyond a transaction, so they are reset each time"


def _notes_of_limits(stage: Stage) -> Iterator[str]:
    """How lock timeouts are waited for."""
    yield from timeout_notes(stage.scenario)
    timed = any(t.timeout is not None for t in stage.scenario.transactions.values())
    if timed and stage.scenario.timeouts == "at once":
        step = stage.engine.capabilities.timeout_step_ms
        yield (
            f"lock timeouts are cut to {TIMEOUT_MS} ms here, because nothing else could end the"
            " wait"
            if step == 1
            else "this server counts lock timeouts in seconds; each one is waited for"
        )
    statements = (sql for texts in stage.dependence.statements.values() for sql in texts)
    limiting = next((sql for sql in statements if stage.rules.sql.limits_waits(sql)), None)
    if limiting is not None:
        yield f"limits that statements set themselves ({one_line(limiting, 50)}) are waited for"


def _notes_of_races(stage: Stage, tally: Tally) -> Iterator[str]:
    """What was up to the server, and so is not proven."""
    if stage.unsteady:
        yield (
            "one serial order, run twice, gave two results that differ in more than the values left"
            " out: something beside the rows changes from run to run, so nothing is proven"
        )
    if tally.contests:
        one, other = tally.contestants or ("", "")
        yield (
            f"in {counted(tally.contests, 'schedule')} two transactions waited when a third"
            " released what both needed, and the server decides which of them continues first"
            f" ({one} or {other}, in '{' '.join(tally.contest or ())}'). No schedule has the other"
            " choice for its outcome, so what was not seen is not proven"
        )
    if tally.races:
        yield (
            f"the server let {counted(tally.races, 'schedule')} end in two ways (run again,"
            f" '{' '.join(tally.race or ())}' ended otherwise): what is said not to happen was not"
            f" seen in {counted(tally.schedules + tally.repeated, 'run')}, and is not proven"
        )
    if tally.diverged:
        tail = (
            f", {tally.given_up} could not be repeated and were dropped" if tally.given_up else ""
        )
        yield (
            f"in {counted(tally.diverged, 'run')} two waiters continued in a different order on the"
            f" repeat, and the schedule was run again{tail}: such a race is up to the server, and"
            " can go either way"
        )
