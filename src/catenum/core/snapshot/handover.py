"""The hand-over's parts: what happened on the watched servers, for the next shift."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from catenum.core.snapshot.history_words import gap_text, incident_line, seen_text
from catenum.core.text import duration, one_line

#: Deadlocks that are told one by one.
MOST_DEADLOCKS = 10


@dataclass(frozen=True, slots=True)
class Part:
    """A heading and what stands under it, one entry each, with lines that belong to it."""

    title: str
    entries: tuple[tuple[str, ...], ...]
    none: str


def parts_of(value: dict[str, Any]) -> Iterator[Part]:
    """Of what ``store.handover.handover_value`` gives."""
    seen = "in the time that was seen"
    yield Part(
        "Still open", tuple(map(_incident, value["open"])), "Nothing was, when it was last seen."
    )
    reported = (*map(_repeated, value["alike"]), *map(_incident, value["incidents"]))
    yield Part("Incidents", reported, f"No incident {seen}.")
    yield Part("Deadlocks", tuple(_deadlocks(value["deadlocks"])), f"None counted {seen}.")
    yield Part(
        "Released by people",
        tuple(map(_release, value["releases"])),
        "Nobody used 'catenum release'.",
    )
    yield Part("What was seen", tuple(_coverage(value)), "No watch looked in that time.")


def _incident(row: dict[str, Any]) -> tuple[str, ...]:
    until = (
        f"to {time_text(row['ended'] or row['last'])[11:]}"
        if row["ended"]
        else "not ended when last seen"
    )
    text = f"#{row['id']} {incident_line({**row, 'ended': 'told'})}; {until}"
    lines = [text]
    if row["statement"]:
        lines.append(f"statement of the head: {one_line(row['statement'], 200)}")
    if row["note"]:
        lines.append(f"note: {one_line(row['note'], 300)}")
    return tuple(lines)


def _repeated(one: dict[str, Any]) -> tuple[str, ...]:
    """Many that are alike."""
    what = "cycles" if one["cycle"] else "incidents"
    who = f", application {one['application']}" if one["application"] else ""
    ids = one["ids"]
    text = (
        f"{one['count']} {what} that are alike, {time_text(one['first'])} to"
        f" {time_text(one['last'])[11:]}  {one['server']}  over {one['table']}{who}:"
        f" {one['waiting']} waiting at the worst, longest wait {duration(one['longest_ms'])},"
        f" in all {duration(one['wait_ms'])} (#{min(ids)} to #{max(ids)})"
    )
    return (text, f"statement of the head: {one_line(str(one['statement']), 200)}")


def _deadlocks(rows: list[dict[str, Any]]) -> Iterator[tuple[str, ...]]:
    """One by one; of very many, how many each server had, and when."""
    if len(rows) <= MOST_DEADLOCKS:
        yield from map(_deadlock, rows)
        return
    for server in dict.fromkeys(row["server"] for row in rows):
        mine = [row for row in rows if row["server"] == server]
        count, reports = sum(row["count"] for row in mine), sum(1 for row in mine if row["report"])
        span = f"{time_text(mine[0]['at'])} to {time_text(mine[-1]['at'])[11:]}"
        yield (f"{server}: {count} from {span}; {reports} reports (history deadlocks)",)


def _deadlock(row: dict[str, Any]) -> tuple[str, ...]:
    reported = "" if row["report"] else "; no report"
    return (f"{time_text(row['at'])} {row['server']}: {row['count']}{reported}",)


def _release(row: dict[str, Any]) -> tuple[str, ...]:
    who = ", ".join(str(row[key]) for key in ("user", "application", "host") if row[key])
    text = (
        f"{time_text(row['at'])} {row['server']}: {row['by']} {row['way']} session {row['session']}"
        f" ({who})"
    )
    return (text, one_line(row["outcome"], 300))


def _coverage(value: dict[str, Any]) -> Iterator[tuple[str, ...]]:
    for server in value["servers"]:
        gaps = [gap for gap in value["gaps"] if gap["server"] == server["server"]]
        yield (seen_text(server), *map(gap_text, gaps))


def time_text(text: str) -> str:
    """A moment to the second."""
    return text[:19].rstrip("Z").replace("T", " ")
