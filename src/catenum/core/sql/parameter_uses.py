"""What a statement does with each of its parameters: which column it is compared with, or given
to.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

from catenum.core.sql.parser import exp, sqlglot

How = Literal["equal", "range", "inserted", "assigned"]


@dataclass(frozen=True, slots=True)
class Use:
    """One use of a parameter with a column, names in lower case; ``how``: compared for equality
    (also as one of a list), compared otherwise, given to it in a new row, or in one that is there.
    """

    name: str
    table: str
    column: str
    how: How


def uses_of(sql: str, dialect: str, columns: Mapping[str, Sequence[str]]) -> list[Use]:
    """The uses with a plain column, in the order of the text's tree. ``columns``: of each table (in
    lower case), for an INSERT that names none. Of a statement that cannot be parsed, none.
    """
    try:
        tree = sqlglot.parse_one(_renamed(sql, dialect), dialect=dialect)
    except (sqlglot.errors.SqlglotError, RecursionError):
        return []
    if not isinstance(tree, exp.Expression):
        return []
    tables = {one.alias_or_name.lower(): one.name.lower() for one in tree.find_all(exp.Table)}
    if not tables:
        return []
    first = next(iter(tables.values()))

    def use(column: exp.Expression | None, value: exp.Expression | None, how: How) -> Iterator[Use]:
        name = _parameter(value)
        if name is not None and isinstance(column, exp.Column):
            table = tables.get(column.table.lower(), "") if column.table else first
            if table:
                yield Use(name, table, column.name.lower(), how)

    found: list[Use] = []
    for column, value, how in _compared(tree):
        found += use(column, value, how)
    if isinstance(tree, exp.Insert):
        found += _inserted(tree, columns)
    for one in tree.args.get("expressions", ()) if isinstance(tree, exp.Update) else ():
        if isinstance(one, exp.EQ):
            found += use(one.this, one.expression, "assigned")
    return found


def _parameter(one: exp.Expression | None) -> str | None:
    while isinstance(one, exp.Cast | exp.Paren):
        one = one.this
    if isinstance(one, exp.Placeholder) and isinstance(one.this, str):
        return one.this.removeprefix(_CALLED)
    return None


#: What names of parameters begin with for the parser, to which ``:from`` would be a keyword.
_CALLED = "parameter__"


def _renamed(sql: str, dialect: str) -> str:
    tokens = sqlglot.tokenize(sql, dialect=dialect)
    parts, at = [], 0
    for colon, name in pairwise(tokens):
        if colon.text == ":" and name.start == colon.end + 1 and name.text.isidentifier():
            parts += [sql[at : name.start], _CALLED]
            at = name.start
    return "".join((*parts, sql[at:]))


def _compared(
    tree: exp.Expression,
) -> Iterator[tuple[exp.Expression | None, exp.Expression | None, How]]:
    """What is compared with what in conditions, each side with the other."""
    for one in tree.find_all(
        exp.EQ, exp.GT, exp.GTE, exp.LT, exp.LTE, exp.NEQ, exp.Between, exp.In, exp.Any
    ):
        if one.find_ancestor(exp.Where, exp.Join) is None:
            continue
        if isinstance(one, exp.Between):
            yield one.this, one.args.get("low"), "range"
            yield one.this, one.args.get("high"), "range"
        elif isinstance(one, exp.In):
            for value in one.expressions:
                yield one.this, value, "equal"
        elif not isinstance(one, exp.Any):
            how: How = "equal" if isinstance(one, exp.EQ) else "range"
            yield one.this, one.expression, how
            yield one.expression, one.this, how


def _inserted(tree: exp.Insert, columns: Mapping[str, Sequence[str]]) -> Iterator[Use]:
    target = tree.this
    found = target.find(exp.Table)
    if found is None:
        return
    table = found.name.lower()
    named = (
        [one.name for one in target.expressions]
        if isinstance(target, exp.Schema)
        else list(columns.get(table, ()))
    )
    rows: list[list[exp.Expression]] = []
    if isinstance(tree.expression, exp.Values):
        rows = [
            row.expressions if isinstance(row, exp.Tuple) else [row]
            for row in tree.expression.expressions
        ]
    elif isinstance(tree.expression, exp.Select):
        rows = [tree.expression.expressions]
    for row in rows:
        for column, value in zip(named, row, strict=False):
            name = _parameter(value)
            if name is not None:
                yield Use(name, table, column.lower(), "inserted")
