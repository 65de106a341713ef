"""What every server offers for runs, in five ports, and the plain values that pass between it and
the lab.

A session never blocks: a statement is sent, then polled; ``fileno`` lets one place wait for many
sessions. A driver that cannot do that hides a thread behind the same face. Errors are the tool's
own: drivers' exceptions end here.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from catenum.core.record.recording import TargetInfo
from catenum.engines.ports.data import Data, DataError, NeedsReload, NotRestored, StatementsEffects
from catenum.engines.ports.lock_views import LockViews
from catenum.engines.ports.loops import Loop, LoopPlan, Loops, Rejected, Thinking, Waiting
from catenum.engines.ports.reports import Reports
from catenum.engines.ports.sessions import Beginning, Begun, Patience, Reply, Session, Sessions


@dataclass(frozen=True, slots=True, kw_only=True)
class Capabilities:
    """What this server and this login allow, each with the reason where it is refused.

    ``timeout_step_ms``: lock timeouts are rounded up to multiples of this. ``levels``: the
    isolation levels that really differ here. ``check_ms``: how long after its wait began a session
    that others wait for looks for cycles; 0: at once. ``counts_waits``: the server counts its lock
    waits (``wait_count``). ``keeps_plans``: a session plans statements once that it is to send
    often.
    """

    steers_victim: bool
    steers_victim_why: str = ""
    row_locks_by: str = ""
    timeout_step_ms: int = 1
    check_ms: float = 0.0
    counts_waits: bool = False
    keeps_plans: bool = False
    levels: tuple[str, ...] = (
        "read uncommitted",
        "read committed",
        "repeatable read",
        "serializable",
    )


class Engine(Data, Sessions, LockViews, Reports, Loops, Protocol):
    """A server, seen through a control connection of its own, with scratch space for one run: all
    five ports.
    """

    info: TargetInfo
    capabilities: Capabilities

    def alive(self) -> bool:
        """Whether the server still answers."""


__all__ = [
    "Beginning",
    "Begun",
    "Capabilities",
    "Data",
    "DataError",
    "Engine",
    "Looking",
    "Loop",
    "LoopPlan",
    "Loops",
    "NeedsReload",
    "NotRestored",
    "Patience",
    "Rejected",
    "Reply",
    "Reports",
    "Session",
    "Sessions",
    "StatementsEffects",
    "Thinking",
    "Waiting",
]
