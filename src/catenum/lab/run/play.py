"""Plays one schedule of a scenario on an engine and returns the recording."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

from catenum.core.diagnose.holders import attribute
from catenum.core.diagnose.passes import diagnose
from catenum.core.errors import InputError, TargetError
from catenum.core.record.modes import NO_MODE
from catenum.core.record.outcome import kind_of
from catenum.core.record.recording import (
    DataVerdict,
    Deadlock,
    DeadlockMember,
    Outcome,
    Recording,
    TableKeys,
    TransactionRecord,
    Wait,
)
from catenum.core.record.waits import Resource
from catenum.core.scenario.model import Scenario, chosen
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.scenario.writing import definition_of
from catenum.core.servers import rules_of
from catenum.core.space import schedule
from catenum.core.text import listed
from catenum.engines.clock import Clock
from catenum.engines.ports import DataError, Engine, Session
from catenum.lab.run.before import prepare_sessions, refuse_unknown, session_notes
from catenum.lab.run.conductor import ENDS_BY_ITSELF, Conductor
from catenum.lab.run.driver import Driver, connections_of
from catenum.lab.run.handlers import handler_notes, handlers_of, refuse_cancelling
from catenum.lab.run.loading import load
from catenum.lab.run.parameters import with_first_values
from catenum.lab.run.paths import may_change_tables, plans_of, values_of_the_run
from catenum.lab.run.requests import Announce
from catenum.lab.run.safety import warnings
from catenum.lab.run.transaction_state import OpenDeadlock, TransactionState
from catenum.lab.run.tried import with_indexes_tried

LockDetail = Literal["none", "waits", "full"]
KEPT_TABLE_ROWS = 200
#: How often a schedule is played again of which the server's verdict was seen before the cycle.
MOST_REPEATED = 4


@dataclass(frozen=True, kw_only=True)
class PlayOptions:
    """How to play: the order (None: the scenario's, else turns), how closely to look, and limits in
    ms.

    ``once``: the statements must not run again, even where the machine stood still for so long that
    the server ended a cycle before Catenum had seen it closed.
    """

    order: tuple[str, ...] | None = None
    locks: LockDetail = "waits"
    victim: str | None = None
    limit_ms: float = 60_000.0
    once: bool = False
    announce: Callable[[Announce], None] | None = None


@dataclass(frozen=True, kw_only=True)
class _Made:
    """The moves as they were made, when they began, how long they took (ms), and the sessions' ids
    by name.
    """

    conductor: Conductor
    started: str
    duration: float
    ids: dict[str, str]
    hidden: int = 0  # deadlocks that the server counted and no client received
    ended: tuple[str, ...] = ()  # whose sessions the server ended, for their clients' silence
    holds: dict[str, bool | None] = field(
        default_factory=dict
    )  # rules, before the sessions were ended


def full_order(scenario: Scenario, order: Sequence[str] | None) -> tuple[str, ...]:
    """The whole schedule that will be attempted: the order asked for, completed."""
    moves = {name: transaction.moves for name, transaction in scenario.transactions.items()}
    if scenario.timeouts == "by order":  # how many moves there are is known in the run only
        return tuple(order or scenario.order or ())
    return schedule.complete(order or scenario.order or (), moves, scenario.previous)


def play(
    engine: Engine,
    scenario: Scenario,
    options: PlayOptions,
    *,
    file: ScenarioFile | None = None,
    ddl: Sequence[str] = (),
    notes: Sequence[str] = (),
    data: DataVerdict = "unchecked",
    standing: dict[str, TableKeys] | None = None,
) -> Recording:
    """Load the data, play one schedule, look at the end state.

    ``data``: the serial oracle's verdict on this schedule, where it is known already; ``standing``:
    the tables of data that is there already, as it was loaded.

    The engine's scratch space must exist; its sessions are opened here and are closed when this
    returns or raises. Raises InputError where the data is rejected (with its place in ``file``),
    TargetError where the server is lost.
    """
    played = (
        scenario.model_copy(update={"order": tuple(options.order)}) if options.order else scenario
    )
    definition = definition_of(played, engine.info.server, ddl)
    server = engine.info.server
    scenario = scenario.for_server(server)
    refuse_unknown(scenario, rules_of(server), file)
    if standing is None:
        load(engine, scenario, file, ddl)
    scenario, chosen_values = with_first_values(engine, scenario, file)
    tables = standing if standing is not None else engine.tables()
    plans = plans_of(engine, scenario, tables) if options.locks != "none" else ()
    pictured = _pictured(engine, scenario, tables) if options.locks == "full" else {}
    made = _made_moves(engine, scenario, options, file, pictured, ddl)
    conductor = made.conductor
    holds, failed = _holds(engine, scenario)
    for title, value in made.holds.items():
        holds[title] = holds[title] if value is None else value
    if may_change_tables(engine, scenario) or any(table.triggers for table in tables.values()):
        tables = engine.tables()
    if plans:
        plans = (*plans, *plans_of(engine, scenario, tables, values_of_the_run(conductor)))
    recording = Recording(
        scenario=scenario.scenario,
        about=scenario.about,
        target=engine.info,
        started=made.started,
        duration_ms=round(made.duration, 3),
        order=full_order(scenario, options.order),
        schedule=tuple(conductor.log.schedule),
        outcome=Outcome(
            kind=kind_of(
                conductor.log.events,
                conductor.log.waits,
                stuck=conductor.stuck,
                deadlocked=bool(made.hidden) or any(cycle.victim for cycle in conductor.log.cycles),
            ),
            data=data,
            holds=holds,
        ),
        transactions=tuple(
            _record(state, made.ids[state.name]) for state in conductor.states.values()
        ),
        events=tuple(conductor.log.events),
        waits=tuple(conductor.log.waits) if options.locks != "none" else (),
        pictures=tuple(conductor.log.taken),
        rows=engine.rows(KEPT_TABLE_ROWS),
        tables=tables,
        definition=definition,
        plans=plans,
        hidden_deadlocks=made.hidden,
        handlers=dict(handlers_of(engine.handlers(), scenario)),
        settings=engine.settings(),
        holds_sql={title: chosen(sql) for title, sql in scenario.holds.items()},
        notes=(*_notes_of(engine, scenario, made), *chosen_values, *notes, *failed),
    )
    handlers = list(recording.handlers.items())
    recording = replace(
        recording, waits=attribute(recording), notes=(*handler_notes(handlers), *recording.notes)
    )
    deadlocks = tuple(
        _deadlock(cycle, recording, engine, conductor) for cycle in conductor.log.cycles
    )
    recording = replace(recording, deadlocks=deadlocks)
    return with_indexes_tried(replace(recording, findings=diagnose(recording)), engine)


def _made_moves(
    engine: Engine,
    scenario: Scenario,
    options: PlayOptions,
    file: ScenarioFile | None,
    pictured: Mapping[str, TableKeys],
    ddl: Sequence[str],
) -> _Made:
    """The schedule's moves, made again where the machine was too slow to tell what waited."""
    made = _make_moves(engine, scenario, options, file, pictured)
    for _ in range(0 if options.once else MOST_REPEATED):
        again = made.conductor.surprised and engine.capabilities.check_ms
        if not (again or made.conductor.ran_out_early):
            break
        load(engine, scenario, file, ddl)
        made = _make_moves(engine, scenario, options, file, pictured)
    if made.conductor.ran_out_early:
        raise too_slow(engine)
    if made.conductor.catches_errors and not made.hidden:
        for name, number in made.conductor.ended_by_itself:
            raise ended_by_itself(name, number, file)
    return made


def _notes_of(engine: Engine, scenario: Scenario, made: _Made) -> Iterator[str]:
    """What is to be known of the server, the scenario there, and the run."""
    yield from _differences(scenario, engine)
    yield from engine.notes()
    yield from warnings(scenario, engine.info)
    yield from session_notes(scenario)
    yield from _server_notes(scenario, engine)
    yield from timeout_notes(scenario)
    yield from _client_notes(scenario, engine)
    for name in made.ended:
        yield f"the server ended the session of {name}: its client was silent for too long"


def ended_by_itself(name: str, number: int, file: ScenarioFile | None) -> InputError:
    """The error where a statement ended its transaction: no run is one of the scenario's then."""
    path = ("transactions", name, "statements", number - 1)
    return InputError(
        f"{name} {number}: {ENDS_BY_ITSELF.message}",
        place=file.place(*path) if file else None,
        advice=ENDS_BY_ITSELF.hint,
    )


def too_slow(engine: Engine) -> TargetError:
    """The error where a timeout ran out before its turn."""
    return TargetError(
        f"{engine.info.url}: a lock timeout that a statement sets ran out before its turn",
        advice="Give the transaction its 'timeout': that is not started before its turn.",
    )


def fault_of(recording: Recording, file: ScenarioFile | None) -> InputError | None:
    """What in the scenario kept a transaction from going on: a value that is missing, a comparison
    of different types.

    None where there is nothing of the kind. The rest of the run is in the recording all the same.
    """
    event = next(
        (e for e in recording.events if e.error is not None and e.error.key is not None), None
    )
    if event is None or event.error is None:
        return None
    message = f"{event.transaction} {event.statement}: {event.error.message}"
    place = None
    if file is not None and event.statement is not None:
        path = ("transactions", event.transaction, "statements", event.statement - 1)
        place = file.place(*path, *([event.error.key] if event.error.key else []))
    return InputError(
        message,
        place=place,
        advice=event.error.hint or "A condition can ask first: when: NAME is not null.",
    )


def _pictured(
    engine: Engine, scenario: Scenario, tables: Mapping[str, TableKeys]
) -> Mapping[str, TableKeys]:
    """The tables whose rows can be read after each move without waiting for a statement that locks
    a whole table, and without running code of the scenario's own.
    """
    opaque = any(table.opaque for table in tables.values())
    return {} if opaque or may_change_tables(engine, scenario) else tables


def _make_moves(
    engine: Engine,
    scenario: Scenario,
    options: PlayOptions,
    file: ScenarioFile | None,
    pictured: Mapping[str, TableKeys],
) -> _Made:
    clock = Clock()
    sessions: dict[str, Session] = {}
    try:
        connections = connections_of(scenario)
        for connection in scenario.connections:
            sessions[connection] = engine.open_session(connection)
        driver = Driver(engine, sessions, clock, options.announce, connections, pictured)
        prepare_sessions(driver, scenario, file)
        rules, verdict_ms = rules_of(engine.info.server), engine.verdict_ms
        check_ms = engine.capabilities.check_ms
        handlers = handlers_of(engine.handlers(), scenario)
        refuse_cancelling(scenario, handlers, file)
        conductor = Conductor(
            scenario,
            full_order(scenario, options.order),
            rules,
            victim=options.victim or scenario.victim,
            limit_ms=options.limit_ms,
            verdict_ms=verdict_ms,
            pictures=options.locks == "full",
            check_ms=check_ms,
            catches_errors=bool(handlers),
        )
        counted = engine.deadlock_count(sessions)
        started = clock.wall()
        clock.reset()
        driver.run(conductor)
        duration = clock.now_ms()
        ids = {name: sessions[connections.get(name, name)].id for name in scenario.transactions}
        now = engine.deadlock_count(sessions) if counted is not None else None
        met = sum(
            event.error is not None and event.error.kind == "deadlock"
            for event in conductor.log.events
        )
        hidden = max(0, now - counted - met) if counted is not None and now is not None else 0
        ended = _ended_sessions(conductor, driver)
        over = not any(
            state.under_way or state.status == "left open" for state in conductor.states.values()
        )
        holds = _holds(engine, scenario)[0] if over and _outlives(engine, scenario) else {}
        return _Made(
            conductor=conductor,
            started=started,
            duration=duration,
            ids=ids,
            hidden=hidden,
            ended=ended,
            holds=holds,
        )
    finally:
        engine.end(list(sessions.values()))


def _ended_sessions(conductor: Conductor, driver: Driver) -> tuple[str, ...]:
    """Of the transactions left open, those whose sessions the server has ended since."""
    ended = []
    for name in conductor.may_end:
        state = conductor.states[name]
        if state.status == "left open" and not state.under_way and driver.is_lost(name):
            state.status = "killed"
            ended.append(name)
    return tuple(sorted(ended))


def _outlives(engine: Engine, scenario: Scenario) -> bool:
    """Whether a session may keep something beyond its transaction that a rule can see."""
    rules = rules_of(engine.info.server)
    texts = (
        statement.text for one in scenario.transactions.values() for statement in one.statements
    )
    return any(rules.sql.footprint(text).may_outlive for text in texts)


def _differences(scenario: Scenario, engine: Engine) -> list[str]:
    """What the scenario says of this server, and what of it the server cannot do to the letter."""
    reported = {str(server): text for server, text in scenario.differs.items()}
    notes = (
        [" ".join(reported[engine.info.server].split())] if engine.info.server in reported else []
    )
    step = engine.capabilities.timeout_step_ms
    odd = sorted(
        {
            t.timeout
            for t in scenario.transactions.values()
            if t.timeout is not None and t.timeout % step
        }
    )
    if odd:
        asked = ", ".join(f"{ms} ms" for ms in odd)
        notes.append(
            f"{engine.info.server} counts lock timeouts in steps of {step} ms: {asked} was"
            " rounded up"
        )
    return notes


def timeout_notes(scenario: Scenario) -> Iterator[str]:
    """How lock timeouts run out where they do so by order."""
    if scenario.timeouts == "by order":
        yield (
            "lock timeouts run out where the order says so: Catenum then cancels the statement that"
            " waits, in place of the server"
        )


def _client_notes(scenario: Scenario, engine: Engine) -> Iterator[str]:
    """What the server keeps of a client that goes, and for how long."""
    silent = [name for name, one in scenario.transactions.items() if one.ends == "open"]
    closed = [name for name, one in scenario.transactions.items() if one.ends == "close"]
    if closed:
        yield (
            f"{listed(closed)}: a connection that is closed is rolled back as soon as the server"
            " notices; one whose network is gone is noticed as a silent one is"
        )
    limits = engine.idle_limits() if silent or closed else ()
    if limits:
        yield (
            "a client that is silent keeps its transaction and its locks until the server ends the"
            f" session: {', '.join(limits)}"
        )


def _server_notes(scenario: Scenario, engine: Engine) -> Iterator[str]:
    """What the scenario had its private server started with."""
    settings = scenario.settings_on(engine.info.server)
    if settings:
        given = ", ".join(f"{name} = {value}" for name, value in settings.items())
        yield f"the private server was started for this run with {given}"


def _holds(engine: Engine, scenario: Scenario) -> tuple[dict[str, bool | None], list[str]]:
    """Each rule's truth, and what was wrong with those that could not be asked."""
    holds: dict[str, bool | None] = {}
    failed = []
    for title, sql in scenario.holds.items():
        try:
            holds[title] = engine.truth(chosen(sql))
        except DataError as error:
            holds[title] = None
            failed.append(f"the rule '{title}' could not be checked: {error}")
    return holds, failed


def _record(state: TransactionState, session: str) -> TransactionRecord:
    transaction = state.transaction
    return TransactionRecord(
        name=state.name,
        session=session,
        isolation=state.isolation or "not begun",
        asked=transaction.isolation,
        read_only=state.read_only,
        ends=state.ends,
        status=state.status,
        attempts=state.attempt,
        statements=tuple(statement.text for statement in transaction.statements),
        labels=tuple(statement.label for statement in transaction.statements),
        timeout_ms=transaction.timeout,
        connection=transaction.connection if transaction.connection != state.name else None,
        autocommit=transaction.autocommit,
    )


def _deadlock(
    cycle: OpenDeadlock, recording: Recording, engine: Engine, conductor: Conductor
) -> Deadlock:
    members = tuple(
        _member(edge.waiter, edge.holder, cycle, recording, previous.resource)
        for edge, previous in zip(cycle.edges, (cycle.edges[-1], *cycle.edges[:-1]), strict=True)
    )
    victim = cycle.victim
    if victim is None:
        rule = "no victim: the server resolved the cycle by changing the order of a queue"
    elif cycle.left_to_timeout:
        rule = (
            f"the server did not look for cycles; the lock timeout of {victim} was the first to run"
            " out"
        )
    elif cycle.ended_by_us:
        rule = (
            "ended by Catenum, because the server did not end it: it cancelled the statement that"
            " closed the cycle"
        )
    else:
        wanted = next((edge.wanted for edge in cycle.edges if edge.waiter == victim), NO_MODE)
        reported = cycle.report is not None
        rule = engine.victim_rule(
            conductor.states[victim].patience, victim == cycle.closer, wanted, reported=reported
        )
    return Deadlock(
        members=members,
        victim=victim,
        rule=rule,
        move=cycle.move,
        at_ms=round(cycle.at_ms, 3),
        verdict_ms=round(cycle.verdict_ms, 3) if cycle.verdict_ms is not None else None,
        agreed=victim in cycle.members and not (cycle.ended_by_us or cycle.left_to_timeout),
        by_timeout=cycle.left_to_timeout and victim is not None,
        server_report=cycle.report,
    )


def _member(
    name: str, holder: str, cycle: OpenDeadlock, recording: Recording, held_resource: Resource
) -> DeadlockMember:
    between = (w for w in reversed(recording.waits) if (w.waiter, w.holder) == (name, holder))
    wait: Wait | None = next((w for w in between if w.move <= cycle.move), None)
    edge = next(edge for edge in cycle.edges if edge.waiter == name)
    record = recording.transaction(name)
    sent = [
        event.sql
        for event in recording.events
        if event.transaction == name
        and event.what == "sent"
        and event.move <= cycle.move
        and (wait is None or event.attempt == wait.attempt)
    ]
    return DeadlockMember(
        transaction=name,
        isolation=record.isolation if record else "not reported",
        statement=wait.statement if wait else cycle.under_way.get(name),
        waits_for=holder,
        resource=edge.resource,
        wanted=edge.wanted,
        held=edge.held or (wait.held if wait else None),
        holds=(_held_by(name, held_resource, recording),),
        statements=tuple(sent),
        queued=edge.queued,
    )


def _held_by(name: str, resource: Resource, recording: Recording) -> str:
    """What a transaction holds that another waits for, in words."""
    waits = [
        wait
        for wait in recording.waits
        if wait.holder == name and wait.resource.identity == resource.identity
    ]
    last = waits[-1] if waits else None
    held = f"{resource.text} {last.held}" if last is not None and last.held else resource.text
    return f"a place in the queue for {held}" if last is not None and last.queued else held
