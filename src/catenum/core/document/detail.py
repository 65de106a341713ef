"""How much a document shows, and what it then says of what it leaves out."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Detail:
    """``moves`` of a schedule; ``rows`` of a table; ``letters`` of a text or a cell; ``recordings``
    that are shown move by move; ``figures``: whether there are drawings.
    """

    moves: int
    rows: int
    letters: int
    recordings: int
    figures: bool

    def cut(self, text: str) -> str:
        """A text that is not longer than what is shown."""
        if len(text) <= self.letters:
            return text
        return f"{text[: self.letters]} … ({len(text) - self.letters:,} more characters left out)"


#: From all that one could read to what is left of a recording that is far too large.
DETAILS = (
    Detail(moves=400, rows=40, letters=20_000, recordings=26, figures=True),
    Detail(moves=200, rows=20, letters=4_000, recordings=12, figures=True),
    Detail(moves=80, rows=10, letters=1_000, recordings=6, figures=True),
    Detail(moves=30, rows=5, letters=400, recordings=3, figures=False),
    Detail(moves=0, rows=0, letters=200, recordings=0, figures=False),
)
