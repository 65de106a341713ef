"""The statement that begins a transaction, and what it asks for: read off its text, since a parser
knows one spelling of each only.
"""

from __future__ import annotations

import re
from typing import Literal

_BEGINS = re.compile(
    r"\s*(?:begin(?!\s+not\b)|start\s+transaction)\b(?P<how>[^;]*);?\s*", re.IGNORECASE
)
_LEVEL = r"(read\s+uncommitted|read\s+committed|repeatable\s+read|serializable)\b"
_LEVEL_IN_TEXT = re.compile(rf"\bisolation\s+level\s+{_LEVEL}", re.IGNORECASE)
#: PostgreSQL documentation, "SET TRANSACTION": within the transaction, before its first query.
_SETS_LEVEL = re.compile(
    r"\s*set\s+(?:(?:local|session)\s+)?transaction"
    rf"(?:\s+[^;]*\bisolation\s+level\s+|_isolation\s*(?:=|\bto\b)\s*')(?P<level>{_LEVEL})",
    re.IGNORECASE,
)
_SETS = re.compile(r"\s*set\b", re.IGNORECASE)
_FIRST_COMMA = re.compile(r"^(\s*\w+(?:\s+(?:transaction|work)\b)?)\s*,", re.IGNORECASE)
_ACCESS_IN_TEXT = re.compile(r"\bread\s+(only|write)\b", re.IGNORECASE)
#: What MySQL and MariaDB run although it stands in a comment begins with an exclamation mark.
_COMMENT = re.compile(r"--[^\n]*(?:\n|$)|/\*(?!M?!).*?\*/", re.DOTALL)
_SNAPSHOT_IN_TEXT = re.compile(r"\bconsistent\s+snapshot\b", re.IGNORECASE)


def begins(sql: str) -> bool:
    """Whether a statement begins a transaction, as a move of its own."""
    return _BEGINS.fullmatch(_COMMENT.sub(" ", sql)) is not None


def leads(sql: str) -> bool:
    """Whether a statement may come before a transaction's first query: it begins it, or sets
    something.
    """
    return begins(sql) or _SETS.match(_COMMENT.sub(" ", sql)) is not None


def level_in(sql: str) -> str | None:
    """The isolation level that the beginning of a transaction asks for."""
    found = _LEVEL_IN_TEXT.search(_COMMENT.sub(" ", sql))
    return " ".join(found[1].lower().split()) if found else None


def level_set_by(sql: str) -> str | None:
    """The isolation level that a statement within the transaction sets for it."""
    found = _SETS_LEVEL.match(_COMMENT.sub(" ", sql))
    return " ".join(found["level"].lower().split()) if found else None


def with_level(sql: str, level: str) -> str:
    """A statement that sets the transaction's isolation level, with another."""
    plain = _COMMENT.sub(" ", sql)
    found = _SETS_LEVEL.match(plain)
    return plain[: found.start("level")] + level + plain[found.end("level") :] if found else sql


def without_level(sql: str) -> str:
    """The beginning of a transaction without the isolation level that it asks for."""
    plain = _COMMENT.sub(" ", sql)
    shorter = re.sub(rf"(?:,\s*)?{_LEVEL_IN_TEXT.pattern}", "", plain, flags=re.IGNORECASE)
    return " ".join(_FIRST_COMMA.sub(r"\1", shorter).split()).rstrip("; ")


def access_in(sql: str) -> Literal["read only", "read write"] | None:
    """Whether the beginning of a transaction asks for one that only reads."""
    found = _ACCESS_IN_TEXT.search(_COMMENT.sub(" ", sql))
    return None if found is None else "read only" if found[1].lower() == "only" else "read write"


def takes_snapshot(sql: str) -> bool:
    """Whether the beginning of a transaction takes its snapshot at once."""
    return _SNAPSHOT_IN_TEXT.search(sql) is not None
