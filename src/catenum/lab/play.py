"""Plays one schedule of a scenario on an engine and returns the recording."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from catenum.core import schedule
from catenum.core.access import with_locks
from catenum.core.attribution import NO_KEYS, attribute
from catenum.core.diagnose import diagnose
from catenum.core.errors import InputError, Place, Problem
from catenum.core.filler import rows_of
from catenum.core.outcome import kind_of
from catenum.core.recording import (
    DataVerdict,
    Deadlock,
    Member,
    Outcome,
    Plan,
    Recording,
    ServerError,
    TransactionRecord,
    Wait,
)
from catenum.core.scenario import Scenario, chosen
from catenum.core.scenario_file import ScenarioFile
from catenum.core.statements import footprint
from catenum.engines.clock import Clock
from catenum.engines.protocol import DataError, Engine, Session
from catenum.lab.conductor import Conductor
from catenum.lab.driver import Driver
from catenum.lab.lanes import Cycle, Lane
from catenum.lab.needs import Announce
from catenum.lab.safety import warnings

LockDetail = Literal["none", "waits", "full"]
KEPT_TABLE_ROWS = 200
#: How often a schedule is played again of which the server's verdict was seen before the ring.
MOST_REPEATED = 4


@dataclass(frozen=True, kw_only=True)
class PlayOptions:
    """How to play: the order (None: the scenario's, else turns), how closely to look, and limits in ms.

    ``once``: the statements must not run again, even where the machine stood still for so long that the server ended a
    ring before Catenum had seen it closed.
    """

    order: tuple[str, ...] | None = None
    locks: LockDetail = "waits"
    victim: str | None = None
    limit_ms: float = 60_000.0
    once: bool = False
    announce: Callable[[Announce], None] | None = None


@dataclass(frozen=True, kw_only=True)
class _Made:
    """The moves as they were made, when they began, how long they took (ms), and the sessions' ids by name."""

    conductor: Conductor
    started: str
    duration: float
    ids: dict[str, str]


def full_order(scenario: Scenario, order: Sequence[str] | None) -> tuple[str, ...]:
    """The whole schedule that will be attempted: the order asked for, completed."""
    moves = {name: transaction.moves for name, transaction in scenario.transactions.items()}
    return schedule.complete(order or scenario.order or (), moves)


def play(
    engine: Engine,
    scenario: Scenario,
    options: PlayOptions,
    *,
    file: ScenarioFile | None = None,
    ddl: Sequence[str] = (),
    notes: Sequence[str] = (),
    data: DataVerdict = "unchecked",
) -> Recording:
    """Load the data, play one schedule, look at the end state.

    ``data``: the serial oracle's verdict on this schedule, where it is known already.

    The engine's scratch space must exist; its sessions are opened here and are closed when this returns or raises.
    Raises InputError where the data is rejected (with its place in ``file``), TargetError where the server is lost.
    """
    scenario = scenario.for_server(engine.info.server)
    load(engine, scenario, file, ddl)
    plans = plans_of(engine, scenario) if options.locks != "none" else ()
    made = _make_moves(engine, scenario, options)
    for _ in range(0 if options.once else MOST_REPEATED):
        if not (made.conductor.surprised and engine.capabilities.check_ms):
            break
        load(engine, scenario, file, ddl)
        made = _make_moves(engine, scenario, options)
    conductor = made.conductor
    holds, failed = _holds(engine, scenario)
    recording = Recording(
        scenario=scenario.scenario,
        about=scenario.about,
        target=engine.info,
        started=made.started,
        duration_ms=round(made.duration, 3),
        order=full_order(scenario, options.order),
        schedule=tuple(conductor.schedule),
        outcome=Outcome(
            kind=kind_of(
                conductor.events,
                conductor.waits,
                stuck=conductor.stuck,
                deadlocked=any(cycle.victim for cycle in conductor.cycles),
            ),
            data=data,
            holds=holds,
        ),
        transactions=tuple(_record(lane, made.ids[lane.name]) for lane in conductor.lanes.values()),
        events=tuple(conductor.events),
        waits=tuple(conductor.waits) if options.locks != "none" else (),
        pictures=tuple(conductor.taken),
        rows=engine.rows(KEPT_TABLE_ROWS),
        tables=engine.tables(),
        plans=plans,
        holds_sql={title: chosen(sql) for title, sql in scenario.holds.items()},
        notes=(*_differences(scenario, engine), *engine.notes(), *warnings(scenario, engine.info), *notes, *failed),
    )
    recording = replace(recording, waits=attribute(recording))
    deadlocks = tuple(_deadlock(cycle, recording, engine, conductor) for cycle in conductor.cycles)
    recording = replace(recording, deadlocks=deadlocks)
    return replace(recording, findings=diagnose(recording))


def _make_moves(engine: Engine, scenario: Scenario, options: PlayOptions) -> _Made:
    clock = Clock()
    sessions: dict[str, Session] = {}
    try:
        for name in scenario.transactions:
            sessions[name] = engine.open_session(name)
        conductor = Conductor(
            scenario,
            full_order(scenario, options.order),
            victim=options.victim or scenario.victim,
            limit_ms=options.limit_ms,
            verdict_ms=engine.verdict_ms,
            pictures=options.locks == "full",
            check_ms=engine.capabilities.check_ms,
        )
        started = clock.wall()
        clock.reset()
        Driver(engine, sessions, clock, options.announce).run(conductor)
        ids = {name: session.id for name, session in sessions.items()}
        return _Made(conductor=conductor, started=started, duration=clock.now_ms(), ids=ids)
    finally:
        engine.end(list(sessions.values()))


def plans_of(engine: Engine, scenario: Scenario) -> tuple[Plan, ...]:
    """The access path of each statement on the data as it stands, with what it locks."""
    tables, server, found = engine.tables(), engine.info.server, []
    for name, transaction in scenario.transactions.items():
        for number, statement in enumerate(transaction.statements, 1):
            sql = statement.text
            if footprint(sql, server).parsed and not any(a.verb == "schema" for a in footprint(sql, server).accesses):
                steps = tuple(
                    replace(step, locks=with_locks(step, sql, server, tables.get(step.table, NO_KEYS)))
                    for step in engine.plan(sql)
                )
                found.append(Plan(transaction=name, statement=number, steps=steps))
    return tuple(found)


def load(engine: Engine, scenario: Scenario, file: ScenarioFile | None, ddl: Sequence[str] = ()) -> None:
    """Load the scenario's data and a remedy's DDL. Raises InputError with the place of what was rejected."""
    script = scenario.data.script_for(engine.info.server)
    try:
        engine.load(script)
    except DataError as error:
        raise _rejected_data(error.error, script, file) from error
    _fill(engine, scenario, file)
    for statement in ddl:
        try:
            engine.add(statement)
        except DataError as error:
            message = f"the server rejects the remedy's DDL: {error.error.message}\n  {statement}"
            raise InputError(message, place=file.place("remedies") if file else None) from error
    if scenario.fill:
        engine.analyze()


def _fill(engine: Engine, scenario: Scenario, file: ScenarioFile | None) -> None:
    for table, fill in scenario.fill.items():
        try:
            engine.fill(table, tuple(fill.columns), rows_of(fill))
        except DataError as error:
            place = file.place("fill", table) if file else None
            raise InputError(f"the server rejects the filler rows of {table}: {error}", place=place) from error


def _rejected_data(error: ServerError, script: str, file: ScenarioFile | None) -> InputError:
    place: Place | None = None
    offset = (error.position or 1) - 1
    if file is not None:
        whole = file.scenario.data
        path: tuple[str | int, ...] = ("data",)
        for part in ("common", "postgresql", "mariadb"):
            text = getattr(whole, part)
            if text and text in script and ("data", part) in file.places:
                start = script.index(text)
                if start <= offset < start + len(text) + 1:
                    path, offset = ("data", part), offset - start
                    break
        place = file.place_in_sql(path, script, offset) if error.position else file.place(*path)
    advice = f"The server's hint: {error.hint}" if error.hint else error.detail
    return InputError.of([Problem(f"the server rejects the data: {error.message}", place, advice)])


def _differences(scenario: Scenario, engine: Engine) -> list[str]:
    """What the scenario says of this server, and what of it the server cannot do to the letter."""
    told = {str(server): text for server, text in scenario.differs.items()}
    notes = [" ".join(told[engine.info.server].split())] if engine.info.server in told else []
    step = engine.capabilities.timeout_step_ms
    odd = sorted({t.timeout for t in scenario.transactions.values() if t.timeout is not None and t.timeout % step})
    if odd:
        asked = ", ".join(f"{ms} ms" for ms in odd)
        notes.append(f"{engine.info.server} counts lock timeouts in steps of {step} ms: {asked} was rounded up")
    return notes


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


def _record(lane: Lane, session: str) -> TransactionRecord:
    transaction = lane.transaction
    return TransactionRecord(
        name=lane.name,
        session=session,
        isolation=lane.isolation or "not begun",
        asked=transaction.isolation,
        read_only=lane.read_only,
        ends=transaction.ends,
        status=lane.status,
        attempts=lane.attempt,
        statements=tuple(statement.text for statement in transaction.statements),
        labels=tuple(statement.label for statement in transaction.statements),
        timeout_ms=transaction.timeout,
    )


def _deadlock(cycle: Cycle, recording: Recording, engine: Engine, conductor: Conductor) -> Deadlock:
    members = tuple(
        _member(edge.waiter, edge.holder, cycle, recording, previous.resource.text)
        for edge, previous in zip(cycle.edges, (cycle.edges[-1], *cycle.edges[:-1]), strict=True)
    )
    victim = cycle.victim
    if victim is None:
        rule = "no victim: the server let the ring go by changing the order of a queue"
    elif cycle.ended_by_us:
        rule = "ended by Catenum, since the server did not: it cancelled the statement that closed the ring"
    else:
        wanted = next((edge.wanted for edge in cycle.edges if edge.waiter == victim), "")
        rule = engine.victim_rule(conductor.lanes[victim].patience, victim == cycle.closer, wanted)
    return Deadlock(
        members=members,
        victim=victim,
        rule=rule,
        move=cycle.move,
        at_ms=round(cycle.at_ms, 3),
        verdict_ms=round(cycle.verdict_ms, 3) if cycle.verdict_ms is not None else None,
        agreed=victim in cycle.members and not cycle.ended_by_us,
        server_report=cycle.report,
    )


def _member(name: str, holder: str, cycle: Cycle, recording: Recording, held_resource: str) -> Member:
    wait: Wait | None = next(
        (w for w in reversed(recording.waits) if w.waiter == name and w.holder == holder and w.move <= cycle.move),
        None,
    )
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
    into = [w for w in recording.waits if w.holder == name and w.resource.text == held_resource]
    held = f"{held_resource} {into[-1].held}" if into and into[-1].held else held_resource
    if into and into[-1].queued:
        held = f"only a place in the queue for {held}"
    return Member(
        transaction=name,
        isolation=record.isolation if record else "not told",
        statement=wait.statement if wait else None,
        waits_for=holder,
        resource=edge.resource,
        wanted=edge.wanted,
        held=wait.held if wait else edge.held,
        holds=(held,),
        statements=tuple(sent),
        queued=edge.queued,
    )
