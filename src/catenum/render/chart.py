"""What a watch kept, drawn: waiting over time, a panel for each server, and a calendar of when it
happens.
"""

from __future__ import annotations

import textwrap
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from catenum.core.text import one_line

#: Panels of a chart; of more servers, those where most waited are drawn.
MOST_PANELS = 4
#: Statements that have a tone of their own.
MOST_SHAPES = 5
MARKS = ("", "//", "xx", "..", "\\\\")
TOP, GAP = 0.86, 0.035
#: Of the figure's height: the calendar's hours, a line of it with room, the least that a line
#: takes, its heading; a line of the legend, and the time axis above that.
HOURS, DAY, LEAST_DAY, HEADING, LEGEND_LINE, TIMES = 0.06, 0.035, 0.02, 0.06, 0.026, 0.08
#: Lines of the calendar, with one server and with several.
MOST_DAYS, MOST_DAYS_OF_SEVERAL = 14, 8

Rows = Sequence[dict[str, Any]]


def chart_figure(rows: Rows, gaps: Rows, hours: Rows, title: str) -> Any:
    """Waiting sessions over time by head statement, one panel a server, and a calendar of the hours
    in which it happens.

    ``rows``: see ``store.queries.over_time``; ``hours``: ``minutes_waited``; ``gaps``: when a
    server was not seen.
    """
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.dates import date2num
    from matplotlib.figure import Figure

    from catenum.render.figure import DPI, INK, PAPER, SIZE

    figure = Figure(figsize=SIZE, dpi=DPI, facecolor=PAPER)
    shapes = [name for name, _ in _heaviest(rows, "shape")][:MOST_SHAPES]
    ranked = [name for name, _ in _heaviest(rows, "server")]
    servers = sorted(ranked[:MOST_PANELS])
    times = sorted({row["moment"] for row in rows})
    moments = {
        moment: float(date2num(datetime.fromisoformat(moment).replace(tzinfo=UTC)))
        for moment in times
    }
    lines = _calendar_lines(hours, several=len(ranked) > 1)
    tones = len(shapes) + bool(gaps) + (len({row["shape"] for row in rows}) > len(shapes))
    legend = HOURS + _calendar_height(lines) + HEADING + LEGEND_LINE * (tones + 1)
    height = (TOP - legend - TIMES - GAP * (len(servers) - 1)) / len(servers)
    panels: list[Any] = []
    for number, server in enumerate(servers):
        place = (0.07, TOP - (number + 1) * height - number * GAP, 0.9, height)
        axes = figure.add_axes(place, sharex=panels[0] if panels else None)
        panels.append(axes)
        mine = [row for row in rows if row["server"] == server]
        _panel(axes, mine, [gap for gap in gaps if gap["server"] == server], shapes, moments)
        if len(servers) > 1:
            axes.set_title(server, loc="left", fontsize=10, color=INK, pad=3)
        if number < len(servers) - 1:
            axes.tick_params(labelbottom=False)
    _legend(figure, panels, legend)
    left = len(ranked) - len(servers)
    title = f"{title}; {left} more servers are not drawn (--server draws one)" if left else title
    figure.text(
        0.03,
        0.955,
        "Who blocked others, and when",
        fontsize=16,
        fontweight="bold",
        color=INK,
        va="center",
    )
    figure.text(0.03, 0.915, textwrap.shorten(title, 165), fontsize=10.5, color=INK, va="center")
    _calendar(figure, hours, lines, several=len(ranked) > 1)
    return figure


def _heaviest(rows: Rows, key: str) -> list[tuple[str, float]]:
    weights: dict[str, float] = {}
    for row in rows:
        weights[row[key]] = weights.get(row[key], 0.0) + row["waiting"] * row["samples"]
    return sorted(weights.items(), key=lambda one: (-one[1], one[0]))


def _panel(
    axes: Any, rows: Rows, gaps: Rows, shapes: Sequence[str], moments: Mapping[str, float]
) -> None:
    """One server: bars by the statement of the head, and the times that were not watched, or seen
    blindly.
    """
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter, date2num

    from catenum.render.figure import INK, PAPER, RULE, WAIT, WORK

    tones = (WORK, WAIT, "#8c1d40", "#8aa67a", "#a9829b")
    step = {19: 10 / 86_400, 16: 1 / 1440}.get(len(next(iter(moments))), 1 / 24)  # days
    left, last = min(moments.values()), max(moments.values())
    width = max(step, (last - left) / 400)
    bottoms: dict[str, float] = {}
    for number, name in enumerate([*shapes, "others"]):
        values: dict[str, float] = {}
        for row in rows:
            if row["shape"] == name or (name == "others" and row["shape"] not in shapes):
                values[row["moment"]] = values.get(row["moment"], 0.0) + row["waiting"]
        if not values:
            continue
        axes.bar(
            [moments[moment] for moment in values],
            list(values.values()),
            width=width,
            align="edge",
            bottom=[bottoms.get(moment, 0.0) for moment in values],
            color=tones[number] if number < MOST_SHAPES else RULE,
            hatch=MARKS[number] if number < MOST_SHAPES else None,
            edgecolor=PAPER,
            linewidth=0.3,
            label=textwrap.shorten(one_line(name), 105, placeholder=" …"),
        )
        for moment, value in values.items():
            bottoms[moment] = bottoms.get(moment, 0.0) + value
    right = last + width
    for gap in gaps:
        since = date2num(datetime.fromisoformat(gap["since"]))
        until = date2num(datetime.fromisoformat(gap["until"])) if gap["until"] else right
        if until > left and since < right:
            hatch, label = ("///", "(blind)") if gap["blind"] else (None, "(not watched)")
            tone = {
                "facecolor": RULE,
                "edgecolor": INK,
                "linewidth": 0.0,
                "alpha": 0.35,
                "zorder": 0,
            }
            axes.axvspan(max(left, since), min(right, until), **tone, label=label, hatch=hatch)
    locator = AutoDateLocator()
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator))
    axes.set_xlim(left, right)
    axes.spines[["top", "right"]].set_visible(False)


def _legend(figure: Any, panels: Sequence[Any], top: float) -> None:
    """What all panels share: the axes' names, and what each tone stands for."""
    from catenum.render.figure import INK

    panels[len(panels) // 2].set_ylabel("sessions waiting (mean)", color=INK)
    panels[-1].set_xlabel("UTC", color=INK)
    known: dict[str, Any] = {}
    for axes in panels:
        for handle, label in zip(*axes.get_legend_handles_labels(), strict=True):
            known.setdefault(label, handle)
    if known:
        figure.legend(
            known.values(),
            known.keys(),
            loc="upper left",
            bbox_to_anchor=(0.06, top),
            frameon=False,
            fontsize=9,
            title="blocked by",
            alignment="left",
        )


def _calendar_lines(rows: Rows, *, several: bool) -> list[str]:
    """The days, of each server where there are several: the latest of them."""
    return sorted({_line_of(row, several=several) for row in rows})[
        -(MOST_DAYS_OF_SEVERAL if several else MOST_DAYS) :
    ]


def _calendar_height(lines: Sequence[str]) -> float:
    return max(min(0.16, DAY * len(lines)), LEAST_DAY * len(lines))


def _line_of(row: dict[str, Any], *, several: bool) -> str:
    return f"{row['moment'][:10]} {row['server']}" if several else str(row["moment"][:10])


def _calendar(figure: Any, hours: Rows, lines: Sequence[str], *, several: bool) -> None:
    """Days, of each server, against hours; the figure in a cell is minutes in which somebody
    waited.
    """
    from matplotlib.colors import LinearSegmentedColormap

    from catenum.render.figure import INK, PAPER

    minutes = {
        (_line_of(row, several=several), int(row["moment"][11:13])): row["minutes"] for row in hours
    }
    grid = [[minutes.get((name, hour), 0) for hour in range(24)] for name in lines]
    height = _calendar_height(lines)
    left = 0.2 if several else 0.12
    axes = figure.add_axes((left, 0.06, 0.97 - left, height))
    tone = LinearSegmentedColormap.from_list("waiting", [PAPER, "#f0c75e", "#8c1d40"])
    axes.imshow(grid, aspect="auto", cmap=tone, vmin=0, vmax=60)
    for y, counts in enumerate(grid):
        for x, count in enumerate(counts):
            if count:
                axes.text(
                    x,
                    y,
                    str(count),
                    ha="center",
                    va="center",
                    fontsize=8,
                    color=INK if count < 35 else PAPER,
                )
    names = [textwrap.shorten(name, 34, placeholder="…") for name in lines]
    axes.set_yticks(range(len(lines)), names, fontsize=9, color=INK)
    axes.set_xticks(range(24), [f"{hour:02d}" for hour in range(24)], fontsize=9, color=INK)
    axes.tick_params(length=0)
    text = "Minutes of each hour in which a session waited (UTC)"
    figure.text(
        left, 0.06 + height + 0.015, text, fontsize=10, fontweight="bold", color=INK, va="center"
    )
