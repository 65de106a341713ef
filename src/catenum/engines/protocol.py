"""What every server module offers, and the plain values that pass between it and the lab.

A session never blocks: a statement is sent, then polled; ``fileno`` lets one place wait for many sessions. A driver
that cannot do that hides a thread behind the same face. Errors are the tool's own: drivers' exceptions end here.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Protocol

from catenum.core.errors import TargetError
from catenum.core.recording import LockEntry, PathStep, Result, ServerError, TableKeys, TableRows, TargetInfo
from catenum.core.waits import Edge


class Patience(Enum):
    """Whose deadlock check is to find a closed cycle, for servers in which the first to check becomes the victim."""

    FIRST = "first"  # this one closes the cycle, if there is to be one
    CHOSEN = "chosen"  # this one was chosen as the victim, and waits before the cycle closes
    LAST = "last"  # everybody else; still checks, should the others fail to


@dataclass(frozen=True, slots=True, kw_only=True)
class Beginning:
    """How a transaction begins."""

    isolation: str | None = None
    access: str | None = None
    timeout_ms: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Begun:
    """What the server says of a transaction that has just begun."""

    isolation: str
    read_only: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Reply:
    """The server's answer to a statement: a count of rows and perhaps the rows, or an error.

    ``edges``, ``report``: the waits that a deadlock error itself reports, and the server's own report of it.
    """

    rows: int | None = None
    result: Result | None = None
    error: ServerError | None = None
    edges: tuple[Edge, ...] = ()
    report: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Capabilities:
    """What this server and this login allow, each with the reason where it is refused.

    ``timeout_step_ms``: lock timeouts are rounded up to multiples of this. ``levels``: the isolation levels that really
    differ here.
    ``check_ms``: how long after its wait began a session that others wait for looks for rings; 0: at once.
    """

    steers_victim: bool
    steers_victim_why: str = ""
    row_locks_by: str = ""
    timeout_step_ms: int = 1
    check_ms: float = 0.0
    levels: tuple[str, ...] = ("read uncommitted", "read committed", "repeatable read", "serializable")


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

    def send(self, sql: str, patience: Patience | None = None) -> None:
        """Send one statement without waiting for it."""

    def poll(self) -> Reply | None:
        """The reply, once the server is ready for the next statement; None before."""

    def cancel(self) -> None:
        """Ask the server to end the statement under way."""

    def close(self) -> None:
        """Close the connection; an open transaction is rolled back by the server."""


class Engine(Protocol):
    """A server, seen through a control connection of its own, with scratch space for one run."""

    info: TargetInfo
    capabilities: Capabilities

    def make_scratch(self) -> list[str]:
        """Make the scratch space. Returns the names of stale ones, left by a killed run, that were cleared."""

    def load(self, script: str) -> None:
        """Run set-up SQL in the scratch space, from empty. Raises DataError where the server rejects it."""

    def add(self, sql: str) -> None:
        """Run one more statement of set-up in the scratch space. Raises DataError where the server rejects it."""

    def fill(self, table: str, columns: Sequence[str], rows: Iterable[tuple[str | int | None, ...]]) -> None:
        """Put rows into a table, in bulk. Raises DataError where the server rejects them."""

    def analyze(self) -> None:
        """Have the server look at the data anew, so that it plans by what is there."""

    def tables(self) -> dict[str, TableKeys]:
        """The scratch space's tables and their keys."""

    def notes(self) -> list[str]:
        """What of the scratch space's tables a reader should know, such as that one has no row locks."""

    def plan(self, sql: str) -> tuple[PathStep, ...]:
        """The access path that the server would take for ``sql`` now; empty where it has none. Nothing is executed."""

    def keep_data(self, ignored: Mapping[str, Sequence[str]], *, shape: bool) -> None:
        """Remember what the tables hold now, for ``data_state`` and ``restore_data``.

        ``ignored``: per table the columns that no fingerprint shall cover. ``shape``: statements may change the tables
        themselves. Raises NotRestored where what is put back is not what was there.
        """

    def data_state(self) -> str:
        """A fingerprint of what the tables hold now."""

    def restore_data(self) -> None:
        """Bring back what ``keep_data`` remembered, after ``data_state``.

        Raises NeedsReload where only loading anew can, NotRestored where other rows stand there afterwards.
        """

    def hurry(self) -> float:
        """Have sessions that are opened from now on check for deadlocks as soon as they can: for many runs.

        Returns how long after a wait began its check comes, in ms; 0 where rings are found at once.
        """

    def calm(self) -> None:
        """The end of the hurry: rings are to be seen closed before the server ends them."""

    def open_session(self, name: str, often: Sequence[str] = ()) -> Session:
        """A connection that names itself to the server and cannot outlive the run.

        ``often``: statements that it will send many times while the tables stay as they are, for a server that gains
        by planning them once. Nobody is at work in the scratch space when this is asked.
        """

    def renew(self, sessions: Mapping[str, Session]) -> Mapping[str, Session]:
        """Sessions as they were when opened, by name: without settings, named locks or temporary tables.

        None of them is in a transaction. The same objects, or others in their place.
        """

    def look(self, sessions: Mapping[str, Session], now_ms: float) -> list[Edge]:
        """The cheap look: who among ``sessions`` waits for whom, at this moment."""

    def picture(self, sessions: Mapping[str, Session]) -> tuple[list[LockEntry], str | None]:
        """Every lock of ``sessions``, and a note on what could not be seen."""

    def edges_of(
        self, error: ServerError, victim: Session | None = None, names: Mapping[int, str] | None = None
    ) -> tuple[Edge, ...]:
        """The waits that a deadlock error itself reports, or that its ``victim`` is known to have met.

        ``names`` by session number, the run's own by default.
        """

    def ring_statements(self, names: Mapping[int, str]) -> dict[str, str]:
        """The statement that each member of the latest deadlock was at, where the server's report tells."""

    def report_of(self, error: ServerError) -> str | None:
        """The server's own report of the deadlock that ended in ``error``."""

    def rows(self, limit: int) -> dict[str, TableRows]:
        """The contents of the scratch space's tables."""

    def truth(self, sql: str) -> bool:
        """Whether a query returns true. Raises DataError where it fails or is no yes-or-no query."""

    def verdict_ms(self, ring: Sequence[Edge]) -> float:
        """How long a ring may stand before it is clear that the server will not end it."""

    def victim_rule(self, patience: Patience | None, closed: bool | None, wanted: str = "") -> str:
        """By which rule this server chose its victim.

        ``closed``: the victim's wait closed the cycle (None: not known, as in loops). ``wanted``: the mode that the
        victim waited for, which tells which part of the server chose.
        """

    def alive(self) -> bool:
        """Whether the server still answers."""

    def end(self, sessions: Sequence[Session]) -> None:
        """End ``sessions`` and wait until the server has let go of what they held. Never raises."""

    def loop_place(self) -> dict[str, object]:
        """Where a looping process connects to: plain values for the ``Loop`` in the server's module ``loop``."""

    def waiting_now(self) -> int | None:
        """How many of the run's sessions wait for a lock now; None where the server counts waits itself."""

    def waiting_among(self, numbers: Collection[str]) -> set[str]:
        """Which of the run's sessions, by their numbers, wait for a lock at this moment."""

    def wait_count(self) -> int | None:
        """How many lock waits the server has counted since it started; None where it does not count them."""

    def close(self) -> None:
        """Drop the scratch space and disconnect. Never raises."""


@dataclass(frozen=True, slots=True, kw_only=True)
class LoopPlan:
    """One transaction as it is looped: how it begins, its statements, and how each iteration ends."""

    beginning: Beginning
    statements: tuple[str, ...]
    ends: str


class Loop(Protocol):
    """One connection that runs a transaction again and again, as fast as the driver can."""

    id: str

    def run(self, at: Callable[[int], None]) -> ServerError | None:
        """One iteration; ``at`` is told the number of each statement before it is sent. The error, if one came."""

    def close(self) -> None:
        """Disconnect."""


class NeedsReload(Exception):
    """The data cannot be brought back by itself; it has to be loaded anew."""


class NotRestored(TargetError):
    """After all was put back, other rows stand there than before."""

    def __init__(self, what: str, tables: Sequence[str]) -> None:
        super().__init__(
            f"{what}: {', '.join(tables) or 'the tables'} differ",
            advice="Runs cannot be compared that do not start from the same rows. A trigger, or somebody else, may be "
            "changing them; values that differ by nature (the clock, chance) can be named under 'ignore:'.",
        )


class DataError(Exception):
    """SQL that the server rejected outside of the scenario's transactions: in ``data`` or in a ``holds`` query."""

    def __init__(self, error: ServerError, sql: str) -> None:
        super().__init__(error.message)
        self.error, self.sql = error, sql
