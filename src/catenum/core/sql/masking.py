"""Statements without their literals: masked for showing, or cut down to the shape that statements
of one kind share.

What is masked is found by the server's own lexical rules (``TokenPatterns``), not by a parser: a
statement that a server cut short, or that no parser knows, holds values too. Where a text can be
read in two ways (a quote behind a backslash, which a setting may make plain), all that follows is
masked.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import NamedTuple

from catenum.core.sql.token_patterns import TokenPatterns


@lru_cache(maxsize=4096)
def masked(sql: str, token_patterns: TokenPatterns) -> str:
    """The statement with ``?`` in place of every literal and of every numbered parameter (``$1``),
    without comments.
    """
    return "".join(_masked(sql, token_patterns.pieces))


def _masked(sql: str, pieces: re.Pattern[str]) -> Iterator[str]:
    at = 0
    for piece in _pieces(sql, pieces):
        yield sql[at : piece.start]
        at = piece.end
        if piece.kind == "comment":
            yield " "
        else:
            yield (
                "?" if piece.kind in ("dollar", "string", "value") else sql[piece.start : piece.end]
            )
    yield sql[at:]


class Piece(NamedTuple):
    """A piece of a statement by its ``kind`` (see ``TokenPatterns.pieces``); within it, what stands
    between its marks.
    """

    kind: str
    start: int
    end: int
    inner_start: int
    inner_end: int
    escapes: bool = False

    def moved(self, by: int) -> Piece:
        """The same in a text in which this one's begins at ``by``."""
        start, end, inner_start, inner_end = (
            at + by for at in (self.start, self.end, self.inner_start, self.inner_end)
        )
        return Piece(self.kind, start, end, inner_start, inner_end, self.escapes)


def _pieces(
    sql: str, pieces: re.Pattern[str], *, backslashes: bool | None = None
) -> Iterator[Piece]:
    """``backslashes``: whether they are escapes in every string; None: that is not known."""
    at = 0
    while found := pieces.search(sql, at):
        start, at = found.start(), found.end()
        kind, text = str(found.lastgroup), found[0]
        inner, escapes = (start, at), False
        if kind == "comment":
            at = _end_of_comment(sql, at) if text == "/*" else at
        elif kind == "dollar":
            end = sql.find(text, at)
            inner = (at, len(sql) if end < 0 else end)
            at = len(sql) if end < 0 else end + len(text)
        elif kind == "string":
            escapes = text[0] in "eE" or bool(backslashes)
            begins, plain = at, backslashes is False and text[0] not in "eE"
            at = (
                _end_of_plain(sql, at, text[-1])
                if plain
                else _end_of_string(sql, at, text[-1], escapes=escapes)
            )
            inner = (begins, at - 1 if sql[at - 1 : at] == text[-1] and at - 1 >= begins else at)
        yield Piece(kind, start, at, inner[0], inner[1], escapes)


def literals(sql: str, token_patterns: TokenPatterns, dialect: str) -> Iterator[Piece]:
    """The comments and literals of a statement, strings by what a backslash means to the server as
    it comes.
    """
    from sqlglot import Dialect

    backslashes = "\\" in Dialect.get_or_raise(dialect).tokenizer_class.STRING_ESCAPES
    for piece in _pieces(sql, token_patterns.pieces, backslashes=backslashes):
        if (
            piece.kind in ("comment", "dollar", "string", "value") and sql[piece.start] != "$"
        ) or piece.kind == "dollar":
            yield piece


def _end_of_plain(sql: str, at: int, quote: str) -> int:
    """Behind the closing quote, where a backslash is a sign like any other."""
    while (end := sql.find(quote, at)) >= 0:
        if sql[end + 1 : end + 2] != quote:
            return end + 1
        at = end + 2
    return len(sql)


def _end_of_comment(sql: str, at: int) -> int:
    """PostgreSQL's comments nest; elsewhere nothing is lost by reading them so, but for what
    follows one cut short.
    """
    depth = 1
    for found in re.compile(r"/\*|\*/").finditer(sql, at):
        depth += 1 if found[0] == "/*" else -1
        if depth == 0:
            return found.end()
    return len(sql)


def _end_of_string(sql: str, at: int, quote: str, *, escapes: bool) -> int:
    """Behind the closing quote; the end of the text where there is none, or where a setting decides
    which it is.
    """
    while at < len(sql):
        if sql[at] == "\\":
            if at + 1 < len(sql) and sql[at + 1] == quote and not escapes:
                return len(sql)
            at += 2 if escapes or sql[at + 1 : at + 2] == "\\" else 1
        elif sql[at] == quote:
            if sql[at + 1 : at + 2] != quote:
                return at + 1
            at += 2
        else:
            at += 1
    return len(sql)


#: In a server's report of a deadlock: values of a record's fields, statements, keys that an error
#: names.
_FIELD = re.compile(r"^( \d+: len \d+; )hex [0-9a-f]*; asc .*$", re.MULTILINE)
_QUERY = re.compile(
    r"^((?:MySQL|MariaDB) thread id \d+,[^\n]*\n)(.*?)(?=^\*\*\*|^[A-Z]{3,} [A-Z]{3,}|\Z)",
    re.MULTILINE | re.DOTALL,
)
_PROCESS = re.compile(
    r"^(\s*(?:DETAIL:\s+)?Process \d+: )(.*?)(?=^\s*Process \d+:"
    r" |^\S*(?:HINT|CONTEXT|STATEMENT):|\Z)",
    re.MULTILINE | re.DOTALL,
)
_WITHIN = re.compile(r'(SQL (?:statement|expression) ")(.*)(?=")', re.DOTALL)
_STATEMENT = re.compile(r"(STATEMENT:\s+)(.*)\Z", re.DOTALL)
_KEY = re.compile(r"(Key \([^)]*\)=)\(.*\)")


def masked_report(report: str, token_patterns: TokenPatterns) -> str:
    """A server's report of a deadlock without values: its statements masked, its records' fields
    and keys left out; ids of processes, threads and transactions stay.
    """
    text = _FIELD.sub(r"\1?", report)
    for part in (_QUERY, _PROCESS, _WITHIN, _STATEMENT):
        text = part.sub(
            lambda found: (
                found[1]
                + masked(found[2].rstrip("\n"), token_patterns)
                + "\n" * found[2].endswith("\n")
            ),
            text,
        )
    return _KEY.sub(r"\1(?)", text)


@lru_cache(maxsize=4096)
def shape(sql: str, token_patterns: TokenPatterns) -> str:
    """What statements of one kind share: literals taken out, lists of them made one, spaces and
    case made alike.
    """
    text = " ".join(masked(sql, token_patterns).lower().split()).rstrip("; ")
    text = re.sub(r"\? ?(, ?\? ?)+", "?, … ", text)
    return re.sub(r"(\([?, …]*\))( ?, ?\([?, …]*\))+", r"\1, …", text)


def same_kind(shaped: str) -> str:
    """What two shapes share where one comes from a server's own statistics.

    MariaDB's digests put every name in backquotes and spaces around every sign, and write ``...``
    for a list.
    """
    bare = re.sub(r"[\s`\"]", "", shaped)
    return bare.replace("...", "?").replace("?,…", "?")
