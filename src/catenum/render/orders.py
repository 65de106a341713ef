"""Named orders beside what was expected of them: on a terminal, and as JSON."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from rich.console import Console
from rich.text import Text

from catenum.core.compare.expectation import subject
from catenum.core.record.recording_file import to_plain
from catenum.lab.run.orders import PlayedOrder
from catenum.render.console import STYLES, say

FORMAT = "catenum-orders/1"


def print_order(console: Console, played: PlayedOrder, *, width: int) -> None:
    """One line for an order, and one for each difference, with its place in the file."""
    good, server = played.as_expected, played.recording.target.server
    sign, tone = ("✓ ", "good") if good else ("· ", "faint") if good is None else ("✗ ", "bad")
    text = "as expected" if good else played.why_not or f"nothing is expected on {server}"
    if good is False:
        text = "not as expected"
    broken = played.recording.outcome.broken_rules
    if broken:
        text += f"; false at the end: {', '.join(broken)}"
    line = Text()
    line.append(sign, style=STYLES[tone])
    line.append(f"{played.name.ljust(width)}  {played.recording.outcome.kind.ljust(8)}  ")
    line.append(text, style=STYLES[tone])
    say(console, line)
    for one, place in played.differences:
        say(console, f"    {subject(one)}: {one.seen}; expected: {one.expected}")
        say(console, f"      {place}", style=STYLES["faint"])


def orders_value(scenario: str, played: Sequence[PlayedOrder]) -> dict[str, Any]:
    """``catenum-orders/1``."""
    return {
        "format": FORMAT,
        "scenario": scenario,
        "orders": [
            {
                "name": one.name,
                "order": list(one.recording.order),
                "as_expected": one.as_expected,
                "differences": [
                    {
                        "about": subject(difference),
                        "expected": difference.expected,
                        "seen": difference.seen,
                        "place": str(place),
                    }
                    for difference, place in one.differences
                ],
                "recording": to_plain(one.recording),
            }
            for one in played
        ],
    }
