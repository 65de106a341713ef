"""Loops: where a looping process connects, and how many wait."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Protocol

from catenum.core.record.recording import ServerError
from catenum.core.record.values import Value, Values
from catenum.engines.ports.sessions import Beginning

if TYPE_CHECKING:
    from catenum.core.scenario.model import Statement


@dataclass(frozen=True, slots=True, kw_only=True)
class LoopPlan:
    """One transaction as it is looped: how it begins, its statements, and how each iteration ends.

    ``before``: what its connection runs first; ``fixed``: the values of its parameters; ``drawn``:
    those of which each iteration takes one by chance.
    """

    beginning: Beginning
    before: tuple[str, ...] = ()
    statements: tuple[Statement, ...]
    ends: str
    fixed: Values = field(default_factory=dict)
    drawn: Mapping[str, tuple[Value, ...]] = field(default_factory=dict)

    @property
    def texts(self) -> tuple[str, ...]:
        """The statements' SQL."""
        return tuple(statement.text for statement in self.statements)


class Loop(Protocol):
    """One connection that runs a transaction again and again, as fast as the driver can."""

    id: str

    def run(self, at: Callable[[int], None]) -> ServerError | None:
        """One iteration; ``at`` is called with each statement's number before it is sent. The
        error, if one came.
        """

    def close(self) -> None:
        """Disconnect."""


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

    def wait_count(self) -> int | None:
        """How many lock waits the server has counted since it started; None where it does not count
        them.
        """
