"""Statements that come again, one group after another, with other values: a loop of the
application, written out.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from catenum.core.sql.parameter_uses import uses_of
from catenum.core.sql.parser import sqlglot

_WORDS = ("NUMBER", "STRING")


@dataclass(frozen=True)
class Repeated:
    """A group of statements from ``start`` to before ``end`` (from 0). ``turns``: the statements of
    each turn; ``values``: of each, the values that are compared for equality in its first
    statements; ``columns``: their table, column, and which statement of the turn it is.
    """

    start: int
    end: int
    turns: tuple[tuple[int, ...], ...]
    values: tuple[tuple[str, ...], ...]
    columns: tuple[tuple[str, str, int], ...]


@dataclass(frozen=True)
class _Holes:
    """``shape``: the same for texts that differ only in literals, comments and blanks."""

    text: str
    values: tuple[str, ...]
    shape: tuple[str, ...]


def repeated(texts: Sequence[str], dialect: str) -> list[Repeated]:
    """The groups that come again, the longest first found; the last turn may be cut short."""
    holes = [_holes(text, dialect) for text in texts]
    shapes = [one.shape for one in holes]
    found: list[Repeated] = []
    at = 0
    while at < len(shapes):
        best = (0, 0)
        for size in range(1, (len(shapes) - at) // 2 + 2):
            same = _same(shapes, at, size)
            if same > size and same > best[1]:
                best = (size, same)
        size, same = best
        if not size:
            at += 1
            continue
        found.append(_group(holes, at, size, same, dialect))
        at += same
    return found


def _same(shapes: Sequence[tuple[str, ...]], at: int, size: int) -> int:
    """How many statements go on as a group of that size does; whole turns only, but at the end."""
    if at + size > len(shapes):
        return 0
    same = size
    while at + same < len(shapes) and shapes[at + same] == shapes[at + same % size]:
        same += 1
    return same if at + same == len(shapes) else same - same % size


def _group(holes: Sequence[_Holes], at: int, size: int, same: int, dialect: str) -> Repeated:
    turns = tuple(
        tuple(range(start, min(start + size, at + same))) for start in range(at, at + same, size)
    )
    columns: list[tuple[str, str, int]] = []
    places: list[tuple[int, int]] = []
    for number in range(min(len(turn) for turn in turns)):
        for use in uses_of(holes[at + number].text, dialect, {}):
            if use.how == "equal":
                columns.append((use.table, use.column, number))
                places.append((number, int(use.name[1:-1])))
    values = tuple(
        tuple(holes[turn[number]].values[place] for number, place in places) for turn in turns
    )
    return Repeated(at, at + same, turns, values, tuple(columns))


def _holes(text: str, dialect: str) -> _Holes:
    """A statement with a name in the place of each literal."""
    try:
        tokens = sqlglot.tokenize(text, dialect=dialect)
    except sqlglot.errors.SqlglotError:
        return _Holes(text, (), (text,))
    shape = tuple(
        kind if (kind := token.token_type.name) in _WORDS else f"{kind} {token.text}"
        for token in tokens
    )
    parts: list[str] = []
    values: list[str] = []
    at = 0
    for token in tokens:
        if token.token_type.name in _WORDS:
            parts += [text[at : token.start], f":h{len(values)}h"]
            values.append(token.text)
            at = token.end + 1
    return _Holes("".join((*parts, text[at:])), tuple(values), shape)
