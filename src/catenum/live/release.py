"""Ends a blocker, the gentler way first, and never another session, or another transaction, than
the one shown.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import Literal

from catenum.core.errors import CatenumError
from catenum.core.snapshot.sample import Sample, SessionInfo, Suspect
from catenum.engines.clock import Clock
from catenum.engines.monitor import APPLICATION, Monitor

Way = Literal["cancel", "end"]
#: Ages of statements are told in whole seconds by some servers, rounded down (ms).
COARSE_MS = 1_100.0
#: Of so many sessions it is asked one by one what has become of them.
MOST_ASKED = 100
#: How long the server is given to carry an order out (ms).
PATIENCE_MS = 3_000.0


class Refused(CatenumError):
    """The session is not one to be ended, or not the one that was shown."""


@dataclass(frozen=True)
class Shown:
    """What a person sees before deciding: the session, and what it holds up.

    ``waiting``: who waits for it, directly or behind others, each with the start of its session.
    ``suspected``: the waits of which the server does not name the holder, and it may be this one.
    ``behind``: whom it waits for itself. ``clock``: how long ago that was.
    """

    session: SessionInfo
    sample: Sample
    directly: int
    in_all: int
    longest_ms: float
    waiting: frozenset[tuple[str, str | None]] = frozenset()
    suspected: tuple[Suspect, ...] = ()
    behind: tuple[str, ...] = ()
    clock: Clock = field(default_factory=Clock)


@dataclass(frozen=True)
class Result:
    """What came of it. ``left``: sessions that still wait for it afterwards.

    ``went_on``: those of the ones that waited that do not wait any more, and whose transaction goes
    on; ``failed``: those whose statement ended in an error; ``ended``: those whose session is gone;
    ``behind``: whom the others wait for now. ``sent``: whether the server was given an order at
    all.
    """

    way: Way
    gone: bool
    left: int
    state: str
    went_on: int = 0
    behind: tuple[str, ...] = field(default=())
    sent: bool = True
    failed: int = 0
    ended: int = 0


def blocker(monitor: Monitor, number: str) -> Shown:
    """The session and what it holds up. Raises Refused where there is none, or it is no
    client's.
    """
    session = monitor.session(number)
    if session is None:
        seen = " that this login can see" if not monitor.sees_all else ""
        raise Refused(
            f"there is no session {number}{seen}", advice="'catenum now' shows who is there."
        )
    if session.background:
        raise Refused(f"session {number} is a process of the server itself: it is not ended")
    if session.application == APPLICATION:
        raise Refused(f"session {number} is a watch of Catenum's own: end that with Ctrl-C")
    if session.undoing:
        raise Refused(
            f"session {number} is rolling back already: what it has changed is being undone",
            advice=(
                "Nothing was ended. It can only be waited for; 'catenum now' shows how many rows"
                " are left."
            ),
        )
    sample = monitor.sample()
    sample = replace(sample, timeouts=monitor.timeouts(sample))
    graph = sample.graph
    held_up = graph.held_up_by(number)
    direct = len({edge.waiter for edge in graph.edges if edge.holder == number})
    suspected = tuple(suspect for suspect in sample.suspects if suspect.session == number)
    doubtful = {
        name
        for suspect in suspected
        for name in (suspect.waiter, *graph.held_up_by(suspect.waiter))
    }
    waiting = frozenset(sample.session(name).key for name in held_up | doubtful)
    longest = max((sample.waited_ms(name) for name in held_up), default=0.0)
    behind = tuple(dict.fromkeys(edge.holder for edge in graph.edges if edge.waiter == number))
    return Shown(session, sample, direct, len(held_up), longest, waiting, suspected, behind)


def release(monitor: Monitor, shown: Shown, way: Way, clock: Clock | None = None) -> Result:
    """Cancel the statement, or end the session, and see whether those go on that waited for it.

    Nothing is sent where there is no statement to cancel. Raises Refused where the id belongs to
    another session by now, or the session is in another transaction.
    """
    number = shown.session.id
    now = monitor.session(number)
    if now is None:
        return _outcome(
            monitor, shown, Result(way, gone=True, left=0, state="it had gone already", sent=False)
        )
    if now.key != shown.session.key:
        raise Refused(
            f"session {number} is another one by now: it began {now.started}, the one shown"
            f" {shown.session.started}",
            advice="Nothing was ended. Check again with 'catenum now'.",
        )
    if now.transaction != shown.session.transaction:
        raise Refused(
            f"session {number} is in another transaction by now: the one shown has ended",
            advice="Nothing was ended. Check again with 'catenum now'.",
        )
    if not _same_statement(shown, now):
        raise Refused(
            f"session {number} has begun another statement since it was shown",
            advice="Nothing was ended. Check again with 'catenum now'.",
        )
    if way == "cancel" and now.state in ("idle", "idle in a transaction"):
        return _outcome(
            monitor, shown, Result(way, gone=False, left=0, state=now.state, sent=False)
        )
    taken = monitor.cancel(now) if way == "cancel" else monitor.end(now)
    if not taken:
        raise Refused(
            f"the server did not take the order for session {number}: it may be at another"
            " statement by now",
            advice="Nothing was ended. Check again with 'catenum now'.",
        )
    clock = clock or Clock()
    deadline = clock.now_ms() + PATIENCE_MS
    while True:
        after = monitor.session(number)
        gone = after is None or after.key != shown.session.key
        state = after.state if after is not None and not gone else "gone"
        result = _outcome(monitor, shown, Result(way, gone=gone, left=0, state=state))
        carried_out = gone or (way == "cancel" and state != now.state)
        if (carried_out and not result.left and not result.behind) or clock.now_ms() > deadline:
            return result
        clock.rest(100)


def _same_statement(shown: Shown, now: SessionInfo) -> bool:
    """Whether it is at the statement that was shown: where the server does not number it, of the
    same text, and begun when that one began.
    """
    before = shown.session
    if before.statement != now.statement or before.statement_id != now.statement_id:
        return False
    if before.statement_ms is None or now.statement_ms is None or before.state != now.state:
        return before.statement_ms is None or now.statement_ms is not None
    return now.statement_ms >= before.statement_ms + shown.clock.now_ms() - COARSE_MS


def _outcome(monitor: Monitor, shown: Shown, result: Result) -> Result:
    """The result with what has become of those who waited."""
    sample = monitor.sample()
    still = sample.graph.held_up_by(shown.session.id)
    waits: dict[str, list[str]] = {}
    for edge in sample.edges:
        waits.setdefault(edge.waiter, []).append(edge.holder)
    stuck = [
        name
        for name, started in shown.waiting
        if name in waits and sample.session(name).started == started
    ]
    behind = _heads(sample, stuck) - {shown.session.id}
    free = [(name, started) for name, started in shown.waiting if name not in stuck]
    after = {name: monitor.session(name) for name, _ in free[:MOST_ASKED]}
    known = [(after[name], started) for name, started in free if name in after]
    ended = sum(one is None or one.started != started for one, started in known)
    failed = sum(
        one is not None and one.started == started and one.failed for one, started in known
    )
    return Result(
        result.way,
        gone=result.gone,
        left=len(still),
        state=result.state,
        went_on=len(free) - ended - failed,
        failed=failed,
        ended=ended,
        behind=tuple(sorted(behind)),
        sent=result.sent,
    )


def _heads(sample: Sample, names: Iterable[str]) -> set[str]:
    """Whom these wait for in the end."""
    graph = sample.graph
    heads = graph.heads() or []
    wanted = set(names)
    return {head for head in heads if wanted & set(graph.held_up_by(head))}
