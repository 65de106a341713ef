"""What one shift tells the next: incidents, deadlocks, what people did, what is still open, what
was not seen.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from catenum.core.snapshot.history_rows import IncidentRow
from catenum.core.text import duration
from catenum.engines.clock import moment
from catenum.store import queries
from catenum.store.spans import Span
from catenum.store.store import LOOKS, Store

#: Incidents that are told one by one; of more, the longest.
MOST = 200
#: What is added up of the hours of a server.
_SUMS = ("looks", "seen_s", "blind_s", "of_s")
#: From so many on, incidents that are alike are told as one.
FOLDED = 4


def handover_value(store: Store, span: Span) -> dict[str, Any]:
    """All of a hand-over as plain values."""
    totals = queries.totals(store, span)
    rows = queries.incidents(store, span, 100_000)
    over = [row for row in rows if row["ended"] is not None]
    alike = _alike(over)
    folded = {number for one in alike for number in one["ids"]}
    reported = [row for row in over if row["id"] not in folded]
    longest = sorted(reported, key=lambda row: -row["wait_ms"])[:MOST]
    until = span.until or moment().isoformat(timespec="seconds").replace("+00:00", "Z")
    first = store.rows("select min(minute) first from minute where shape = ?", (LOOKS,))[0]["first"]
    value = {
        "since": span.since or first or until,
        "until": until,
        "open": [row for row in rows if row["ended"] is None],
        "incidents": sorted(longest, key=lambda row: str(row["first"])),
        "alike": alike,
        "incidents_in_all": len(rows),
        "deadlocks": queries.deadlocks(store, span),
        "releases": queries.releases(store, span),
        "gaps": totals["gaps"],
        "servers": _servers(totals["coverage"]),
    }
    return {"headline": _headline(totals, value), **value}


def _alike(rows: Sequence[IncidentRow]) -> list[dict[str, Any]]:
    """Incidents that came again and again: the same kind of statement of one application, over one
    table, told as one.

    With notes they are told by themselves.
    """
    kinds: dict[tuple[object, ...], list[IncidentRow]] = {}
    for row in rows:
        if row["note"] is None:
            place = re.match(r"[^\s(:]+", str(row["object"] or ""))
            kind = (
                row["server"],
                row["cycle"],
                row["application"],
                row["shape"],
                place and place[0],
            )
            kinds.setdefault(kind, []).append(row)
    found = []
    for (server, cycle, application, shape, table), mine in kinds.items():
        if len(mine) < FOLDED:
            continue
        found.append(
            {
                "server": server,
                "cycle": cycle,
                "application": application,
                "statement": shape,
                "table": table,
                "count": len(mine),
                "first": min(row["first"] for row in mine),
                "last": max(row["last"] for row in mine),
                "waiting": max(row["waiting"] for row in mine),
                "longest_ms": max(row["longest_ms"] for row in mine),
                "wait_ms": round(sum(row["wait_ms"] for row in mine), 1),
                "ids": [row["id"] for row in mine],
            }
        )
    return sorted(found, key=lambda one: -float(str(one["wait_ms"])))


def _servers(hours: list[dict[str, Any]]) -> list[dict[str, Any]]:
    found: dict[str, dict[str, Any]] = {}
    for hour in hours:
        mine = found.setdefault(
            hour["server"], dict.fromkeys(_SUMS, 0) | {"server": hour["server"]}
        )
        for key in _SUMS:
            mine[key] = round(mine[key] + hour[key], 1)
    return list(found.values())


def _headline(reported: dict[str, Any], value: dict[str, Any]) -> str:
    count = reported["incidents"]
    parts = [
        (
            f"{count} incident{'s' if count != 1 else ''} of waiting"
            if count
            else "No incident of waiting was seen"
        ),
        f"{reported['deadlocks']} deadlock{'s' if reported['deadlocks'] != 1 else ''}",
        f"{len(value['open'])} still open" if value["open"] else "nothing known to be still open",
    ]
    if count:
        parts.insert(
            1,
            f"{duration(reported['wait_ms'])} waited in all, the longest"
            f" {duration(reported['longest_ms'])}",
        )
    folded = sum(one["count"] for one in value["alike"])
    left = count - len(value["incidents"]) - len(value["open"]) - folded
    if left > 0:
        parts.append(f"the {len(value['incidents'])} longest are listed")
    seen, of = (sum(server[key] for server in value["servers"]) for key in ("seen_s", "of_s"))
    blind = sum(server["blind_s"] for server in value["servers"])
    parts.append(f"{100 * seen / of:.0f} % of the time was seen" if of else "no watch looked")
    if blind:
        parts.append(f"the watch was blind for {duration(blind * 1000)}")
    return "; ".join(parts) + "."
