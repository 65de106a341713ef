"""How often the statements of an incident ran, and how long each took, before, during and after
it.
"""

from __future__ import annotations

import textwrap
from datetime import datetime
from typing import Any

from catenum.core.text import harmless, one_line

#: Statements that are drawn, those that ran most.
MOST_DRAWN = 4


def rate_figure(reported: dict[str, Any]) -> Any:
    """Executions a second above, their mean time below, over the same minutes; the incident is
    shaded.

    ``reported``: an incident with its ``rates``, see ``live.history``.
    """
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter, date2num
    from matplotlib.figure import Figure

    from catenum.render.figure import DPI, INK, PAPER, RULE, SIZE, WAIT, WORK

    def number(moment: str) -> float:
        return float(date2num(datetime.fromisoformat(moment)))

    figure = Figure(figsize=SIZE, dpi=DPI, facecolor=PAPER)
    above = figure.add_axes((0.08, 0.53, 0.89, 0.33))
    below = figure.add_axes((0.08, 0.24, 0.89, 0.22), sharex=above)
    rates = sorted(reported["rates"], key=lambda one: -sum(step["calls"] for step in one["steps"]))[
        :MOST_DRAWN
    ]
    for one, tone in zip(rates, (WORK, WAIT, "#8c1d40", "#8aa67a"), strict=False):
        label = textwrap.shorten(harmless(one_line(one["statement"])), 110, placeholder=" …")
        middles = [(number(step["since"]) + number(step["until"])) / 2 for step in one["steps"]]
        seconds = [
            (number(step["until"]) - number(step["since"])) * 86_400 for step in one["steps"]
        ]
        calls = [step["calls"] / lasted for step, lasted in zip(one["steps"], seconds, strict=True)]
        means = [
            step["total_ms"] / step["calls"] if step["calls"] else float("nan")
            for step in one["steps"]
        ]
        above.plot(middles, calls, color=tone, marker="o", markersize=3, label=label)
        below.plot(middles, means, color=tone, marker="o", markersize=3)
        if all(step["lock_ms"] is not None for step in one["steps"]):
            locks = [
                step["lock_ms"] / step["calls"] if step["calls"] else float("nan")
                for step in one["steps"]
            ]
            below.plot(middles, locks, color=tone, linestyle="--", linewidth=1)
    until = reported["ended"] or reported["last"]
    for axes in (above, below):
        axes.axvspan(number(reported["first"]), number(until), facecolor=RULE, alpha=0.5, zorder=0)
        axes.spines[["top", "right"]].set_visible(False)
        axes.set_facecolor(PAPER)
        axes.set_ylim(bottom=0)
    above.set_ylabel("executions a second", color=INK)
    below.set_ylabel("mean time (ms)", color=INK)
    below.set_xlabel(
        "UTC; the incident is shaded; dashed: the part that went on locks, where it is counted",
        color=INK,
    )
    above.tick_params(labelbottom=False)
    locator = AutoDateLocator()
    below.xaxis.set_major_locator(locator)
    below.xaxis.set_major_formatter(ConciseDateFormatter(locator))
    above.legend(loc="upper left", bbox_to_anchor=(0.0, -1.12), frameon=False, fontsize=9)
    title = (
        f"Incident {reported['id']} on {harmless(reported['server'])}: slower, or called more"
        " often?"
    )
    over = (
        f"over {harmless(one_line(reported['object'] or 'what is not reported'))};"
        f" {reported['waiting']} waiting at the worst"
    )
    figure.text(0.03, 0.955, title, fontsize=16, fontweight="bold", color=INK, va="center")
    figure.text(0.03, 0.915, textwrap.shorten(over, 165), fontsize=10.5, color=INK, va="center")
    return figure
