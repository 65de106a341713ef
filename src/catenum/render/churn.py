"""What loops gave, in a terminal: figures, failures with their rates, distinct cycles."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from rich.console import Console

from catenum.core.compare.churn_result import ChurnResult
from catenum.core.compare.measure import rate
from catenum.core.text import duration, listed, one_line
from catenum.render.console import say


def print_churn(
    console: Console, result: ChurnResult, files: Sequence[Path] = (), *, quiet: bool = False
) -> None:
    """All of it, or the deadlocks only; ``files``: the recordings of the distinct cycles."""
    deadlocks = rate(result.failures["deadlock"], result.iterations)
    if quiet:
        say(console, f"{result.scenario}: deadlocks: {deadlocks}")
        _print_hidden(console, result)
        return
    info = result.target
    say(
        console,
        f"{result.scenario} on {info.server} {info.version} ({info.url}), in loops",
        style="bold",
    )
    how = "committed" if result.committed else "rolled back"
    say(
        console,
        f"{result.iterations:,} iterations in {result.seconds:.1f} s, {result.per_second:,.0f} a "
        f"second; each was {how}",
    )
    say(console)
    _print_table(console, result)
    say(console)
    for kind, number in result.failures.items():
        if number or kind == "deadlock":
            style = "bold red" if number else "green"
            say(
                console,
                f"{kind + 's':<10} {number:>7}   {rate(number, result.iterations)}",
                style=style,
            )
    _print_hidden(console, result)
    if result.lock_waits is not None:
        say(console, f"lock waits {result.lock_waits:>7}   (for rows, as the server counts them)")
    if result.waiting is not None:
        say(
            console,
            f"waiting    {result.waiting:>7}   loops on average, in {result.samples} samples",
        )
    for one in result.stuck:
        sql = one_line(one.sql, 60)
        say(
            console,
            f"stuck              {one.loop} {one.statement} waited to the end: {sql}",
            style="bold red",
        )
    if result.stuck:
        say(
            console,
            "                   no other loop was in a transaction any more: a session keeps what"
            " it waits for",
        )
    _print_cycles(console, result, files)


def _print_hidden(console: Console, result: ChurnResult) -> None:
    """Deadlocks that only the server's own count shows, and what may have caught them."""
    for name, conditions in result.handlers.items():
        say(
            console,
            f"           {name} catches {listed(list(conditions))}: its client may not receive"
            " the error",
            style="dim",
        )
    if result.hidden:
        text = (
            f"caught     {result.hidden:>7}   deadlocks that the server counted and no client"
            " received"
        )
        say(console, text, style="bold red")
    elif result.handlers and result.hidden is None:
        say(
            console,
            "           the server's own count of deadlocks could not be compared",
            style="bold red",
        )


def _print_table(console: Console, result: ChurnResult) -> None:
    say(
        console,
        f"{'transaction':<16}{'iterations':>11}{'p50':>10}{'p95':>10}{'p99':>10}   failures",
        style="dim",
    )
    for name, tally in result.transactions.items():
        times = "".join(f"{duration(ms):>10}" for ms in (tally.p50_ms, tally.p95_ms, tally.p99_ms))
        failures = (
            ", ".join(f"{kind} {count}" for kind, count in sorted(tally.failures.items())) or "none"
        )
        say(console, f"{name:<16}{tally.iterations:>11,}{times}   {failures}")


def _print_cycles(console: Console, result: ChurnResult, files: Sequence[Path]) -> None:
    if result.unread:
        say(console)
        say(
            console,
            f"Of {result.unread:,} deadlocks the cycle was not read: the server keeps its report of"
            " the latest one only, or its profile does not say how it is read",
        )
    if not result.deadlocks:
        return
    say(console)
    say(console, "Distinct cycles", style="bold")
    for number, cycle in enumerate(result.deadlocks, 1):
        say(
            console,
            f"  {number}. seen {cycle.times} times, first after {cycle.first_iteration:,}"
            " iterations",
        )
        say(console, f"     {cycle.text}")
        for finding in cycle.recording.findings:
            say(console, f"     {finding.title}: {finding.evidence[0]}", style="dim")
        if files:
            say(console, f"     catenum explain {files[number - 1]}", style="green")
