"""What one shift tells the next: incidents, deadlocks, what people did, what is still open, what was not seen."""

from __future__ import annotations

from typing import Any

from catenum.core.words import duration
from catenum.engines.clock import moment
from catenum.live import history
from catenum.live.spans import Span
from catenum.live.store import Store

#: Incidents that are told one by one; of more, the longest.
MOST = 200


def handover_value(store: Store, span: Span) -> dict[str, Any]:
    """All of a hand-over as plain values."""
    told = history.totals(store, span)
    rows = history.incidents(store, span, 100_000)
    begun = sorted(rows, key=lambda row: -row["wait_ms"])[:MOST]
    until = span.until or moment().isoformat(timespec="seconds").replace("+00:00", "Z")
    begins = [hour["hour"] for hour in told["coverage"]] or [until]
    value = {
        "since": span.since or min(begins),
        "until": until,
        "open": [row for row in rows if row["ended"] is None],
        "incidents": sorted((row for row in begun if row["ended"] is not None), key=lambda row: str(row["first"])),
        "incidents_in_all": len(rows),
        "deadlocks": history.deadlocks(store, span),
        "releases": history.releases(store, span),
        "gaps": told["gaps"],
        "servers": _servers(told["coverage"]),
    }
    return {"headline": _headline(told, value), **value}


def _servers(hours: list[dict[str, Any]]) -> list[dict[str, Any]]:
    found: dict[str, dict[str, Any]] = {}
    for hour in hours:
        mine = found.setdefault(hour["server"], {"server": hour["server"], "looks": 0, "seen_s": 0.0, "of_s": 0.0})
        for key in ("looks", "seen_s", "of_s"):
            mine[key] = round(mine[key] + hour[key], 1)
    return list(found.values())


def _headline(told: dict[str, Any], value: dict[str, Any]) -> str:
    count = told["incidents"]
    parts = [
        f"{count} incident{'s' if count != 1 else ''} of waiting" if count else "No incident of waiting was seen",
        f"{told['deadlocks']} deadlock{'s' if told['deadlocks'] != 1 else ''}",
        f"{len(value['open'])} still open" if value["open"] else "nothing known to be still open",
    ]
    if count:
        parts.insert(1, f"{duration(told['wait_ms'])} waited in all, the longest {duration(told['longest_ms'])}")
    left = count - len(value["incidents"]) - len(value["open"])
    if left > 0:
        parts.append(f"the {len(value['incidents'])} longest are listed")
    seen, of = (sum(server[key] for server in value["servers"]) for key in ("seen_s", "of_s"))
    parts.append(f"{100 * seen / of:.0f} % of the time was seen" if of else "no watch looked")
    return "; ".join(parts) + "."
