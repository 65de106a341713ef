"""The trial's table: variants side by side, and the verdict on each."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from catenum.core.compare.trial import Trial, Variant
from catenum.core.compare.verdict import Verdict
from catenum.core.record.outcome import KINDS
from catenum.core.space.claims import claims
from catenum.core.text import duration
from catenum.render.console import STYLES, say

_SIGNS = {"cures": "✓", "eases": "~", "no better": "=", "worse": "✗", "loses": "✗"}
_TONES = {"cures": "good", "eases": "wait", "no better": "plain", "worse": "bad", "loses": "bad"}


def print_trial(console: Console, trial: Trial) -> None:
    """The table, then each remedy's changes and verdict."""
    if trial.orders:
        count = (
            f"{len(trial.orders)} given schedule{'s' if len(trial.orders) != 1 else ''} for each"
            " variant"
        )
        say(console, f"{trial.scenario}: {count}", style=STYLES["strong"])
    else:
        say(
            console,
            f"{trial.scenario}: every schedule that can differ, for each variant",
            style=STYLES["strong"],
        )
    for order in trial.orders:
        say(console, f"  {' '.join(order)}", style=STYLES["faint"])
    say(console)
    _print_table(console, trial)
    say(console)
    for variant in trial.variants[1:]:
        print_verdict(
            console,
            variant.name,
            variant.verdict,
            variant.changes,
            _claims(variant),
            sampled=_sampled(variant),
        )
    if not trial.orders:
        say(console, "Locks and time: the scenario's own order, once.", style=STYLES["faint"])
    if trial.unchecked:
        say(
            console,
            "No rule under 'holds': whether the data stays right was not checked.",
            style=STYLES["bad"],
        )
    winners = trial.winners
    if winners:
        of = (
            f", in the {winners[0].figures.runs:,} schedules that were run"
            if _sampled(winners[0])
            else ""
        )
        say(console, f"Best: {winners[0].name}{of}", style=STYLES["good"])
    elif len(trial.variants) > 1:
        say(console, "No remedy wins.", style=STYLES["bad"])


def _rows(variant: Variant) -> dict[str, str]:
    numbers = variant.figures
    kinds = ", ".join(
        f"{kind} {numbers.kinds[kind]}" for kind in reversed(KINDS) if kind in numbers.kinds
    )
    unchecked = variant.explored is None and not any(run.outcome.holds for run in variant.runs)
    wrong = (
        f"WRONG {numbers.anomalies}"
        if numbers.anomalies
        else "rule broken"
        if numbers.broken
        else ""
    )
    return {
        "runs": f"{numbers.runs:,}" + ("…" if _sampled(variant) else ""),
        "outcome": kinds,
        "waits": str(numbers.waits),
        "chain": str(numbers.longest_chain),
        "locks": "–" if numbers.locks is None else str(numbers.locks),
        "tries": str(numbers.attempts),
        "time": duration(numbers.time_ms),
        "data": "?" if unchecked else wrong or "right",
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
            if key == "data" and row[key] not in ("right", "?"):
                tone = "bad"
            if key == "verdict" and variant.verdict:
                tone = _TONES[variant.verdict.rank]
            value = (
                row[key].rjust(widths[key])
                if key in ("runs", "waits", "chain", "locks", "tries", "time")
                else row[key].ljust(widths[key])
            )
            text.append("  " + value, style=STYLES[tone])
        text.rstrip()
        say(console, text)
        for part in parts[1:]:
            say(console, Text(part, style=STYLES["strong"]))


def _sampled(variant: Variant) -> bool:
    """Whether there are schedules that were not run, so that the verdict rests on a sample."""
    return variant.explored is not None and not variant.figures.complete


def _claims(variant: Variant) -> list[str]:
    return (
        [claim.text for claim in claims(variant.explored)] if variant.explored is not None else []
    )


def print_verdict(
    console: Console,
    name: str,
    verdict: Verdict | None,
    changes: Sequence[str],
    claimed: Sequence[str] = (),
    *,
    sampled: bool = False,
) -> None:
    """A remedy's rank, the reason, what it changes and what is proven; nothing for the baseline,
    without a verdict.
    """
    if verdict is None:
        return
    line = Text()
    line.append(f"{_SIGNS[verdict.rank]} {name}: ", style=STYLES["strong"])
    line.append(verdict.rank, style=STYLES[_TONES[verdict.rank]])
    if sampled:
        line.append(" as far as it was run (a sample)", style=STYLES["plain"])
    say(console, line)
    for text in textwrap.wrap(verdict.reason, console.width - 5):
        say(console, f"    {text}")
    for claim in claimed:
        for text in textwrap.wrap(
            claim, console.width - 7, initial_indent="    → ", subsequent_indent="      "
        ):
            say(console, text)
    for change in changes:
        for text in textwrap.wrap(
            change, console.width - 7, initial_indent="    · ", subsequent_indent="      "
        ):
            say(console, text, style=STYLES["faint"])
