"""The timeline in a terminal: a column for each transaction, time running down, waits as a dotted
rail.

Two layouts of the same rows: wide columns that hold the statements themselves, side by side as in
open windows, for as many transactions as fit; narrow rails with the statements beside them for
more.
"""

from __future__ import annotations

import textwrap
from collections.abc import Iterator
from itertools import zip_longest

from rich.console import Console
from rich.text import Text

from catenum.core.record.recording import Recording
from catenum.core.report.timeline import Row, timeline_rows
from catenum.core.text import duration
from catenum.render.console import STYLES, say

GUTTER = 14
NARROWEST = 22
RAIL = 3
MOST_SQL_LINES = 4


def print_timeline(console: Console, recording: Recording) -> None:
    """Print the timeline in the layout that fits."""
    count = len(recording.transactions)
    width = (console.width - GUTTER) // count
    lines = _columns(recording, width) if width >= NARROWEST else _rails(recording, console.width)
    for line in lines:
        say(console, line)


def _gutter(row: Row, first: bool) -> str:
    if not first:
        return " " * GUTTER
    move = f"{row.move:>3}" if row.move is not None else "   "
    return f"{move} {duration(row.at_ms):>8}  "


def _columns(recording: Recording, width: int) -> Iterator[Text]:
    count = len(recording.transactions)
    head = Text("move    after  ", style=STYLES["faint"])
    head.truncate(GUTTER)
    for record in recording.transactions:
        head.append(_cell(record.name, width), style=STYLES["strong"])
    yield head
    manners = [textwrap.wrap(record.manner, width - 2) for record in recording.transactions]
    for parts in zip_longest(*manners, fillvalue=""):
        under = " " * GUTTER + "".join(_cell(part, width) for part in parts)
        yield Text(under.rstrip(), style=STYLES["faint"])
    yield Text("─" * (GUTTER + width * count - 2), style=STYLES["lane"])
    for row in timeline_rows(recording):
        if row.banner:
            line = Text(_gutter(row, True))
            line.append(f"{row.sign} {row.text}", style=STYLES["bad"])
            yield line
            continue
        for index, text in enumerate(_wrapped(row.text, width - 4)):
            line = Text(_gutter(row, index == 0))
            for lane in range(count):
                if lane == row.lane:
                    sign = row.sign if index == 0 else ("┊" if row.sign == "◷" else " ")
                    line.append(_cell(f"{sign} {text}", width), style=STYLES[row.tone])
                else:
                    line.append(
                        _cell("┊" if lane in row.waiting else "", width), style=STYLES["wait"]
                    )
            line.rstrip()
            yield line


def _wrapped(text: str, width: int) -> list[str]:
    lines = textwrap.wrap(text, width, break_long_words=True, break_on_hyphens=False) or [""]
    if len(lines) > MOST_SQL_LINES:
        lines = [*lines[: MOST_SQL_LINES - 1], lines[MOST_SQL_LINES - 1][: width - 1] + "…"]
    return lines


def _cell(text: str, width: int) -> str:
    return (text if len(text) < width else text[: width - 2] + "…").ljust(width)


def _rails(recording: Recording, width: int) -> Iterator[Text]:
    names = [record.name for record in recording.transactions]
    for index, record in enumerate(recording.transactions):
        line = Text(
            "move    after  "[:GUTTER] if index == 0 else " " * GUTTER, style=STYLES["faint"]
        )
        line.append(("│" + " " * (RAIL - 1)) * index, style=STYLES["lane"])
        line.append(record.name, style=STYLES["strong"])
        line.append(f"  {record.manner}", style=STYLES["faint"])
        yield line
    yield Text("─" * (width - 1), style=STYLES["lane"])
    start = GUTTER + RAIL * len(names)
    for row in timeline_rows(recording):
        text = row.text if row.banner else f"{names[row.lane]}: {row.text}"
        for index, part in enumerate(_wrapped(text, width - start - 1)):
            line = Text(_gutter(row, index == 0))
            for lane in range(len(names)):
                sign, tone = " ", "lane"
                if lane == row.lane and not row.banner and index == 0:
                    sign, tone = row.sign, row.tone
                elif lane in row.waiting or (
                    lane == row.lane and row.sign == "◷" and not row.banner
                ):
                    sign, tone = "┊", "wait"
                elif lane in row.open or (lane == row.lane and row.sign == "▷" and not row.banner):
                    sign = "│"
                line.append(sign.ljust(RAIL), style=STYLES[tone])
            line.append(part if index == 0 else "  " + part, style=STYLES[row.tone])
            yield line


def legend() -> str:
    """What the signs mean, for a reader who sees them for the first time."""
    return "▷ sent   ✓ done   ↷ not run   ◷ ┊ waits for a lock   ✗ failed   ◆ deadlock"
