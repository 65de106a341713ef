"""A page of small timelines: one for each distinct outcome of an exploration, side by side to be
compared.
"""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from math import ceil
from typing import Any

import matplotlib

matplotlib.use("Agg")

from matplotlib.figure import Figure
from matplotlib.patches import Patch, Rectangle

from catenum.core.record.recording import Recording
from catenum.core.space.claims import describe_outcome
from catenum.core.space.exploration import Exploration, letter_of
from catenum.render.figure import DPI, FAIL, INK, PAPER, RULE, SIZE, WAIT, WORK

MOST = 9


def page_figure(found: Exploration, recordings: Sequence[Recording]) -> Figure:
    """``recordings`` are those of the outcomes, in order; beyond nine only their number is
    shown.
    """
    shown = list(recordings)[:MOST]
    columns = 1 if len(shown) == 1 else 2 if len(shown) <= 4 else 3
    rows = ceil(len(shown) / columns)
    figure = Figure(figsize=SIZE, dpi=DPI, facecolor=PAPER)
    title = f"{found.scenario}: the distinct outcomes, each by its shortest schedule"
    figure.text(0.03, 0.955, title, fontsize=16, fontweight="bold", color=INK, va="center")
    for number, recording in enumerate(shown):
        row, column = divmod(number, columns)
        width, height = 0.95 / columns, 0.84 / rows
        left, bottom = 0.03 + column * width, 0.9 - (row + 1) * height + 0.02
        names = [record.name for record in recording.transactions]
        margin = 0.0068 * max(len(name) for name in names) + 0.01
        axes = figure.add_axes((left + margin, bottom + 0.02, width - margin - 0.02, height * 0.68))
        _timeline(axes, recording, names)
        entry = found.outcomes[number]
        data = entry.anomaly or entry.data
        head = f"{letter_of(number)}  {entry.kind}, data {data}"
        share = f"{entry.count:,} of {found.tally.schedules:,} schedules"
        reported = describe_outcome(entry)
        top = bottom + height * 0.68 + 0.02
        tone = FAIL if entry.bad else INK
        figure.text(
            left, top + 0.043, head, fontsize=11.5, fontweight="bold", color=tone, va="center"
        )
        text = textwrap.shorten(
            f"{share}{' · ' if reported else ''}{reported}", int(168 / columns), placeholder=" …"
        )
        figure.text(left, top + 0.018, text, fontsize=9, color=INK, va="center")
    _legend(figure, len(found.outcomes) - len(shown))
    return figure


def _timeline(axes: Any, recording: Recording, names: list[str]) -> None:
    """Lanes by move: every move has the same room, whatever it took."""
    moves = max((move.number for move in recording.schedule), default=1)
    last = moves + 1.0
    axes.set_xlim(0.4, last)
    axes.set_ylim(len(names) - 0.4, -0.6)
    axes.set_yticks(range(len(names)), names, fontsize=9, color=INK)
    axes.set_xticks([])
    axes.tick_params(length=0)
    for side in axes.spines.values():
        side.set_visible(False)
    for lane in range(len(names)):
        axes.axhline(lane, color=RULE, linewidth=0.8, zorder=0)
    ends = {
        (w.waiter, w.attempt, w.statement): _end_of(recording, w.until_ms, last)
        for w in recording.waits
    }
    for wait in recording.waits:
        start, end = wait.move, ends[wait.waiter, wait.attempt, wait.statement]
        lane = names.index(wait.waiter)
        axes.add_patch(
            Rectangle(
                (start, lane - 0.2),
                max(0.5, end - start),
                0.4,
                facecolor=WAIT,
                edgecolor=INK,
                hatch="////",
                linewidth=0.5,
            )
        )
    size = 8.5 if moves <= 10 else 7
    for event in recording.events:
        lane = names.index(event.transaction)
        if event.what == "sent" and event.statement is not None:
            axes.add_patch(
                Rectangle(
                    (event.move - 0.32, lane - 0.3),
                    0.64,
                    0.6,
                    facecolor=WORK,
                    edgecolor=PAPER,
                    zorder=3,
                )
            )
            axes.text(
                event.move,
                lane,
                str(event.statement),
                ha="center",
                va="center",
                color=PAPER,
                fontsize=size,
                zorder=4,
            )
        elif event.what == "failed":
            axes.plot(
                [event.move + 0.52],
                [lane],
                marker="x",
                color=FAIL,
                markersize=10,
                markeredgewidth=2.6,
                zorder=5,
            )
        elif event.what == "done" and event.statement is None:
            filled = INK if event.sql == "commit" and not event.rolled_back else PAPER
            axes.plot(
                [event.move],
                [lane],
                marker="D",
                color=INK,
                markerfacecolor=filled,
                markersize=7,
                zorder=5,
            )


def _end_of(recording: Recording, until_ms: float | None, last: float) -> float:
    """The move at which a wait was over."""
    if until_ms is None:
        return last - 0.2
    over = [event.move for event in recording.events if event.at_ms <= until_ms]
    return max(over, default=1) + 0.2


def _legend(figure: Figure, more: int) -> None:
    from matplotlib.lines import Line2D

    handles: list[Any] = [
        Patch(facecolor=WORK, label="statement, by its number"),
        Patch(facecolor=WAIT, edgecolor=INK, hatch="////", label="waits"),
        Line2D(
            [],
            [],
            marker="x",
            color=FAIL,
            linestyle="",
            markersize=9,
            markeredgewidth=2.4,
            label="rolled back",
        ),
        Line2D([], [], marker="D", color=INK, linestyle="", markersize=7, label="commit"),
        Line2D(
            [],
            [],
            marker="D",
            color=INK,
            markerfacecolor=PAPER,
            linestyle="",
            markersize=7,
            label="rollback",
        ),
    ]
    figure.legend(
        handles=handles,
        loc="lower left",
        bbox_to_anchor=(0.02, 0.0),
        ncols=5,
        frameon=False,
        fontsize=9.5,
    )
    if more > 0:
        figure.text(0.97, 0.02, f"… and {more} more outcomes", fontsize=9.5, color=INK, ha="right")
