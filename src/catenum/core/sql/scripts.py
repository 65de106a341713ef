"""Scripts of several statements, cut where one ends: what drivers that take one at a time need."""

from __future__ import annotations

import re
from dataclasses import dataclass

import sqlglot
from sqlglot.errors import SqlglotError


@dataclass(frozen=True, slots=True)
class Piece:
    """One statement of a script, with the offset of its first character.

    ``shape``: the statement with each number as ``0`` and each string as an empty one, lists of them (after IN and
    VALUES) cut to one. It names the same tables and begins with the same words, so what those tell need be found out
    once for a thousand statements that are alike. Strings with a dot are left, since one may be a table's name.
    """

    offset: int
    text: str
    shape: str


#: Stand-ins for values while a shape is made: characters for private use, which no server's grammar knows.
_NUMBER, _STRING = "\ue000", "\ue001"
_VALUE = f"[{_NUMBER}{_STRING}]"
_LIST = rf"{_VALUE}(?:\s*,\s*{_VALUE})*"
_IN = re.compile(rf"(\b(?:in|values)\s*\(\s*{_VALUE})(?:\s*,\s*{_VALUE})+(?=\s*\))", re.IGNORECASE)
_ROWS = re.compile(rf"(\(\s*{_LIST}\s*\))(?:\s*,\s*\(\s*{_LIST}\s*\))+")


def split_script(script: str, dialect: str) -> list[tuple[int, str]]:
    """The statements of a script, each with the offset of its first character. Semicolons in strings do not count."""
    return [(piece.offset, piece.text) for piece in pieces_of(script, dialect)]


def pieces_of(script: str, dialect: str) -> list[Piece]:
    """The statements of a script with their shapes; all of it as one where it cannot be cut into tokens."""
    try:
        tokens = sqlglot.tokenize(script, dialect=dialect)
    except SqlglotError:
        return [Piece(0, script, script)] if script.strip() else []
    found: list[Piece] = []
    parts: list[str] = []
    start: int | None = None
    copied = depth = 0
    plain = _NUMBER not in script and _STRING not in script
    last = ""

    def close(end: int) -> None:
        if start is not None:
            text = script[start:end].rstrip()
            found.append(Piece(start, text, _shape([*parts, script[copied:end]]) if plain else text))

    for place, token in enumerate(tokens):
        kind = token.token_type.name
        if kind == "SEMICOLON" and depth == 0:
            close(token.start)
            start = None
            continue
        if start is None:
            start = copied = token.start
            parts = []
            body = _BODY.match(script, start) is not None
        if body:
            depth = max(0, depth + _nesting(token.text, tokens[place + 1].text if place + 1 < len(tokens) else ""))
        # what follows a word that the parser does not know is one token, with all its text
        if kind == "NUMBER" or (kind == "STRING" and last != "COMMAND" and "." not in token.text):
            parts += (script[copied : token.start], _NUMBER if kind == "NUMBER" else _STRING)
            copied = token.end + 1
        last = kind
    close(len(script))
    return found


def _shape(parts: list[str]) -> str:
    shape = _IN.sub(r"\1", _ROWS.sub(r"\1", "".join(parts)))
    return shape.replace(_NUMBER, "0").replace(_STRING, "''").rstrip()


#: Statements that may hold others between BEGIN and END.
_BODY = re.compile(r"create\s+(or\s+replace\s+)?(\S+\s+)?(procedure|function|trigger|event)\b", re.IGNORECASE)


def _nesting(word: str, following: str) -> int:
    """How a word of a stored program's body changes the depth of its blocks."""
    if word.upper() in ("BEGIN", "CASE"):
        return 1
    if word.upper() == "END" and following.upper() not in ("IF", "LOOP", "WHILE", "REPEAT", "FOR"):
        return -1
    return 0
