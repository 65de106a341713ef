"""What a conductor keeps of a run as it goes, and what whoever guides it is told: plain data, apart from the rules."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Protocol

from catenum.core.recording import ServerError, Status
from catenum.core.scenario import Transaction
from catenum.core.waits import Edge
from catenum.engines.protocol import Patience


@dataclass
class Lane:
    """One transaction as it goes: what comes next, and where it stands."""

    name: str
    transaction: Transaction
    index: int
    next: int = 0
    attempt: int = 1
    begun: bool = False
    under_way: bool = False
    over: bool = False
    status: Status = "not begun"
    isolation: str = ""
    read_only: bool = False
    sent_ms: float = 0.0
    idle_until_ms: float = 0.0
    patience: Patience | None = None
    limit_hit: bool = False
    waits: list[int] = field(default_factory=list)  # open waits, as positions in Conductor.waits

    @property
    def ready(self) -> bool:
        return not self.over and not self.under_way

    @property
    def statement(self) -> int | None:
        """The number of the statement that is next or under way; None for the end."""
        return self.next + 1 if self.next < len(self.transaction.statements) else None

    @property
    def sql(self) -> str:
        if self.next < len(self.transaction.statements):
            return self.transaction.statements[self.next].text
        return self.transaction.ends


@dataclass
class Cycle:
    """A deadlock as it is met. ``edges`` go round; ``victim`` comes with the server's verdict."""

    edges: tuple[Edge, ...]
    move: int
    at_ms: float
    closer: str
    victim: str | None = None
    verdict_ms: float | None = None
    error: ServerError | None = None
    report: str | None = None
    ended_by_us: bool = False
    pending: bool = True

    @property
    def members(self) -> frozenset[str]:
        return frozenset(edge.waiter for edge in self.edges)


@dataclass
class Moved:
    """What one move brought: whose it was, which statements came to their answer in it, and whose work was undone.

    ``completed`` and ``ended`` name transactions with the number of a statement (None: the end). ``holders``: whom the
    mover waits for when the move is over.
    """

    transaction: str
    statement: int | None
    completed: list[tuple[str, int | None]] = field(default_factory=list)
    undone: list[str] = field(default_factory=list)
    holders: frozenset[str] = frozenset()


class Guide(Protocol):
    """Chooses the moves, one by one, where no order was given beforehand."""

    def choose(self, ready: Sequence[str], waits: frozenset[tuple[str, str]]) -> str | None:
        """Which of ``ready`` moves next; None breaks the run off. ``waits``: who waits for whom now."""

    def moved(self, moved: Moved) -> None:
        """The chosen move is over."""
