"""What every server module offers for watching a server in use: one connection that looks, and ends
nobody unasked.

It reads, with time limits of its own, is marked by its application name, takes no lock that anybody
could wait for, and waits behind nobody: a check that is not available in time says so.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal, Protocol

from catenum.core.errors import TargetError
from catenum.core.record.recording import ServerError, TargetInfo
from catenum.core.record.waits import Resource, key_text
from catenum.core.snapshot.sample import Sample, SessionInfo, Timeout
from catenum.core.sql.statements import Access
from catenum.engines.clock import Clock

#: How a watching connection names itself to the server.
APPLICATION = "catenum watch"
#: How one is called that the server does not name.
SOMEBODY = "a session that the server does not name"
#: A check that takes longer than this is abandoned (ms).
CHECK_MS = 5_000
#: Without any answer for so long (ms), the server or the network has stopped: the connection is
#: abandoned.
NO_ANSWER_MS = 7_000


class CheckFailed(TargetError):
    """The server answered, and could not be looked at: the connection stands, and the next check
    may succeed.

    ``number``: the server's own, of the error by which it rejected a query; None where that is not
    why.
    """

    def __init__(self, message: str, *, number: int | None = None) -> None:
        super().__init__(message)
        self.number = number


class CheckTimedOut(CheckFailed):
    """The server did not answer a check in time."""


Purpose = Literal["run", "watch", "intake"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Check:
    """One thing that capture needs: how it stands, and what would change it (never run by itself).

    ``turn_on``: statements, one a line, that an administrator can run as they are; ``then``: what
    is to be done beside that; ``cost``: what it costs the server; ``serves``: what it is for.
    """

    what: str
    state: Literal["on", "off", "missing", "not reported"]
    value: str = ""
    why: str = ""
    turn_on: str | None = None
    then: str | None = None
    needed: bool = True
    cost: str = ""
    serves: tuple[Purpose, ...] = ("watch",)


@dataclass(frozen=True, slots=True, kw_only=True)
class StatementRate:
    """How often a kind of statement has been executed since statistics were reset, and how long in
    all (ms); of that the time for locks, where the server counts it.
    """

    text: str
    calls: int
    total_ms: float
    lock_ms: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class DeadlockReport:
    """A deadlock as the server reports it, with a key by which the same one is known again."""

    key: str
    text: str
    error: ServerError | None = None


def named_row(access: Access) -> Resource:
    """The row that a statement is after, by the columns that it compares with constants: no lock
    table is read.
    """
    key = access.equals if access.verb != "insert" else ()
    text = f"{access.table}({key_text(key)})" if key else f"a row of {access.table}"
    return Resource(kind="row", text=text, table=access.table, key=key or None)


class Link:
    """How long a query is on its way, by one that takes the server no time.

    Asked for again only where a check took long: the way counts as long as the shortest of what was
    seen lately.
    """

    #: A check that takes no longer than this (ms) needs no account of where the time went.
    QUICK_MS = 100.0

    def __init__(self, ping: Callable[[], object]) -> None:
        self._ping, self._clock = ping, Clock()
        self._trips: deque[float] = deque(maxlen=5)
        self._queries = 0

    def asked(self) -> None:
        """A query was sent, and answered."""
        self._queries += 1

    def spent_ms(self, cost_ms: float) -> float:
        """Of a check that took ``cost_ms``, with all queries since the last call."""
        queries, self._queries = self._queries, 0
        if cost_ms <= self.QUICK_MS:
            return 0.0
        before = self._clock.now_ms()
        self._ping()
        self._queries = 0
        self._trips.append(self._clock.now_ms() - before)
        return min(self._trips) * queries


class Monitor(Protocol):
    """One connection to a running server that looks."""

    info: TargetInfo
    login: str
    sees_all: bool

    def sample(self, *, locks: bool = False, at_least_ms: float = 0.0) -> Sample:
        """Who waits for whom now, and which transactions stand open.


        ``at_least_ms``: where nobody waits for so long, who waits for whom need not be reported, so
        that a check of a busy server costs next to nothing.

        ``locks``: every lock of the sessions in a chain too. Raises LookTimedOut, TargetError.
        """

    @property
    def blind(self) -> str | None:
        """Why a check cannot see all; None where it can."""

    def link_ms(self, cost_ms: float) -> float:
        """How much of the check before was spent on the way to the server and back: no cost to the
        server.
        """

    def timeouts(self, sample: Sample) -> tuple[Timeout, ...]:
        """When the server itself ends the waits of a sample, as far as it reports that."""

    def deadlock_report(self) -> DeadlockReport | None:
        """The server's own report of the latest deadlock, where it keeps one that this login may
        read.
        """

    def logs_deadlocks(self) -> bool:
        """Whether the server writes the report of every deadlock to its log."""

    def session(self, number: str) -> SessionInfo | None:
        """A session by its id; None where there is none."""

    def cancel(self, session: SessionInfo) -> bool:
        """End the statement of a session, if it is still in the transaction that is told here.
        Returns whether the server took the order.
        """

    def end(self, session: SessionInfo) -> bool:
        """End a session, if it is still in the transaction that is told here. Returns whether the
        server took the order.
        """

    def checks(self) -> Sequence[Check]:
        """What must be on for capture, what this login may see, and what it may do for a run."""

    def rates(self) -> Sequence[StatementRate] | None:
        """Statement statistics, where the server has them on; None where not."""

    def close(self) -> None:
        """Disconnect. Never raises."""


def no_answer(shown_url: str) -> TargetError:
    """A server that does not end a check by its own time limit has stopped, or cannot be
    reached.
    """
    return TargetError(
        f"{shown_url}: no answer for {NO_ANSWER_MS / 1000:g} s",
        advice=(
            "The server or the network has stopped: a working server ends such a check by itself."
        ),
    )
