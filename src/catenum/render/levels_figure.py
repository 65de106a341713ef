"""The matrix of isolation levels as a picture: a panel for each server, side by side.

Each cell has its word, so that nothing depends on the tones; these differ in lightness, and what
happens is hatched.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import matplotlib

matplotlib.use("Agg")

from matplotlib.figure import Figure
from matplotlib.patches import Patch, Rectangle

from catenum.core.levels.matrix import CellResult, Matrix
from catenum.core.levels.words import RESULTS
from catenum.render.figure import DPI, FAIL, INK, PAPER, RULE, SIZE

_FILL: dict[CellResult | None, str] = {
    "happens": "#d9a3b0",
    "waits": "#f6e2ad",
    "snapshot": "#e3eee6",
    "refused": "#a9c4d3",
    "deadlock": "#b9a36b",
    None: PAPER,
}


def levels_figure(matrices: Sequence[Matrix]) -> Figure:
    """Phenomena down, levels across, of each server."""
    figure = Figure(figsize=SIZE, dpi=DPI, facecolor=PAPER)
    figure.text(
        0.02,
        0.95,
        "What can happen at each isolation level",
        fontsize=16,
        fontweight="bold",
        color=INK,
        va="center",
    )
    names = [f"{matrix.server} {matrix.version}" for matrix in matrices]
    told = f"{', '.join(names)}; each probe explored at each level"
    figure.text(0.02, 0.912, told, fontsize=10.5, color=INK, va="center")
    probes = [probe.name for probe in matrices[0].probes]
    left, gap = 0.17, 0.02
    width = (0.98 - left - gap * (len(matrices) - 1)) / len(matrices)
    for number, matrix in enumerate(matrices):
        place = (left + number * (width + gap), 0.17, width, 0.62)
        axes = figure.add_axes(place)
        _panel(axes, matrix, probes, labels=number == 0, small=len(matrices) > 2)
        axes.set_title(names[number], loc="left", fontsize=11, color=INK, pad=34)
    _legend(figure)
    return figure


def _panel(axes: Any, matrix: Matrix, probes: Sequence[str], *, labels: bool, small: bool) -> None:
    for row, probe in enumerate(probes):
        for column, level in enumerate(matrix.levels):
            cell = matrix.cell(probe, level)
            result = cell.result if cell is not None else None
            axes.add_patch(
                Rectangle(
                    (column + 0.03, row + 0.05),
                    0.94,
                    0.9,
                    facecolor=_FILL[result],
                    edgecolor=FAIL if result == "happens" else RULE,
                    hatch="///" if result == "happens" else None,
                    linewidth=1.0,
                )
            )
            text = (result or "–") + ("" if cell is None or cell.proven else "?")
            axes.text(
                column + 0.5,
                row + 0.5,
                text,
                ha="center",
                va="center",
                fontsize=8 if small else 9.5,
                color=INK,
                fontweight="bold" if result == "happens" else "normal",
                bbox={"facecolor": _FILL[result], "edgecolor": "none", "pad": 1.0},
            )
    axes.set_xlim(0, len(matrix.levels))
    axes.set_ylim(len(probes), 0)
    axes.set_xticks(
        [n + 0.5 for n in range(len(matrix.levels))],
        [level.replace(" ", "\n") for level in matrix.levels],
        fontsize=8 if small else 9,
        color=INK,
    )
    axes.xaxis.tick_top()
    axes.set_yticks(
        [n + 0.5 for n in range(len(probes))],
        probes if labels else [""] * len(probes),
        fontsize=10,
        color=INK,
    )
    axes.tick_params(length=0)
    for side in axes.spines.values():
        side.set_visible(False)


def _legend(figure: Figure) -> None:
    handles = [
        Patch(
            facecolor=_FILL[result],
            edgecolor=FAIL if result == "happens" else RULE,
            hatch="///" if result == "happens" else None,
            label=f"{result}: {words}",
        )
        for result, words in RESULTS.items()
    ]
    figure.legend(
        handles=handles,
        loc="lower left",
        bbox_to_anchor=(0.015, 0.015),
        ncols=2,
        frameon=False,
        fontsize=10,
        labelcolor=INK,
    )
