"""What every server module offers for watching a server in use: one connection that looks, and ends nobody unasked.

It reads, with time limits of its own, is marked by its application name, takes no lock that anybody could wait for, and
waits behind nobody: a look that cannot be had in time says so.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, Protocol

from catenum.core.errors import TargetError
from catenum.core.live import Sample, SessionInfo
from catenum.core.recording import ServerError, TargetInfo
from catenum.core.statements import Access, footprint
from catenum.core.waits import Resource

#: How a watching connection names itself to the server.
APPLICATION = "catenum watch"
#: A look that takes longer than this is given up (ms).
LOOK_MS = 5_000
#: Where even that is not told for so long (ms), the server or the network stands still: the connection is given up.
NO_ANSWER_MS = 7_000


class LookTimedOut(TargetError):
    """The server did not answer a look in time; the next one may be answered."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Check:
    """One thing that capture needs: how it stands, and the statement that would change it (never run by itself)."""

    what: str
    state: Literal["on", "off", "missing", "not told"]
    value: str = ""
    why: str = ""
    turn_on: str | None = None
    needed: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class StatementRate:
    """How often a kind of statement has been executed since statistics were reset, and how long in all (ms)."""

    text: str
    calls: int
    total_ms: float


@dataclass(frozen=True, slots=True, kw_only=True)
class DeadlockReport:
    """A deadlock as the server reports it, with a key by which the same one is known again."""

    key: str
    text: str
    error: ServerError | None = None


def named_row(access: Access) -> Resource:
    """The row that a statement is after, by the columns that it compares with constants: no lock table is read."""
    key = ", ".join(f"{column}={value}" for column, value in access.equals if access.verb != "insert")
    text = f"{access.table}({key})" if key else f"a row of {access.table}"
    return Resource(kind="row", text=text, table=access.table, key=key or None)


def access_to(statement: str | None, table: str, server: str) -> Access | None:
    """How ``statement`` goes to ``table``; None where it does not say."""
    return next(iter(footprint(statement or "", server).on(table)), None)


class Lookout(Protocol):
    """One connection to a running server that looks."""

    info: TargetInfo
    login: str
    sees_all: bool

    def sample(self, *, locks: bool = False, at_least_ms: float = 0.0) -> Sample:
        """Who waits for whom now, and which transactions stand open.

        ``at_least_ms``: where nobody waits for so long, who waits for whom need not be told, so that a look at a busy
        server costs next to nothing.

        ``locks``: every lock of the sessions in a chain too. Raises LookTimedOut, TargetError.
        """

    def deadlock_report(self) -> DeadlockReport | None:
        """The server's own report of the latest deadlock, where it keeps one that this login may read."""

    def session(self, number: str) -> SessionInfo | None:
        """A session by its id; None where there is none."""

    def cancel(self, number: str) -> bool:
        """End the statement of a session. Returns whether the server took the order."""

    def end(self, number: str) -> bool:
        """End a session. Returns whether the server took the order."""

    def checks(self) -> Sequence[Check]:
        """What must be on for capture, and what this login may see."""

    def rates(self) -> Sequence[StatementRate] | None:
        """Statement statistics, where the server has them on; None where not."""

    def close(self) -> None:
        """Disconnect. Never raises."""


def no_answer(shown_url: str) -> TargetError:
    """Whoever does not even end a look by its own time limit stands still, or cannot be reached."""
    return TargetError(
        f"{shown_url}: no answer for {NO_ANSWER_MS / 1000:g} s",
        advice="The server or the network stands still: a server that works ends such a look by itself.",
    )
