"""Whether a statement is known to change nothing but tables of the run's own: what may run where no
wall stands.

The other way round than ``boundary``, which knows ways out: here a statement is let through only
where its parse tree is of a kind on a list, names no other schema and calls no function that
Catenum does not know.
"""

from __future__ import annotations

import re
from collections.abc import Collection
from functools import cache, lru_cache

from catenum.core.sql.parser import exp, sqlglot
from catenum.core.sql.statements import footprint


#: What rows and definitions are changed by.
@cache
def _kinds() -> tuple[type[exp.Expr], ...]:
    return (
        exp.Query,
        exp.Insert,
        exp.Update,
        exp.Delete,
        exp.Merge,
        exp.TruncateTable,
        exp.Set,
        exp.Alter,
    )


#: What CREATE and DROP may make and remove: all else may hold code, or reach out of the database.
_OBJECTS = frozenset(["table", "index", "view", "sequence"])
#: Storage engines that keep a table in the server's own files.
_ENGINES = frozenset(["innodb", "aria", "myisam", "memory"])
#: Statements that the parser does not read, and that stay within their transaction.
_SAVEPOINT = re.compile(
    r"\s*(?:savepoint|release(?:\s+savepoint)?|rollback(?:\s+work)?\s+to(?:\s+savepoint)?)\s+\w+\s*$",
    re.I,
)


@lru_cache(maxsize=4096)
def uncontained(sql: str, dialect: str, catalogues: Collection[str]) -> str | None:
    """Why it is not certain that ``sql`` stays within the tables that it names; None where it
    is.
    """
    if _SAVEPOINT.match(sql):
        return None
    try:
        trees = [tree for tree in sqlglot.parse(sql, dialect=dialect) if tree is not None]
    except (sqlglot.errors.SqlglotError, RecursionError):
        trees = []
    if len(trees) != 1 or isinstance(trees[0], exp.Command):
        return None if footprint(sql, dialect).accesses else "Catenum cannot read it whole"
    tree = trees[0]
    if isinstance(tree, exp.Create | exp.Drop):
        kind = str(tree.args.get("kind") or "").lower()
        if kind not in _OBJECTS:
            return f"a {kind or 'thing'} may hold code that does anything"
    elif not isinstance(tree, _kinds()):
        return "Catenum cannot read it whole"
    return _within(tree, dialect, catalogues)


def _within(tree: exp.Expr, dialect: str, catalogues: Collection[str]) -> str | None:
    for table in tree.find_all(exp.Table):
        if table.catalog or (table.db and table.db.lower() not in catalogues):
            return f"it names {table.sql(dialect=dialect)}"
    for engine in tree.find_all(exp.EngineProperty):
        if engine.name.lower() not in _ENGINES:
            return f"the storage engine {engine.name} may reach out of the server"
    if next(tree.find_all(exp.Command, exp.Copy), None) is not None:
        return "Catenum cannot read it whole"
    found = footprint(tree.sql(dialect=dialect), dialect)
    if found.calls_unknown:
        return "it calls a function that Catenum does not know"
    return None
