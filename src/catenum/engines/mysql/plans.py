"""MySQL's plans (EXPLAIN FORMAT=JSON) boiled down to steps.

The first version of the form has a node for each table, for writes too, and is asked for where the
server knows of a second (``explain_json_format_version``, 8.3 and later). The second tells how the
executor nests its work, and nothing of a statement that writes (MySQL Reference Manual, "Obtaining
Execution Plan Information").
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, Literal

from catenum.core.record.recording import PathStep
from catenum.engines.innodb import plans

_KINDS: Mapping[str, Literal["scan", "index scan", "range", "lookup"]] = {
    "index_lookup": "lookup",
    "index_scan": "index scan",
}


def steps_of(plan: Any) -> Iterator[PathStep]:
    """Every table in the plan, in its order."""
    if isinstance(plan, dict) and "query_plan" in plan:
        yield from _nested(plan["query_plan"])
    else:
        yield from plans.steps_of(plan)


def _nested(node: Any) -> Iterator[PathStep]:
    if isinstance(node, list):
        for part in node:
            yield from _nested(part)
        return
    if not isinstance(node, dict):
        return
    name, access, rows = node.get("table_name"), node.get("access_type"), node.get("estimated_rows")
    if isinstance(name, str) and access in ("table", "index"):
        index = node.get("index_name")
        kind = (
            "scan" if access == "table" else _KINDS.get(str(node.get("index_access_type")), "range")
        )
        if kind == "index scan" and index == "PRIMARY":
            kind, index = "scan", None
        yield PathStep(
            table=str(node.get("alias", name)),
            kind=kind,
            index=index,
            rows=float(rows) if rows is not None else None,
            covering=bool(node.get("covering")),
        )
    for part in node.values():
        yield from _nested(part)
