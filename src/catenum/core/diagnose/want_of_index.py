"""Scan for want of an index: a statement that locks reads a whole table to find a few rows, and
locks what it passes.

Evidence: the server's plan reads the whole table, the statement's transaction holds somebody up
over that table, and an index can be derived from its condition. Where a server locks only what it
returns (PostgreSQL) a scan holds nobody up, and nothing is found.
"""

from __future__ import annotations

from catenum.core.diagnose.evidence import ref
from catenum.core.diagnose.indexes import SMALL_ROWS, propose_index
from catenum.core.record.recording import NO_KEYS, Finding, PathStep, Plan, Recording
from catenum.core.servers import rules_of
from catenum.core.text import named


def find(recording: Recording) -> list[Finding]:
    """One finding for each such statement."""
    found = []
    for plan in recording.plans:
        for step in plan.steps:
            finding = (
                _finding_for(recording, plan, step) if step.kind in ("scan", "index scan") else None
            )
            if finding is not None:
                found.append(finding)
    return found


def _finding_for(recording: Recording, plan: Plan, step: PathStep) -> Finding | None:
    held_up = [
        w
        for w in recording.waits
        if w.holder == plan.transaction and w.resource.table == step.table
    ]
    if not step.locks_rows_passed or not held_up or (step.rows or 0) < SMALL_ROWS:
        return None
    sql = recording.sql(plan.transaction, plan.statement) or ""
    ddl = propose_index(
        sql,
        step.table,
        rules_of(recording.target.server),
        recording.tables.get(step.table, NO_KEYS),
    )
    if ddl is None:
        return None
    what = named(plan.transaction, plan.statement)
    wait = held_up[0]
    done = [
        e
        for e in recording.events
        if (e.transaction, e.statement, e.what) == (plan.transaction, plan.statement, "done")
    ]
    rows = f", to return {done[0].rows}" if done and done[0].rows is not None else ""
    return Finding(
        id="want-of-index",
        title="Scan for want of an index",
        transactions=(plan.transaction, *dict.fromkeys(w.waiter for w in held_up)),
        statements=ref(plan.transaction, plan.statement),
        evidence=(
            (
                f"{what} reads the whole of {step.table} (about {step.rows:,.0f} rows){rows}, and"
                " locks every row it passes"
            ),
            f"{named(wait.waiter, wait.statement)} waited for it over {wait.resource.text}",
        ),
        advice=(
            f"{ddl};",
            "With it the statement finds its rows without reading, and locking, the others.",
            "To try it: a remedy with index.",
        ),
    )
