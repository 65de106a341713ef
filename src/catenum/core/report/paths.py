"""Access paths in words: through which index each statement goes, about how many rows, and what
that locks.
"""

from __future__ import annotations

from catenum.core.diagnose.indexes import SMALL_ROWS
from catenum.core.record.recording import PathStep, Plan, Recording
from catenum.core.servers import Rules


def lock_count(step: PathStep, sql: str, rules: Rules) -> int | None:
    """About how many locks a locking read takes, by the rows that the plan expects; None where it
    is none.
    """
    access = next((a for a in rules.sql.footprint(sql).on(step.table) if a.verb == "lock"), None)
    if access is None or step.rows is None:
        return None
    return round(step.rows * rules.locks.locks_per_row(step, access))


def plan_lines(plan: Plan, sql: str, rules: Rules) -> list[str]:
    """A plan as short lines: ``slot: lookup in slot_block, about 12 rows; locks …``."""
    lines = []
    for step in plan.steps:
        where = (
            "reads the whole table"
            if step.kind == "scan"
            else f"{step.kind} in {step.index or 'its key'}"
        )
        rows = (
            f", about {step.rows:,.0f} row{'' if step.rows == 1 else 's'}"
            if step.rows is not None
            else ""
        )
        covered = ", never visits the rows" if step.covering else ""
        locks = f"; locks {'; '.join(step.locks)}" if step.locks else ""
        count = lock_count(step, sql, rules)
        if count and step.rows and count > step.rows:
            locks += (
                f": about {count:,} locks where {step.rows:,.0f} would do, were the read covered"
            )
        lines.append(f"{step.table}: {where}{rows}{covered}{locks}")
    return lines


def small_tables(recording: Recording) -> list[str]:
    """Warnings: tables so small that the server would choose another path on real data."""
    return [
        f"{table} has {rows.total} row{'' if rows.total == 1 else 's'}: with so few the server"
        " reads it whole, or chooses another index than on real data; 'fill' makes more"
        for table, rows in recording.rows.items()
        if rows.total < SMALL_ROWS
        and any(
            step.table == table and step.kind == "scan"
            for plan in recording.plans
            for step in plan.steps
        )
    ]
