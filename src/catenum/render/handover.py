"""The hand-over: what happened on the watched servers, for the next shift; plain text or
Markdown.
"""

from __future__ import annotations

import textwrap
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from catenum.core.text import duration, one_line
from catenum.render.history import gap_text, incident_line, seen_text

WIDTH = 118
#: Deadlocks that are told one by one.
MOST_DEADLOCKS = 10


@dataclass(frozen=True, slots=True)
class Part:
    """A heading and what stands under it, one entry each, with lines that belong to it."""

    title: str
    entries: tuple[tuple[str, ...], ...]
    none: str


def handover(value: dict[str, Any], *, markdown: bool) -> str:
    """The whole report, of what ``live.handover.handover_value`` gives."""
    head = f"Hand-over, {_time(value['since'])} to {_time(value['until'])} UTC"
    lines = [f"# {head}", ""] if markdown else [head, ""]
    lines += [_escaped(value["headline"]) if markdown else value["headline"], ""]
    for part in _parts(value):
        lines += [f"## {part.title}", ""] if markdown else [part.title]
        for first, *rest in part.entries:
            if markdown:
                lines += [f"- {_escaped(first)}", *(f"  - {_escaped(line)}" for line in rest)]
                continue
            lines += textwrap.wrap(first, WIDTH, initial_indent="  ", subsequent_indent="    ")
            for line in rest:
                lines += textwrap.wrap(
                    line, WIDTH, initial_indent="      ", subsequent_indent="      "
                )
        if not part.entries:
            lines.append(part.none if markdown else f"  {part.none}")
        lines.append("")
    return "\n".join(lines).rstrip() + "\n"


def _parts(value: dict[str, Any]) -> Iterator[Part]:
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
        f"to {_time(row['ended'] or row['last'])[11:]}"
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
        f"{one['count']} {what} that are alike, {_time(one['first'])} to {_time(one['last'])[11:]} "
        f" {one['server']}  over {one['table']}{who}: {one['waiting']} waiting at the worst,"
        f" longest wait {duration(one['longest_ms'])}, in all {duration(one['wait_ms'])}"
        f" (#{min(ids)} to #{max(ids)})"
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
        span = f"{_time(mine[0]['at'])} to {_time(mine[-1]['at'])[11:]}"
        yield (f"{server}: {count} from {span}; {reports} reports (history deadlocks)",)


def _deadlock(row: dict[str, Any]) -> tuple[str, ...]:
    reported = "" if row["report"] else "; no report"
    return (f"{_time(row['at'])} {row['server']}: {row['count']}{reported}",)


def _release(row: dict[str, Any]) -> tuple[str, ...]:
    who = ", ".join(str(row[key]) for key in ("user", "application", "host") if row[key])
    text = (
        f"{_time(row['at'])} {row['server']}: {row['by']} {row['way']} session {row['session']}"
        f" ({who})"
    )
    return (text, one_line(row["outcome"], 300))


def _coverage(value: dict[str, Any]) -> Iterator[tuple[str, ...]]:
    for server in value["servers"]:
        gaps = [gap for gap in value["gaps"] if gap["server"] == server["server"]]
        yield (seen_text(server), *map(gap_text, gaps))


def _time(text: str) -> str:
    return text[:19].rstrip("Z").replace("T", " ")


def _escaped(text: str) -> str:
    """Text that means nothing to Markdown: what stands in statements and names is no markup."""
    for mark in "\\`*_[]<>#|":
        text = text.replace(mark, f"\\{mark}")
    return text
