"""Which index would serve a statement: columns compared for equality, then those compared by range, then what is read,
so that the index covers it.
"""

from __future__ import annotations

from collections.abc import Iterator

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from catenum.core.record.recording import TableKeys
from catenum.core.servers import Rules

#: With fewer rows than this a server reads the whole table whatever indexes there are.
SMALL_ROWS = 100


def propose_index(sql: str, table: str, rules: Rules, keys: TableKeys) -> str | None:
    """DDL for the index that would let the statement find its rows, and cover its read; None where there is none to
    make.

    An index whose first columns are those already needs no twin: then None.
    """
    try:
        tree = sqlglot.parse_one(sql, dialect=rules.dialect)
    except SqlglotError:
        return None
    where = tree.args.get("where")
    if where is None:
        return None
    terms = list(where.this.flatten()) if isinstance(where.this, exp.And) else [where.this]
    equal = _columns(t for t in terms if isinstance(t, exp.EQ | exp.In | exp.Is))
    ranged = [
        c
        for c in _columns(t for t in terms if isinstance(t, exp.GT | exp.GTE | exp.LT | exp.LTE | exp.Between))
        if c not in equal
    ]
    leading = [*equal, *ranged[:1]]
    if not leading or set(leading) <= set(keys.primary):
        return None
    read: list[str] = []
    if isinstance(tree, exp.Select) and not any(isinstance(e, exp.Star) for e in tree.expressions):
        read = [c for c in _columns(iter(tree.expressions)) if c not in leading and c not in keys.primary]
    columns = [*leading, *read]
    if any(existing[: len(columns)] == tuple(columns) for existing in keys.indexes.values()):
        return None
    return f"create index {table}_{'_'.join(columns)} on {table} ({', '.join(columns)})"


def _columns(terms: Iterator[exp.Expr]) -> list[str]:
    found: list[str] = []
    for term in terms:
        for column in term.find_all(exp.Column):
            if column.name.lower() not in found:
                found.append(column.name.lower())
    return found
