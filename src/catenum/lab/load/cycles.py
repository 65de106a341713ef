"""Deadlocks met in loops:

grouped by their statements and resources, each group with one recording to explain and draw.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace

from catenum.core.compare.churn_result import DeadlockKind
from catenum.core.diagnose.holders import attribute
from catenum.core.diagnose.passes import diagnose
from catenum.core.record.members import member_of, recording_edges
from catenum.core.record.modes import Mode
from catenum.core.record.recording import (
    NO_KEYS,
    Deadlock,
    Event,
    Outcome,
    Plan,
    Recording,
    TableKeys,
    TransactionRecord,
    Wait,
    What,
)
from catenum.core.record.waits import Edge, Resource, key_text
from catenum.core.scenario.writing import definition_of
from catenum.core.servers import rules_of
from catenum.core.sql.statements import Access
from catenum.core.text import named
from catenum.lab.load.churn import Churn, DeadlockMet
from catenum.lab.run.paths import plans_of
from catenum.lab.run.tried import with_indexes_tried

UNSEEN = "(in a statement that was not seen)"

#: For each member in the order of the cycle: transaction and statement, what it waits over, and the
#: mode.
Signature = tuple[tuple[str, str, str], ...]


def cycles(churn: Churn) -> list[DeadlockKind]:
    """The distinct cycles, those met most often first."""
    groups: dict[Signature, list[DeadlockMet]] = {}
    for met in churn.met:
        known = replace(met, statements=_possible(churn, met))
        known = replace(known, edges=tuple(_known(churn, known, edge) for edge in met.edges))
        groups.setdefault(signature(churn, known), []).append(known)
    for key in [key for key in groups if any(UNSEEN in step for step, _, _ in key)]:
        same = [other for other in groups if other != key and _matches(key, other)]
        if len(same) == 1:
            groups[same[0]] += groups.pop(key)
    found = [
        DeadlockKind(_text(key), len(group), group[0].iteration, recording_of(churn, group[0]))
        for key, group in groups.items()
    ]
    return sorted(found, key=lambda cycle: -cycle.times)


def _possible(churn: Churn, met: DeadlockMet) -> dict[str, int]:
    """The members' statements, without those that cannot be.

    Where each was is read a moment after the deadlock, when its survivors go on already. One in its
    first statement, that comes to one row only, holds nothing that another could wait for. (On
    PostgreSQL; InnoDB locks an index entry and its row apart, and reports the statements itself.)
    """
    found = dict(met.statements)
    for edge in met.edges:
        if found.get(edge.holder) == 1 and not edge.queued and edge.wanted.family != "record":
            locking = _locking(churn, edge.holder, 1)
            row = _row_of(locking[0][0], churn.engine.tables()) if len(locking) == 1 else None
            if row is not None and row.key is not None:
                found[edge.holder] = 0
    return found


def _matches(unseen: Signature, other: Signature) -> bool:
    """Whether both can be the same kind: alike but for what was not seen, in some turn of the
    cycle.
    """
    turns = (other[i:] + other[:i] for i in range(len(other)))
    return len(unseen) == len(other) and any(
        all(
            a == b or a[0] == f"{b[0].rpartition(' ')[0]} {UNSEEN}"
            for a, b in zip(unseen, turn, strict=True)
        )
        for turn in turns
    )


def signature(churn: Churn, met: DeadlockMet) -> Signature:
    """What makes two deadlocks the same kind.

    Transactions, statements, tables and indexes, modes; not rows, not copies.
    """
    parts = [
        (
            _step(churn, met, edge.waiter),
            _place(edge),
            f"in the queue, {edge.wanted}" if edge.queued else str(edge.wanted),
        )
        for edge in met.edges
    ]
    start = min(range(len(parts)), key=lambda i: parts[i:] + parts[:i])
    return (*parts[start:], *parts[:start])


def _step(churn: Churn, met: DeadlockMet, name: str) -> str:
    """The transaction of a copy and its statement, in words."""
    transaction, number = churn.transaction_of(name), met.statements.get(name, 0)
    if number == 0:
        return f"{transaction} {UNSEEN}"
    return named(
        transaction,
        number if number <= len(churn.scenario.transactions[transaction].statements) else None,
    )


def _place(edge: Edge) -> str:
    table, index = edge.resource.table, edge.resource.index
    if table is None:  # numbers of transactions and places are another each time
        return re.sub(r"\d+", "…", edge.resource.text)
    return f"{table} in {index}" if index else table


def _text(key: Signature) -> str:
    reported = [f"{step} (waits over {place}, {mode})" for step, place, mode in key]
    return " → ".join([*reported, key[0][0]])


def recording_of(churn: Churn, met: DeadlockMet) -> Recording:
    """A full recording of a deadlock met in loops. Only the deadlock's own time is known; all
    events carry it.
    """
    edges = met.edges
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
        source="loops",
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
        definition=definition_of(scenario, churn.engine.info.server),
        plans=_plans(churn, names),
        notes=(
            (
                f"Found in loops, after {met.iteration:,} iterations; the order within statements"
                " is the server's own."
            ),
        ),
    )
    recording = replace(recording, waits=attribute(recording))
    cycle = Deadlock(
        members=tuple(member_of(*pair, recording) for pair in recording_edges(recording, edges)),
        victim=met.victim,
        rule=churn.engine.victim_rule(None, None),
        move=1,
        at_ms=at_ms,
        verdict_ms=at_ms,
        agreed=True,
        server_report=met.server_report,
    )
    recording = replace(recording, deadlocks=(cycle,))
    return with_indexes_tried(replace(recording, findings=diagnose(recording)), churn.engine)


def _plans(churn: Churn, names: list[str]) -> tuple[Plan, ...]:
    """The access paths of the members' statements, under the names of the copies that met."""
    return tuple(
        replace(plan, transaction=name)
        for name in names
        for plan in plans_of(churn.engine, churn.scenario, churn.engine.tables())
        if plan.transaction == churn.transaction_of(name)
    )


def _known(churn: Churn, met: DeadlockMet, edge: Edge) -> Edge:
    """The edge with the row lock that its statement is after, where the server's error names only a
    transaction, and with its table, where the statement locks rows of one table only.
    """
    resource = edge.resource
    number = met.statements.get(edge.waiter, 0)
    last = len(churn.scenario.transactions[churn.transaction_of(edge.waiter)].statements)
    if (
        not 1 <= number <= last
        or resource.kind not in ("row", "other")
        or edge.wanted.family == "record"
    ):
        return edge
    locking = _locking(churn, edge.waiter, number)
    if resource.kind == "other" and resource.text.startswith("transaction ") and len(locking) == 1:
        resource = _row_of(locking[0][0], churn.engine.tables()) or resource
    mode = next((mode for access, mode in locking if access.table == resource.table), None)
    if resource.table is None or edge.wanted.family == "row" or mode is None:
        return replace(edge, resource=resource)
    return replace(edge, resource=resource, wanted=mode)


def _locking(churn: Churn, name: str, number: int) -> list[tuple[Access, Mode]]:
    """What a statement of a copy locks rows of, and in which mode; nothing where its text does not
    tell all.
    """
    rules, keys = rules_of(churn.engine.info.server), churn.engine.tables()
    footprint = rules.sql.footprint(
        churn.scenario.transactions[churn.transaction_of(name)].statements[number - 1].text
    )
    if not footprint.understood:
        return []
    modes = (
        (a, rules.locks.row_mode(a, keys.get(a.table, NO_KEYS).columns)) for a in footprint.accesses
    )
    return [(access, mode) for access, mode in modes if mode is not None]


def _row_of(access: Access, tables: Mapping[str, TableKeys]) -> Resource | None:
    """The row that a statement can only have waited for, by its key where its text names it."""
    of = tables.get(access.table, NO_KEYS)
    if of.references or of.triggers or of.opaque:
        return None  # it may have waited elsewhere
    named_by = dict(access.literals)
    if of.primary and all(
        of.kinds.get(c) == "integer" and c in named_by and not named_by[c][0] for c in of.primary
    ):
        key = tuple((column, str(int(named_by[column][1]))) for column in of.primary)
        return Resource(
            kind="row", text=f"{access.table}({key_text(key)})", table=access.table, key=key
        )
    return Resource(kind="other", text=f"a row of {access.table}", table=access.table)


def _events(name: str, texts: tuple[str, ...], at: int, at_ms: float) -> list[Event]:
    found = []
    for number, sql in enumerate(texts[: at or len(texts)], 1):
        found.append(_event(name, number, sql, "sent", at_ms))
        found.append(_event(name, number, sql, "waits" if number == at else "done", at_ms))
    return found


def _event(
    name: str, number: int, sql: str, what: What, at_ms: float, met: DeadlockMet | None = None
) -> Event:
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
