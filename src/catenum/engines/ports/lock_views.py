"""Looking: who waits for whom, every lock; what the server says to an index, and to values that are
written.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol

from catenum.core.record.recording import LockEntry
from catenum.core.record.waits import Edge
from catenum.engines.ports.sessions import Session


class LockViews(Protocol):
    """The port for looking."""

    def poll_waits(self, sessions: Mapping[str, Session], now_ms: float) -> list[Edge]:
        """The cheap check: who among ``sessions`` waits for whom, at this moment."""

    def picture(self, sessions: Mapping[str, Session]) -> tuple[list[LockEntry], str | None]:
        """Every lock of ``sessions``, and a note on what could not be seen."""

    def refuses(self, index: str) -> str | None:
        """Why the server refuses a ``create index`` on the scratch space's data; None where it
        takes it, or cannot be asked because somebody holds the table. What was made is taken back.
        """

    def classes(
        self, table: str, column: str, written: Sequence[tuple[bool, str]]
    ) -> dict[tuple[bool, str], int]:
        """Which values are the same in a column, as the server compares and stores them, by the
        number of their class.

        Each is told as a statement writes it: whether as a text, and what. One of which the server
        does not tell, or that means another thing at another moment, is left out.
        """
