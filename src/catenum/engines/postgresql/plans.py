"""PostgreSQL's plans (EXPLAIN in JSON) boiled down to steps."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from catenum.core.record.recording import PathStep


def steps_of(plan: dict[str, Any]) -> Iterator[PathStep]:
    """The nodes that read tables, in the order of the plan; bitmap scans count as the index scan
    under them.
    """
    node = plan["Node Type"]
    table = plan.get("Relation Name")
    rows = float(plan.get("Plan Rows", 0))
    if node == "Seq Scan" and table:
        yield PathStep(table=table, kind="scan", index=None, rows=rows)
    elif node in ("Index Scan", "Index Only Scan") and table:
        kind = _kind(plan)
        yield PathStep(
            table=table, kind=kind, index=plan.get("Index Name"), rows=rows, covering="Only" in node
        )
    elif node == "Bitmap Heap Scan" and table:
        index = next(
            (child.get("Index Name") for child in plan.get("Plans", ()) if "Index Name" in child),
            None,
        )
        yield PathStep(table=table, kind="range", index=index, rows=rows)
    for child in plan.get("Plans", ()):
        yield from steps_of(child)


def _kind(plan: dict[str, Any]) -> Any:
    condition = str(plan.get("Index Cond", ""))
    if not condition:
        return "index scan"
    return "range" if any(sign in condition for sign in ("<", ">")) else "lookup"
