"""A load drawn: throughput, retries and latency by the number of clients, a line for each level.

Levels differ by mark and dash as well as by tone, so that the figure can be read in grey.
"""

from __future__ import annotations

from typing import Any

import matplotlib

matplotlib.use("Agg")

from matplotlib.figure import Figure
from matplotlib.ticker import FuncFormatter

from catenum.core.pace.measured import LevelFigures
from catenum.core.pace.results import PaceResult
from catenum.render.figure import DPI, INK, PAPER, RULE, SIZE

#: Tone, mark and dash of each level, in the order of strictness.
_STYLES = (
    ("#8aa67a", "s", ":"),
    ("#2f6f8f", "o", "-"),
    ("#b07a1e", "^", "--"),
    ("#8c1d40", "D", "-."),
)


def pace_figure(result: PaceResult) -> Figure:
    """Three panels over the number of clients."""
    figure = Figure(figsize=SIZE, dpi=DPI, facecolor=PAPER)
    figure.text(
        0.03,
        0.955,
        f"{result.scenario}: what each isolation level costs under load",
        fontsize=16,
        fontweight="bold",
        color=INK,
        va="center",
    )
    how = f"arrivals at {result.rate:g}/s" if result.rate else "closed load"
    told = (
        f"{result.server} {result.version}, {how}; bars: 95 % intervals over turns in random order"
    )
    figure.text(0.03, 0.915, told, fontsize=10.5, color=INK, va="center")
    throughput = figure.add_axes((0.08, 0.47, 0.89, 0.37))
    retries = figure.add_axes((0.08, 0.09, 0.4, 0.27))
    latency = figure.add_axes((0.57, 0.09, 0.4, 0.27))
    for number, level in enumerate(result.levels):
        tone, mark, dash = _STYLES[(number + (len(result.levels) < 4)) % len(_STYLES)]
        style: dict[str, Any] = {
            "color": tone,
            "marker": mark,
            "linestyle": dash,
            "ms": 7,
            "lw": 1.8,
        }
        points = [(s.clients, one) for s in result.steps if (one := s.at(level)) is not None]
        if not points:
            continue
        # beside each other, where two levels have the same figures
        apart = 1.05 ** (number - (len(result.levels) - 1) / 2)
        clients = [count * apart for count, _ in points]
        figures = [one for _, one in points]
        default = " (default)" if level == result.default_level else ""
        throughput.errorbar(
            clients,
            [one.per_second.value for one in figures],
            yerr=[[_reach(one, below=True) for one in figures], [_reach(one) for one in figures]],
            capsize=4,
            elinewidth=1.2,
            label=level + default,
            **style,
        )
        retries.plot(clients, [one.retries_per_commit for one in figures], **style)
        latency.plot(clients, [one.p95_ms for one in figures], **style)
    _axes(throughput, result, "committed transactions per second")
    _axes(retries, result, "retries per commit")
    _axes(latency, result, "p95 with retries (ms)")
    latency.set_yscale("log")
    latency.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
    throughput.set_ylim(bottom=0)
    retries.set_ylim(bottom=0, top=None if any_retry(result) else 1)
    throughput.legend(frameon=False, fontsize=10, loc="best", labelcolor=INK)
    return figure


def any_retry(result: PaceResult) -> bool:
    """Whether any transaction was tried again."""
    return any(one.retries for step in result.steps for one in step.levels)


def _reach(one: LevelFigures, *, below: bool = False) -> float:
    """The half of an interval, as a length; none where there is no interval."""
    spread = one.per_second
    if spread.high == float("inf"):
        return 0.0
    return max(0.0, spread.value - spread.low if below else spread.high - spread.value)


def _axes(axes: Any, result: PaceResult, title: str) -> None:
    clients = [step.clients for step in result.steps]
    axes.set_xscale("log", base=2)
    axes.set_xticks(clients, [f"{count:,}" for count in clients], fontsize=9, color=INK)
    axes.minorticks_off()
    axes.set_title(title, loc="left", fontsize=11, color=INK)
    axes.set_xlabel("clients", color=INK, fontsize=9)
    axes.tick_params(axis="y", labelsize=9, colors=INK)
    axes.grid(axis="y", color=RULE, linewidth=0.6)
    axes.set_axisbelow(True)
    axes.spines[["top", "right"]].set_visible(False)
