"""Parameters in a statement: ``:name`` where a value belongs, which the driver binds when the
statement is sent.

Strings, comments, quoted names, ``::`` casts, ``:=`` and the bounds of array slices are left alone.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache

from catenum.core.record.values import Value
from catenum.core.sql.token_patterns import TokenPatterns

_NAME = re.compile(r"[A-Za-z_]\w*")
#: What stands before the colon of a slice's upper bound, or after the name of a block.
_BEFORE_NO_PARAMETER = re.compile(r"[\w\])\"'`]")


@dataclass(frozen=True, slots=True)
class Parameter:
    """One place in a statement where a value belongs; ``offset`` is that of its colon."""

    name: str
    offset: int

    @property
    def end(self) -> int:
        """The offset behind it."""
        return self.offset + 1 + len(self.name)


@lru_cache(maxsize=4096)
def parameters_in(sql: str, token_patterns: TokenPatterns) -> tuple[Parameter, ...]:
    """The parameters of a statement, in the order of its text."""
    if ":" not in sql:
        return ()
    opaque, found, at = token_patterns.opaque, [], 0
    while at < len(sql):
        skipped = opaque.match(sql, at)
        if skipped and skipped.end() > at:
            at = skipped.end()
            continue
        if sql.startswith(("::", ":="), at):
            at += 2
            continue
        name = _NAME.match(sql, at + 1) if sql[at] == ":" else None
        if name and not _BEFORE_NO_PARAMETER.match(sql[max(0, at - 1) : at]):
            found.append(Parameter(name[0], at))
        at = name.end() if name else at + 1
    return tuple(found)


def names_in(sql: str, token_patterns: TokenPatterns) -> tuple[str, ...]:
    """The names of a statement's parameters, each once, in the order in which they first appear."""
    return tuple(dict.fromkeys(parameter.name for parameter in parameters_in(sql, token_patterns)))


@lru_cache(maxsize=4096)
def pieces_of(sql: str, token_patterns: TokenPatterns) -> tuple[str, ...]:
    """The text before, between and behind the parameters: one piece more than there are
    parameters.
    """
    pieces, at = [], 0
    for parameter in parameters_in(sql, token_patterns):
        pieces.append(sql[at : parameter.offset])
        at = parameter.end
    return (*pieces, sql[at:])


@lru_cache(maxsize=4096)
def numbered(sql: str, token_patterns: TokenPatterns) -> str:
    """The statement with ``$1``, ``$2`` in place of its parameters, by the order of
    ``names_in``.
    """
    places = {name: f"${number}" for number, name in enumerate(names_in(sql, token_patterns), 1)}
    return _joined(
        sql, token_patterns, [places[p.name] for p in parameters_in(sql, token_patterns)]
    )


@lru_cache(maxsize=4096)
def formatted(sql: str, token_patterns: TokenPatterns) -> str:
    """The statement as a driver wants it that knows ``%s``: once for each place, other per cent
    signs doubled.
    """
    return "%s".join(piece.replace("%", "%%") for piece in pieces_of(sql, token_patterns))


def readable(
    sql: str, token_patterns: TokenPatterns, values: Mapping[str, Value] | None = None
) -> str:
    """The statement as the parser reads it: known values as literals. It is read only, never
    sent.
    """
    found = parameters_in(sql, token_patterns)
    if not found:
        return sql
    return _joined(
        sql, token_patterns, [_literal(p.name, (values or {}).get(p.name)) for p in found]
    )


def _literal(name: str, value: Value | None) -> str:
    if value is None:
        return f":value_{name}"  # a parameter's own name may be a word of the language
    if value.text is None:
        return "null"
    return (
        value.text
        if value.kind != "text"
        else "'" + value.text.replace("\\", "\\\\").replace("'", "''") + "'"
    )


def _joined(sql: str, token_patterns: TokenPatterns, between: list[str]) -> str:
    pieces = pieces_of(sql, token_patterns)
    return "".join(part for pair in zip(pieces, [*between, ""], strict=True) for part in pair)
