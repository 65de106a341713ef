"""The outcome map: the space of schedules as a picture, with what leads to the bad outcomes.

Schedules stand side by side in the order in which they branch; each row is a move. A block says
whose move it is, and spans all schedules that share it with everything before it, so that a block
wholly above bad outcomes is the choice that leads there. Shape and text carry the meaning: outcomes
have letters, bad ones are hatched, and whoever moves is written into the block.
"""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import matplotlib

matplotlib.use("Agg")

from matplotlib.figure import Figure
from matplotlib.patches import Patch, Rectangle

from catenum.core.space.claims import claims, describe_outcome
from catenum.core.space.exploration import Exploration, how_far
from catenum.core.space.tally import OutcomeEntry
from catenum.render.figure import DPI, INK, PAPER, RULE, SIZE

#: One tone a transaction, told apart by lightness too; more transactions than tones begin again.
LANES = ("#dbe7ee", "#8fb3c6", "#f3e3b8", "#b9a36b", "#e4d3de", "#a9829b", "#d9e4d0", "#8aa67a")
BAD, FINE = "#8c1d40", "#cfd8d3"
MOST_COLUMNS = 900


@dataclass(frozen=True)
class Block:
    """A run of schedules that share a move and all before it: columns ``left`` up to ``right``."""

    depth: int
    left: int
    right: int
    name: str
    bad: float  # the share of its schedules with a bad outcome


#: Characters of a line under the title, and how many lines have room.
LINE, MOST_LINES = 140, 4


def blocks_of(paths: Sequence[tuple[str, ...]], bad: Sequence[bool]) -> list[Block]:
    """The blocks of schedules that stand in order."""
    found: list[Block] = []
    stack = [(0, 0, len(paths))]
    while stack:
        depth, left, right = stack.pop()
        start = left
        while start < right:
            if depth >= len(paths[start]):
                start += 1
                continue
            name, end = paths[start][depth], start
            while end < right and depth < len(paths[end]) and paths[end][depth] == name:
                end += 1
            found.append(Block(depth, start, end, name, sum(bad[start:end]) / (end - start)))
            stack.append((depth + 1, start, end))
            start = end
    return found


def map_figure(found: Exploration) -> Figure:
    """The whole space, or as much of it as was kept."""
    figure = Figure(figsize=SIZE, dpi=DPI, facecolor=PAPER)
    names = list(found.statements)
    rank = {name: number for number, name in enumerate(names)}
    letters = {key: found.letter(key) for key in found.tally.outcomes}
    kept = sorted(found.tally.map, key=lambda entry: [rank[name] for name in entry[0]])[
        :MOST_COLUMNS
    ]
    paths = [path for path, _ in kept]
    outcomes = [found.tally.outcomes[key] for _, key in kept]
    axes = figure.add_axes((0.07, 0.3, 0.9, 0.53))
    depth = max((len(path) for path in paths), default=1)
    _draw_blocks(axes, blocks_of(paths, [entry.bad for entry in outcomes]), names, len(paths))
    _draw_outcomes(axes, kept, outcomes, letters, depth)
    axes.set_xlim(0, max(1, len(paths)))
    axes.set_ylim(depth + 1.35, 0)
    axes.set_xticks([])
    axes.set_yticks(
        [n + 0.5 for n in range(depth)], [str(n + 1) for n in range(depth)], fontsize=9, color=INK
    )
    axes.set_ylabel("move", color=INK)
    for side in axes.spines.values():
        side.set_visible(False)
    axes.tick_params(length=0)
    _titles(figure, found, len(paths))
    _legend(figure, names, found, letters)
    return figure


def _draw_blocks(axes: Any, blocks: Sequence[Block], names: Sequence[str], columns: int) -> None:
    room = 1150 / max(1, columns)  # about so many pixels a column
    gap = min(0.1, 1.5 / room)
    for block in blocks:
        width = block.right - block.left
        tone = LANES[names.index(block.name) % len(LANES)]
        edge = BAD if block.bad == 1 else PAPER
        axes.add_patch(
            Rectangle(
                (block.left + gap, block.depth + 0.04),
                width - 2 * gap,
                0.92,
                facecolor=tone,
                edgecolor=edge,
                linewidth=1.6 if block.bad == 1 and width * room > 5 else 0.3,
            )
        )
        size = width * room / (0.95 * len(block.name))
        if size >= 5.5:
            axes.text(
                (block.left + block.right) / 2,
                block.depth + 0.5,
                block.name,
                ha="center",
                va="center",
                fontsize=min(size, 10),
                color=INK,
            )


def _draw_outcomes(
    axes: Any,
    kept: Sequence[tuple[tuple[str, ...], str]],
    outcomes: Sequence[OutcomeEntry],
    letters: dict[str, str],
    depth: int,
) -> None:
    start = 0
    while start < len(kept):
        end = start
        while end < len(kept) and kept[end][1] == kept[start][1]:
            end += 1
        entry, letter = outcomes[start], letters[kept[start][1]]
        axes.add_patch(
            Rectangle(
                (start, depth + 0.25),
                end - start,
                0.95,
                facecolor=BAD if entry.bad else FINE,
                edgecolor=PAPER,
                hatch="//" if entry.bad else None,
                linewidth=0.6,
            )
        )
        if (end - start) * 1150 / len(kept) > 11:
            axes.text(
                (start + end) / 2,
                depth + 0.72,
                letter,
                ha="center",
                va="center",
                fontsize=11,
                fontweight="bold",
                color=PAPER if entry.bad else INK,
                bbox={"facecolor": BAD, "edgecolor": "none", "pad": 1.5} if entry.bad else None,
            )
        start = end


def _titles(figure: Figure, found: Exploration, shown: int) -> None:
    info = found.target
    levels = sorted(set(found.levels.values()))
    title = f"{found.scenario}: where in the space of schedules the outcomes lie"
    figure.text(0.03, 0.955, title, fontsize=16, fontweight="bold", color=INK, va="center")
    stand_in = " (a stand-in, not a real server)" if info.standin else ""
    part = f"; {shown:,} of them drawn" if shown < found.tally.schedules else ""
    text = f"{info.server} {info.version}{stand_in}, {', '.join(levels)} · {how_far(found)}{part}"
    reported = " · ".join(claim.text for claim in claims(found)[:2])
    lines = [*textwrap.wrap(text, LINE), *textwrap.wrap(reported, LINE)]
    if len(lines) > MOST_LINES:
        lines = [
            *lines[: MOST_LINES - 1],
            textwrap.shorten(" ".join(lines[MOST_LINES - 1 :]), LINE),
        ]
    figure.text(0.03, 0.932, "\n".join(lines), fontsize=10, color=INK, va="top", linespacing=1.25)


def _legend(
    figure: Figure, names: Sequence[str], found: Exploration, letters: dict[str, str]
) -> None:
    tones = [
        Patch(facecolor=LANES[n % len(LANES)], edgecolor=RULE, label=name)
        for n, name in enumerate(names)
    ]
    tones.append(
        Patch(facecolor=PAPER, edgecolor=BAD, linewidth=1.6, label="from here all ends badly")
    )
    figure.legend(
        handles=tones,
        loc="upper left",
        bbox_to_anchor=(0.065, 0.285),
        ncols=7,
        frameon=False,
        fontsize=9.5,
    )
    entries = found.outcomes
    lines = []
    for key, letter in sorted(letters.items(), key=lambda item: (len(item[1]), item[1]))[:10]:
        entry = found.tally.outcomes[key]
        data = entry.anomaly or entry.data
        reported = describe_outcome(entry)
        text = (
            f"{letter}  {entry.kind}, data {data}: {entry.count:,}"
            f" schedule{'s' if entry.count != 1 else ''}" + (f" · {reported}" if reported else "")
        )
        lines.append((textwrap.shorten(text, 92, placeholder=" …"), entry.bad))
    half = (len(lines) + 1) // 2 if len(lines) > 5 else len(lines)
    for number, (text, bad) in enumerate(lines):
        x, y = 0.07 + 0.46 * (number // half), 0.205 - 0.036 * (number % half)
        figure.text(x, y, text, fontsize=9.5, color=BAD if bad else INK, va="center")
    if len(entries) > 10:
        figure.text(0.07, 0.02, f"… and {len(entries) - 10} more outcomes", fontsize=9.5, color=INK)
