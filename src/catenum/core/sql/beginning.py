"""The statement that begins a transaction, and what it asks for: read off its text, since a parser
knows one spelling of each only.
"""

from __future__ import annotations

import re
from typing import Literal

_BEGINS = re.compile(
    r"\s*(?:begin(?!\s+not\b)|start\s+transaction)\b(?P<how>[^;]*);?\s*", re.IGNORECASE
)
_LEVEL_IN_TEXT = re.compile(
    r"\bisolation\s+level\s+(read\s+uncommitted|read\s+committed|repeatable\s+read|serializable)\b",
    re.IGNORECASE,
)
_ACCESS_IN_TEXT = re.compile(r"\bread\s+(only|write)\b", re.IGNORECASE)
_SNAPSHOT_IN_TEXT = re.compile(r"\bconsistent\s+snapshot\b", re.IGNORECASE)


def begins(sql: str) -> bool:
    """Whether a statement begins a transaction, as a move of its own."""
    return _BEGINS.fullmatch(sql) is not None


def level_in(sql: str) -> str | None:
    """The isolation level that the beginning of a transaction asks for."""
    found = _LEVEL_IN_TEXT.search(sql)
    return " ".join(found[1].lower().split()) if found else None


def access_in(sql: str) -> Literal["read only", "read write"] | None:
    """Whether the beginning of a transaction asks for one that only reads."""
    found = _ACCESS_IN_TEXT.search(sql)
    return None if found is None else "read only" if found[1].lower() == "only" else "read write"


def takes_snapshot(sql: str) -> bool:
    """Whether the beginning of a transaction takes its snapshot at once."""
    return _SNAPSHOT_IN_TEXT.search(sql) is not None
