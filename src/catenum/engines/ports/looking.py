"""Looking: who waits for whom, every lock, and what the server would say to an index."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

from catenum.core.record.recording import LockEntry
from catenum.core.record.waits import Edge
from catenum.engines.ports.sessions import Session


class Looking(Protocol):
    """The port for looking."""

    def look(self, sessions: Mapping[str, Session], now_ms: float) -> list[Edge]:
        """The cheap check: who among ``sessions`` waits for whom, at this moment."""

    def picture(self, sessions: Mapping[str, Session]) -> tuple[list[LockEntry], str | None]:
        """Every lock of ``sessions``, and a note on what could not be seen."""

    def refuses(self, index: str) -> str | None:
        """Why the server refuses a ``create index`` on the scratch space's data; None where it takes it, or cannot be
        asked because somebody holds the table. What was made is taken back.
        """
