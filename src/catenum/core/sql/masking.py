"""Statements without their literals: masked for showing, or cut down to the shape that statements of one kind share."""

from __future__ import annotations

import re
from functools import lru_cache

import sqlglot
from sqlglot.errors import SqlglotError


@lru_cache(maxsize=4096)
def masked(sql: str, dialect: str) -> str:
    """The statement with ``?`` in place of every literal and of every numbered parameter (``$1``).

    A text that cannot be read in full is masked roughly.
    """
    try:
        tokens = sqlglot.tokenize(sql, dialect=dialect)
    except SqlglotError:
        return _roughly_masked(sql)
    parts, end = [], 0
    for token in tokens:
        if token.token_type.name in _LITERALS:
            parts.append(sql[end : token.start].removesuffix("$") + "?")
            end = token.end + 1
    return _COMMENTS.sub(" ", "".join(parts) + sql[end:])


def _roughly_masked(sql: str) -> str:
    """For a text that was cut within a literal: what follows an unpaired quote goes too."""
    text = re.sub(r"'(?:[^']|'')*(?:'|$)", "?", sql)
    return _COMMENTS.sub(" ", re.sub(r"(?<![\w.$])\$?\d+(?:\.\d+)?", "?", text))


_LITERALS = {"STRING", "NUMBER", "HEX_STRING", "BIT_STRING", "BYTE_STRING", "NATIONAL_STRING", "RAW_STRING",
             "HEREDOC_STRING", "UNICODE_STRING"}  # fmt: skip
_COMMENTS = re.compile(r"/\*.*?(?:\*/|$)|--[^\n]*", re.DOTALL)


@lru_cache(maxsize=4096)
def shape(sql: str, dialect: str) -> str:
    """What statements of one kind share: literals taken out, lists of them made one, spaces and case made alike."""
    text = " ".join(masked(sql, dialect).lower().split()).rstrip("; ")
    text = re.sub(r"\? ?(, ?\? ?)+", "?, … ", text)
    return re.sub(r"(\([?, …]*\))( ?, ?\([?, …]*\))+", r"\1, …", text)


def same_kind(shaped: str) -> str:
    """What two shapes share where one comes from a server's own statistics.

    MariaDB's digests put every name in backquotes and spaces around every sign, and write ``...`` for a list.
    """
    bare = re.sub(r"[\s`\"]", "", shaped)
    return bare.replace("...", "?").replace("?,…", "?")
