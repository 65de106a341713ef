"""A stage for many schedules of one scenario: sessions stay open, the data is brought back after
each.

``play`` tells one schedule in full; here one takes a few milliseconds and leaves a ``Run``. Two
things go faster than in ``play``, without changing what comes out: a lock timeout runs out as soon
as nothing else could end the wait (the next move is not made before it has, in either), and retries
do not pause.
"""

from __future__ import annotations

import contextlib
import functools
from collections import deque
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import groupby, islice
from types import TracebackType

from catenum.core.record.outcome import KINDS
from catenum.core.record.recording import TableKeys, TableRows
from catenum.core.scenario.model import Scenario, chosen
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.servers import rules_of
from catenum.core.space.dependence import Column, Dependence, Written
from catenum.core.space.moves import MoveResult
from catenum.core.space.oracle import Observation, transaction_of, unit
from catenum.core.space.run import Run
from catenum.core.space.schedule import merges
from catenum.core.space.state import Step
from catenum.core.sql.statements import Footprint
from catenum.engines.clock import Clock
from catenum.engines.ports import (
    DataError,
    Engine,
    NeedsReload,
    NotRestored,
    Session,
    StatementsEffects,
)
from catenum.lab.explore.ignored import Ignored, SerialRun
from catenum.lab.explore.summary import Summary
from catenum.lab.run.before import prepare_sessions, refuse_limited_silence, refuse_unknown
from catenum.lab.run.conductor import Conductor, Situation
from catenum.lab.run.driver import Driver, connections_of
from catenum.lab.run.handlers import Handlers, handler_notes, handlers_of, refuse_cancelling
from catenum.lab.run.loading import load
from catenum.lab.run.parameters import with_first_values
from catenum.lab.run.play import ended_by_itself, too_slow
from catenum.lab.run.transaction_state import Guide, TransactionState

#: A lock timeout of a transaction's own is cut to this while exploring (ms), where the server
#: counts so finely.
TIMEOUT_MS = 8
#: How many end states are remembered with their rows and rules.
KEPT_STATES = 500
#: Serial orders that are run twice at the start, where values may differ by nature.
MOST_REPEATED = 6
KEPT_ROWS = 200


@dataclass(frozen=True, kw_only=True)
class StageOptions:
    """How to run: whether to list every lock after each move, the victim asked for, a statement's
    limit in ms.

    ``sure``: that no value differs from run to run where no statement says so was seen already.
    """

    pictures: bool = False
    victim: str | None = None
    limit_ms: float = 60_000.0
    sure: bool = False


class Described:
    """What an engine's catalogue says of the scratch space."""

    def __init__(self, engine: Engine) -> None:
        self.tables, self.functions = engine.tables(), engine.functions()
        self.keeps_numbers = engine.keeps_numbers()
        self._engine = engine

    @functools.cached_property
    def routines(self) -> Handlers:
        """Those that catch errors, asked for once a scenario is known to be sound."""
        return self._engine.handlers()


#: The rows of an end state, and what its rules say.
State = tuple[dict[str, TableRows], dict[str, bool | None]]


@dataclass
class Standing:
    """Data that a stage has left as it was loaded, for the next stage with the same: what it was
    loaded from (None: it must be loaded), what is known of it, and how it is put back; and the
    sessions, which whoever made this ends.
    """

    of: object = None
    #: The engine's number of loads then: who loads something else takes it away.
    loads: int = 0
    rows: dict[str, TableRows] = field(default_factory=dict)
    kept: StatementsEffects | None = None
    state: str = ""
    #: What the catalogue says, and the definitions of which it does.
    described: Described | None = None
    definitions: object = None
    #: What is known of end states, by the rules that were asked.
    rules: Mapping[str, object] = field(default_factory=dict)
    states: dict[str, State] = field(default_factory=dict)
    #: By connection, each with the statements that it was opened for.
    sessions: dict[str, tuple[Sequence[str], Session]] = field(default_factory=dict)

    @contextlib.contextmanager
    def lent(
        self, engine: Engine, scenario: Scenario, ddl: Sequence[str]
    ) -> Iterator[dict[str, TableKeys] | None]:
        """The tables, where the data of a scenario stands there; it is brought back behind. What
        is done must change nothing but what the last stage's statements can.
        """
        was, self.of = self.of, None
        stands = was == _loaded_from(scenario, engine, ddl) and self.loads == engine.loads
        self.end(engine)  # no two sessions have one name
        yield self.described.tables if stands and self.described else None
        if stands and self.loads == engine.loads:
            with contextlib.suppress(NeedsReload):
                engine.data_state()
                engine.restore_data()()
                self.of = was

    def end(self, engine: Engine) -> None:
        """End the sessions."""
        left, self.sessions = self.sessions, {}
        engine.end([session for _, session in left.values()])


class Serially:
    """Guides a run in which some transactions go one after another, and the others not at all.
    A transaction that commits each statement may be named by its single statements (see
    ``oracle.unit``).
    """

    def __init__(self, order: Sequence[str]) -> None:
        self.order = deque(order)

    def choose(self, ready: Sequence[str], waits: frozenset[tuple[str, str]]) -> str | None:
        """The first in the order that still has moves."""
        while self.order:
            if transaction_of(self.order[0]) in ready:
                return transaction_of(self.order[0])
            self.order.popleft()
        return None

    def moved(self, moved: MoveResult) -> None:
        """One statement may be all that stands in the order."""
        if any(self.order[0] == unit(name, number or 0) for name, number in moved.completed):
            self.order.popleft()


@dataclass
class Stage:
    """One scenario on one engine, ready to run schedule after schedule. Use it as a context."""

    engine: Engine
    scenario: Scenario
    options: StageOptions = field(default_factory=StageOptions)
    file: ScenarioFile | None = None
    ddl: Sequence[str] = ()
    footprint_of: Callable[[str], Footprint] | None = None
    standing: Standing | None = None
    #: Of the data, once it is loaded.
    tables: dict[str, TableKeys] = field(init=False)
    described: Described = field(init=False)
    loaded: dict[str, TableRows] = field(init=False)
    dependence: Dependence = field(init=False)
    footprints: dict[tuple[str, int], Footprint] = field(init=False)
    ignored: Ignored = field(init=False)
    shape: bool = field(init=False)
    outlives: bool = field(init=False)
    driver: Driver = field(init=False)
    _summary: Summary = field(init=False)
    _check_ms: float = field(init=False)
    _rows_decide: bool = field(init=False)

    def __post_init__(self) -> None:
        server = self.engine.info.server
        self.rules = rules_of(server)
        self.scenario = hurried(
            self.scenario.for_server(server), self.engine.capabilities.timeout_step_ms
        )
        self.sessions: dict[str, Session] = {}
        self._often: dict[str, Sequence[str]] = {}  # what each was opened for
        self.clock = Clock()
        self._states: dict[str, State] = {}
        self._first_state = ""
        self._kept: StatementsEffects | None = None
        self._serial: dict[tuple[str, ...], Run] = {}
        self._waited: set[Situation] = set()
        self._settle: Callable[[], None] = lambda: None  # waits for the data to be back
        self.notes: tuple[str, ...] = ()
        self.handlers: list[tuple[str, tuple[str, ...]]] = []
        self.deadlocks = 0  # that clients received as an error, in all runs
        self._hidden = 0  # of which they were not, in runs that were looked at one by one
        self.unsteady = False  # one serial order gave two results
        self.may_hide = (
            False  # a routine may have caught one, and the server's count was not to be had
        )
        self._counted: int | None = None  # by the server, before the first run
        self._last_counted: int | None = None

    @property
    def _prepares(self) -> bool:
        """Whether a session begins with statements: each schedule then has new ones."""
        return any(one.before for one in self.scenario.transactions.values())

    def _depends(self, classes: Mapping[Column, Mapping[Written, int]]) -> Dependence:
        return Dependence(
            self.scenario,
            self.rules,
            self.tables,
            self.engine.info.default_isolation,
            footprint_of=self.footprint_of,
            functions=self.described.functions,
            classes=classes,
        )

    def __enter__(self) -> Stage:
        self._check_ms = self.engine.use_short_deadlock_timeout()
        stands = self._stands()
        if not stands:
            load(self.engine, self.scenario, self.file, self.ddl)
        self.scenario, self.notes = with_first_values(self.engine, self.scenario, self.file)
        self.described = self._described()
        self.tables = self.described.tables
        self.dependence = self._depends({})
        if asked := self.dependence.to_ask():
            self.dependence = self._depends(
                {place: self.engine.classes(*place, written) for place, written in asked.items()}
            )
        self.footprints: dict[tuple[str, int], Footprint] = {
            (name, number): found
            for (name, number), found in self.dependence.footprints.items()
            if number is not None
        }
        found = self.footprints.values()
        hidden = not self.dependence.plain  # code that nobody reads may do anything
        self.shape = hidden or any(f.changes_tables for f in found)
        self.outlives = hidden or any(f.may_outlive or f.recalls_numbers for f in found)
        self.outlives = self.outlives or self._prepares
        #: Whether that they are reset is for the sake of numbers only.
        self.only_numbers = not self.outlives and self.described.keeps_numbers
        self.outlives = self.outlives or self.only_numbers
        self.loaded = loaded = stands.rows if stands else self.engine.rows(KEPT_ROWS)
        self.ignored = Ignored(self.scenario, self.rules, self.footprints, self.tables, loaded)
        self._summary = Summary(
            self.scenario.scenario,
            self.engine.info,
            self.tables,
            self.dependence.statements,
            self.footprints,
            self.ignored,
            loaded,
        )
        #: Whether what the comparison covers decides each rule, so that it need not be asked twice.
        self._rows_decide = not self.shape and all(map(self._reads_tables, self._rules_read))
        self.handlers = handlers_of(self.described.routines, self.scenario)
        refuse_cancelling(self.scenario, self.handlers, self.file)
        refuse_limited_silence(self.scenario, self.rules, self.file)
        refuse_unknown(self.scenario, self.rules, self.file)
        self.notes = (*self.notes, *handler_notes(self.handlers))
        unchanged = self._keep(afresh=not stands, stands=stands)
        self._open_sessions()
        self._counted = self._last_counted = self.engine.deadlock_count(self.sessions)
        repeated = list(self._orders_to_repeat())
        differs = [self._differs(order) for order in repeated]  # every one is to be run
        self.restored()
        if any(differs):
            self._keep()
            self._states.clear()
        if repeated:
            self.unsteady = self._runs_differ(repeated[0])
            self.restored()
        self._first_state = (
            stands.state if stands and unchanged and not repeated else self.engine.data_state()
        )
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if kind is None:
            with contextlib.suppress(NeedsReload):  # nobody needs it any more
                self._settle()
                self._leave_standing()
        # those that wait for the next stage are not ended here
        waiting = (
            [session for _, session in self.standing.sessions.values()] if self.standing else []
        )
        self.engine.end([one for one in self.sessions.values() if one not in waiting])
        self.sessions.clear()
        self.engine.use_long_deadlock_timeout()

    def _stands(self) -> Standing | None:
        """The data that another stage has left, if it is of the same; until this one has left it in
        turn nobody may rely on it.
        """
        standing = self.standing
        if standing is None:
            return None
        was, standing.of = standing.of, None
        stands = was is not None and standing.loads == self.engine.loads
        if stands and was == _loaded_from(self.scenario, self.engine, self.ddl):
            return standing
        standing.end(self.engine)
        return None

    @property
    def _definitions(self) -> object:
        """What makes the tables and routines, beside which other rows change nothing."""
        script, fill, ddl = _loaded_from(self.scenario, self.engine, self.ddl)
        found = [(sql, self.rules.sql.footprint(sql)) for sql in ddl]
        return script, fill, [sql for sql, f in found if f.may_outlive or not f.understood]

    def _described(self) -> Described:
        """Not asked for again where the tables and routines are as in the last stage."""
        last = self.standing
        if last is not None and last.definitions == self._definitions and last.described:
            return last.described
        return Described(self.engine)

    def _leave_standing(self) -> None:
        """For the next, where nothing but rows can have changed, and these are back."""
        standing = self.standing
        if standing is not None and not (self.shape or self.outlives):
            standing.of = _loaded_from(self.scenario, self.engine, self.ddl)
            standing.loads = self.engine.loads
            standing.rows, standing.kept = self.loaded, self._kept
            standing.state = self._first_state
            standing.described, standing.definitions = self.described, self._definitions
            standing.rules, standing.states = self.scenario.holds, self._states
            if self._steady:
                standing.sessions = {
                    connection: (self._often[connection], session)
                    for connection, session in self.sessions.items()
                }

    def uncounted(self) -> int:
        """How many deadlocks the server has counted that no run shows."""
        now = self.engine.deadlock_count(self.sessions) if self._counted is not None else None
        if now is None or self._counted is None:
            return 0
        return max(0, now - self._counted - self.deadlocks - self._hidden)

    def widen(
        self,
        pairs: Sequence[tuple[Step, Step]],
        steps: Sequence[Step],
        passing: Sequence[Step] = (),
    ) -> None:
        """Moves that depend on each other, statements that touch anything, and statements that need
        not wait, whatever their text says.
        """
        self.dependence.widen(pairs)
        for step in passing:
            self.dependence.let_pass(step)
        for step in steps:
            self.dependence.open(step)

    # -- running -----------------------------------------------------------------------------------

    def run(self, guide: Guide | None = None, order: Sequence[str] = ()) -> Run:
        """Run one schedule and begin to bring everything back. Raises NotRestored, TargetError."""
        conductor = self._conduct(guide, order)
        # a rollback has the number of the move that it came with, which may be another's
        made = {move.number: move.transaction for move in reversed(conductor.log.schedule)}
        made = dict(sorted(made.items()))
        run = self._finish(conductor, tuple(made.values()))
        if self.options.sure:
            self._know_serial(run)
        return run

    def restored(self) -> None:
        """See that everything is back: at the latest before the next schedule. Raises NotRestored,
        TargetError.
        """
        try:
            self._settle()
        except NeedsReload:
            self._reload()

    def serially(self, order: Sequence[str]) -> Observation | None:
        """What some transactions give one after another; None where one of them fails.

        A transaction that rolls back by its own condition does not fail: in this order it decides
        so.
        """
        run = self.serial_run(order)
        committed = set(run.observed.committed)
        ended = all(one in committed or run.status.get(one) == "rolled back" for one in order)
        return run.observed if ended else None

    def serial_run(self, order: Sequence[str]) -> Run:
        """Transactions one after another; each order is run once, however often it is asked for."""
        key = tuple(order)
        found = self._serial.get(key)
        if found is None:
            found = self._finish(self._conduct_serially(key), key)
            if len(self._serial) < KEPT_STATES:
                self._serial[key] = found
        return found

    def _know_serial(self, run: Run) -> None:
        """A schedule in which one came after another need not be run as a serial order."""
        order = tuple(name for name, _ in groupby(run.path))
        whole = sorted(order) == sorted(self.scenario.transactions)
        if whole and run.kind in ("clean", "error") and not run.broken_off:
            self._serial.setdefault(order, replace(run, path=order))

    def _orders_to_repeat(self) -> list[Sequence[str]]:
        """Serial orders to run twice, to see which values differ by nature: where something may
        make such values, each order, since a branch may be taken in one of them only; otherwise the
        first, to be sure.
        """
        orders = islice(merges(list(self.scenario.connections.values())), MOST_REPEATED)
        certain = self.dependence.plain and not any(
            found.by_nature for found in self.footprints.values()
        )
        return list(islice(orders, 0 if self.options.sure else 1) if certain else orders)

    def _differs(self, order: Sequence[str]) -> bool:
        return self.ignored.add_differing(
            self._serial_with_results(order), self._serial_with_results(order)
        )

    def _runs_differ(self, order: Sequence[str]) -> bool:
        """Whether one serial order gives two results, apart from what is left out: nothing is
        proven then.
        """
        one, two = (self._finish(self._conduct_serially(order), tuple(order)) for _ in range(2))
        return (one.observed.key, one.status, one.kind) != (two.observed.key, two.status, two.kind)

    def _serial_with_results(self, order: Sequence[str]) -> SerialRun:
        conductor = self._conduct_serially(order)
        results = {
            (event.transaction, event.statement - 1): event.result
            for event in conductor.log.events
            if event.result is not None and event.statement is not None
        }
        return self._finish(conductor, ()).observed, results

    def pictured(self, order: Sequence[str]) -> Conductor:
        """Run transactions one after another, with a list of every lock after each move."""
        conductor = self._conduct_serially(order, pictures=True)
        self._finish(conductor, ())
        return conductor

    def _conduct_serially(self, order: Sequence[str], *, pictures: bool = False) -> Conductor:
        among = {transaction_of(one) for one in order}
        return self._conduct(Serially(order), pictures=pictures, among=among)

    def _conduct(
        self,
        guide: Guide | None,
        order: Sequence[str] = (),
        *,
        pictures: bool = False,
        among: Collection[str] | None = None,
    ) -> Conductor:
        conductor = Conductor(
            self.scenario,
            order,
            self.rules,
            victim=self.options.victim or self.scenario.victim,
            limit_ms=self.options.limit_ms,
            verdict_ms=self.engine.verdict_ms,
            pictures=pictures or self.options.pictures,
            guide=guide,
            check_ms=self._check_ms,
            waited=self._waited,
            among=among,
            catches_errors=bool(self.handlers),
        )
        self.restored()
        self.clock.reset()
        self.driver.run(conductor)
        return conductor

    def _finish(self, conductor: Conductor, path: tuple[str, ...]) -> Run:
        self._let_go(conductor)
        if conductor.ran_out_early:
            raise too_slow(self.engine)
        met = sum(e.error is not None and e.error.kind == "deadlock" for e in conductor.log.events)
        self.deadlocks += met
        hidden = self._hidden_in(met)
        if conductor.ended_by_itself and not hidden:
            # no schedule is one of the scenario's transactions then
            raise ended_by_itself(*conductor.ended_by_itself[0], self.file)
        wanted = not conductor.broken_off or not path
        before: dict[str, bool | None] = {}
        self._open_lost(conductor)
        if self.outlives:  # before the rows are read: a session may keep whole tables locked
            if wanted:
                # what a session still holds or has set is part of the end
                before = self._rules_now()
            self.sessions.update(self.engine.renew(self.sessions))
            prepare_sessions(self.driver, self.scenario, self.file)
        end = self.engine.data_state()
        rows, holds = self._state(end, wanted=wanted)
        holds = {
            title: holds[title] if value is None else value for title, value in before.items()
        } or holds
        try:
            self._settle = self.engine.restore_data()
        except NeedsReload:
            self._reload()
        run = self._summary.run_of(conductor, path, end, rows, holds)
        if not hidden:
            return run
        kind = max(run.kind, "deadlock", key=KINDS.index)
        return replace(run, hidden=hidden, kind=kind, ended_well=False)

    def _hidden_in(self, met: int) -> int:
        """How many deadlocks the server counted in this run that no client received: where code is
        at work that may catch them.
        """
        if self.dependence.plain and not self.handlers:
            return 0
        if self._last_counted is None:
            self.may_hide = bool(self.handlers)
            return 0
        now = self.engine.deadlock_count(self.sessions)
        before, self._last_counted = self._last_counted, now
        hidden = max(0, now - before - met) if now is not None else 0
        self.may_hide = self.may_hide or (now is None and bool(self.handlers))
        self._hidden += hidden
        return hidden

    def _keep(self, *, afresh: bool = False, stands: Standing | None = None) -> bool:
        """Returns whether all is as the last stage left it, and was kept by it."""
        effects = self._effects(afresh=afresh)
        if stands is not None and stands.kept is not None:
            # one who leaves out what another case of the same code writes would have it kept anew
            effects = stands.kept.and_also(effects) or effects
            if effects == stands.kept:
                if self.engine.data_state() == stands.state:
                    self._kept = stands.kept
                    if stands.rules == self.scenario.holds:
                        self._states = stands.states
                    return True
                load(self.engine, self.scenario, self.file, self.ddl)
        try:
            self._keep_once(effects)
        except NeedsReload:
            load(self.engine, self.scenario, self.file, self.ddl)
            self._keep_once(replace(effects, afresh=False))
        return False

    @property
    def _rules_read(self) -> list[Footprint]:
        return [self.rules.sql.footprint(chosen(sql)) for sql in self.scenario.holds.values()]

    def _reads_tables(self, found: Footprint) -> bool:
        known = {name.lower() for name in self.tables}
        own = found.functions | found.attributes
        plain = (
            found.understood
            and not found.calls_unknown
            and not found.by_nature
            and not found.gathers
        )
        return (
            plain
            and not own & self.described.functions
            and {a.table.lower() for a in found.accesses} <= known
        )

    def _keep_once(self, effects: StatementsEffects) -> None:
        self.engine.keep_data(effects)
        self._kept = replace(effects, afresh=False)

    def _effects(self, *, afresh: bool) -> StatementsEffects:
        plain = self.dependence.plain
        return StatementsEffects(
            ignored=self.ignored.by_table(),
            of_new=self.ignored.by_table(of_new=True),
            shape=self.shape,
            written=self.dependence.written() if plain else None,
            updated=self.dependence.updated() if plain else None,
            afresh=afresh,
        )

    def _reload(self) -> None:
        self.engine.end(list(self.sessions.values()))
        self.sessions.clear()  # an interrupt may come before there are others
        load(self.engine, self.scenario, self.file, self.ddl)
        self._keep()
        if self._first_state and self.engine.data_state() != self._first_state:
            raise NotRestored("the data, loaded again, is not the same", list(self.tables))
        self._open_sessions()

    def _open_lost(self, conductor: Conductor) -> None:
        """Other sessions in the place of those that were lost in a run."""
        lost = {self.scenario.transactions[name].connection or name for name in conductor.lost}
        for connection in sorted(lost):
            self.sessions[connection].close()
            self.sessions[connection] = self.engine.open_session(connection)

    @property
    def _steady(self) -> bool:
        """Whether sessions begin with nothing, and their plans stay."""
        changed = any(found.may_change_plans for found in self.footprints.values())
        return not changed and not self._prepares

    def _texts(self, connection: str) -> Sequence[str]:
        """What a session is opened for."""
        if not (self._steady and self.engine.capabilities.keeps_plans):
            return ()
        names = self.scenario.connections[connection]
        return [text for name in names for text in self.dependence.statements[name]]

    def _open_sessions(self) -> None:
        left = self.standing.sessions if self.standing is not None else {}
        for connection in self.scenario.connections:
            texts = self._texts(connection)
            known = left.pop(connection, None) if self._steady and not self.outlives else None
            if known is not None and set(texts) <= set(known[0]):
                self._often[connection], self.sessions[connection] = known
                continue
            if known is not None:
                self.engine.end([known[1]])
            self.sessions[connection] = self.engine.open_session(connection, texts)
            self._often[connection] = texts
        if self.standing is not None:
            self.standing.end(self.engine)  # nobody needs the others
        connections = connections_of(self.scenario)
        self.driver = Driver(self.engine, self.sessions, self.clock, connections=connections)
        prepare_sessions(self.driver, self.scenario, self.file)

    def _let_go(self, conductor: Conductor) -> None:
        """Roll back what is open still: first those who wait for nobody, then those whom that let
        go on.
        """
        idle = [
            state.name
            for state in conductor.states.values()
            if state.begun and not state.under_way and _open(state)
        ]
        for name in idle:
            self.driver.undo(name)
        waiting = [state.name for state in conductor.states.values() if state.under_way]
        self.driver.release(waiting)

    def _state(self, end: str, *, wanted: bool) -> State:
        known = self._states.get(end)
        # a rule may read columns that the comparison leaves out, so one end state may be two to a
        # rule
        if known is None or (
            self.scenario.holds and wanted and (self.ignored.why or not self._rows_decide)
        ):
            known = (self.engine.rows(KEPT_ROWS) if known is None else known[0], self._rules_now())
            if len(self._states) < KEPT_STATES:
                self._states[end] = known
        return known

    def _rules_now(self) -> dict[str, bool | None]:
        found: dict[str, bool | None] = {}
        for title, sql in self.scenario.holds.items():
            try:
                found[title] = self.engine.truth(chosen(sql))
            except DataError:
                found[title] = None
        return found


def _loaded_from(
    scenario: Scenario, engine: Engine, ddl: Sequence[str]
) -> tuple[str, str, tuple[str, ...]]:
    return scenario.data.script_for(engine.info.server), repr(scenario.fill), tuple(ddl)


def hurried(scenario: Scenario, timeout_step_ms: int) -> Scenario:
    """The scenario with timeouts and pauses cut, where that changes nothing but the time it
    takes.
    """
    transactions = {}
    for name, transaction in scenario.transactions.items():
        update: dict[str, object] = {}
        if transaction.timeout is not None and timeout_step_ms == 1:
            update["timeout"] = min(transaction.timeout, TIMEOUT_MS)
        if transaction.retry is not None:
            update["retry"] = transaction.retry.model_copy(update={"pause": None})
        transactions[name] = transaction.model_copy(update=update) if update else transaction
    return scenario.model_copy(update={"transactions": transactions})


def _open(state: TransactionState) -> bool:
    return state.status in ("left open", "cut off")
