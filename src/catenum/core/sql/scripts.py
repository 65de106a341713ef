"""Scripts of several statements, cut where one ends: what drivers that take one at a time need."""

from __future__ import annotations

import re

import sqlglot
from sqlglot.errors import SqlglotError


def split_script(script: str, dialect: str) -> list[tuple[int, str]]:
    """The statements of a script, each with the offset of its first character. Semicolons in strings do not count."""
    try:
        tokens = sqlglot.tokenize(script, dialect=dialect)
    except SqlglotError:
        return [(0, script)] if script.strip() else []
    found: list[tuple[int, str]] = []
    start: int | None = None
    depth = 0
    for place, token in enumerate(tokens):
        if token.token_type.name == "SEMICOLON" and depth == 0:
            if start is not None:
                found.append((start, script[start : token.start].rstrip()))
            start = None
            continue
        if start is None:
            start = token.start
        if _BODY.match(script, start):
            depth = max(
                0, depth + _nesting(tokens[place].text, tokens[place + 1].text if place + 1 < len(tokens) else "")
            )
    if start is not None:
        found.append((start, script[start:].rstrip()))
    return found


#: Statements that may hold others between BEGIN and END.
_BODY = re.compile(r"create\s+(or\s+replace\s+)?(\S+\s+)?(procedure|function|trigger|event)\b", re.IGNORECASE)


def _nesting(word: str, following: str) -> int:
    """How a word of a stored program's body changes the depth of its blocks."""
    if word.upper() in ("BEGIN", "CASE"):
        return 1
    if word.upper() == "END" and following.upper() not in ("IF", "LOOP", "WHILE", "REPEAT", "FOR"):
        return -1
    return 0
