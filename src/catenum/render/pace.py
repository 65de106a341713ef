"""The figures of a load on a terminal."""

from __future__ import annotations

import math
import textwrap
from collections.abc import Iterator, Sequence

from rich.console import Console
from rich.text import Text

from catenum.core.compare.measure import Ratio, Spread
from catenum.core.pace.measured import SCATTER, LevelFigures, Step
from catenum.core.pace.results import Compared, PaceResult
from catenum.core.text import duration, listed
from catenum.render.console import STYLES, say

_HEAD = ("level", "committed/s", "× default", "retries", "p50", "p95", "p99", "waits", "failures")


def print_pace(console: Console, result: PaceResult) -> None:
    """Each step with its levels, and what to bear in mind."""
    say(
        console,
        f"{result.scenario} on {result.server} {result.version} ({result.target}), under load",
        style=STYLES["strong"],
    )
    how = f"arrivals at {result.rate:g}/s" if result.rate else "each client one after another"
    turns = "levels in short turns, in random order"
    say(console, f"{how}; {turns}; intervals at 95 %", style=STYLES["faint"])
    for step in result.steps:
        say(console)
        _print_step(console, step)
    say(console)
    for note in result.notes:
        for line in textwrap.wrap(f"· {note}", console.width - 1, subsequent_indent="  "):
            say(console, line, style=STYLES["faint"])


def _print_step(console: Console, step: Step) -> None:
    plural = "s" if step.clients != 1 else ""
    say(console, f"{step.clients:,} client{plural}", style=STYLES["strong"])
    rows = [_row(one) for one in step.levels]
    widths = [max(len(_HEAD[i]), *(len(row[i]) for row in rows), 0) + 2 for i in range(len(_HEAD))]
    head = "".join(title.ljust(width) for title, width in zip(_HEAD, widths, strict=True))
    say(console, f"  {head}".rstrip(), style=STYLES["faint"])
    for one, row in zip(step.levels, rows, strict=True):
        line = Text("  ")
        for title, cell, width in zip(_HEAD, row, widths, strict=True):
            bad = title == "failures" and one.given_up
            line.append(cell.ljust(width), style=STYLES["bad" if bad else "plain"])
        line.rstrip()
        say(console, line)
        if one.unserved:
            say(
                console,
                f"    {one.unserved:,} of {one.arrivals:,} arrivals were not begun when their turn"
                " ended; they count with their waiting until then",
                style=STYLES["bad"],
            )
    if step.levels:
        say(console, f"  {_cpu(step)}", style=STYLES["faint"])
    for text in _doubts(step):
        for part in textwrap.wrap(text, console.width - 4):
            say(console, f"  {part}", style=STYLES["bad"])
    busy = [one for one in step.levels if one.bottleneck]
    if any(one.shares_full_machine for one in busy):
        limit = "server and load together used all of this machine: with more of it the server"
        say(console, f"  {limit} may do more", style=STYLES["bad"])
    elif busy:
        say(
            console,
            "  a load process was busy all the time: the load may be the limit, not the server",
            style=STYLES["bad"],
        )
    if step.stopped is not None:
        for text in textwrap.wrap(f"ended: {step.stopped}", console.width - 4):
            say(console, f"  {text}", style=STYLES["bad"])


def _row(one: LevelFigures) -> tuple[str, ...]:
    failures = [f"{count:,} {kind}" for kind, count in one.failures.items()]
    if one.given_up:
        failures.append(f"{sum(one.given_up.values()):,} for good")
    return (
        one.level,
        spread(one.per_second),
        "default" if one.ratio is None else ratio_text(one.ratio),
        f"{one.retries_per_commit:.2g}" if one.retries else "–",
        *(duration(value or None) for value in (one.p50_ms, one.p95_ms, one.p99_ms)),
        _waits(one),
        ", ".join(failures) or "–",
    )


def _doubts(step: Step) -> Iterator[str]:
    """Why figures may say less than they seem to."""
    rough = [one.level for one in step.levels if one.rough]
    if rough:
        turn = duration(max(one.turn_s for one in step.levels) * 1e3)
        yield (
            f"{listed(rough)}: transactions took long against turns of {turn}, so these figures are"
            " rough; a longer --for makes longer turns"
        )
    unsteady = [one.level for one in step.levels if one.unsteady and not one.rough]
    if unsteady:
        yield (
            f"{listed(unsteady)}: turns differ by more than {SCATTER} times among themselves, so"
            " other work may have disturbed this machine; measure again"
        )


def _waits(one: LevelFigures) -> str:
    """Lock waits per commit where the server counts them, else how many clients waited in the
    mean.
    """
    if one.lock_waits is not None:
        return f"{one.lock_waits / one.committed:.2g}/commit" if one.lock_waits else "–"
    return f"{one.waiting:.1f} at once" if one.waiting else "–"


def _cpu(step: Step) -> str:
    count = len(step.levels)
    load = sum(one.load_cpu for one in step.levels) / count
    server = [one.server_cpu for one in step.levels if one.server_cpu is not None]
    told = f"the load {load:.1f} CPUs"
    told += f", of {step.levels[0].cpus}"
    return f"the server used {sum(server) / len(server):.1f} CPUs, {told}" if server else told


def spread(value: Spread) -> str:
    """A figure with its interval."""
    if math.isinf(value.high):
        return _figure(value.value)
    return f"{_figure(value.value)} ({_figure(value.low)} to {_figure(value.high)})"


def _figure(value: float) -> str:
    return f"{value:,.0f}" if value >= 10 or not value else f"{value:.2g}"


def ratio_text(ratio: Ratio) -> str:
    """A ratio with its interval."""
    if math.isinf(ratio.high):
        return f"{ratio.ratio:.2f}"
    return f"{ratio.ratio:.2f} ({ratio.low:.2f} to {ratio.high:.2f})"


def print_compared(
    console: Console, rows: Sequence[Compared], differing: Sequence[str], old: str
) -> None:
    """The same load before and now."""
    say(console, f"Against {old}", style=STYLES["strong"])
    for text in differing:
        say(console, f"  not the same: {text}", style=STYLES["bad"])
    if not rows:
        say(
            console,
            "  nothing to compare: no level at the same number of clients",
            style="bold red",
        )
        return
    for one in rows:
        word = "the same, as far as can be told"
        if one.differs:
            word = "faster" if one.ratio.ratio > 1 else "slower"
        style = STYLES["plain" if not one.differs else "good" if word == "faster" else "bad"]
        say(
            console,
            f"  {one.clients:>5,} clients, {one.level:<17} × {ratio_text(one.ratio)}: {word};"
            f" p95 {duration(one.p95_before_ms)} → {duration(one.p95_ms)}",
            style=style,
        )
