"""A time span that questions to a store are about."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Span:
    """A time span, in RFC 3339; None: open. ``server``: one of several."""

    since: str | None = None
    until: str | None = None
    server: str | None = None

    @property
    def by_steps(self) -> Span:
        """The same for what is counted in steps of ten seconds: with the step that it begins in."""
        since = self.since and f"{self.since[:18]}0"[: len(self.since)]
        return Span(since, self.until and self.until[:19], self.server)

    def where(self, column: str) -> tuple[str, list[object]]:
        """As a condition on a column, and its values. An incident counts where it began."""
        parts, values = ["1 = 1"], []
        for text, sign in ((self.since, ">="), (self.until, "<")):
            if text is not None:
                parts.append(f"{column} {sign} ?")
                values.append(text)
        if self.server is not None:
            parts.append("s.name = ?")
            values.append(self.server)
        return " and ".join(parts), list[object](values)
