"""Loops: where a looping process connects, and how many wait."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Protocol

from catenum.core.record.recording import ServerError
from catenum.core.record.values import Values
from catenum.core.scenario.draws import Draws
from catenum.engines.ports.sessions import Beginning

if TYPE_CHECKING:
    from catenum.core.scenario.model import Statement


@dataclass(frozen=True, slots=True, kw_only=True)
class LoopPlan:
    """One transaction as it is looped: how it begins, its statements, and how each iteration ends.

    ``before``: what its connection runs first; ``fixed``: the values of its parameters; ``drawn``:
    what each iteration draws the others from.
    """

    beginning: Beginning
    before: tuple[str, ...] = ()
    statements: tuple[Statement, ...]
    ends: str
    fixed: Values = field(default_factory=dict)
    drawn: Mapping[str, Draws] = field(default_factory=dict)

    @property
    def texts(self) -> tuple[str, ...]:
        """The statements' SQL."""
        return tuple(statement.text for statement in self.statements)

    @property
    def thinks(self) -> dict[int, float]:
        """Seconds for which the application is elsewhere, by the number of the statement before."""
        return {
            number: statement.thinks / 1000
            for number, statement in enumerate(self.statements, 1)
            if statement.thinks
        }


class Thinking:
    """Stands before what hears of each statement, and lets the time pass that the application takes
    behind the one before. ``sleep`` takes seconds.
    """

    def __init__(
        self, at: Callable[[int], None], thinks: Mapping[int, float], sleep: Callable[[float], None]
    ) -> None:
        self._at, self._thinks, self._sleep, self._last = at, thinks, sleep, 0

    def __call__(self, number: int) -> None:
        if number > self._last and (pause := self._thinks.get(self._last)):
            self._sleep(pause)
        self._last = number
        self._at(number)


class Rejected(Exception):
    """The server rejects a statement of a loop before it is run; the text is the server's."""


class Loop(Protocol):
    """One connection that runs transactions again and again, as fast as the driver can.

    It is made with the plans of its transactions; ``which`` counts them from 0. Making it raises
    Rejected for a statement that the server does not take, else what the driver raises.
    """

    id: str

    def run(
        self, at: Callable[[int], None], which: int = 0, *, again: bool = False
    ) -> ServerError | None:
        """One iteration; ``at`` is called with each statement's number before it is sent. The
        error, if one came. ``again``: with the values of the iteration before.
        """

    def use_level(self, level: str) -> None:
        """The isolation level of all transactions from the next iteration on."""

    def close(self) -> None:
        """Disconnect."""


#: Given a socket's descriptor, makes what waits until it can be read: for loops of which many share
#: a process.
Waiting = Callable[[int], Callable[[], None]]


class Loops(Protocol):
    """The port for loops."""

    def loop_place(self) -> dict[str, object]:
        """Where a looping process connects to: plain values for the ``Loop`` in the server's module
        ``loop``.
        """

    def waiting_now(self) -> int | None:
        """How many of the run's sessions wait for a lock now; None where the server counts waits
        itself.
        """

    def waiting_among(self, numbers: Collection[str]) -> set[str]:
        """Which of the run's sessions, by their numbers, wait for a lock at this moment."""

    def server_process(self) -> int | None:
        """The number of the server's process on this machine; None where that is not known, or it
        is not a private server.
        """

    def wait_count(self) -> int | None:
        """How many lock waits the server has counted since it started; None where it does not count
        them.
        """
