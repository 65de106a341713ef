"""The table of ``check``, in a terminal: a line for each case, and what is not as expected below
it.
"""

from __future__ import annotations

import shlex
import textwrap

from rich.console import Console
from rich.text import Text

from catenum.core.check.result import FAILED, CheckCase, CheckResult
from catenum.core.text import counted, duration
from catenum.render.console import STYLES, say

_SIGNS = {
    "as expected": ("✓", "good"),
    "unchanged": ("✓", "faint"),
    "not as expected": ("✗", "bad"),
    "not proven": ("~", "wait"),
    "error": ("✗", "bad"),
    "nothing expected": ("–", "faint"),
    "not for this server": ("–", "faint"),
}
#: Statements to blame that are shown of a case.
MOST_BLAMED = 4


def print_case(console: Console, case: CheckCase, *, quiet: bool = False) -> None:
    """One case; with ``quiet`` only where it is not as expected."""
    if quiet and case.status not in FAILED:
        return
    sign, tone = _SIGNS[case.status]
    line = Text()
    line.append(f"{sign} ", style=STYLES[tone])
    line.append(case.scenario, style=STYLES["strong"])
    line.append(f"  {case.title}" if case.title else "")
    line.append(f"  {case.status}", style=STYLES[tone])
    say(console, line)
    facts = [f"{case.server} {case.version}".strip(), case.target if case.server else ""]
    if case.schedules is not None:
        facts.append(counted(case.schedules, "schedule"))
    if case.seconds:
        facts.append(duration(case.seconds * 1000))
    if case.allowed:
        facts.append(case.allowed)
    told = " · ".join(fact for fact in facts if fact)
    if told:
        say(console, Text(f"    {told}", style=STYLES["faint"]))
    for text in case.problems:
        _wrapped(console, text, "plain")
    shown = [(one.place, one.text) for one in case.blame[:MOST_BLAMED]]
    if case.place is not None and case.status in FAILED and not shown:
        shown = [(case.place, "")]
    for place, text in shown:
        _wrapped(console, f"{place}  {text}".rstrip(), "faint")
    if case.advice:
        _wrapped(console, case.advice, "faint")
    if case.schedule:
        level = f" --isolation {shlex.quote(case.level)}" if case.level else ""
        order = shlex.quote(" ".join(case.schedule))
        file = shlex.quote(case.file)
        say(console, f"    next: catenum play {file} --order {order}{level} --target {case.target}")


def print_sum(console: Console, result: CheckResult) -> None:
    """How many cases there were of each status, and whether it passed."""
    parts = [f"{count} {status}" for status, count in result.counts().items()]
    said = counted(len(result.cases), "check")
    text = f"{said}: {', '.join(parts)}" if parts else "There was nothing to check."
    style = STYLES["good" if result.passed else "bad"]
    say(console, f"{text}{'; interrupted' if result.interrupted else ''}", style=style)
    if result.cases and not result.failed and not result.passed and not result.interrupted:
        say(console, "No scenario says what is expected of it, so nothing passed.")


def _wrapped(console: Console, text: str, tone: str) -> None:
    for line in textwrap.wrap(
        text,
        max(40, console.width - 1),
        initial_indent="    ",
        subsequent_indent="      ",
        break_on_hyphens=False,
        break_long_words=False,
    ):
        say(console, Text(line, style=STYLES[tone]))
