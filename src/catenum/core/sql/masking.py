"""Statements without their literals: masked for showing, or cut down to the shape that statements of one kind share.

What is masked is found by the server's own lexical rules (``Lexis``), not by a parser: a statement that a server cut
short, or that no parser knows, holds values too. Where a text can be read in two ways (a quote behind a backslash,
which a setting may make plain), all that follows is masked.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache

from catenum.core.sql.lexis import Lexis


@lru_cache(maxsize=4096)
def masked(sql: str, lexis: Lexis) -> str:
    """The statement with ``?`` in place of every literal and of every numbered parameter (``$1``), without comments."""
    return "".join(_masked(sql, lexis.pieces))


def _masked(sql: str, pieces: re.Pattern[str]) -> Iterator[str]:
    at = 0
    while found := pieces.search(sql, at):
        yield sql[at : found.start()]
        at = found.end()
        kind, text = found.lastgroup, found[0]
        if kind == "comment":
            yield " "
            at = _end_of_comment(sql, at) if text == "/*" else at
        elif kind == "dollar":
            yield "?"
            end = sql.find(text, at)
            at = len(sql) if end < 0 else end + len(text)
        elif kind == "string":
            yield "?"
            at = _end_of_string(sql, at, text[-1], escapes=text[0] in "eE")
        else:
            yield "?" if kind == "value" else text
    yield sql[at:]


def _end_of_comment(sql: str, at: int) -> int:
    """PostgreSQL's comments nest; elsewhere nothing is lost by reading them so, but for what follows one cut short."""
    depth = 1
    for found in re.compile(r"/\*|\*/").finditer(sql, at):
        depth += 1 if found[0] == "/*" else -1
        if depth == 0:
            return found.end()
    return len(sql)


def _end_of_string(sql: str, at: int, quote: str, *, escapes: bool) -> int:
    """Behind the closing quote; the end of the text where there is none, or where a setting decides which it is."""
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


#: In a server's report of a deadlock: values of a record's fields, statements, keys that an error names.
_FIELD = re.compile(r"^( \d+: len \d+; )hex [0-9a-f]*; asc .*$", re.MULTILINE)
_QUERY = re.compile(
    r"^((?:MySQL|MariaDB) thread id \d+,[^\n]*\n)(.*?)(?=^\*\*\*|^[A-Z]{3,} [A-Z]{3,}|\Z)", re.MULTILINE | re.DOTALL
)
_PROCESS = re.compile(
    r"^(\s*(?:DETAIL:\s+)?Process \d+: )(.*?)(?=^\s*Process \d+: |^\S*(?:HINT|CONTEXT|STATEMENT):|\Z)",
    re.MULTILINE | re.DOTALL,
)
_WITHIN = re.compile(r'(SQL (?:statement|expression) ")(.*)(?=")', re.DOTALL)
_STATEMENT = re.compile(r"(STATEMENT:\s+)(.*)\Z", re.DOTALL)
_KEY = re.compile(r"(Key \([^)]*\)=)\(.*\)")


def masked_report(report: str, lexis: Lexis) -> str:
    """A server's report of a deadlock without values: its statements masked, its records' fields and keys left out; ids
    of processes, threads and transactions stay.
    """
    text = _FIELD.sub(r"\1?", report)
    for part in (_QUERY, _PROCESS, _WITHIN, _STATEMENT):
        text = part.sub(
            lambda found: found[1] + masked(found[2].rstrip("\n"), lexis) + "\n" * found[2].endswith("\n"), text
        )
    return _KEY.sub(r"\1(?)", text)


@lru_cache(maxsize=4096)
def shape(sql: str, lexis: Lexis) -> str:
    """What statements of one kind share: literals taken out, lists of them made one, spaces and case made alike."""
    text = " ".join(masked(sql, lexis).lower().split()).rstrip("; ")
    text = re.sub(r"\? ?(, ?\? ?)+", "?, … ", text)
    return re.sub(r"(\([?, …]*\))( ?, ?\([?, …]*\))+", r"\1, …", text)


def same_kind(shaped: str) -> str:
    """What two shapes share where one comes from a server's own statistics.

    MariaDB's digests put every name in backquotes and spaces around every sign, and write ``...`` for a list.
    """
    bare = re.sub(r"[\s`\"]", "", shaped)
    return bare.replace("...", "?").replace("?,…", "?")
