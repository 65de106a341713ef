"""Matrices of isolation levels and what a scenario needs, on a terminal."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from catenum.core.levels.matrix import CellResult, Matrix
from catenum.core.levels.need import LevelsTried, Need
from catenum.core.levels.words import RESULTS, differences, matrix_sections, need_sections
from catenum.core.text import counted
from catenum.render.console import STYLES, say
from catenum.render.text import print_story

TONES: dict[CellResult | None, str] = {
    "happens": "bad",
    "waits": "wait",
    "snapshot": "good",
    "refused": "strong",
    "deadlock": "strong",
    None: "faint",
}


def print_matrices(console: Console, matrices: Sequence[Matrix], shown: Sequence[str]) -> None:
    """Each server's matrix, and where they differ. ``shown``: how each target is called."""
    for matrix, name in zip(matrices, shown, strict=True):
        say(
            console,
            f"Isolation levels on {matrix.server} {matrix.version} ({name})",
            style=STYLES["strong"],
        )
        cells = matrix.cells
        told = f"{counted(sum(cell.schedules for cell in cells), 'schedule')} of"
        unproven = "" if all(cell.proven for cell in cells) else ", not all proven (see below)"
        say(
            console,
            f"{told} {counted(len(matrix.probes), 'probe')} were run: the textbook's, and where"
            f" that shows nothing, each that can differ{unproven}",
            style=STYLES["faint"],
        )
        say(console)
        _print_table(console, matrix)
        say(console)
        if len(matrices) == 1:
            _print_legend(console)
            say(console)
        print_story(console, matrix_sections(matrix))
        say(console)
    if len(matrices) > 1:
        _print_legend(console)
        say(console)
        _print_differences(console, matrices)
        say(console)
    say(
        console,
        "catenum levels --probe NAME prints a probe as a scenario, to play and to explore",
        style=STYLES["faint"],
    )


def _print_table(console: Console, matrix: Matrix) -> None:
    width = max(len(probe.name) for probe in matrix.probes) + 2
    head = "".ljust(width) + "".join(level.ljust(18) for level in matrix.levels)
    say(console, head.rstrip(), style=STYLES["faint"])
    for probe in matrix.probes:
        line = Text(probe.name.ljust(width))
        for level in matrix.levels:
            cell = matrix.cell(probe.name, level)
            result = cell.result if cell is not None else None
            mark = "" if cell is None or cell.proven else "?"
            line.append(f"{result or '–'}{mark}".ljust(18), style=STYLES[TONES[result]])
        line.rstrip()
        say(console, line)


def _print_legend(console: Console) -> None:
    for result, words in RESULTS.items():
        line = Text(f"  {result.ljust(10)}", style=STYLES[TONES[result]])
        line.append(words, style=STYLES["faint"])
        say(console, line)


def _print_differences(console: Console, matrices: Sequence[Matrix]) -> None:
    rows = differences(matrices)
    servers = [f"{matrix.server} {matrix.version}" for matrix in matrices]
    say(console, "Where the servers differ", style=STYLES["strong"])
    if not rows:
        say(console, "  nowhere: the same result in every probe at every level")
        return
    widths = [max(12, len(name) + 2) for name in servers]
    head = "".join(name.ljust(width) for name, width in zip(servers, widths, strict=True))
    say(console, f"  {'':<22}{'':<18}{head}".rstrip(), style=STYLES["faint"])
    for probe, level, results in rows:
        line = Text(f"  {probe:<22}{level:<18}")
        for result, width in zip(results, widths, strict=True):
            line.append((result or "–").ljust(width), style=STYLES[TONES[result]])
        line.rstrip()
        say(console, line)


def print_need(console: Console, need: Need, shown: str) -> None:
    """What was tried, the answer, what it costs."""
    say(
        console,
        f"{need.scenario} on {need.server} {need.version} ({shown}): which level does it need?",
        style=STYLES["strong"],
    )
    say(console)
    _print_tried(console, need)
    say(console)
    print_story(console, need_sections(need))


def _print_tried(console: Console, need: Need) -> None:
    head = ("all at", "schedules", "wrong data", "rules false", "refused", "deadlock", "waited")
    rows = [_tried_row(one) for one in need.levels]
    widths = [max(len(head[i]), *(len(row[i]) for row in rows)) + 2 for i in range(len(head))]
    titles = "".join(title.ljust(width) for title, width in zip(head, widths, strict=True))
    say(console, titles.rstrip(), style=STYLES["faint"])
    for one, row in zip(need.levels, rows, strict=True):
        style = STYLES["good" if one.enough else "plain" if one.right else "bad"]
        text = "".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True))
        say(console, Text(text.rstrip(), style=style))
    for one in need.levels:
        if one.wrong is not None:
            level = next(iter(one.levels.values()))
            say(console, f"  wrong at {level}: {' '.join(one.wrong)}", style=STYLES["faint"])


def _tried_row(one: LevelsTried) -> tuple[str, ...]:
    level = next(iter(one.levels.values()))
    data = ", ".join(f"{name} in {count:,}" for name, count in one.anomalies.items())
    rules = sum(one.broken.values())
    unproven = "" if one.proven else " (a part)"
    return (
        level,
        f"{one.schedules:,}{unproven}",
        data or "none",
        f"{rules:,}" if rules else "none",
        f"{one.refused:,}" if one.refused else "–",
        f"{one.deadlocks:,}" if one.deadlocks else "–",
        f"{one.waited:,}" if one.waited else "–",
    )
