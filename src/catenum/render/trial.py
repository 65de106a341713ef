"""The trial's table: variants side by side, and the verdict on each."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from typing import Any

from rich.console import Console
from rich.text import Text

from catenum.core.outcome import KINDS
from catenum.core.recording import to_plain
from catenum.core.story import duration
from catenum.core.verdict import Verdict
from catenum.lab.trial import Trial, Variant
from catenum.render.console import STYLES, say

FORMAT = "catenum-trial/1"
_SIGNS = {"cures": "✓", "eases": "~", "no better": "=", "worse": "✗", "loses": "✗"}
_TONES = {"cures": "good", "eases": "wait", "no better": "plain", "worse": "bad", "loses": "bad"}


def print_trial(console: Console, trial: Trial) -> None:
    """The table, then each remedy's changes and verdict."""
    say(console, f"{trial.scenario}: {len(trial.orders)} schedules for each variant", style=STYLES["strong"])
    for order in trial.orders:
        say(console, f"  {' '.join(order)}", style=STYLES["faint"])
    say(console)
    _print_table(console, trial)
    say(console)
    for variant in trial.variants[1:]:
        print_verdict(console, variant.name, variant.verdict, variant.changes)
    if trial.unchecked:
        say(
            console,
            "No rule under 'holds': whether the data stays right was not checked.",
            style=STYLES["bad"],
        )
    winners = trial.winners
    if winners:
        say(console, f"Best: {winners[0].name}", style=STYLES["good"])
    elif len(trial.variants) > 1:
        say(console, "No remedy wins.", style=STYLES["bad"])


def _rows(variant: Variant) -> dict[str, str]:
    numbers = variant.figures
    kinds = ", ".join(f"{kind} {numbers.kinds[kind]}" for kind in reversed(KINDS) if kind in numbers.kinds)
    unchecked = not any(run.outcome.holds for run in variant.runs)
    return {
        "outcome": kinds,
        "waits": str(numbers.waits),
        "chain": str(numbers.longest_chain),
        "locks": "–" if numbers.locks is None else str(numbers.locks),
        "tries": str(numbers.attempts),
        "time": duration(numbers.time_ms),
        "data": "?" if unchecked else ("WRONG" if numbers.broken else "right"),
        "verdict": variant.verdict.rank if variant.verdict else "",
    }


def _print_table(console: Console, trial: Trial) -> None:
    cells = {variant.name: _rows(variant) for variant in trial.variants}
    head = list(next(iter(cells.values())))
    widths = {key: max(len(key), *(len(row[key]) for row in cells.values())) for key in head}
    room = console.width - 1 - sum(width + 2 for width in widths.values())
    name_width = max(12, min(max(len(name) for name in cells), room))
    line = "".ljust(name_width) + "".join("  " + key.ljust(widths[key]) for key in head)
    say(console, Text(line.rstrip(), style=STYLES["faint"]))
    for variant in trial.variants:
        row = cells[variant.name]
        parts = textwrap.wrap(variant.name, name_width) or [""]
        text = Text()
        text.append(parts[0].ljust(name_width), style=STYLES["strong"])
        for key in head:
            tone = "plain"
            if key == "data" and row[key] == "WRONG":
                tone = "bad"
            if key == "verdict" and variant.verdict:
                tone = _TONES[variant.verdict.rank]
            value = (
                row[key].rjust(widths[key])
                if key in ("waits", "chain", "locks", "tries", "time")
                else row[key].ljust(widths[key])
            )
            text.append("  " + value, style=STYLES[tone])
        text.rstrip()
        say(console, text)
        for part in parts[1:]:
            say(console, Text(part, style=STYLES["strong"]))


def print_verdict(console: Console, name: str, verdict: Verdict | None, changes: Sequence[str]) -> None:
    """A remedy's rank, the reason, and what it changes; nothing for the baseline, which has no verdict."""
    if verdict is None:
        return
    line = Text()
    line.append(f"{_SIGNS[verdict.rank]} {name}: ", style=STYLES["strong"])
    line.append(verdict.rank, style=STYLES[_TONES[verdict.rank]])
    say(console, line)
    for text in textwrap.wrap(verdict.reason, console.width - 5):
        say(console, f"    {text}")
    for change in changes:
        for text in textwrap.wrap(change, console.width - 7, initial_indent="    · ", subsequent_indent="      "):
            say(console, text, style=STYLES["faint"])


def to_json_value(trial: Trial) -> dict[str, Any]:
    """The trial as plain values, with a recording of every run."""
    return {
        "format": FORMAT,
        "scenario": trial.scenario,
        "orders": [" ".join(order) for order in trial.orders],
        "data_checked": not trial.unchecked,
        "variants": [
            {
                "name": variant.name,
                "changes": list(variant.changes),
                "outcomes": variant.figures.kinds,
                "waits": variant.figures.waits,
                "longest_chain": variant.figures.longest_chain,
                "locks_taken": variant.figures.locks,
                "attempts": variant.figures.attempts,
                "median_ms": round(variant.figures.time_ms, 3),
                "rules_broken": list(variant.figures.broken),
                "verdict": variant.verdict.rank if variant.verdict else None,
                "reason": variant.verdict.reason if variant.verdict else None,
                "recordings": [to_plain(run) for run in variant.runs],
            }
            for variant in trial.variants
        ],
        "best": trial.winners[0].name if trial.winners else None,
    }
