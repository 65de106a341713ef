"""Sessions: opened, made new, ended."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Literal, Protocol

from catenum.core.record.recording import Result, ServerError
from catenum.core.record.values import NOTHING, Binding
from catenum.core.record.waits import Edge


class Patience(Enum):
    """Whose deadlock check is to find a closed cycle, for servers in which the first to check
    becomes the victim.
    """

    FIRST = "first"  # this one closes the cycle, if there is to be one
    CHOSEN = "chosen"  # this one was chosen as the victim, and waits before the cycle closes
    LAST = "last"  # everybody else; still checks, should the others fail to


@dataclass(frozen=True, slots=True, kw_only=True)
class Beginning:
    """How a transaction begins. ``limits_itself``: its session has set how long it waits.
    ``goes_on``: after an error it may go on; where the server ends a transaction with the error,
    the next statement begins another, as with drivers that switch autocommit off.
    ``autocommit``: none is begun, and what is said applies to each statement. ``text``: the
    statement that begins it, where the scenario has one.
    """

    isolation: str | None = None
    access: str | None = None
    timeout_ms: int | None = None
    limits_itself: bool = False
    goes_on: bool = False
    autocommit: bool = False
    text: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Begun:
    """What the server says of a transaction that has just begun."""

    isolation: str
    read_only: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Reply:
    """The server's answer to a statement: a count of rows and perhaps the rows, or an error.

    ``edges``, ``report``: the waits that a deadlock error itself reports, and the server's own
    report of it. ``in_transaction``: false where the session is in no transaction after it.
    ``rolled_back``: the server answered a commit with a rollback.
    """

    rows: int | None = None
    result: Result | None = None
    error: ServerError | None = None
    edges: tuple[Edge, ...] = ()
    report: str | None = None
    in_transaction: bool = True
    rolled_back: bool = False


class Session(Protocol):
    """One connection with one transaction of the scenario on it."""

    name: str
    id: str

    def fileno(self) -> int:
        """What to wait on for an answer."""

    def begin(self, how: Beginning) -> None:
        """Send the beginning of a transaction; ``poll`` gives the reply."""

    def begun(self) -> Begun:
        """What the server reported after ``begin``."""

    def send(self, sql: str, patience: Patience | None = None, values: Binding = NOTHING) -> None:
        """Send one statement without waiting for it. ``values`` are bound to its parameters, in the
        order of their names' first appearance; they are never put into its text.
        """

    def read(self, sql: str) -> ServerError | None:
        """Have the server read a statement without running it: what it refuses, or None. Not while
        a statement is under way.
        """

    def poll(self) -> Reply | None:
        """The reply, once the server is ready for the next statement; None before."""

    def cancel(self) -> None:
        """Ask the server to end the statement under way."""

    def kill(self) -> None:
        """Ask the server to end the session: the statement under way does not end by being
        cancelled.
        """

    def close(self) -> None:
        """Close the connection; an open transaction is rolled back by the server."""


class Sessions(Protocol):
    """The port for sessions."""

    def connections_left(self) -> int:
        """How many more sessions the server lets in now."""

    @property
    def sandboxed(self) -> bool:
        """Whether what a scenario brings has no rights outside the scratch space, once that is
        made.
        """

    def use_short_deadlock_timeout(self) -> float:
        """Have sessions that are opened from now on check for deadlocks as soon as they can: for
        many runs.

        Returns how long after a wait began its check comes, in ms; 0 where cycles are found at
        once.
        """

    def use_long_deadlock_timeout(self) -> None:
        """The end of the hurry: cycles are to be seen closed before the server ends them."""

    def leave_alone(self, settings: Collection[str]) -> None:
        """These settings of the server are the scenario's: no session is to be given others."""

    def open_session(self, name: str, often: Sequence[str] = ()) -> Session:
        """A connection that names itself to the server and cannot outlive the run.

        ``often``: statements that it will send many times while the tables stay as they are, for a
        server that gains by planning them once. Nobody is at work in the scratch space when this is
        asked.
        """

    def idle_limits(self) -> tuple[str, ...]:
        """The server's settings that end the session of a client which is silent or gone, each as
        ``name = value``.
        """

    def lose(self, session: Session, how: Literal["killed", "closed"]) -> None:
        """A session is ended from outside, or by its client, whatever it is in; returns when the
        server has undone that. Raises TargetError where it does not in time.
        """

    def renew(self, sessions: Mapping[str, Session]) -> Mapping[str, Session]:
        """Sessions as they were when opened, by name: without settings, named locks or temporary
        tables.

        None of them is in a transaction. The same objects, or others in their place.
        """

    def keeps_numbers(self) -> bool:
        """Whether a session may keep numbers of a sequence of the scratch space for itself."""

    def end(self, sessions: Sequence[Session]) -> None:
        """End ``sessions`` and wait until the server has released what they held. Never raises."""
