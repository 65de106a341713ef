"""A stage for many schedules of one scenario: sessions stay open, the data is brought back after each.

``play`` tells one schedule in full; here one takes a few milliseconds and leaves a ``Run``. Two things go faster than
in ``play``, without changing what comes out: a lock timeout runs out as soon as nothing else could end the wait (the
next move is not made before it has, in either), and retries do not pause.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from types import TracebackType

from catenum.core.attribution import NO_KEYS, attribute
from catenum.core.dependence import Dependence
from catenum.core.oracle import Observation, Seen, differing_columns, differing_result_columns, seen_of
from catenum.core.outcome import kind_of
from catenum.core.recording import Event, Outcome, Recording, Result, TableRows, TransactionRecord, Wait
from catenum.core.run import Meeting, Ring, Run
from catenum.core.scenario import Scenario, chosen
from catenum.core.scenario_file import ScenarioFile
from catenum.core.statements import Footprint, footprint
from catenum.core.waits import Edge, Resource, WaitGraph
from catenum.engines.clock import Clock
from catenum.engines.protocol import DataError, Engine, NeedsReload, NotRestored, Session
from catenum.lab.conductor import Conductor
from catenum.lab.driver import Driver
from catenum.lab.lanes import Cycle, Guide, Lane, Moved
from catenum.lab.play import load

#: A lock timeout of a transaction's own is cut to this while exploring (ms), where the server counts so finely.
TIMEOUT_MS = 8
#: How many end states are remembered with their rows and rules.
KEPT_STATES = 500
KEPT_ROWS = 200


@dataclass(frozen=True, kw_only=True)
class StageOptions:
    """How to run: whether to list every lock after each move, the victim asked for, a statement's limit in ms."""

    pictures: bool = False
    victim: str | None = None
    limit_ms: float = 60_000.0


class Serially:
    """Guides a run in which some transactions go one after another, and the others not at all."""

    def __init__(self, order: Sequence[str]) -> None:
        self.order = order

    def choose(self, ready: Sequence[str], waits: frozenset[tuple[str, str]]) -> str | None:
        """The first in the order that still has moves."""
        return next((name for name in self.order if name in ready), None)

    def moved(self, moved: Moved) -> None:
        """Nothing to learn."""


@dataclass
class Stage:
    """One scenario on one engine, ready to run schedule after schedule. Use it as a context."""

    engine: Engine
    scenario: Scenario
    options: StageOptions = field(default_factory=StageOptions)
    file: ScenarioFile | None = None
    ddl: Sequence[str] = ()
    footprint_of: Callable[[str, str], Footprint] = footprint

    def __post_init__(self) -> None:
        server = self.engine.info.server
        self.scenario = hurried(self.scenario.for_server(server), self.engine.capabilities.timeout_step_ms)
        self.sessions: dict[str, Session] = {}
        self.clock = Clock()
        self.ignored: set[str] = set()
        self.ignored_why: dict[str, str] = {}
        self._states: dict[str, tuple[dict[str, TableRows], dict[str, bool | None]]] = {}
        self._attributed: dict[object, int | None] = {}
        self._chains: dict[frozenset[tuple[str, str]], int] = {}
        self._first_state = ""
        self.restores = 0

    def __enter__(self) -> Stage:
        self._check_ms = self.engine.hurry()
        load(self.engine, self.scenario, self.file, self.ddl)
        self.tables = self.engine.tables()
        self.dependence = Dependence(
            self.scenario,
            self.engine.info.server,
            self.tables,
            self.engine.info.default_isolation,
            footprint_of=self.footprint_of,
        )
        self.footprints: dict[tuple[str, int], Footprint] = {
            (name, number): footprint(sql, self.engine.info.server)
            for name, texts in self.dependence.statements.items()
            for number, sql in enumerate(texts)
        }
        found = self.footprints.values()
        self.shape = any(f.changes_tables for f in found)
        self.outlives = any(f.may_outlive for f in found)
        self._ignore_what_is_made()
        self.engine.keep_data(self._ignored_by_table(), shape=self.shape)
        self._open_sessions()
        self.driver = Driver(self.engine, self.sessions, self.clock)
        self._ignore_what_differs()
        self._first_state = self.engine.data_state()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.engine.end(list(self.sessions.values()))
        self.sessions.clear()
        self.engine.calm()

    # -- what is left out of comparisons -----------------------------------------------------------------------------

    def _ignore_what_is_made(self) -> None:
        for name in self.scenario.ignore:
            self._ignore(name.lower(), "the scenario says so")
        for found in self.footprints.values():
            for access in found.accesses:
                given = {column for column, _ in access.equals}
                for column in self.tables.get(access.table, NO_KEYS).made if access.verb == "insert" else ():
                    if column.lower() not in given:
                        self._ignore(f"{access.table}.{column}".lower(), "the server makes its values")

    def _ignore_what_differs(self) -> None:
        """Run one serial order twice: what differs then, differs by nature."""
        order = list(self.scenario.transactions)
        one, first = self._serial_with_results(order)
        two, second = self._serial_with_results(order)
        found = differing_columns(one, two)
        for a, b in zip(first, second, strict=False):
            found |= differing_result_columns(a, b)
        fresh = found - self.ignored
        for name in sorted(fresh):
            self._ignore(name, "it differed between two runs of the same serial order")
        if fresh:
            self.engine.keep_data(self._ignored_by_table(), shape=self.shape)
            self._states.clear()

    def _serial_with_results(self, order: Sequence[str]) -> tuple[Observation, list[Result]]:
        conductor = self._conduct(Serially(order))
        results = [event.result for event in conductor.events if event.result is not None]
        return self._finish(conductor, ()).observed, results

    def _ignore(self, name: str, why: str) -> None:
        self.ignored.add(name)
        self.ignored_why.setdefault(name, why)

    def _ignored_by_table(self) -> dict[str, list[str]]:
        return {
            table: [
                column
                for column in self._columns_of(table)
                if column.lower() in self.ignored or f"{table}.{column}".lower() in self.ignored
            ]
            for table in self.tables
        }

    def _columns_of(self, table: str) -> tuple[str, ...]:
        if not hasattr(self, "_columns"):
            self._columns = {name: rows.columns for name, rows in self.engine.rows(1).items()}
        return self._columns.get(table, ())

    # -- running -----------------------------------------------------------------------------------------------------

    def run(self, guide: Guide | None = None, order: Sequence[str] = ()) -> Run:
        """Run one schedule and bring everything back. Raises NotRestored, TargetError."""
        conductor = self._conduct(guide, order)
        made = {move.number: move.transaction for move in conductor.schedule}  # a failure's rollback has its number
        return self._finish(conductor, tuple(made.values()))

    def serially(self, order: Sequence[str]) -> Observation | None:
        """What some transactions give one after another; None where one of them does not commit."""
        observed = self._finish(self._conduct(Serially(order)), tuple(order)).observed
        return observed if set(observed.committed) == set(order) else None

    def _conduct(self, guide: Guide | None, order: Sequence[str] = ()) -> Conductor:
        conductor = Conductor(
            self.scenario,
            order,
            victim=self.options.victim or self.scenario.victim,
            limit_ms=self.options.limit_ms,
            verdict_ms=self.engine.verdict_ms,
            pictures=self.options.pictures,
            guide=guide,
            check_ms=self._check_ms,
        )
        self.clock.reset()
        self.driver.run(conductor)
        return conductor

    def _finish(self, conductor: Conductor, path: tuple[str, ...]) -> Run:
        self._let_go(conductor)
        if self.outlives:  # before the rows are read: a session may keep whole tables locked
            self.sessions.update(self.engine.renew(self.sessions))
        end = self.engine.data_state()
        rows, holds = self._state(end, wanted=not conductor.broken_off or not path)
        try:
            self.engine.restore_data()
        except NeedsReload:
            self._reload()
        self.restores += 1
        return self._summary(conductor, path, end, rows, holds)

    def _reload(self) -> None:
        self.engine.end(list(self.sessions.values()))
        load(self.engine, self.scenario, self.file, self.ddl)
        self.engine.keep_data(self._ignored_by_table(), shape=self.shape)
        if self._first_state and self.engine.data_state() != self._first_state:
            raise NotRestored("the data, loaded anew, is not what it was", list(self.tables))
        self._open_sessions()

    def _open_sessions(self) -> None:
        steady = not any(found.may_change_plans for found in self.footprints.values())
        for name, texts in self.dependence.statements.items():
            self.sessions[name] = self.engine.open_session(name, texts if steady else ())

    def _let_go(self, conductor: Conductor) -> None:
        """Roll back what is open still: first those who wait for nobody, then those whom that let go on."""
        idle = [lane.name for lane in conductor.lanes.values() if lane.begun and not lane.under_way and _open(lane)]
        for name in idle:
            self.driver.undo(name)
        waiting = [lane.name for lane in conductor.lanes.values() if lane.under_way]
        self.driver.release(waiting)

    def _state(self, end: str, *, wanted: bool) -> tuple[dict[str, TableRows], dict[str, bool | None]]:
        known = self._states.get(end)
        if known is None:
            holds: dict[str, bool | None] = {}
            for title, sql in self.scenario.holds.items():
                try:
                    holds[title] = self.engine.truth(chosen(sql))
                except DataError:
                    holds[title] = None
            known = (self.engine.rows(KEPT_ROWS), holds)
            if len(self._states) < KEPT_STATES:
                self._states[end] = known
        return known

    # -- what came of it ---------------------------------------------------------------------------------------------

    def _summary(
        self,
        conductor: Conductor,
        path: tuple[str, ...],
        end: str,
        rows: Mapping[str, TableRows],
        holds: dict[str, bool | None],
    ) -> Run:
        lanes = conductor.lanes
        events = conductor.events
        failed: dict[str, tuple[str, ...]] = {}
        for event in events:
            if event.error is not None:
                failed[event.transaction] = (*failed.get(event.transaction, ()), event.error.kind)
        kind = kind_of(
            events, conductor.waits, stuck=conductor.stuck, deadlocked=any(c.victim for c in conductor.cycles)
        )
        locks = None
        if conductor.taken:
            granted = {(k.transaction, k.resource.text, k.mode) for p in conductor.taken for k in p.locks if k.granted}
            locks = len(granted)
        meant = {"commit": "committed", "rollback": "rolled back", "open": "left open"}
        return Run(
            path=path,
            kind=kind,
            status={name: lane.status for name, lane in lanes.items()},
            failed_by=failed,
            attempts={name: lane.attempt for name, lane in lanes.items()},
            meetings=tuple(dict.fromkeys(self._meeting(wait, conductor) for wait in conductor.waits)),
            rings=tuple(self._ring(cycle, conductor) for cycle in conductor.cycles if cycle.victim),
            chain=self._chain(conductor.waits),
            locks=locks,
            holds=holds,
            observed=self._observation(conductor, events, end, rows),
            ended_well=all(lane.status == meant[lane.transaction.ends] for lane in lanes.values()),
            broken_off=conductor.broken_off,
        )

    def _observation(
        self, conductor: Conductor, events: Sequence[Event], end: str, rows: Mapping[str, TableRows]
    ) -> Observation:
        seen: dict[str, list[Seen]] = {}
        places: dict[tuple[str, int], int] = {}
        commits: dict[str, int] = {}
        for place, event in enumerate(events):
            lane = conductor.lanes[event.transaction]
            if event.what != "done" or event.attempt != lane.attempt:
                continue
            if event.statement is None:
                if event.sql == "commit":
                    commits[event.transaction] = place
                continue
            step = (event.transaction, event.statement - 1)
            places[step] = place
            ordered = self.footprints[step].ordered
            found = seen_of(event.rows, event.result, frozenset(self.ignored), ordered=ordered)
            seen.setdefault(event.transaction, []).append(found)
        committed = tuple(sorted(commits, key=commits.__getitem__))
        return Observation(
            committed=committed,
            seen={name: tuple(seen.get(name, ())) for name in conductor.lanes},
            end=end,
            rows=rows,
            places=places,
            commits=commits,
        )

    def _chain(self, waits: Sequence[Wait]) -> int:
        longest = 0
        for start in waits:
            standing = frozenset(
                (w.waiter, w.holder)
                for w in waits
                if w.since_ms <= start.since_ms and (w.until_ms is None or w.until_ms > start.since_ms)
            )
            if standing not in self._chains:
                nothing = Resource(kind="other", text="")
                edges = (Edge(waiter=w, holder=h, resource=nothing, wanted="", held=None) for w, h in standing)
                self._chains[standing] = WaitGraph(edges).longest_chain()
            longest = max(longest, self._chains[standing])
        return longest

    def _meeting(self, wait: Wait, conductor: Conductor) -> Meeting:
        holder_statement = None
        if wait.holder in conductor.lanes:
            sent = [
                event.statement
                for event in conductor.happened
                if event.transaction == wait.holder and event.what == "sent" and event.at_ms <= wait.since_ms
            ]
            key = (wait.waiter, wait.statement, wait.holder, wait.resource.text, wait.wanted, wait.held, tuple(sent))
            if key not in self._attributed:
                self._attributed[key] = self._attribute(wait, conductor)
            holder_statement = self._attributed[key]
        return Meeting(wait.waiter, wait.statement, wait.holder, holder_statement, wait.resource.text, wait.wanted)

    def _attribute(self, wait: Wait, conductor: Conductor) -> int | None:
        recording = Recording(
            scenario=self.scenario.scenario,
            about=None,
            target=self.engine.info,
            started="",
            duration_ms=0,
            order=(),
            schedule=(),
            outcome=Outcome(kind="waited"),
            transactions=tuple(
                TransactionRecord(
                    name=lane.name,
                    session="",
                    isolation=lane.isolation,
                    asked=None,
                    read_only=False,
                    ends="commit",
                    status=lane.status,
                    attempts=lane.attempt,
                    statements=tuple(self.dependence.statements[lane.name]),
                    labels=(),
                )
                for lane in conductor.lanes.values()
            ),
            events=tuple(conductor.events),
            waits=(wait,),
            tables=self.tables,
        )
        return attribute(recording)[0].holder_statement

    def _ring(self, cycle: Cycle, conductor: Conductor) -> Ring:
        edges = list(cycle.edges)
        first = min(range(len(edges)), key=lambda i: edges[i].waiter) if edges else 0
        edges = [*edges[first:], *edges[:first]]
        members = []
        for edge in edges:
            statements = [w.statement for w in conductor.waits if (w.waiter, w.holder) == (edge.waiter, edge.holder)]
            members.append((edge.waiter, statements[-1] if statements else None))
        return Ring(tuple(members), tuple(edge.resource.text for edge in edges), cycle.victim, cycle.ended_by_us)


def hurried(scenario: Scenario, timeout_step_ms: int) -> Scenario:
    """The scenario with timeouts and pauses cut, where that changes nothing but the time it takes."""
    transactions = {}
    for name, transaction in scenario.transactions.items():
        update: dict[str, object] = {}
        if transaction.timeout is not None and timeout_step_ms == 1:
            update["timeout"] = min(transaction.timeout, TIMEOUT_MS)
        if transaction.retry is not None:
            update["retry"] = transaction.retry.model_copy(update={"pause": None})
        transactions[name] = transaction.model_copy(update=update) if update else transaction
    return scenario.model_copy(update={"transactions": transactions})


def _open(lane: Lane) -> bool:
    return lane.status in ("left open", "cut off")
