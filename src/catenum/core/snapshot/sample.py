"""A running server at one moment, as plain records: its sessions, who waits for whom, which
transactions stand open.

A session is known by its id *and* its start, since ids are used again. Ages are lengths of time by
the server's own clock, so that a clock that is off changes nothing. The waits are edges of the same
wait graph that scenarios use; their ``since_ms`` is negative: so long before the sample was taken.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from typing import Literal

from catenum.core.record.recording import LockEntry, TargetInfo
from catenum.core.record.waits import Edge, WaitGraph
from catenum.core.servers import rules_of
from catenum.core.snapshot.trace_context import traceparent_in

State = Literal[
    "working",
    "waits for a lock",
    "waits",
    "idle in a transaction",
    "idle",
    "not visible",
    "not reported",
]

#: So many sessions that wait over one thing in two successive checks make an incident, however
#: short each wait is.
PILE = 10


@dataclass(frozen=True, slots=True, kw_only=True)
class SessionInfo:
    """One session. ``None`` where the server does not report it, or this login may not see it. Ages
    in ms.

    ``waits_on``: what it waits for other than a lock. ``cut``: the server keeps only the
    statement's beginning. ``background``: a process of the server itself, and its ``kind`` in the
    server's words. ``port`` and ``process``: its client's, on ``host``. ``undoing``: it is rolling
    back; ``killed``: somebody has ended it. ``earlier``: those statements of its open transaction
    that have ended, where the server keeps them; ``earlier_cut``: it no longer has the first of
    them. ``took``: the statement that took the lock which others wait for, where the server tells.
    ``transaction``: what makes its transaction the same one when seen again; ``statement_id``: the
    same of its statement, running or ended, where the server tells it. ``failed``: its transaction
    has met an error, and can only be rolled back.
    """

    id: str
    started: str | None = None
    user: str | None = None
    application: str | None = None
    host: str | None = None
    database: str | None = None
    state: State = "not reported"
    waits_on: str | None = None
    transaction: str | None = None
    transaction_ms: float | None = None
    statement_ms: float | None = None
    state_ms: float | None = None
    isolation: str = "not reported"
    statement: str | None = None
    statement_id: str | None = None
    cut: bool = False
    rows_changed: int | None = None
    background: bool = False
    kind: str | None = None
    port: int | None = None
    process: str | None = None
    undoing: bool = False
    killed: bool = False
    earlier: tuple[str, ...] = ()
    earlier_cut: bool = False
    took: str | None = None
    failed: bool = False

    @property
    def traceparent(self) -> str | None:
        """The trace context that its statements carry, the latest one first."""
        texts = (self.statement, *reversed(self.earlier))
        return next((found for one in texts if (found := traceparent_in(one))), None)

    @property
    def key(self) -> tuple[str, str | None]:
        """What makes it the same session when seen again."""
        return (self.id, self.started)

    @property
    def who(self) -> str:
        """How it is called: its id, with the application where that says something."""
        return f"{self.id} {self.application}" if self.application else self.id


@dataclass(frozen=True, slots=True, kw_only=True)
class Suspect:
    """A session that may be the one that ``waiter`` waits for, where the server does not name it,
    and why it may be.

    Those of one wait come the likeliest first.
    """

    waiter: str
    session: str
    why: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Held:
    """How long a session has held others up. ``exact``: the server tells it; otherwise it is the
    most it can be.
    """

    session: str
    ms: float
    exact: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Timeout:
    """How long a session waits at the most (ms) for what it waits for now. ``own``: the server
    tells this session's; otherwise it is the setting that sessions begin with, and this one may
    have another.
    """

    session: str
    ms: float
    own: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Sample:
    """One look at a server. ``cost_ms`` and ``rows_read`` are what it cost; ``deadlocks`` counts
    since its start.

    ``open_transactions`` that do nothing are among ``sessions``, whether somebody waits for them or
    not. ``blind``: why not everything could be seen (the login may not see everybody, say), so that
    what is not here may be there all the same; None: all was seen. ``held``: where the server tells
    since when a session has held others up. ``inexact``: those whose waits' lengths are the most
    they can be, since the server counts whole seconds. ``timeouts``: of those who wait, where they
    were asked for.
    """

    at: str
    target: TargetInfo
    sessions: tuple[SessionInfo, ...]
    edges: tuple[Edge, ...]
    connected: int
    cost_ms: float
    rows_read: int
    deadlocks: int | None = None
    locks: tuple[LockEntry, ...] = ()
    notes: tuple[str, ...] = ()
    blind: str | None = None
    suspects: tuple[Suspect, ...] = ()
    held: tuple[Held, ...] = ()
    inexact: frozenset[str] = frozenset()
    timeouts: tuple[Timeout, ...] = ()
    by_id: dict[str, SessionInfo] = field(default_factory=dict, compare=False, repr=False)

    def __post_init__(self) -> None:
        self.by_id.update((session.id, session) for session in self.sessions)

    @property
    def graph(self) -> WaitGraph:
        """Who waits for whom, by session id."""
        return WaitGraph(self.edges)

    @property
    def partial(self) -> bool:
        """Whether something may be there that is not seen."""
        return self.blind is not None

    @property
    def idle_open(self) -> list[SessionInfo]:
        """Open transactions that do nothing, the oldest first."""
        idle = [
            one for one in self.sessions if one.state == "idle in a transaction" and not one.undoing
        ]
        return sorted(idle, key=lambda session: -(session.transaction_ms or 0.0))

    def waited_ms(self, name: str) -> float:
        """How long a session has been waiting, by the longest of its waits."""
        return max(
            (-(edge.since_ms or 0.0) for edge in self.edges if edge.waiter == name), default=0.0
        )

    def stuck_ms(self, name: str) -> float:
        """How long a session that waits has been at its statement, which may have waited for others
        before.
        """
        return max(self.waited_ms(name), self.session(name).statement_ms or 0.0)

    def holds_up(self, name: str) -> Held:
        """How long this session, and no other before it, has held others up.

        Where the server does not tell: no longer than the longest of its waiters has waited, and
        than its own transaction is old.
        """
        reported = [held for held in self.held if held.session == name]
        if reported:
            return max(reported, key=lambda held: held.ms)
        lengths = [
            -edge.since_ms
            for edge in self.edges
            if edge.holder == name and edge.since_ms is not None
        ]
        bounds = [max(lengths)] if lengths else []
        age = self.session(name).transaction_ms
        return Held(
            session=name,
            ms=min([*bounds, *([age] if age is not None else [])], default=0.0),
            exact=False,
        )

    @property
    def longest_stuck_ms(self) -> float:
        """The longest that anybody who waits has been at its statement."""
        return max((self.stuck_ms(name) for name in self.graph.waiters), default=0.0)

    @property
    def longest_wait_ms(self) -> float:
        return max((0.0 - (edge.since_ms or 0.0) for edge in self.edges), default=0.0)

    def session(self, name: str) -> SessionInfo:
        """A session; one that is not listed (it has gone, or cannot be seen) by its id alone."""
        return self.by_id.get(name) or SessionInfo(id=name)

    def masked(self) -> Sample:
        """The same without literals in statements and keys."""
        masked = rules_of(self.target.server).sql.masked
        return replace(
            self,
            sessions=tuple(masked_session(s, masked) for s in self.sessions),
            edges=tuple(mask_edges(self.edges)),
            locks=tuple(replace(entry, resource=entry.resource.masked()) for entry in self.locks),
            by_id={},
        )


def masked_session(session: SessionInfo, masked: Callable[[str], str]) -> SessionInfo:
    """A session without literals in its statements; their trace context stays."""
    statement = masked(session.statement) if session.statement else None
    trace = session.traceparent
    if statement is not None and trace is not None:  # it stands in a comment, which is masked, too
        statement = f"{statement.rstrip()} /*traceparent='{trace}'*/"
    took = masked(session.took) if session.took else None
    return replace(
        session, statement=statement, earlier=tuple(map(masked, session.earlier)), took=took
    )


def mask_edges(edges: Iterable[Edge]) -> list[Edge]:
    """The edges without values of keys."""
    return [replace(edge, resource=edge.resource.masked()) for edge in edges]
