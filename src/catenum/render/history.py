"""What a watch kept: tables in the terminal, and the chart of waiting over time with its calendar."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from typing import Any

from rich.console import Console

from catenum.core.words import duration, one_line
from catenum.render.console import STYLES, say

MOST_ROWS = 15


def print_totals(console: Console, told: dict[str, Any]) -> None:
    """The first lines: how much, how long, and what was not seen."""
    if not told["episodes"] and not told["deadlocks"]:
        say(console, _nothing(told), style=STYLES["strong"])
    else:
        count = f"{told['episodes']:,} episode{'s' if told['episodes'] != 1 else ''} of waiting"
        text = (
            f"{count}, {told['deadlocks']:,} deadlocks; waited in all {duration(told['wait_ms'])}, the longest "
            f"{duration(told['longest_ms'])}; at most {told['waiting']} at once, chain of {told['chain']}"
        )
        for line in textwrap.wrap(text, console.width - 1):
            say(console, line, style=STYLES["strong"])
        say(console, f"from {told['first']} to {told['last']}", style=STYLES["faint"])
    for gap in told["gaps"]:
        text = f"not seen: {gap['server']} from {gap['since']} to {gap['until'] or 'the end'}: {gap['why']}"
        for line in textwrap.wrap(text, console.width - 1, subsequent_indent="  "):
            say(console, line, style=STYLES["bad"])


def _nothing(told: dict[str, Any]) -> str:
    """That nothing was seen is worth as much as was looked at."""
    if not told["looks"]:
        return "Nothing was seen in that time: no watch looked."
    if told["gaps"]:
        return f"Nothing was seen to wait in {told['looks']:,} checks; not all of that time was seen."
    return f"Nothing was seen to wait in that time, in {told['looks']:,} checks."


def print_releases(console: Console, rows: Sequence[dict[str, Any]]) -> None:
    """What people did: when, who, to which session, what was undone, what came of it."""
    if not rows:
        say(console, "No session was released by 'catenum release' in that time.")
    for row in rows:
        who = ", ".join(str(row[key]) for key in ("user", "application", "host") if row[key])
        say(
            console,
            f"{row['at']}  {row['by']}  {row['way']} session {row['session']} ({who}) of {row['server']}",
            style="bold",
        )
        undone = (
            f"transaction of {duration(row['transaction_ms'])}"
            if row["transaction_ms"] is not None
            else "no transaction"
        )
        rows_changed = f", {row['rows_changed']} rows changed" if row["rows_changed"] is not None else ""
        say(console, f"    {undone}{rows_changed}; {one_line(row['statement'] or 'statement not reported', 100)}")
        say(console, f"    {row['outcome']}")


def print_grouped(
    console: Console, title: str, key: str, rows: Sequence[dict[str, Any]], *, most: int = MOST_ROWS
) -> None:
    """One table: what it is grouped by stands last, since it is the longest."""
    if not rows:
        return
    say(console)
    say(console, title, style=STYLES["strong"])
    rates = any(row.get("calls") is not None for row in rows)
    head = [
        "episodes",
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
            f"{row['episodes']:,}",
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
    say(console, "  ".join(h.rjust(w) for h, w in zip(head, [*widths, 0], strict=True)), style=STYLES["faint"])
    for line in lines:
        room = max(20, console.width - left - 1)
        text = textwrap.wrap(one_line(line[-1]), room) or [""]
        say(console, "  ".join(c.rjust(w) for c, w in zip(line[:-1], widths, strict=True)) + "  " + text[0])
        for more in text[1:3]:
            say(console, " " * left + more)
    if len(rows) > most:
        say(console, f"… and {len(rows) - most} more (--json or --csv give all)", style=STYLES["faint"])


def print_pairs(console: Console, rows: Sequence[dict[str, Any]], most: int = 8) -> None:
    """The pairs of statements that meet most."""
    if not rows:
        return
    say(console)
    say(console, "Statements that conflict most (the first waits for the second)", style=STYLES["strong"])
    for row in rows[:most]:
        say(console, f"{row['times']:>6,}×  longest {duration(row['longest_ms'])}, over {row['object']}")
        for word, key in (("waits", "waiter"), ("holds", "holder")):
            indent = " " * 9 + f"{word}: "
            for line in textwrap.wrap(
                one_line(row[key], 300), console.width - 1, initial_indent=indent, subsequent_indent=" " * 16
            ):
                say(console, line, style=STYLES["faint"])


def print_episodes(console: Console, rows: Sequence[dict[str, Any]]) -> None:
    """Single episodes; ``history show ID`` tells one in full."""
    if not rows:
        return
    say(console)
    say(console, "Episodes, the latest first (history show ID shows one in full)", style=STYLES["strong"])
    for row in rows:
        who = ", ".join(part for part in (row["user"], row["application"]) if part)
        cycle = "cycle, " if row["cycle"] else ""
        when = row["first"][:19].replace("T", " ")
        text = (
            f"{row['id']:>6}  {when}  {row['server']}  session {row['head']} ({who}): {cycle}"
            f"{row['waiting']} waiting, chain {row['chain']}, "
            f"longest {duration(row['longest_ms'])}, over {row['object']}"
            f"{'' if row['ended'] else ' (not ended when last seen)'}"
        )
        for line in textwrap.wrap(text, console.width - 1, subsequent_indent=" " * 8):
            say(console, line)
        if row["note"]:
            say(console, f"        note: {row['note']}", style=STYLES["good"])


def chart_figure(rows: Sequence[dict[str, Any]], gaps: Sequence[dict[str, Any]], title: str) -> Any:
    """Waiting sessions over time by head statement, and a calendar of the hours in which it happens.

    ``rows``: see ``live.history.over_time``. ``gaps``: when a server was not seen.
    """
    from datetime import UTC, datetime

    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter, date2num
    from matplotlib.figure import Figure

    from catenum.render.figure import DPI, INK, PAPER, RULE, SIZE, WAIT, WORK

    figure = Figure(figsize=SIZE, dpi=DPI, facecolor=PAPER)
    axes = figure.add_axes((0.07, 0.52, 0.9, 0.34))
    weights: dict[str, float] = {}
    for row in rows:
        weights[row["shape"]] = weights.get(row["shape"], 0.0) + row["waiting"] * row["samples"]
    shapes = sorted(weights, key=lambda name: -weights[name])
    shown, tones, marks = shapes[:5], (WORK, WAIT, "#8c1d40", "#8aa67a", "#a9829b"), ("", "//", "xx", "..", "\\\\")
    times = sorted({row["moment"] for row in rows})
    moments = {moment: date2num(datetime.fromisoformat(moment).replace(tzinfo=UTC)) for moment in times}
    step = 10 / 86_400 if len(times[0]) > 16 else 1 / 1440
    width = max(step, (max(moments.values()) - min(moments.values())) / 400)
    bottoms: dict[str, float] = {}
    for number, name in enumerate([*shown, "others"]):
        values: dict[str, float] = {}
        for row in rows:
            if row["shape"] == name or (name == "others" and row["shape"] not in shown):
                values[row["moment"]] = values.get(row["moment"], 0.0) + row["waiting"]
        if not values:
            continue
        label = textwrap.shorten(one_line(name), 105, placeholder=" …")
        axes.bar(
            [moments[m] for m in values],
            list(values.values()),
            width=width,
            align="edge",
            bottom=[bottoms.get(m, 0.0) for m in values],
            color=tones[number] if number < 5 else RULE,
            hatch=marks[number] if number < 5 else None,
            edgecolor=PAPER,
            linewidth=0.3,
            label=label,
        )
        for moment, value in values.items():
            bottoms[moment] = bottoms.get(moment, 0.0) + value
    left, right = min(moments.values()), max(moments.values()) + width
    for number, gap in enumerate(gaps):
        ends = [date2num(datetime.fromisoformat(gap[end])) if gap[end] else right for end in ("since", "until")]
        if ends[1] > left and ends[0] < right:
            unseen = None if number else "(not seen)"
            axes.axvspan(max(left, ends[0]), min(right, ends[1]), color=RULE, alpha=0.35, zorder=0, label=unseen)
    locator = AutoDateLocator()
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator))
    axes.set_ylabel("sessions waiting (mean)", color=INK)
    axes.set_xlabel("UTC", color=INK)
    axes.spines[["top", "right"]].set_visible(False)
    if shapes:
        axes.legend(
            loc="upper left",
            bbox_to_anchor=(0.0, -0.17),
            frameon=False,
            fontsize=9,
            title="held up by",
            alignment="left",
        )
    figure.text(0.03, 0.955, "Who held others up, and when", fontsize=16, fontweight="bold", color=INK, va="center")
    figure.text(0.03, 0.915, textwrap.shorten(title, 165), fontsize=10.5, color=INK, va="center")
    _calendar(figure, rows)
    return figure


def _calendar(figure: Any, rows: Sequence[dict[str, Any]]) -> None:
    """Days against hours; the figure in a cell is minutes in which somebody waited."""
    from matplotlib.colors import LinearSegmentedColormap

    from catenum.render.figure import INK, PAPER

    minutes = {(row["moment"][:10], int(row["moment"][11:13]), row["moment"][:16]) for row in rows}
    days = sorted({day for day, _, _ in minutes})[-14:]
    if not days:
        return
    grid = [[sum(1 for d, h, _ in minutes if (d, h) == (day, hour)) for hour in range(24)] for day in days]
    height = min(0.2, 0.035 * len(days) + 0.01)
    axes = figure.add_axes((0.12, 0.06, 0.85, height))
    tone = LinearSegmentedColormap.from_list("waiting", [PAPER, "#f0c75e", "#8c1d40"])
    axes.imshow(grid, aspect="auto", cmap=tone, vmin=0, vmax=60)
    for y, line in enumerate(grid):
        for x, count in enumerate(line):
            if count:
                axes.text(x, y, str(count), ha="center", va="center", fontsize=8, color=INK if count < 35 else PAPER)
    axes.set_yticks(range(len(days)), days, fontsize=9, color=INK)
    axes.set_xticks(range(24), [f"{hour:02d}" for hour in range(24)], fontsize=9, color=INK)
    axes.tick_params(length=0)
    text = "Minutes of each hour in which a session waited (UTC)"
    figure.text(0.12, 0.06 + height + 0.015, text, fontsize=10, fontweight="bold", color=INK, va="center")
