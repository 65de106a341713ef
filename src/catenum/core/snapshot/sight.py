"""What a watch can say of a server's time: it saw, it was blind (it looked and could not see), or
nobody looked.

The second and the third are never called calm.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from catenum.core.text import duration

#: Checks may come so much later than they are due (ms); between two that are further apart, a short
#: wait is not seen.
LATE_MS = 2_000.0
#: From one check to the next it is no longer than this where nothing hinders (ms), however often
#: somebody looks.
OFTEN_MS = 1_000.0

Turn = Literal["blind", "sees"]


@dataclass(frozen=True, slots=True)
class Spell:
    """A time in which a watch was blind, up to now, and why. Times are RFC 3339."""

    since: str
    until: str
    why: str


@dataclass
class Sight:
    """One server's. ``every_ms``: how often it is to be looked at."""

    every_ms: float
    why: str | None = None  # why it is blind since the last look
    _at: str | None = None  # of the last look, whether it saw or not

    @property
    def late_ms(self) -> float:
        """Two checks that are further apart leave a time between them in which a wait is not
        seen.
        """
        return max(self.every_ms, OFTEN_MS) + LATE_MS

    def take(
        self, at: str, why: str | None, *, since_last_ms: float = 0.0
    ) -> tuple[Spell | None, Turn | None]:
        """A look, and why it did not see all (None: it did): a time that was blind, and whether
        that is news.
        """
        before, self._at = self._at, at
        was, self.why = self.why, why
        turn: Turn | None = None
        if (why is None) != (was is None):
            turn = "sees" if why is None else "blind"
        if why is not None:
            return Spell(before or at, at, why), turn
        if was is not None and before is not None:
            return Spell(before, at, was), turn
        if before is not None and since_last_ms > self.late_ms:
            return Spell(before, at, f"checks were {duration(since_last_ms)} apart"), turn
        return None, turn

    def lost(self) -> None:
        """Nobody looks any more."""
        self._at = self.why = None
