"""What a conductor keeps of a run as it goes, and what its guide learns: plain data, apart from the
rules.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal, Protocol

from catenum.core.record.recording import ServerError, Status
from catenum.core.record.waits import Edge
from catenum.core.scenario.carry import Carrier
from catenum.core.scenario.model import ROLL_BACK, Ends, NextStep, Statement, Transaction, next_step
from catenum.core.space.moves import MoveResult
from catenum.engines.ports import Patience


@dataclass
class TransactionState:
    """One transaction as it goes: what comes next, and where it stands."""

    name: str
    transaction: Transaction
    index: int
    next: int = 0
    attempt: int = 1
    begun: bool = False
    in_transaction: bool = False  # in that which it has begun, as far as is known
    under_way: bool = False
    over: bool = False
    status: Status = "not begun"
    isolation: str = ""
    read_only: bool = False
    sent_ms: float = 0.0
    idle_until_ms: float = 0.0
    patience: Patience | None = None
    limit_hit: bool = False
    killed: bool = False  # a cancellation was not enough
    limits_itself: bool = False  # by a statement of its own
    waits: list[int] = field(default_factory=list)  # open waits, as positions in Conductor.waits
    decided: Literal["commit", "rollback"] | None = None  # the end that a condition led to
    repeated: int = 0  # how often the statement that is next was sent again after an error
    previous: TransactionState | None = None  # the one before it on its connection

    def __post_init__(self) -> None:
        self.carried = Carrier(self.transaction.fixed)

    @property
    def timed(self) -> bool:
        """Whether its waits end by themselves, so that they are given the time to."""
        return self.transaction.timeout is not None or self.limits_itself

    @property
    def ready(self) -> bool:
        return not self.over and not self.under_way and not self.comes_later

    @property
    def comes_later(self) -> bool:
        """Whether another transaction is still to be done on its connection."""
        return self.previous is not None and not self.previous.over

    @property
    def statement(self) -> int | None:
        """The number of the statement that is next or under way; None for the end."""
        return self.next + 1 if self.next < len(self.transaction.statements) else None

    @property
    def sql(self) -> str:
        if self.next < len(self.transaction.statements):
            return self.transaction.statements[self.next].text
        return self.ends

    @property
    def ends(self) -> Ends:
        """How it ends: as a condition decided, or as the scenario says."""
        return self.decided or self.transaction.ends

    @property
    def upcoming(self) -> Statement | None:
        """The statement that is next or under way; None for the end."""
        return (
            self.transaction.statements[self.next]
            if self.next < len(self.transaction.statements)
            else None
        )

    def after(self, kinds: Collection[str]) -> NextStep:
        """What the application does after an error of these kinds of the statement under way."""
        statement = self.upcoming
        if statement is None:
            return ROLL_BACK
        found = next_step(statement.after_error, kinds)
        found = found or next_step(self.transaction.after_error, kinds) or ROLL_BACK
        return ROLL_BACK if found.what == "retry" and self.repeated >= found.times else found

    def begin_again(self) -> None:
        """Before another attempt: nothing is kept."""
        self.attempt += 1
        self.next, self.begun, self.decided = 0, False, None
        self.repeated = 0
        self.carried.begin_again()

    def pass_over(self, statement: Statement) -> None:
        """The next statement is not run."""
        self.carried.pass_over(statement, self.next + 1)
        self.next += 1
        self.over = self.has_no_end

    @property
    def has_no_end(self) -> bool:
        """Whether its statements are done and nothing comes after them."""
        stays = self.ends == "open" or self.transaction.autocommit
        return self.statement is None and stays


@dataclass
class OpenDeadlock:
    """A deadlock as it is met. ``edges`` go round; ``victim`` comes with the server's verdict.
    ``under_way``: the statement (None: the end) of each transaction that one was under way of when
    the cycle was noted; ``attempts``: which attempt each made.
    """

    edges: tuple[Edge, ...]
    move: int
    at_ms: float
    closer: str
    under_way: Mapping[str, int | None] = field(default_factory=dict)
    attempts: Mapping[str, int] = field(default_factory=dict)
    victim: str | None = None
    verdict_ms: float | None = None
    error: ServerError | None = None
    report: str | None = None
    ended_by_us: bool = False
    left_to_timeout: bool = False  # the server does not end it, and a member's lock timeout will
    pending: bool = True

    @property
    def stands(self) -> bool:
        """Whether it has not been ended yet."""
        return self.pending or (self.left_to_timeout and self.victim is None)

    @property
    def members(self) -> frozenset[str]:
        return frozenset(edge.waiter for edge in self.edges)


class Guide(Protocol):
    """Chooses the moves, one by one, where no order was given beforehand."""

    def choose(self, ready: Sequence[str], waits: frozenset[tuple[str, str]]) -> str | None:
        """Which of ``ready`` moves next; None breaks the run off. ``waits``: who waits for whom
        now.
        """

    def moved(self, moved: MoveResult) -> None:
        """The chosen move is over."""
