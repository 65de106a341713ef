"""A captured conflict as a recording, so that ``explain`` and ``draw`` read it like any other.

A log does not know the order of moves, nor when most of them were made: both are left empty.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace

from catenum.core.diagnose.holders import attribute
from catenum.core.diagnose.passes import diagnose
from catenum.core.logs.conflicts import CapturedWait, Conflict, Member, Provenance, relations_of
from catenum.core.logs.servers import log_rules_of
from catenum.core.record.members import member_of, recording_edges
from catenum.core.record.modes import NO_MODE, Mode
from catenum.core.record.recording import (
    Deadlock,
    ErrorKind,
    Event,
    Kind,
    Outcome,
    Recording,
    ServerError,
    TargetInfo,
    TransactionRecord,
    Wait,
    WaitEnd,
)
from catenum.core.record.waits import Edge, Resource, ResourceKind, WaitGraph
from catenum.core.servers import LEVELS

NOT_IN_LOG = "isolation not in the log"
UNKNOWN_SQL = "(not in the log)"


def names_of(conflict: Conflict) -> dict[str, str]:
    """A name for each member, by its session: its application's, where that is its alone, otherwise
    its session's.
    """
    used = Counter(member.application for member in conflict.members)
    return {
        member.session: (
            member.application
            if member.application and used[member.application] == 1 and member.application.strip()
            else f"s{member.session}"
        )
        for member in conflict.members
    }


def recording_of(conflict: Conflict) -> Recording:
    names = names_of(conflict)
    statements = {member.session: _statements(member) for member in conflict.members}
    recording = Recording(
        source="log",
        scenario=f"{conflict.kind} of {conflict.at}" if conflict.at else conflict.kind,
        about=None,
        target=TargetInfo(
            server=conflict.server, version="", url=conflict.source, default_isolation=""
        ),
        started=conflict.at or "",
        duration_ms=0.0,
        order=(),
        schedule=(),
        outcome=Outcome(kind=conflict.outcome),
        transactions=tuple(
            _record(member, names, statements[member.session], conflict.victim)
            for member in conflict.members
        ),
        events=tuple(_events(conflict, names, statements)),
        waits=tuple(
            _wait(wait, conflict, names, statements)
            for wait in conflict.waits
            if wait.holder and wait.holder in names
        ),
        notes=(*_sources(conflict, names), *conflict.notes),
    )
    recording = replace(
        recording, waits=tuple(_not_by_what_waits(attribute(recording), recording, conflict, names))
    )
    if conflict.kind == "deadlock":
        recording = replace(recording, deadlocks=tuple(_deadlocks(conflict, recording, names)))
    return replace(
        recording, findings=tuple(f for f in diagnose(recording) if f.id != "stricter-isolation")
    )


def _statements(member: Member) -> tuple[str, ...]:
    return member.history or ((member.statement,) if member.statement else (UNKNOWN_SQL,))


def _record(
    member: Member, names: Mapping[str, str], statements: tuple[str, ...], victim: str | None
) -> TransactionRecord:
    return TransactionRecord(
        name=names[member.session],
        session=member.session,
        isolation=member.isolation or NOT_IN_LOG,
        asked=None,
        read_only=False,
        ends="open",
        status="failed" if member.session == victim else "not reported",
        attempts=1,
        statements=statements,
        labels=(None,) * len(statements),
    )


def _events(
    conflict: Conflict, names: Mapping[str, str], statements: Mapping[str, tuple[str, ...]]
) -> Iterator[Event]:
    """Each member's own statements in their order: between members the log has none."""
    waiting = {wait.waiter for wait in conflict.waits}
    for move, member in enumerate(conflict.members, 1):
        own = statements[member.session]
        for number, sql in enumerate(own, 1):
            event = Event(
                at_ms=0.0,
                move=move,
                transaction=names[member.session],
                attempt=1,
                statement=number,
                sql=sql,
                what="sent",
            )
            yield event
            if number < len(own):
                yield replace(event, what="done")
            elif member.session == conflict.victim:
                if member.session in waiting:
                    yield replace(event, what="waits")
                yield replace(event, what="failed", error=_error(conflict))
            elif member.session in waiting:
                yield replace(event, what="waits")


def _not_by_what_waits(
    waits: Iterable[Wait], recording: Recording, conflict: Conflict, names: Mapping[str, str]
) -> Iterator[Wait]:
    """Without attributions to a statement that waits itself: the lock was taken before, by one that
    is not known.
    """
    waiting = {names[wait.waiter] for wait in conflict.waits}
    captured = {(names[wait.waiter], wait.held) for wait in conflict.waits}
    for wait in waits:
        record = recording.transaction(wait.holder)
        last = len(record.statements) if record is not None else 0
        if wait.holder in waiting and wait.holder_statement == last:
            own = (wait.waiter, str(wait.held)) in captured
            wait = replace(
                wait,
                holder_statement=None,
                holder_told_by="server" if own else None,
                held=wait.held if own else None,
                conflict=wait.conflict if own else None,
            )
        yield wait


def _error(conflict: Conflict) -> ServerError:
    kinds: dict[Kind, ErrorKind] = {
        "deadlock": "deadlock",
        "timeout": "timeout",
        "refused": "refused",
    }
    first = next((line for line in conflict.report.split("\n") if "ERROR" in line), "")
    message = first.partition("ERROR:")[2].strip() or conflict.kind
    return ServerError(
        code=conflict.code or "", kind=kinds.get(conflict.outcome, "limit"), message=message
    )


def _resource(wait: CapturedWait) -> Resource:
    kind: ResourceKind = "gap" if wait.gap else "row" if wait.table else "other"
    return Resource(kind=kind, text=wait.object, table=wait.table, index=wait.index)


def _wait(
    wait: CapturedWait,
    conflict: Conflict,
    names: Mapping[str, str],
    statements: Mapping[str, tuple[str, ...]],
) -> Wait:
    ends: dict[str, WaitEnd] = {"timeout": "failed", "refused": "failed", "ended": "failed"}
    length = (wait.seconds or 0.0) * 1e3
    return Wait(
        waiter=names[wait.waiter],
        attempt=1,
        statement=len(statements[wait.waiter]),
        holder=names[str(wait.holder)],
        holder_statement=None,
        resource=_resource(wait),
        wanted=Mode.read(wait.mode) if wait.mode else NO_MODE,
        held=Mode.read(wait.held) if wait.held else None,
        queued=False,
        move=next(
            place
            for place, member in enumerate(conflict.members, 1)
            if member.session == wait.waiter
        ),
        since_ms=0.0,
        until_ms=length or None,
        ended=wait.ended
        or ends.get(conflict.kind, "failed" if wait.waiter == conflict.victim else "lasted"),
    )


def _deadlocks(
    conflict: Conflict, recording: Recording, names: Mapping[str, str]
) -> Iterator[Deadlock]:
    edges = [
        Edge(waiter=w.waiter, holder=w.holder, resource=w.resource, wanted=w.wanted, held=w.held)
        for w in recording.waits
    ]
    for cycle in WaitGraph(edges).cycles():
        yield Deadlock(
            members=tuple(
                member_of(*pair, recording) for pair in recording_edges(recording, cycle)
            ),
            victim=names.get(conflict.victim or ""),
            rule=log_rules_of(conflict.server).victim_reported,
            move=len(conflict.members),
            at_ms=0.0,
            verdict_ms=0.0,
            agreed=True,
            server_report=conflict.report,
        )


_WORDS: dict[Provenance, str] = {
    "captured": "captured (in the report itself)",
    "recovered": "recovered (from a statement log, a live server or a schema file)",
    "assumed": "assumed (derived: check it)",
    "unknown": "unknown",
}


def _sources(conflict: Conflict, names: Mapping[str, str]) -> Iterator[str]:
    """Where each fact comes from, the facts of one source in one line."""
    found: dict[Provenance, list[str]] = {}
    for fact, source in conflict.provenance.items():
        found.setdefault(source, []).append(fact)
    for member in conflict.members:
        for fact, source in member.provenance.items():
            if fact != "session":
                found.setdefault(source, []).append(f"{names[member.session]}'s {fact}")
    for wait in conflict.waits:
        for fact, source in wait.provenance.items():
            said = {
                "object": "what %s waited for",
                "mode": "the mode %s wanted",
                "holder": "whom %s waited for",
            }[fact]
            found.setdefault(source, []).append(said % names[wait.waiter])
    for source, word in _WORDS.items():
        if source in found:
            yield f"{word}: {', '.join(found[source])}"


def conflicts_of(recording: Recording) -> list[Conflict]:
    """The deadlocks of a recording as conflicts, or its waits as one: those of a run, of loops, of
    a watch are staged again alike.
    """
    found = []
    if not recording.deadlocks and (waiting := _waiting(recording)) is not None:
        return [waiting]
    for cycle in recording.deadlocks:
        members = [
            member
            for member in cycle.members
            if recording.transaction(member.transaction) is not None
        ]
        waits = tuple(
            _captured(
                member.transaction, member.waits_for, member.resource, member.wanted, member.held
            )
            for member in members
        )
        found.append(
            Conflict(
                kind="deadlock",
                server=recording.target.server,
                at=recording.started or None,
                members=tuple(
                    _member_of(member.transaction, member.statement, recording)
                    for member in members
                ),
                waits=waits,
                victim=cycle.victim,
                relations=relations_of(waits),
                report=cycle.server_report or "",
                source=recording.scenario,
                definition=recording.definition,
                schedule=_made(recording),
                provenance={
                    "relations": "captured",
                    "victim": "captured" if cycle.victim else "unknown",
                },
            )
        )
    return found


def _captured(
    waiter: str, holder: str, resource: Resource, wanted: Mode, held: Mode | None
) -> CapturedWait:
    """A wait that Catenum saw itself."""
    return CapturedWait(
        waiter=waiter,
        holder=holder,
        object=resource.text,
        mode=str(wanted),
        table=resource.table,
        index=resource.index,
        held=str(held) if held else None,
        gap=resource.kind == "gap",
        record=tuple(value for _, value in resource.key or ()),
        provenance=dict.fromkeys(("object", "mode", "holder"), "captured"),
    )


def _waiting(recording: Recording) -> Conflict | None:
    """Who waited for whom; None where nobody did."""
    seen = {
        (wait.waiter, wait.holder): wait
        for wait in recording.waits
        if recording.transaction(wait.holder)
    }
    if not seen:
        return None
    waits = tuple(
        replace(
            _captured(wait.waiter, wait.holder, wait.resource, wait.wanted, wait.held),
            queued=wait.queued,
            seconds=(wait.until_ms - wait.since_ms) / 1e3 if wait.until_ms is not None else None,
            ended=wait.ended,
        )
        for wait in seen.values()
    )
    at = {wait.waiter: wait.statement for wait in seen.values()}
    last = {one.name: len(one.statements) for one in recording.transactions}
    names = dict.fromkeys(name for wait in waits for name in (wait.waiter, str(wait.holder)))
    return Conflict(
        kind="wait",
        server=recording.target.server,
        at=recording.started or None,
        members=tuple(_member_of(name, at.get(name, last[name]), recording) for name in names),
        waits=waits,
        victim=None,
        relations=relations_of(waits),
        report="",
        source=recording.scenario,
        definition=recording.definition,
        schedule=_made(recording),
        provenance={"relations": "captured"},
    )


def _made(recording: Recording) -> tuple[str, ...]:
    """Whose moves were made, in order; a rollback that came with a move is none."""
    return tuple(move.transaction for move in recording.schedule if move.ends != "rollback")


def _member_of(name: str, statement: int | None, recording: Recording) -> Member:
    record = recording.transaction(name)
    statements = (
        record.statements[:statement] if record is not None and statement is not None else ()
    )
    level = record.isolation if record is not None and record.isolation in LEVELS else None
    known: dict[str, Provenance] = {
        "session": "captured",
        "statement": "captured",
        "history": "captured",
    }
    return Member(
        session=name,
        application=name,
        statement=statements[-1] if statements else None,
        history=statements or None,
        isolation=level,
        whole=True,
        provenance={**known, "isolation": "captured" if level else "unknown"},
    )
