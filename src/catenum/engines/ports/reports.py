"""Reports: what a deadlock's error and the server's own report say, and by which rule the victim
was chosen.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol

from catenum.core.record.modes import NO_MODE, Mode
from catenum.core.record.recording import ServerError
from catenum.core.record.waits import Edge
from catenum.engines.ports.sessions import Patience, Session


class Reports(Protocol):
    """The port for reports of deadlocks."""

    def edges_of(
        self,
        error: ServerError,
        victim: Session | None = None,
        names: Mapping[str, str] | None = None,
    ) -> tuple[Edge, ...]:
        """The waits that a deadlock error itself reports, or that its ``victim`` is known to have
        met.

        ``names`` by the ids that loops told, the run's own sessions by default.
        """

    def cycle_statements(self, names: Mapping[str, str]) -> dict[str, str]:
        """The statement that each member of the deadlock last asked for by ``edges_of`` was at, if
        the server's report names it.
        """

    def cycle_victim(self, names: Mapping[str, str]) -> str | None:
        """Whom the report that ``edges_of`` last read names as its victim, where it may be another
        deadlock's than the one that was asked for; None where it cannot.
        """

    def deadlock_count(self, sessions: Mapping[str, Session]) -> int | None:
        """How many deadlocks the server has counted since it started, those of ``sessions`` among
        them; None where it does not tell, or where others are at work whose deadlocks would count,
        too.
        """

    def settings(self) -> dict[str, str]:
        """The server's settings that decide about locks and waits (``rules.locks.settings``), as
        its sessions begin with them.
        """

    def handlers(self) -> list[tuple[str, tuple[str, ...]]]:
        """Routines of the scratch space that catch errors, and what each catches."""

    def report_of(self, error: ServerError) -> str | None:
        """The server's own report of the deadlock that ended in ``error``."""

    def verdict_ms(self, cycle: Sequence[Edge]) -> float:
        """How long a cycle may stand before it is clear that the server will not end it."""

    def victim_rule(
        self,
        patience: Patience | None,
        closed: bool | None,
        wanted: Mode = NO_MODE,
        *,
        reported: bool = True,
    ) -> str:
        """By which rule this server chose its victim.

        ``closed``: the victim's wait closed the cycle (None: not known, as in loops). ``wanted``:
        the mode that the victim waited for, and ``reported``, whether the server told of the
        deadlock, tell which part of it chose.
        """
