"""A moment of a running server as a recording, so that ``explain`` and ``draw`` read it like any
other.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import replace

from catenum.core.diagnose.passes import diagnose
from catenum.core.record.members import member_of, recording_edges
from catenum.core.record.recording import (
    Deadlock,
    Event,
    Move,
    Outcome,
    Picture,
    Recording,
    Status,
    TransactionRecord,
    Wait,
    What,
)
from catenum.core.record.waits import Edge
from catenum.core.snapshot.sample import Sample, SessionInfo, State
from catenum.core.snapshot.taker import holder_statement
from catenum.core.text import called

#: Sessions of a moment that are told who they are.
MOST_IDENTITIES = 24


def recording_of(
    sample: Sample,
    seen: Mapping[str, Sequence[str]] | None = None,
    *,
    title: str = "live",
    notes: Sequence[str] = (),
) -> Recording:
    """The chains of a sample as a recording. ``seen``: statements of sessions seen so far in the
    same transaction.

    Its clock begins with the oldest transaction of a chain. Who came first is the order of the
    transactions' ages, then of the waits.
    """
    names = {name for edge in sample.edges for name in (edge.waiter, edge.holder)}
    members = sorted(
        (sample.session(name) for name in names), key=lambda s: -(s.transaction_ms or 0.0)
    )
    start = max((max(s.transaction_ms or 0.0, s.statement_ms or 0.0) for s in members), default=0.0)
    statements = {s.id: _statements(s, (seen or {}).get(s.id, ())) for s in members}
    moves = sorted(
        (max(0.0, at), session.id, number)
        for session in members
        for number, at in enumerate(_times(session, len(statements[session.id]), start), 1)
    )
    waiting = {edge.waiter for edge in sample.edges}
    events = tuple(_events(sample, moves, statements, waiting))
    waits = tuple(
        _wait(edge, sample, statements, number, place, start)
        for place, (_, name, number) in enumerate(moves, 1)
        for edge in sample.edges
        if number == len(statements[name]) and edge.waiter == name
    )
    picture = Picture(
        move=len(moves), at_ms=round(start, 3), locks=sample.locks, cost_ms=sample.cost_ms
    )
    recording = Recording(
        source="sample",
        scenario=title,
        about=None,
        target=sample.target,
        started=sample.at,
        duration_ms=round(start, 3),
        order=tuple(name for _, name, _ in moves),
        schedule=tuple(
            Move(number=n, transaction=name, statement=k) for n, (_, name, k) in enumerate(moves, 1)
        ),
        outcome=Outcome(kind="stuck" if waits else "clean"),
        transactions=tuple(
            _record(session, statements[session.id], session.id in waiting) for session in members
        ),
        events=events,
        waits=waits,
        pictures=(picture,) if sample.locks else (),
        notes=(
            (
                "a running server: earlier times are those that the server reports, and statements"
                " that ended before the check are not known"
            ),
            *_identities(sample, members),
            *notes,
            *sample.notes,
        ),
    )
    recording = replace(recording, deadlocks=_standing(sample, recording))
    if recording.deadlocks:
        recording = replace(recording, outcome=Outcome(kind="deadlock"))
    findings = tuple(
        finding for finding in diagnose(recording) if finding.id != "stricter-isolation"
    )
    return replace(recording, findings=findings)


def _events(
    sample: Sample,
    moves: Sequence[tuple[float, str, int]],
    statements: Mapping[str, Sequence[str]],
    waiting: Collection[str],
) -> Iterator[Event]:
    """What became of each move: when (ms), whose, and which of its statements."""
    for place, (at, name, number) in enumerate(moves, 1):
        event = Event(
            at_ms=round(at, 3),
            move=place,
            transaction=name,
            attempt=1,
            statement=number,
            sql=statements[name][number - 1],
            what="sent",
        )
        yield event
        last = number == len(statements[name])
        if last and name in waiting:
            yield _as(event, "waits")
        elif not last or sample.session(name).state != "working":
            yield _as(event, "done")


def _times(session: SessionInfo, count: int, start: float) -> Iterator[float]:
    """When its statements began (ms): the latest is known, the others are spread over the time
    since the transaction did.
    """
    begun = start - (session.transaction_ms or 0.0)
    latest = start - (session.statement_ms or 0.0)
    for number in range(count - 1):
        yield begun + (latest - begun) * number / (count - 1)
    if count:
        yield latest


def _standing(sample: Sample, recording: Recording) -> tuple[Deadlock, ...]:
    """The cycles that stood when the server was looked at: whom it gave up came after that."""
    return tuple(
        Deadlock(
            members=tuple(
                member_of(*pair, recording) for pair in recording_edges(recording, cycle)
            ),
            victim=None,
            rule="the cycle was seen while it stood; whom the server gave up came after that",
            move=len(recording.schedule),
            at_ms=recording.duration_ms,
            verdict_ms=None,
            agreed=True,
            server_report=None,
        )
        for cycle in sample.graph.cycles()
    )


def _statements(session: SessionInfo, seen: Sequence[str]) -> tuple[str, ...]:
    texts = list(seen or session.earlier)
    if session.statement and (not texts or texts[-1] != session.statement):
        texts.append(session.statement)
    return tuple(texts) or ("(not reported)",)


def _as(event: Event, what: What) -> Event:
    return replace(event, what=what)


def _wait(
    edge: Edge,
    sample: Sample,
    statements: Mapping[str, Sequence[str]],
    number: int,
    move: int,
    start: float,
) -> Wait:
    texts = list(statements.get(edge.holder, ()))
    took, reported = holder_statement(sample, edge, texts), sample.session(edge.holder).took
    holder = texts.index(took) + 1 if took in texts else None
    return Wait(
        waiter=edge.waiter,
        attempt=1,
        statement=number,
        holder=edge.holder,
        holder_statement=holder,
        holder_told_by=(None if holder is None else "server" if reported == took else "statement"),
        resource=edge.resource,
        wanted=edge.wanted,
        held=edge.held,
        queued=edge.queued,
        move=move,
        since_ms=round(max(0.0, start + (edge.since_ms or 0.0)), 3),
    )


#: What a session that does not wait has come to, by its state.
_STATUS: dict[State, Status] = {
    "working": "working",
    "waits": "working",
    "waits for a lock": "cut off",
    "idle in a transaction": "left open",
    "idle": "idle",
    "not visible": "not reported",
    "not reported": "not reported",
}


def _record(session: SessionInfo, statements: Sequence[str], waits: bool) -> TransactionRecord:
    status: Status = "cut off" if waits else _STATUS[session.state]
    return TransactionRecord(
        name=session.id,
        session=session.id,
        isolation=session.isolation,
        asked=None,
        read_only=False,
        ends="open",
        status=status,
        attempts=1,
        statements=tuple(statements),
        labels=(None,) * len(statements),
    )


def _identities(sample: Sample, members: Sequence[SessionInfo]) -> Iterator[str]:
    """Who the sessions are; of very many, those who hold others up and some of those who wait."""
    heads = {edge.holder for edge in sample.edges} - {edge.waiter for edge in sample.edges}
    reported = [s for s in members if s.id in heads and s.id.isdigit()]
    reported += [s for s in members if s.id not in heads and s.id.isdigit()]
    for session in reported[:MOST_IDENTITIES]:
        yield f"{called(session.id)}: {_identity(session)}"
    if len(reported) > MOST_IDENTITIES:
        yield f"and {len(reported) - MOST_IDENTITIES} more sessions"


def _identity(session: SessionInfo) -> str:
    parts = [
        part
        for part in (
            session.user and f"user {session.user}",
            session.application and f"application {session.application}",
            session.host and f"from {session.host}",
            session.database and f"in {session.database}",
            session.started and f"since {session.started}",
            session.state,
        )
        if part
    ]
    return ", ".join(parts)
