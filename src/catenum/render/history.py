"""What a watch kept, as tables in the terminal."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from rich.console import Console

from catenum.core.snapshot.history_words import gap_text, incident_line, seen_text
from catenum.core.text import counted, duration, one_line
from catenum.render.console import STYLES, say

MOST_ROWS = 15
#: Heads of one incident that are told.
MOST_SHOWN = 10
#: Hours of a server that were not wholly seen, in a line.
MOST_HOURS = 12
#: An hour of which a larger part was seen counts as seen.
SEEN_WHOLE = 0.99


def print_totals(console: Console, reported: dict[str, Any]) -> None:
    """The first lines: how much, how long, and what was not seen."""
    if not reported["incidents"] and not reported["deadlocks"]:
        say(console, _nothing(reported), style=STYLES["strong"])
    else:
        count = (
            f"{reported['incidents']:,} incident{'s' if reported['incidents'] != 1 else ''} of"
            " waiting"
        )
        text = (
            f"{count}, {reported['deadlocks']:,} deadlocks; waited in all"
            f" {duration(reported['wait_ms'])}, the longest {duration(reported['longest_ms'])}; at"
            f" most {reported['waiting']} at once, chain of {reported['chain']}"
        )
        for line in textwrap.wrap(text, console.width - 1):
            say(console, line, style=STYLES["strong"])
        say(console, f"from {reported['first']} to {reported['last']}", style=STYLES["faint"])
    _print_coverage(console, reported["coverage"])
    for gap in reported["gaps"]:
        text = f"{gap['server']} {gap_text(gap)}"
        for line in textwrap.wrap(text, console.width - 1, subsequent_indent="  "):
            say(console, line, style=STYLES["bad"])


def _print_coverage(console: Console, hours: Sequence[dict[str, Any]]) -> None:
    """How much of the time was seen, for each server, and the hours of which a part was not."""
    for server in dict.fromkeys(hour["server"] for hour in hours):
        mine = [hour for hour in hours if hour["server"] == server]
        seen, of = sum(hour["seen_s"] for hour in mine), sum(hour["of_s"] for hour in mine)
        looks, blind = sum(hour["looks"] for hour in mine), sum(hour["blind_s"] for hour in mine)
        text = seen_text(
            {"server": server, "seen_s": seen, "of_s": of, "looks": looks, "blind_s": blind}
        )
        parts = [hour for hour in mine if hour["seen_s"] < SEEN_WHOLE * hour["of_s"]]
        if parts and len(mine) > 1:
            reported = ", ".join(
                f"{hour['hour'][5:13].replace('T', ' ')} h:"
                f" {100 * hour['seen_s'] / hour['of_s']:.0f} %"
                for hour in parts[:MOST_HOURS]
            )
            more = (
                f" and {len(parts) - MOST_HOURS} more hours (--json lists all)"
                if len(parts) > MOST_HOURS
                else ""
            )
            text += f"; not wholly seen: {reported}{more}"
        for line in textwrap.wrap(text, console.width - 1, subsequent_indent="  "):
            say(console, line, style=STYLES["faint"])


def _nothing(reported: dict[str, Any]) -> str:
    """That nothing was seen is worth as much as was looked at."""
    if not reported["looks"] and reported["blind_looks"]:
        return "Nothing is known of that time: the watch looked, and was blind."
    if not reported["looks"]:
        return "Nothing was seen in that time: no watch looked."
    if reported["gaps"]:
        return (
            f"Nothing was seen to wait in {reported['looks']:,} checks; not all of that time was"
            " seen."
        )
    return f"Nothing was seen to wait in that time, in {reported['looks']:,} checks."


def print_releases(console: Console, rows: Sequence[Mapping[str, Any]]) -> None:
    """What people did: when, who, to which session, what was undone, what came of it."""
    if not rows:
        say(console, "No session was released by 'catenum release' in that time.")
    for row in rows:
        who = ", ".join(str(row[key]) for key in ("user", "application", "host") if row[key])
        say(
            console,
            f"{row['at']}  {row['by']}  {row['way']} session {row['session']} ({who}) of"
            f" {row['server']}",
            style="bold",
        )
        undone = (
            f"transaction of {duration(row['transaction_ms'])}"
            if row["transaction_ms"] is not None
            else "no transaction"
        )
        rows_changed = (
            f", {counted(row['rows_changed'], 'row')} changed"
            if row["rows_changed"] is not None
            else ""
        )
        say(
            console,
            f"    {undone}{rows_changed};"
            f" {one_line(row['statement'] or 'statement not reported', 100)}",
        )
        say(console, f"    {row['outcome']}")


def print_grouped(
    console: Console,
    title: str,
    key: str,
    rows: Sequence[Mapping[str, Any]],
    *,
    most: int = MOST_ROWS,
) -> None:
    """One table: what it is grouped by stands last, since it is the longest."""
    if not rows:
        return
    say(console)
    say(console, title, style=STYLES["strong"])
    rates = any(row.get("calls") is not None for row in rows)
    several = key != "server" and len({row["server"] for row in rows}) > 1
    head = [
        *(["server"] if several else []),
        "incidents",
        "waited in all",
        "longest",
        "at once",
        "chain",
        "first",
        "last",
        *(["calls", "mean"] if rates else []),
        key,
    ]
    lines = []
    for row in rows[:most]:
        cells = [
            *([str(row["server"])] if several else []),
            f"{row['incidents']:,}",
            duration(row["wait_ms"]),
            duration(row["longest_ms"]),
            str(row["waiting"]),
            str(row["chain"]),
            str(row["first"])[5:16].replace("T", " "),
            str(row["last"])[5:16].replace("T", " "),
        ]
        if rates:
            cells += [
                f"{row['calls']:,}" if row["calls"] is not None else "–",
                duration(row["mean_ms"]) if row["mean_ms"] else "–",
            ]
        lines.append([*cells, str(row[key])])
    widths = [max(len(head[i]), *(len(line[i]) for line in lines)) for i in range(len(head) - 1)]
    left = sum(widths) + 2 * len(widths)
    say(
        console,
        "  ".join(h.rjust(w) for h, w in zip(head, [*widths, 0], strict=True)),
        style=STYLES["faint"],
    )
    for line in lines:
        room = max(20, console.width - left - 1)
        text = textwrap.wrap(one_line(line[-1]), room) or [""]
        say(
            console,
            "  ".join(c.rjust(w) for c, w in zip(line[:-1], widths, strict=True)) + "  " + text[0],
        )
        for more in text[1:3]:
            say(console, " " * left + more)
    if len(rows) > most:
        say(
            console,
            f"… and {len(rows) - most} more (--json or --csv give all)",
            style=STYLES["faint"],
        )


def print_pairs(console: Console, rows: Sequence[Mapping[str, Any]], most: int = 8) -> None:
    """The pairs of statements that meet most."""
    if not rows:
        return
    say(console)
    say(
        console,
        "Statements that conflict most (the first waits for the second)",
        style=STYLES["strong"],
    )
    for row in rows[:most]:
        say(
            console,
            f"{row['times']:>6,}×  longest {duration(row['longest_ms'])}, over {row['object']}",
        )
        for word, key in (("waits", "waiter"), ("holds", "holder")):
            indent = " " * 9 + f"{word}: "
            for line in textwrap.wrap(
                one_line(row[key], 300),
                console.width - 1,
                initial_indent=indent,
                subsequent_indent=" " * 16,
            ):
                say(console, line, style=STYLES["faint"])


def print_incident(console: Console, reported: dict[str, Any]) -> None:
    """One incident: when, how long, who held, one after the other, what people noted and did."""
    say(
        console,
        f"Incident {reported['id']} on {reported['server']}: {_outcome(reported)}",
        style=STYLES["strong"],
    )
    until = reported["ended"] or f"not ended when last seen, {reported['last']}"
    lines = [
        (
            f"from {reported['first']} to"
            f" {until}{', from the log' if reported['source'] == 'log' else ''}"
        ),
        (
            f"over {reported['object']}; {reported['waiting']} waiting at the worst, longest chain"
            f" {reported['chain']}"
        ),
        (
            f"longest wait {duration(reported['longest_ms'])}; waited in all"
            f" {duration(reported['wait_ms'])}"
        ),
    ]
    if reported["typical_ms"] is not None:
        lines.append(
            f"{reported['heads']} heads were seen, one after the other; median"
            f" {duration(reported['typical_ms'])}"
        )
    for head in reported["held_by"][:MOST_SHOWN]:
        who = ", ".join(part for part in (head["user"], head["application"], head["host"]) if part)
        held = f"{'' if head['exact'] else 'at most '}{duration(head['held_ms'])}"
        lines.append(
            f"session {head['session']} ({who}) blocked {head['waiting']}, for {held}; seen from"
            f" {head['first_seen'][11:23]} to {head['last_seen'][11:23]}:"
            f" {one_line(head['statement'] or '', 100)}"
        )
    if len(reported["held_by"]) > MOST_SHOWN:
        lines.append(f"… and {len(reported['held_by']) - MOST_SHOWN} more that held for less")
    for wait in reported["waits"]:
        until = f"to {wait['until'][11:23]}" if wait["until"] else "with no end in the log"
        lines.append(
            f"process {wait['waiter']} waited for {wait['mode']} from {wait['since'][11:23]}"
            f" {until}, held by {wait['holders'] or 'a process that the log does not name'}:"
            f" {one_line(wait['statement'], 100)}"
        )
    lines += [
        f"{one['by']} {one['way']} session {one['session']}: {one['outcome']}"
        for one in reported["releases"]
    ]
    lines += [f"note of {note['at']}: {note['text']}" for note in reported["notes"]]
    lines += list(_rates(reported.get("rates") or ()))
    for line in lines:
        for text in textwrap.wrap(
            line, console.width - 1, initial_indent="  ", subsequent_indent="    "
        ):
            say(console, text)


def _rates(rates: Sequence[dict[str, Any]]) -> Iterator[str]:
    """Whether a statement got slower or was just called more often."""
    for one in rates:
        reported = [
            f"{phase} {_rate(one[phase])}"
            for phase in ("before", "during", "after")
            if one[phase] is not None
        ]
        yield f"how often it ran: {one_line(one['statement'], 100)}: {'; '.join(reported)}"


def _rate(rate: dict[str, Any]) -> str:
    calls = f"{rate['calls_per_s']:,.3g} a second"
    if rate["mean_ms"] is None:
        return calls
    locks = (
        f", {duration(rate['lock_ms'])} of it for locks" if (rate["lock_ms"] or 0.0) >= 0.1 else ""
    )
    return f"{calls} of {duration(rate['mean_ms'])} each{locks}"


def _outcome(reported: dict[str, Any]) -> str:
    if reported["cycle"]:
        return "a cycle of sessions that waited for each other"
    return "over" if reported["ended"] else "still open when last seen"


def print_incidents(console: Console, rows: Sequence[Mapping[str, Any]]) -> None:
    """Single incidents; ``history show ID`` tells one in full."""
    if not rows:
        return
    say(console)
    say(
        console,
        "Incidents, the latest first (history show ID shows one in full)",
        style=STYLES["strong"],
    )
    for row in rows:
        text = f"{row['id']:>6}  {incident_line(row)}"
        for line in textwrap.wrap(text, console.width - 1, subsequent_indent=" " * 8):
            say(console, line)
        if row["note"]:
            say(console, f"        note: {row['note']}", style=STYLES["good"])
