"""Whether a statement reaches beyond the scratch space of a run: to others' tables and sessions, or
to the server.

A name with a schema of its own is one way (``Footprint.accesses`` has those); this module finds the
statements and functions that need no such name, by the patterns of a server (``Boundary``). It
reads the text, since most of them are none that the parser understands. What a stored program's
body or dynamic SQL does it cannot know.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache

from catenum.core.sql.parser import sqlglot
from catenum.core.sql.scripts import Piece


@dataclass(frozen=True)
class Boundary:
    """Patterns of one server, matched against a statement in lower case, its words separated by
    single blanks.

    ``statements`` and ``functions`` leave the scratch space. ``own_transactions`` prepare work that
    outlives its session, or turn transactions on and off. ``commits``: the server commits before it
    runs these.
    """

    statements: tuple[str, ...]
    functions: tuple[str, ...] = ()
    own_transactions: tuple[str, ...] = ()
    commits: tuple[str, ...] = ()


#: What leaves the scratch space on every server.
ANY_SERVER = (
    r"(?:create|drop|alter)(?: or replace)? (?:database|schema|role|user|tablespace|server)",
    r"(?:grant|revoke) (?!.* on )",
)
_COMMENT = re.compile(r"--[^\n]*|/\*.*?\*/", re.DOTALL)


def reaches_beyond(piece: Piece, boundary: Boundary, dialect: str) -> str | None:
    """The words by which a statement reaches beyond the scratch space; None where it does not."""
    return starts_with(piece.shape, boundary.statements, dialect) or _calls(
        piece.text, boundary.functions
    )


@lru_cache(maxsize=4096)
def starts_with(sql: str, patterns: tuple[str, ...], dialect: str) -> str | None:
    """The words of a statement that begin as one of ``patterns``; None where it begins
    otherwise.
    """
    words = _words(sql, dialect)
    for pattern in patterns:
        match = re.match(rf"{pattern}", words)
        if match:
            return match[0].strip() if len(match[0]) < 40 else match[0][:39] + "…"
    return None


def _calls(sql: str, functions: tuple[str, ...]) -> str | None:
    match = _any_of(functions).search(sql) if functions else None
    return match[0].rstrip("( '.") if match else None


@lru_cache(maxsize=16)
def _any_of(functions: tuple[str, ...]) -> re.Pattern[str]:
    return re.compile(rf"\b(?:{'|'.join(functions)})", re.IGNORECASE)


def _words(sql: str, dialect: str) -> str:
    """The statement in lower case, a blank between words, without comments and the contents of
    strings.
    """
    try:
        tokens = sqlglot.tokenize(sql, dialect=dialect)
    except sqlglot.errors.SqlglotError:
        return " ".join(sql.split()).lower()
    pieces, last = [], ""
    for token in tokens:
        kind = token.token_type.name
        # what follows a word that the parser does not know is one token, with all its text
        pieces.append("''" if kind == "STRING" and last != "COMMAND" else token.text)
        last = kind
    return " ".join(_COMMENT.sub(" ", " ".join(pieces)).split()).lower()
