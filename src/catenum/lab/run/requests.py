"""What the conductor may need, and the answer: the vocabulary between it and its driver."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from catenum.core.record.recording import Picture, ServerError
from catenum.core.record.values import NOTHING, Binding
from catenum.core.record.waits import Edge
from catenum.engines.ports import Beginning, Begun, Patience, Reply


@dataclass(frozen=True, slots=True)
class Begin:
    """Begin the transaction, and report what the server made of it."""

    transaction: str
    how: Beginning


@dataclass(frozen=True, slots=True)
class Send:
    """Send a statement, without waiting for its answer."""

    transaction: str
    sql: str
    patience: Patience
    values: Binding = NOTHING


@dataclass(frozen=True, slots=True)
class Undo:
    """Roll the transaction back, or back to a savepoint; that waits for nobody."""

    transaction: str
    savepoint: str = ""


@dataclass(frozen=True, slots=True)
class Cancel:
    """Ask the server to end the statement under way; ``whole``: the session with it."""

    transaction: str
    whole: bool = False


@dataclass(frozen=True, slots=True)
class Lose:
    """The transaction's session is killed, or its client closes the connection: until the server
    has undone its work.
    """

    transaction: str
    how: Literal["killed", "closed"]


@dataclass(frozen=True, slots=True)
class Await:
    """Report replies, waiting at most so many ms for the first."""

    at_most_ms: float


@dataclass(frozen=True, slots=True)
class PollWaits:
    """Report who of those under way waits for whom."""


@dataclass(frozen=True, slots=True)
class TakePicture:
    """List every lock of the run's sessions."""

    move: int


@dataclass(frozen=True, slots=True)
class Announce:
    """A move is about to be made; a person may want to be asked."""

    move: int
    transaction: str
    sql: str


@dataclass(frozen=True, slots=True)
class Sleep:
    """Let time pass until then (ms on the run's clock): a retry's pause."""

    until_ms: float


Request = Begin | Send | Undo | Cancel | Lose | Await | PollWaits | TakePicture | Announce | Sleep


@dataclass(frozen=True, slots=True, kw_only=True)
class Answer:
    """The answer to a need: always the time it was met, and what the need asked for."""

    at_ms: float
    replies: tuple[tuple[str, Reply], ...] = ()
    edges: tuple[Edge, ...] = ()
    begun: Begun | None = None
    error: ServerError | None = None
    picture: Picture | None = None
