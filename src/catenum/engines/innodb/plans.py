"""Plans (EXPLAIN FORMAT=JSON) boiled down to steps: the form that MariaDB has, and MySQL in its
first version.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, Literal

from catenum.core.record.recording import PathStep

#: MariaDB documentation, "EXPLAIN", column type; MySQL Reference Manual, "EXPLAIN Join Types".
KINDS: dict[str, Literal["scan", "index scan", "range", "lookup"]] = {
    "ALL": "scan",
    "index": "index scan",
    "range": "range",
    "index_merge": "range",
}


def steps_of(value: Any) -> Iterator[PathStep]:
    """Every table in the plan, in its order; temporary tables are left out."""
    if isinstance(value, list):
        for item in value:
            yield from steps_of(item)
        return
    if not isinstance(value, dict):
        return
    name = value.get("table_name")
    fills = value.get("insert") or value.get("replace")
    if isinstance(name, str) and not name.startswith("<") and "access_type" in value and not fills:
        rows, index = value.get("rows", value.get("rows_examined_per_scan")), value.get("key")
        kind = KINDS.get(str(value["access_type"]), "lookup")
        if (
            kind == "index scan" and index == "PRIMARY"
        ):  # the rows themselves, in the order of their keys
            kind, index = "scan", None
        yield PathStep(
            table=name,
            kind=kind,
            index=index,
            rows=float(rows) if rows is not None else None,
            covering=bool(value.get("using_index")),
        )
    for item in value.values():
        yield from steps_of(item)
