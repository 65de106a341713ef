"""Which index would serve a statement: columns compared for equality, then those compared by range,
then what is read, so that the index covers it.

A comparison serves where one side is a column of the table, bare, and the other has none of the
table's columns: an index holds no results of functions and casts, and says nothing of one column
against another.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from catenum.core.record.recording import TableKeys
from catenum.core.servers import Rules
from catenum.core.sql.parser import exp, sqlglot

#: With fewer rows than this a server reads the whole table whatever indexes there are.
SMALL_ROWS = 100
#: Characters that the name of an index may have on every server, with room for a number.
MOST_NAME = 60


def propose_index(sql: str, table: str, rules: Rules, keys: TableKeys) -> str | None:
    """DDL for the index that would let the statement find its rows, and cover its read; None where
    there is none to make.

    An index whose first columns are those already needs no twin: then None.
    """
    try:
        tree = sqlglot.parse_one(sql, dialect=rules.sql.dialect)
    except sqlglot.errors.SqlglotError:
        return None
    for found in tree.find_all(exp.Table):
        if found.name.lower() == table.lower():
            ddl = _for(found, table, rules, keys)
            if ddl is not None:
                return ddl
    return None


def _for(table: exp.Table, name: str, rules: Rules, keys: TableKeys) -> str | None:
    """The index for one place in which the table stands in a statement."""
    scope = table.find_ancestor(exp.Select, exp.Update, exp.Delete)
    if scope is None:
        return None
    names = _Names(table, scope)
    leading = _leading(names, list(_terms(scope)))
    if not leading or _begins(keys.primary, leading):
        return None
    read = [column for column in _read_alone(names, scope) if column not in keys.primary]
    columns = list(dict.fromkeys((*leading, *read)))
    if any(
        _begins(existing, leading) and set(columns) <= set(existing)
        for existing in keys.indexes.values()
    ):
        return None
    title = _title(f"{name}_{'_'.join(columns)}", keys)
    listed = ", ".join(names.spelled(column, rules.sql.dialect) for column in columns)
    return (
        f"create index {names.spelled(title, rules.sql.dialect)} on"
        f" {names.spelled(name, rules.sql.dialect)} ({listed})"
    )


def _leading(names: _Names, terms: Sequence[exp.Expr]) -> list[str]:
    """The columns by which rows are looked for: those that must be equal, then one of a range."""
    equal = _columns(names, (t for t in terms if _is_equality(t)))
    equal += [c for t in terms if (c := _of_alternatives(names, t)) is not None and c not in equal]
    ranged = [c for c in _columns(names, (t for t in terms if _is_range(t))) if c not in equal]
    return [*equal, *ranged[:1]]


def _read_alone(names: _Names, scope: exp.Expr) -> list[str]:
    """The columns that a SELECT asks for, where the index may have all that it needs: it locks no
    rows for a change (a shared lock may stay in the index).
    """
    if not isinstance(scope, exp.Select) or any(e.find(exp.Star) for e in scope.expressions):
        return []
    if any(lock.args.get("update") for lock in scope.args.get("locks") or ()):
        return []
    asked = (column for term in scope.expressions for column in term.find_all(exp.Column))
    return [name for column in asked if (name := names.column_name(column))]


def _is_equality(term: exp.Expr) -> bool:
    return isinstance(term, (exp.EQ, exp.NullSafeEQ, exp.In, exp.Is))


def _is_range(term: exp.Expr) -> bool:
    return isinstance(term, (exp.GT, exp.GTE, exp.LT, exp.LTE, exp.Between))


def _begins(key: Sequence[str], columns: Sequence[str]) -> bool:
    return {column.lower() for column in key[: len(columns)]} == {
        column.lower() for column in columns
    }


class _Names:
    """Which columns of a scope are a table's."""

    def __init__(self, table: exp.Table, scope: exp.Expr) -> None:
        self.called = (table.alias or table.name).lower()
        self.alone = sum(1 for one in scope.find_all(exp.Table) if _scope_of(one) is scope) == 1
        self.scope = scope
        identifiers = scope.find_all(exp.Identifier)
        self.quoted = {identifier.name for identifier in identifiers if identifier.quoted}

    def column_name(self, column: exp.Expr) -> str | None:
        """The column's name where it is the table's for certain; with several tables, only by its
        qualifier.
        """
        if not isinstance(column, exp.Column) or _scope_of(column) is not self.scope:
            return None
        mine = column.table.lower() == self.called if column.table else self.alone
        quoted = isinstance(column.this, exp.Identifier) and column.this.quoted
        return (column.name if quoted else column.name.lower()) if mine else None

    def spelled(self, name: str, dialect: str) -> str:
        """A name as it can stand in a statement: in quotes where it has them in this one, or is no
        plain word.
        """
        if re.fullmatch(r"[a-z_][a-z0-9_]*", name) and name not in self.quoted:
            return name
        return exp.to_identifier(name, quoted=True).sql(dialect=dialect)


def _scope_of(node: exp.Expr) -> exp.Expr | None:
    return node.find_ancestor(exp.Select, exp.Update, exp.Delete)


def _terms(scope: exp.Expr) -> Iterator[exp.Expr]:
    """What must all be true: the conditions of WHERE and of inner joins, taken apart at AND."""
    where = scope.args.get("where")
    joins = list(scope.args.get("joins") or ())
    if isinstance(scope, exp.Update | exp.Delete) and isinstance(scope.this, exp.Table):
        joins += scope.this.args.get("joins") or ()
    conditions = [where.this] if where is not None else []
    conditions += [
        join.args["on"] for join in joins if join.args.get("on") is not None and not join.side
    ]
    for condition in conditions:
        stack = [condition]
        while stack:
            term = stack.pop()
            if isinstance(term, exp.And):
                stack += [term.expression, term.this]
            elif isinstance(term, exp.Paren):
                stack.append(term.this)
            else:
                yield term


def _of_alternatives(names: _Names, term: exp.Expr) -> str | None:
    """The column of which an OR names values, the same in each of its branches."""
    if not isinstance(term, exp.Or):
        return None
    branches = [branch.unnest() for branch in term.flatten()]
    found = [_columns(names, iter([b])) if _is_equality(b) else [] for b in branches]
    return found[0][0] if found[0] and all(one == found[0] for one in found) else None


def _columns(names: _Names, terms: Iterator[exp.Expr]) -> list[str]:
    """The columns that the terms compare with something that is none of the table's."""
    found: list[str] = []
    for term in terms:
        sides = [term.this, term.expression] if isinstance(term, exp.Binary) else [term.this]
        for place, side in enumerate(sides):
            column = names.column_name(side)
            others = [other for n, other in enumerate(sides) if n != place]
            if not isinstance(term, exp.Binary):
                others = [
                    value
                    for key, value in term.args.items()
                    if key != "this" and isinstance(value, exp.Expr)
                ]
            its_own = any(
                names.column_name(c) for other in others for c in other.find_all(exp.Column)
            )
            if column is not None and not its_own and column not in found:
                found.append(column)
    return found


def _title(name: str, keys: TableKeys) -> str:
    """A name that is short enough and not taken."""
    name = re.sub(r"\W", "_", name)[:MOST_NAME].rstrip("_")
    taken = {existing.lower() for existing in keys.indexes}
    number = 2
    wished = name
    while wished.lower() in taken:
        wished, number = f"{name}_{number}", number + 1
    return wished
