"""The table of a trial under load."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from rich.console import Console
from rich.text import Text

from catenum.core.compare.loop_comparison import LoopComparison
from catenum.core.text import duration
from catenum.render.console import STYLES, say
from catenum.render.trial import print_verdict

FORMAT = "catenum-contest/1"


def winners_of(results: Sequence[LoopComparison]) -> list[LoopComparison]:
    """Remedies that can be recommended, the fastest first."""
    won = [result for result in results if result.verdict is not None and result.verdict.wins]
    return sorted(won, key=lambda result: -result.per_second.value)


def print_contest(console: Console, scenario: str, results: Sequence[LoopComparison]) -> None:
    """The table, then each remedy's verdict with its reason."""
    say(
        console,
        f"{scenario}: each variant in loops, in turns with the others",
        style=STYLES["strong"],
    )
    say(console)
    width = max(12, *(len(result.name) for result in results))
    heads = ("iterations", "deadlocks", "waits", "locks", "p50", "p95", "per s")
    say(
        console,
        Text("".ljust(width) + "".join(head.rjust(11) for head in heads), style=STYLES["faint"]),
    )
    for result in results:
        line = Text()
        line.append(result.name.ljust(width), style=STYLES["strong"])
        cells = (
            f"{result.iterations:,}",
            f"{result.deadlocks.events:,}",
            "–" if result.lock_waits is None else f"{result.lock_waits:,}",
            "–" if result.locks is None else f"{result.locks:,}",
            duration(result.p50_ms),
            duration(result.p95_ms.value),
            f"{result.per_second.value:,.0f}",
        )
        line.append("".join(cell.rjust(11) for cell in cells))
        say(console, line)
    say(console)
    for result in results:
        p95, speed = result.p95_ms, result.per_second
        reported = (
            f"{result.name}: deadlocks {result.deadlocks}; p95 {p95.low:.2g} to {p95.high:.2g} ms; "
        )
        reported += f"{speed.low:,.0f} to {speed.high:,.0f} a second"
        for text in textwrap.wrap(reported, console.width - 1, subsequent_indent="    "):
            say(console, text, style=STYLES["faint"])
    say(console)
    for result in results:
        print_verdict(console, result.name, result.verdict, result.changes)
    winners = winners_of(results)
    text = f"Best: {winners[0].name}" if winners else "No remedy wins."
    say(console, text, style=STYLES["good" if winners else "bad"])


def contest_value(scenario: str, results: Sequence[LoopComparison]) -> dict[str, Any]:
    winners = winners_of(results)
    return {
        "format": FORMAT,
        "scenario": scenario,
        "variants": [asdict(result) for result in results],
        "best": winners[0].name if winners else None,
    }
