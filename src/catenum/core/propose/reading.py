"""What the passes need of a statement's parse tree, and statements made from it."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from catenum.core.scenario.conditions import Comparison

#: The end of a locking read: what the servers write there.
_LOCKS = re.compile(
    r"\s+(?:for\s+(?:no\s+key\s+update|key\s+share|update|share)|lock\s+in\s+share\s+mode)"
    r"(?P<rest>(?:\s+of\s+[\w.\", ]+?)?(?:\s+(?:nowait|skip\s+locked))?)\s*\Z",
    re.IGNORECASE,
)
_PARAMETER = re.compile(r"(?<![:\w]):([A-Za-z_]\w*)")


class Reading:
    """One statement. Where it cannot be parsed ``tree`` is None, and every answer is that there is nothing."""

    def __init__(self, sql: str, dialect: str) -> None:
        self.sql, self.dialect = sql, dialect
        self.tree: exp.Expression | None
        try:
            tree = sqlglot.parse_one(sql, dialect=dialect)
            self.tree = tree if isinstance(tree, exp.Expression) else None
        except (SqlglotError, RecursionError):
            self.tree = None

    # -- what it is --------------------------------------------------------------------------------------------------

    @property
    def is_plain_select(self) -> bool:
        """A SELECT that a lock clause may stand behind: no groups, no sets, no aggregates."""
        tree = self.tree
        if not isinstance(tree, exp.Select) or not any(tree.find_all(exp.Table)):
            return False
        if any(tree.args.get(part) for part in ("group", "having", "distinct", "limit")):
            return False
        return not any(one.find(exp.AggFunc, exp.Window) for one in tree.expressions)

    @property
    def takes_some(self) -> bool:
        """Whether it is a SELECT of the first few of the rows that there are."""
        return isinstance(self.tree, exp.Select) and self.tree.args.get("limit") is not None

    @property
    def lock_clause(self) -> str | None:
        """As it is written, in lower case and single spaces."""
        found = _LOCKS.search(self.sql)
        return " ".join(found[0].lower().split()) if found else None

    def with_lock(self, clause: str | None) -> str:
        """The same SELECT with this lock clause in place of its own; without one for None."""
        plain = _LOCKS.sub("", self.sql).rstrip().rstrip(";").rstrip()
        return f"{plain} {clause}" if clause else plain

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
        """The columns that its condition compares for equality with a constant or a parameter, joined by AND."""
        where = self.tree.args.get("where") if self.tree is not None else None
        found: dict[str, str] = {}
        left = [where.this] if where is not None else []
        while left:
            one = left.pop()
            if isinstance(one, exp.And):
                left += [one.this, one.expression]
            elif isinstance(one, exp.Paren):
                left.append(one.this)
            elif isinstance(one, exp.EQ) and isinstance(one.this, exp.Column) and not one.expression.find(exp.Column):
                found[one.this.name.lower()] = written(one.expression, self.dialect)
        return found

    @property
    def selected(self) -> dict[str, str]:
        """What a SELECT gives: by the name of a column, the expression."""
        if not isinstance(self.tree, exp.Select):
            return {}
        return {one.alias_or_name.lower(): written(_bare(one), self.dialect) for one in self.tree.expressions}

    @property
    def columns(self) -> dict[str, str]:
        """Of what a SELECT gives, the plain columns: by the name that it gives to each, the column in lower case."""
        if not isinstance(self.tree, exp.Select):
            return {}
        pairs = ((one.alias_or_name.lower(), _bare(one)) for one in self.tree.expressions)
        return {name: one.name.lower() for name, one in pairs if isinstance(one, exp.Column)}

    @property
    def assigned(self) -> dict[str, str]:
        """What an UPDATE gives to columns, by their names."""
        if not isinstance(self.tree, exp.Update):
            return {}
        pairs = (one for one in self.tree.expressions if isinstance(one, exp.EQ) and isinstance(one.this, exp.Column))
        return {one.this.name.lower(): written(one.expression, self.dialect) for one in pairs}

    @property
    def parameters(self) -> list[str]:
        """The names of its values."""
        return list(dict.fromkeys(_PARAMETER.findall(self.sql)))

    @property
    def inserts_into(self) -> str | None:
        """The table of an INSERT of one row with its values."""
        tree = self.tree
        if not isinstance(tree, exp.Insert) or not isinstance(tree.expression, exp.Values):
            return None
        table = tree.this.find(exp.Table)
        plain = (
            len(tree.expression.expressions) == 1 and not tree.args.get("conflict") and not tree.args.get("returning")
        )
        return table.name if table is not None and plain else None

    @property
    def inserted(self) -> list[str]:
        """The values of that row, as they are written."""
        if self.inserts_into is None or self.tree is None:
            return []
        return [written(one, self.dialect) for one in self.tree.expression.expressions[0].expressions]

    # -- what can be made of it --------------------------------------------------------------------------------------

    def with_condition(self, more: str) -> str | None:
        """The same UPDATE or DELETE, only where this is true as well."""
        if not isinstance(self.tree, exp.Update | exp.Delete) or self.where is None:
            return None
        if any(self.tree.args.get(part) for part in ("returning", "order", "limit")):
            return None
        place = _last_where(self.sql)
        if place is None:
            return None
        head, condition = self.sql[:place], self.sql[place:].strip().rstrip(";")
        mixed = isinstance(self.tree.args["where"].this, exp.Or)
        return f"{head} {f'({condition})' if mixed else condition} and {more}"

    def with_value(self, name: str, text: str) -> str:
        """The same with an expression in place of a parameter."""
        return re.sub(rf"(?<![:\w]):{re.escape(name)}\b", lambda _: text, self.sql)

    def inserted_where(self, source: str) -> str | None:
        """The same INSERT, but only where there is such a row."""
        if self.inserts_into is None or self.tree is None:
            return None
        into = self.tree.this.sql(dialect=self.dialect)
        return f"insert into {into} select {', '.join(self.inserted)} from {source}"

    def subquery(self) -> str:
        """A SELECT without its lock clause, in brackets."""
        return f"({self.with_lock(None)})"


def own_comparison(source: Reading, columns: Mapping[str, str], one: Comparison) -> str | None:
    """A comparison of a kept value with a constant, in terms of the column that gave it; None where it cannot be.

    ``columns``: by the name of a value the column that it is kept from.
    """
    if one.left.name not in columns or (one.right is not None and one.right.name is not None):
        return None
    expression = source.selected.get(columns[str(one.left.name)])
    return f"{expression} {one.sign}{f' {one.right}' if one.right is not None else ''}" if expression else None


def same_value(column: str, value: str, dialect: str, *, may_be_null: bool) -> str:
    """A condition that a column has a value; ``may_be_null``: also where both are NULL."""
    if not may_be_null:
        return f"{column} = {value}"
    told = exp.NullSafeEQ(this=exp.column(column), expression=exp.Var(this=value)).sql(dialect=dialect)
    return told.replace(" IS NOT DISTINCT FROM ", " is not distinct from ")


def written(one: exp.Expression, dialect: str) -> str:
    """The text of a part of a statement, its values by their names, as a scenario has them."""
    told = one.transform(
        lambda node: exp.Var(this=f":{node.name}") if isinstance(node, exp.Placeholder) and node.name else node
    )
    return str(told.sql(dialect=dialect))


def _bare(one: exp.Expression) -> exp.Expression:
    return one.this if isinstance(one, exp.Alias) else one


def _last_where(sql: str) -> int | None:
    """Behind the word WHERE of the outermost statement."""
    depth, found = 0, None
    for token in re.finditer(r"'(?:[^']|'')*'|\(|\)|\bwhere\b", sql, re.IGNORECASE):
        if token[0] == "(":
            depth += 1
        elif token[0] == ")":
            depth -= 1
        elif depth == 0 and token[0].lower() == "where":
            found = token.end()
    return found


def same_row(one: Reading, other: Reading, key: Sequence[str]) -> bool:
    """Whether both name the same row by a whole key."""
    mine, theirs = one.equals, other.equals
    columns = [column.lower() for column in key]
    return bool(columns) and all(c in mine and mine[c] == theirs.get(c) for c in columns)
