"""Access paths: through which index each statement goes, which entries and rows that locks and in what order, and
which index would serve.

The path is the server's own plan, boiled down; what it locks follows from the server's rules (MariaDB documentation,
"InnoDB Lock Modes"; PostgreSQL documentation, 13.3.2). The proposed index is derived from the statement: columns
compared for equality, then those compared by range, then what is read, so that the index covers it.
"""

from __future__ import annotations

from collections.abc import Iterator

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from catenum.core.recording import PathStep, Plan, Recording, TableKeys
from catenum.core.scripts import DIALECTS
from catenum.core.statements import Access, footprint

SMALL_ROWS = 100


def with_locks(step: PathStep, sql: str, server: str, keys: TableKeys) -> tuple[str, ...]:
    """What a step locks and in what order, in words; empty for a read that locks nothing."""
    access = next((a for a in footprint(sql, server).on(step.table) if a.verb != "insert"), None)
    if access is None or access.verb in ("read", "schema"):
        return ()
    if server == "postgresql":
        return (f"the rows that match, in {step.table}",)
    return tuple(_innodb(step, access, keys))


def _innodb(step: PathStep, access: Access, keys: TableKeys) -> Iterator[str]:
    if step.kind == "scan":
        yield "every row it passes, in the order of the primary key, whether it matches or not"
    elif step.index in (None, "PRIMARY"):
        yield "the rows, by the primary key"
    elif step.covering and access.verb == "lock" and access.strength in ("share", "key share"):
        yield f"entries of {step.index} alone"
    else:
        yield f"an entry of {step.index}, then its row, one after the other"
    others = [name for name in keys.indexes if name not in ("PRIMARY", step.index)]
    if access.verb == "delete" and others:
        yield f"then the entries of {', '.join(others)}"
    changed = [name for name in others if set(keys.indexes[name]) & set(access.columns)]
    if access.verb == "update" and changed:
        yield f"then the entries of {', '.join(changed)}"


def lock_count(step: PathStep, sql: str, server: str) -> int | None:
    """About how many locks a locking read takes, by the rows that the plan expects; None where it is none."""
    access = next((a for a in footprint(sql, server).on(step.table) if a.verb == "lock"), None)
    if access is None or step.rows is None:
        return None
    through = server == "mariadb" and step.kind != "scan" and step.index not in (None, "PRIMARY")
    coverable = access.strength in ("share", "key share")  # an exclusive read locks the rows in any case
    return round(step.rows * (2 if through and coverable and not step.covering else 1))


def plan_lines(plan: Plan, sql: str, server: str) -> list[str]:
    """A plan as short lines: ``slot: lookup in slot_block, about 12 rows; locks …``."""
    lines = []
    for step in plan.steps:
        where = "reads the whole table" if step.kind == "scan" else f"{step.kind} in {step.index or 'its key'}"
        rows = f", about {step.rows:,.0f} row{'' if step.rows == 1 else 's'}" if step.rows is not None else ""
        covered = ", never visits the rows" if step.covering else ""
        locks = f"; locks {'; '.join(step.locks)}" if step.locks else ""
        count = lock_count(step, sql, server)
        if count and step.rows and count > step.rows:
            locks += f": about {count:,} locks where {step.rows:,.0f} would do, were the read covered"
        lines.append(f"{step.table}: {where}{rows}{covered}{locks}")
    return lines


def small_tables(recording: Recording) -> list[str]:
    """Warnings: tables so small that the server would choose another path on real data."""
    return [
        f"{table} has {rows.total} row{'' if rows.total == 1 else 's'}: with so few the server reads it "
        "whole, or chooses "
        "another index than on real data; 'fill' makes more"
        for table, rows in recording.rows.items()
        if rows.total < SMALL_ROWS
        and any(step.table == table and step.kind == "scan" for plan in recording.plans for step in plan.steps)
    ]


def propose_index(sql: str, table: str, server: str, keys: TableKeys) -> str | None:
    """DDL for the index that would let the statement find its rows, and cover its read; None where there is none to
    make.

    An index whose first columns are those already needs no twin: then None.
    """
    try:
        tree = sqlglot.parse_one(sql, dialect=DIALECTS.get(server))
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
