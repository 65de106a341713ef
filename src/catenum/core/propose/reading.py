"""What the passes need of a statement's parse tree, and statements made from it."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from sqlglot import exp

from catenum.core.propose import editing
from catenum.core.propose.editing import written
from catenum.core.scenario.conditions import Comparison

#: A parameter in a text.
PARAMETER = re.compile(r"(?<![:\w]):([A-Za-z_]\w*)")


class Reading:
    """One statement. Where it cannot be parsed ``tree`` is None, and every answer is that there is
    nothing.
    """

    def __init__(self, sql: str, dialect: str) -> None:
        self.sql, self.dialect = sql, dialect
        self.tree: exp.Expr | None = editing.parsed(editing.bare(sql, dialect), dialect)

    # -- what it is --------------------------------------------------------------------------------

    @property
    def is_plain_select(self) -> bool:
        """A SELECT that a lock clause may stand behind: no groups, no sets, no aggregates. With a
        limit it locks the rows that it returns.
        """
        tree = self.tree
        if not isinstance(tree, exp.Select) or not any(tree.find_all(exp.Table)):
            return False
        if any(tree.args.get(part) for part in ("group", "having", "distinct")):
            return False
        return not any(one.find(exp.AggFunc, exp.Window) for one in tree.expressions)

    @property
    def takes_some(self) -> bool:
        """Whether it is a SELECT of the first few of the rows that there are."""
        return isinstance(self.tree, exp.Select) and self.tree.args.get("limit") is not None

    @property
    def lock_clause(self) -> str | None:
        """As it is written, in lower case and single spaces."""
        return editing.lock_clause(self.sql, self.dialect)

    def with_lock(self, clause: str | None) -> str:
        """The same SELECT with this lock clause in place of its own; without one for None."""
        return editing.with_lock(self.sql, clause, self.dialect)

    @property
    def table(self) -> str | None:
        """The table that an UPDATE or DELETE changes, or the only one of a SELECT."""
        tree = self.tree
        if isinstance(tree, exp.Update | exp.Delete):
            return tree.this.name if isinstance(tree.this, exp.Table) else None
        if isinstance(tree, exp.Select):
            tables = [one.name for one in tree.find_all(exp.Table)]
            return tables[0] if len(tables) == 1 else None
        return None

    @property
    def changes(self) -> bool:
        """Whether it is an UPDATE or a DELETE."""
        return isinstance(self.tree, exp.Update | exp.Delete)

    @property
    def where(self) -> str | None:
        """The text of its condition."""
        where = self.tree.args.get("where") if self.tree is not None else None
        return written(where.this, self.dialect) if where is not None else None

    @property
    def equals(self) -> dict[str, str]:
        """The columns that its condition compares for equality with a constant or a parameter,
        joined by AND.
        """
        where = self.tree.args.get("where") if self.tree is not None else None
        found: dict[str, str] = {}
        left = [where.this] if where is not None else []
        while left:
            one = left.pop()
            if isinstance(one, exp.And):
                left += [one.this, one.expression]
            elif isinstance(one, exp.Paren):
                left.append(one.this)
            elif (
                isinstance(one, exp.EQ)
                and isinstance(one.this, exp.Column)
                and not one.expression.find(exp.Column)
            ):
                found[one.this.name.lower()] = written(one.expression, self.dialect)
        return found

    @property
    def selected(self) -> dict[str, str]:
        """What a SELECT gives: by the name of a column, the expression."""
        if not isinstance(self.tree, exp.Select):
            return {}
        return {
            one.alias_or_name.lower(): written(_bare(one), self.dialect)
            for one in self.tree.expressions
        }

    @property
    def columns(self) -> dict[str, str]:
        """Of what a SELECT gives, the plain columns: by the name that it gives to each, the column
        in lower case.
        """
        if not isinstance(self.tree, exp.Select):
            return {}
        pairs = ((one.alias_or_name.lower(), _bare(one)) for one in self.tree.expressions)
        return {name: one.name.lower() for name, one in pairs if isinstance(one, exp.Column)}

    @property
    def assigned(self) -> dict[str, str]:
        """What an UPDATE gives to columns, by their names."""
        if not isinstance(self.tree, exp.Update):
            return {}
        pairs = (
            one
            for one in self.tree.expressions
            if isinstance(one, exp.EQ) and isinstance(one.this, exp.Column)
        )
        return {one.this.name.lower(): written(one.expression, self.dialect) for one in pairs}

    @property
    def parameters(self) -> list[str]:
        """The names of its values."""
        return list(dict.fromkeys(PARAMETER.findall(self.sql)))

    @property
    def inserts_into(self) -> str | None:
        """The table of an INSERT of one row with its values."""
        tree = self.tree
        if not isinstance(tree, exp.Insert) or not isinstance(tree.expression, exp.Values):
            return None
        table = tree.this.find(exp.Table)
        plain = (
            len(tree.expression.expressions) == 1
            and not tree.args.get("conflict")
            and not tree.args.get("returning")
        )
        return table.name if table is not None and plain else None

    @property
    def inserted(self) -> list[str]:
        """The values of that row, as they are written."""
        if self.inserts_into is None or self.tree is None:
            return []
        return [
            written(one, self.dialect) for one in self.tree.expression.expressions[0].expressions
        ]

    @property
    def inserted_columns(self) -> list[str]:
        """The columns that an INSERT names; none where it means all of them."""
        target = self.tree.this if isinstance(self.tree, exp.Insert) else None
        return [one.name for one in target.expressions] if isinstance(target, exp.Schema) else []

    # -- what can be made of it --------------------------------------------------------------------

    def with_condition(self, *terms: exp.Expr) -> str | None:
        """The same UPDATE or DELETE, only where these are true as well."""
        if not isinstance(self.tree, exp.Update | exp.Delete) or self.where is None:
            return None
        if any(self.tree.args.get(part) for part in ("returning", "order", "limit")):
            return None
        return editing.with_condition(self.sql, self.tree, terms, self.dialect)

    def with_value(self, name: str, value: exp.Expr) -> str:
        """The same with an expression in place of a parameter."""
        return (
            editing.with_value(self.sql, self.tree, name, value, self.dialect)
            if self.tree
            else self.sql
        )

    def terms_beyond(self, key: Sequence[str]) -> list[exp.Expr]:
        """What its condition asks for besides the equalities of a key."""
        where = self.tree.args.get("where") if self.tree is not None else None
        columns = {column.lower() for column in key}
        return [
            term
            for term in (_terms(where.this) if where is not None else ())
            if not (
                isinstance(term, exp.EQ)
                and isinstance(term.this, exp.Column)
                and term.this.name.lower() in columns
            )
        ]

    def inserted_where(self, source: str) -> str | None:
        """The same INSERT, but only where there is such a row."""
        if self.inserts_into is None or self.tree is None:
            return None
        into = self.tree.this.sql(dialect=self.dialect)
        return f"insert into {into} select {', '.join(self.inserted)} from {source}"

    @property
    def _unlocked(self) -> str:
        return editing.bare(self.with_lock(None), self.dialect)

    def as_value(self) -> exp.Expr | None:
        """The same as an expression."""
        tree = editing.parsed(self._unlocked, self.dialect)
        return exp.Subquery(this=tree) if isinstance(tree, exp.Select) else None

    def expression_of(self, name: str) -> exp.Expr | None:
        """What a SELECT gives by this name."""
        found = self.tree.expressions if isinstance(self.tree, exp.Select) else ()
        return next(
            (_bare(one) for one in found if one.alias_or_name.lower() == name.lower()), None
        )


#: A comparison of a condition, as SQL has it.
_SIGNS: dict[str, type[exp.Binary]] = {
    "=": exp.EQ,
    "<>": exp.NEQ,
    "<": exp.LT,
    "<=": exp.LTE,
    ">": exp.GT,
    ">=": exp.GTE,
}


def own_comparison(source: Reading, columns: Mapping[str, str], one: Comparison) -> exp.Expr | None:
    """A comparison of a kept value with a constant, in terms of the column that gave it; None where
    it cannot be.

    ``columns``: by the name of a value the column that it is kept from.
    """
    if one.left.name not in columns or (one.right is not None and one.right.name is not None):
        return None
    value = source.expression_of(columns[str(one.left.name)])
    if value is None:
        return None
    whole = editing.whole(value)
    if one.right is None:
        null = exp.Is(this=whole, expression=exp.Null())
        return null if one.sign == "is null" else exp.Not(this=null)
    right = editing.parsed(f"select {one.right}", source.dialect)
    sign = _SIGNS.get(one.sign)
    if sign is None or not isinstance(right, exp.Select):
        return None
    found: exp.Expr = sign(this=whole, expression=right.expressions[0])
    return found


def same_value(column: str, value: str, *, may_be_null: bool) -> exp.Expr:
    """A condition that a column has the value of a parameter; ``may_be_null``: also where both are
    NULL.
    """
    kind: type[exp.Expr] = exp.NullSafeEQ if may_be_null else exp.EQ
    return kind(this=exp.column(column), expression=exp.Placeholder(this=value))


def is_null(column: str) -> exp.Expr:
    return exp.Is(this=exp.column(column), expression=exp.Null())


def term(text: str, dialect: str) -> exp.Expr | None:
    tree = editing.parsed(f"select 1 where {text}", dialect)
    where = tree.args.get("where") if tree is not None else None
    return where.this if where is not None else None


def _terms(one: exp.Expr) -> list[exp.Expr]:
    if isinstance(one, exp.Paren):
        return _terms(one.this) if isinstance(one.this, exp.And | exp.Paren) else [one]
    return [*_terms(one.this), *_terms(one.expression)] if isinstance(one, exp.And) else [one]


def _bare(one: exp.Expr) -> exp.Expr:
    return one.this if isinstance(one, exp.Alias) else one


def same_row(one: Reading, other: Reading, key: Sequence[str]) -> bool:
    """Whether both name the same row by a whole key."""
    mine, theirs = one.equals, other.equals
    columns = [column.lower() for column in key]
    return bool(columns) and all(c in mine and mine[c] == theirs.get(c) for c in columns)
