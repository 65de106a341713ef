"""Ends a blocker, the gentler way first, and never another session than the one that was shown."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from catenum.core.errors import CatenumError
from catenum.core.moment.sample import Sample, SessionInfo
from catenum.engines.clock import Clock
from catenum.engines.lookout import APPLICATION, Lookout

Way = Literal["cancel", "end"]
#: How long the server is given to carry an order out (ms).
PATIENCE_MS = 3_000.0


class Refused(CatenumError):
    """The session is not one to be ended, or not the one that was shown."""


@dataclass(frozen=True)
class Shown:
    """What a person sees before deciding: the session, and what it holds up."""

    session: SessionInfo
    sample: Sample
    directly: int
    in_all: int
    longest_ms: float


@dataclass(frozen=True)
class Result:
    """What came of it. ``left``: sessions that still wait for it afterwards."""

    way: Way
    gone: bool
    left: int
    state: str


def look(lookout: Lookout, number: str) -> Shown:
    """The session and what it holds up. Raises Refused where there is none, or it is no client's."""
    session = lookout.session(number)
    if session is None:
        seen = " that this login can see" if not lookout.sees_all else ""
        raise Refused(f"there is no session {number}{seen}", advice="'catenum now' shows who is there.")
    if session.background:
        raise Refused(f"session {number} is a process of the server itself: it is not ended")
    if session.application == APPLICATION:
        raise Refused(f"session {number} is a watch of Catenum's own: end that with Ctrl-C")
    sample = lookout.sample()
    graph = sample.graph
    held_up = graph.held_up_by(number)
    direct = len({edge.waiter for edge in graph.edges if edge.holder == number})
    longest = max((sample.waited_ms(name) for name in held_up), default=0.0)
    return Shown(sample.by_id.get(number, session), sample, direct, len(held_up), longest)


def release(lookout: Lookout, shown: Shown, way: Way, clock: Clock | None = None) -> Result:
    """Cancel the statement, or end the session, and see what came of it.

    Raises Refused where the id belongs to another session by now.
    """
    number = shown.session.id
    now = lookout.session(number)
    if now is None:
        return Result(way, gone=True, left=0, state="it had gone already")
    if now.key != shown.session.key:
        raise Refused(
            f"session {number} is another one by now: it began {now.started}, the one shown {shown.session.started}",
            advice="Nothing was ended. Check again with 'catenum now'.",
        )
    taken = lookout.cancel(number) if way == "cancel" else lookout.end(number)
    if not taken:
        raise Refused(f"the server did not take the order for session {number}")
    clock = clock or Clock()
    deadline = clock.now_ms() + PATIENCE_MS
    while True:
        left = len(lookout.sample().graph.held_up_by(number))
        after = lookout.session(number)
        gone = after is None or after.key != shown.session.key
        if (gone or (way == "cancel" and after is not None and after.state != now.state)) and not left:
            break
        if clock.now_ms() > deadline:
            break
        clock.rest(100)
    state = "gone" if gone else (after.state if after is not None else "gone")
    return Result(way, gone=gone, left=left, state=state)
