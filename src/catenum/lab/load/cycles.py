"""Deadlocks met in loops:

grouped by their statements and resources, each group with one recording to explain and draw.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from catenum.core.diagnose import diagnose
from catenum.core.diagnose.holders import attribute
from catenum.core.record.recording import (
    NO_KEYS,
    Deadlock,
    DeadlockMember,
    Event,
    Outcome,
    Plan,
    Recording,
    TransactionRecord,
    Wait,
    What,
)
from catenum.core.record.waits import Edge
from catenum.core.servers import rules_of
from catenum.core.words import named
from catenum.lab.load.churn import Churn, DeadlockMet
from catenum.lab.run.paths import plans_of

Signature = tuple[tuple[str, int, str, str], ...]


@dataclass(frozen=True)
class DeadlockKind:
    """One kind of deadlock.

    How often it was met, after how many iterations first, and a recording of that first one.
    """

    text: str
    times: int
    first_iteration: int
    recording: Recording


def cycles(churn: Churn) -> list[DeadlockKind]:
    """The distinct cycles, those met most often first."""
    groups: dict[Signature, list[DeadlockMet]] = {}
    for met in churn.met:
        groups.setdefault(signature(churn, met), []).append(met)
    found = [
        DeadlockKind(_text(key), len(group), group[0].iteration, recording_of(churn, group[0]))
        for key, group in groups.items()
    ]
    return sorted(found, key=lambda cycle: -cycle.times)


def signature(churn: Churn, met: DeadlockMet) -> Signature:
    """What makes two deadlocks the same kind.

    Transactions, statements, tables and indexes, modes; not rows, not copies.
    """
    parts = [
        (churn.transaction_of(edge.waiter), met.statements.get(edge.waiter, 0), _place(edge), str(edge.wanted))
        for edge in met.edges
    ]
    start = min(range(len(parts)), key=lambda i: parts[i])
    return (*parts[start:], *parts[:start])


def _place(edge: Edge) -> str:
    table, index = edge.resource.table or edge.resource.text, edge.resource.index
    return f"{table} in {index}" if index else table


def _text(key: Signature) -> str:
    told = [f"{named(name, number or None)} (waits over {place}, {mode})" for name, number, place, mode in key]
    return " → ".join([*told, named(key[0][0], key[0][1] or None)])


def recording_of(churn: Churn, met: DeadlockMet) -> Recording:
    """A full recording of a deadlock met in loops. Only the deadlock's own time is known; all events carry it."""
    edges = tuple(_with_mode(churn, met, edge) for edge in met.edges)
    scenario, at_ms = churn.scenario, round(met.at_ms, 3)
    names = [edge.waiter for edge in edges]
    records, events, waits = [], [], []
    for name in names:
        transaction = scenario.transactions[churn.transaction_of(name)]
        texts = tuple(statement.text for statement in transaction.statements)
        records.append(
            TransactionRecord(
                name=name,
                session="a loop",
                isolation=transaction.isolation or churn.engine.info.default_isolation,
                asked=transaction.isolation,
                read_only=transaction.access == "read only",
                ends=transaction.ends,
                status="failed" if name == met.victim else "rolled back",
                attempts=1,
                statements=texts,
                labels=tuple(statement.label for statement in transaction.statements),
                timeout_ms=transaction.timeout,
            )
        )
        events += _events(name, texts, met.statements.get(name, 0), at_ms)
    for edge in edges:
        waits.append(
            Wait(
                waiter=edge.waiter,
                attempt=1,
                statement=met.statements.get(edge.waiter) or None,
                holder=edge.holder,
                holder_statement=None,
                resource=edge.resource,
                wanted=edge.wanted,
                held=edge.held,
                queued=edge.queued,
                move=1,
                since_ms=at_ms,
                until_ms=at_ms,
                ended="failed" if edge.waiter == met.victim else "went on",
            )
        )
    last = len(scenario.transactions[churn.transaction_of(met.victim)].statements)
    number = met.statements.get(met.victim) or last
    sql = records[names.index(met.victim)].statements[number - 1]
    events.append(_event(met.victim, number, sql, "failed", at_ms, met))
    recording = Recording(
        scenario=scenario.scenario,
        about=scenario.about,
        target=churn.engine.info,
        started=churn.clock.wall(),
        duration_ms=at_ms,
        order=(),
        schedule=(),
        outcome=Outcome(kind="deadlock"),
        transactions=tuple(records),
        events=tuple(events),
        waits=tuple(waits),
        tables=churn.engine.tables(),
        plans=_plans(churn, names),
        notes=(
            f"Met in loops, after {met.iteration:,} iterations; the order inside the statements is the server's own.",
        ),
    )
    recording = replace(recording, waits=attribute(recording))
    cycle = Deadlock(
        members=tuple(_member(edge, recording) for edge in recording_edges(recording, edges)),
        victim=met.victim,
        rule=churn.engine.victim_rule(None, None),
        move=1,
        at_ms=at_ms,
        verdict_ms=at_ms,
        agreed=True,
        server_report=met.server_report,
    )
    recording = replace(recording, deadlocks=(cycle,))
    return replace(recording, findings=diagnose(recording))


def _plans(churn: Churn, names: list[str]) -> tuple[Plan, ...]:
    """The access paths of the members' statements, under the names of the copies that met."""
    return tuple(
        replace(plan, transaction=name)
        for name in names
        for plan in plans_of(churn.engine, churn.scenario)
        if plan.transaction == churn.transaction_of(name)
    )


def recording_edges(recording: Recording, edges: tuple[Edge, ...]) -> list[tuple[Wait, Wait]]:
    """Each member's own wait, and the wait of the one before it in the cycle, which tells what the member holds."""
    by_waiter = {wait.waiter: wait for wait in recording.waits}
    return [(by_waiter[edge.waiter], by_waiter[edges[i - 1].waiter]) for i, edge in enumerate(edges)]


def _member(pair: tuple[Wait, Wait], recording: Recording) -> DeadlockMember:
    own, before = pair
    record = recording.transaction(own.waiter)
    held = f"{before.resource.text} {before.held}" if before.held else before.resource.text
    return DeadlockMember(
        transaction=own.waiter,
        isolation=record.isolation if record else "not reported",
        statement=own.statement,
        waits_for=own.holder,
        resource=own.resource,
        wanted=own.wanted,
        held=own.held,
        holds=(held if not before.queued else f"a place in the queue for {held}",),
        statements=tuple(e.sql for e in recording.events if e.transaction == own.waiter and e.what == "sent"),
        queued=own.queued,
    )


def _with_mode(churn: Churn, met: DeadlockMet, edge: Edge) -> Edge:
    """The edge with the row lock that its statement is after, where the server's error names only a transaction."""
    if edge.resource.kind != "row" or edge.wanted.family == "row":
        return edge
    rules = rules_of(churn.engine.info.server)
    number = met.statements.get(edge.waiter, 0)
    statements = churn.scenario.transactions[churn.transaction_of(edge.waiter)].statements
    if not 1 <= number <= len(statements):
        return edge
    keys = churn.engine.tables().get(edge.resource.table or "", NO_KEYS)
    modes = [
        rules.row_mode(access, keys.columns)
        for access in rules.footprint(statements[number - 1].text).on(edge.resource.table or "")
    ]
    return replace(edge, wanted=next((mode for mode in modes if mode), edge.wanted))


def _events(name: str, texts: tuple[str, ...], at: int, at_ms: float) -> list[Event]:
    found = []
    for number, sql in enumerate(texts[: at or len(texts)], 1):
        found.append(_event(name, number, sql, "sent", at_ms))
        found.append(_event(name, number, sql, "waits" if number == at else "done", at_ms))
    return found


def _event(name: str, number: int, sql: str, what: What, at_ms: float, met: DeadlockMet | None = None) -> Event:
    return Event(
        at_ms=at_ms,
        move=1,
        transaction=name,
        attempt=1,
        statement=number,
        sql=sql,
        what=what,
        error=met.error if met else None,
    )
