"""Which values a statement names for which columns, and the condition by which it finds its
rows.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from catenum.core.sql.parser import exp, sqlglot


@dataclass(frozen=True, slots=True)
class NamedValue:
    """A constant that a statement compares a column with, or gives it in a new row or in one that
    is there.

    ``text``: whether it is written as a text.
    """

    table: str
    column: str
    value: str
    text: bool
    use: Literal["compared", "inserted", "assigned"] = "compared"


def _tree(sql: str, dialect: str) -> exp.Expression | None:
    try:
        tree = sqlglot.parse_one(sql, dialect=dialect)
        return tree if isinstance(tree, exp.Expression) else None
    except (sqlglot.errors.SqlglotError, RecursionError):
        return None


def _tables(tree: exp.Expression) -> dict[str, str]:
    """The tables by the names that columns are qualified with."""
    return {one.alias_or_name.lower(): one.name for one in tree.find_all(exp.Table) if one.name}


def _constant(one: exp.Expression | None) -> tuple[str, bool] | None:
    if isinstance(one, exp.Cast | exp.Paren):
        return _constant(one.this)
    if isinstance(one, exp.Neg) and isinstance(one.this, exp.Literal):
        return f"-{one.this.this}", False
    return (str(one.this), bool(one.is_string)) if isinstance(one, exp.Literal) else None


def named_values(sql: str, dialect: str) -> list[NamedValue]:
    """The values of comparisons and lists, of an INSERT's rows, and those that an UPDATE sets, in
    this order.

    Of a statement that cannot be parsed, none.
    """
    tree = _tree(sql, dialect)
    if tree is None:
        return []
    tables = _tables(tree)
    found: list[NamedValue] = []

    def add(
        column: exp.Expression | None,
        values: list[exp.Expression | None],
        use: Literal["compared", "assigned"] = "compared",
    ) -> None:
        if not isinstance(column, exp.Column) or not tables:
            return
        table = tables.get(column.table.lower()) if column.table else next(iter(tables.values()))
        for value in values:
            constant = _constant(value)
            if table and constant:
                found.append(NamedValue(table, column.name, *constant, use))

    for column, values in _compared(tree):
        add(column, values)
    if isinstance(tree, exp.Insert):
        found += _inserted(tree)
    for one in tree.args.get("expressions", ()) if isinstance(tree, exp.Update) else ():
        if isinstance(one, exp.EQ):
            add(one.this, [one.expression], "assigned")
    return found


def _compared(
    tree: exp.Expression,
) -> Iterator[tuple[exp.Expression | None, list[exp.Expression | None]]]:
    """What is compared with what in conditions, each side with the other."""
    for one in tree.find_all(exp.EQ, exp.GT, exp.GTE, exp.LT, exp.LTE, exp.Between, exp.In):
        if one.find_ancestor(exp.Where, exp.Join) is None:
            continue
        if isinstance(one, exp.Between):
            yield one.this, [one.args.get("low"), one.args.get("high")]
        elif isinstance(one, exp.In):
            yield one.this, list(one.expressions)
        else:
            yield one.this, [one.expression]
            yield one.expression, [one.this]


def named_columns(sql: str, dialect: str) -> list[tuple[str, str]]:
    """Every column that a statement names, with its table; one that may be of several tables is
    given to the first.
    """
    tree = _tree(sql, dialect)
    if tree is None:
        return []
    tables = _tables(tree)
    first = next(iter(tables.values()), "")
    found = [
        (tables.get(c.table.lower(), "") if c.table else first, c.name)
        for c in tree.find_all(exp.Column)
    ]
    return [(table, name) for table, name in dict.fromkeys(found) if table and name]


def _inserted(tree: exp.Insert) -> list[NamedValue]:
    target = tree.this
    columns = (
        [column.name for column in target.expressions] if isinstance(target, exp.Schema) else []
    )
    table = target.find(exp.Table)
    rows = tree.expression.expressions if isinstance(tree.expression, exp.Values) else []
    found = []
    for row in rows:
        for place, value in enumerate(row.expressions if isinstance(row, exp.Tuple) else [row]):
            constant = _constant(value)
            column = (
                columns[place] if place < len(columns) else f"#{place}" if not columns else None
            )
            if table is not None and constant and column:
                found.append(NamedValue(table.name, column, *constant, "inserted"))
    return found


def condition(sql: str, dialect: str) -> str | None:
    """The text of a statement's WHERE, without that word; None where it has none or cannot be
    parsed.
    """
    tree = _tree(sql, dialect)
    where = tree.args.get("where") if tree is not None else None
    return where.this.sql(dialect=dialect) if where is not None else None
