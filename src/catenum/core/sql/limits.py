"""Statements by which a transaction limits its own waits: the time that a run has to leave them."""

from __future__ import annotations

import re

#: Units as servers spell them (PostgreSQL, 20.1.1 "Parameter Names and Values"), in ms.
_UNITS = {"ms": 1.0, "s": 1000.0, "min": 60_000.0, "h": 3_600_000.0, "us": 0.001, "d": 86_400_000.0}
_VALUE = r"\s*(?:=|:=|\bto\b|,)\s*'?\s*(?P<number>\d+(?:\.\d+)?)\s*(?P<unit>us|ms|s|min|h|d)?\b"
#: Waits are given no more than this; what would take longer is told as a wait that lasts.
MOST_MS = 60_000.0


def limit_ms(sql: str, names: tuple[str, ...], unit_ms: float) -> float | None:
    """The limit on waits that a statement sets, in ms; None where it sets none, takes one away, or
    is none to wait for.

    ``names`` are the server's variables that limit waits; ``unit_ms`` is what their numbers without
    a unit count.
    """
    if not re.match(r"\s*(?:set|select)\b", sql, re.IGNORECASE):
        return None
    found = [
        float(match["number"]) * (_UNITS[match["unit"].lower()] if match["unit"] else unit_ms)
        for name in names
        for match in re.finditer(rf"\b{name}\b'?{_VALUE}", sql, re.IGNORECASE)
    ]
    limits = [limit for limit in found if 0 < limit <= MOST_MS]
    return min(limits, default=None)
