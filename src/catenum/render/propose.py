"""Proposals: the table, then each with its evidence, its change and what it costs."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Sequence
from dataclasses import asdict
from typing import Any

from rich.console import Console
from rich.text import Text

from catenum.core.compare.verdict import SERIAL, Figures
from catenum.core.propose.changes import ddl, difference, plain, unified
from catenum.core.propose.proposals import Proposals
from catenum.core.propose.ranking import Load, Proposal, why_first
from catenum.core.record.outcome import KINDS
from catenum.core.record.recording_file import to_plain as recording_value
from catenum.core.servers import rules_of
from catenum.core.space.exploration import how_far
from catenum.core.sweep.words import values_line
from catenum.core.text import counted, duration, listed
from catenum.lab.run.safety import placeholders
from catenum.render.console import STYLES, say

FORMAT = "catenum-proposal/1"
_TONES = {"cures": "good", "eases": "wait", "no better": "plain", "worse": "bad", "loses": "bad"}
#: Proposals that are told in full, beside all that cure and are not dominated.
MOST_TOLD = 3


def print_first(console: Console, one: Proposal, after_ms: float) -> None:
    """The first that cures, as soon as it is found."""
    text = (
        f"First cure, after {duration(after_ms)}: {one.candidate.name} ({one.verdict.reason});"
        " others are tried…"
    )
    _wrapped(console, text, "", STYLES["good"])
    say(console, "")


def print_proposals(console: Console, found: Proposals, *, verbose: bool = False) -> None:
    """The table, the proposals that count in full, a line for each of the others, and why the first
    is first.

    What is dominated is left out, unless ``verbose``.
    """
    _print_baseline(console, found)
    if not found.conflict and found.stopped:
        cut = (
            "Stopped by --for before every schedule was run: no conflict was seen, and nothing was"
            " tried."
        )
        _wrapped(console, cut, "", STYLES["bad"])
        return
    if not found.conflict:
        none = "no schedule ends in a conflict, and no rule is broken"
        if found.baseline.as_serially:
            none += (
                ", but a statement is rejected in every order, one after another as well: mend that"
                " first"
            )
        if not found.baseline.waits:
            _wrapped(console, f"Nothing to cure: nobody waits, {none}.", "")
            return
        what = f"Nothing to cure: {none}. What follows shortens the waiting, if anything does."
        _wrapped(console, what, "")
    say(console)
    _print_table(console, found, verbose=verbose)
    reported = [one for one in found.tried if one.cures and not one.dominated][
        :MOST_TOLD
    ] or found.tried[:1]
    for one in reported:
        say(console)
        _print_one(console, found, one)
    _print_others(
        console, found, [one for one in found.tried if one not in reported], verbose=verbose
    )
    say(console)
    line = why_first(found.tried)
    if line is not None:
        _wrapped(console, line, "", STYLES["good"])
    elif found.conflict:
        _wrapped(console, _no_cure(found), "", STYLES["bad"])
    if found.interrupted:
        say(console, "Interrupted: not all candidates were tried.", style=STYLES["bad"])
    elif found.stopped:
        say(console, "Stopped by --for: not all candidates were tried.", style=STYLES["bad"])


def _print_baseline(console: Console, found: Proposals) -> None:
    explored = found.explored
    say(
        console,
        f"{explored.scenario} on {rules_of(explored.target.server).title}"
        f" {explored.target.version}",
        style=STYLES["strong"],
    )
    if found.instead is not None:
        _wrapped(
            console,
            "With the values of the scenario no schedule ends in a conflict. With others it does:"
            f" {found.instead.words} ({values_line(found.instead.case.values)}). That case is what"
            " follows.",
            "",
        )
    _wrapped(console, f"As it is: {_outcomes(found.baseline.kinds)}; {how_far(explored)}.", "")
    if unknown := placeholders(found.scenario):
        text = (
            f"{listed(unknown)}: a placeholder, not your statement: what is proven here is proven"
            " of it."
        )
        _wrapped(console, text, "", STYLES["bad"])
    if found.swept is not None and found.swept.bad:
        bad, distinct = len(found.swept.bad), found.swept.run
        _wrapped(
            console,
            f"For other values: {bad} of {distinct} distinct cases end badly, such as:"
            f" {found.swept.ordered()[0].words}.",
            "",
        )
    for note in found.notes:
        _wrapped(console, f"{note}.", "", STYLES["faint"])
    for title in found.baseline.broken:
        wrong = (
            "no serial order gives the data" if title == SERIAL else f"the rule '{title}' is false"
        )
        say(console, f"  {wrong}, in some schedule", style=STYLES["bad"])


def _print_others(
    console: Console, found: Proposals, others: Sequence[Proposal], *, verbose: bool
) -> None:
    """A line for each that is not told in full, and what was not tried."""
    shown = [one for one in others if verbose or not one.dominated]
    if shown or found.dropped or found.left_alone:
        say(console)
        say(console, "Tried, and not in front", style=STYLES["strong"])
    for names, result in _twins(shown):
        _wrapped(console, f"{names}: {result}", "  ")
    if len(shown) < len(others):
        number = counted(len(others) - len(shown), "other change")
        _wrapped(
            console,
            f"{number} that something here beats in every respect: --verbose lists all",
            "  ",
        )
    if found.left_alone:
        alone = (
            "Left alone, since it is not certain from the text what they do:"
            f" {', '.join(found.left_alone)}."
        )
        _wrapped(console, alone, "  ")
    for name, why in found.dropped:
        _wrapped(console, f"{name}: left out; {why}", "  ")


def _no_cure(found: Proposals) -> str:
    if not found.tried:
        return "No candidate was tried to its end, so nothing is said of what cures."
    if found.serial_breaks:
        named = listed([f"'{title}'" for title in found.serial_breaks])
        return (
            f"Nothing that was tried cures. No order of the transactions keeps the rule {named}: it"
            " is false even where they run one after another, so the statements themselves must"
            " change."
        )
    return (
        "Nothing that was tried cures. What eases is marked so above; a retry in the application is"
        " left where a conflict must remain."
    )


def _twins(proposals: Sequence[Proposal]) -> Iterator[tuple[str, str]]:
    """Proposals with one result in one line: their names, and the result."""
    results: dict[str, list[str]] = {}
    for one in proposals:
        results.setdefault(f"{one.verdict.rank}; {one.verdict.reason}", []).append(
            one.candidate.name
        )
    for result, names in results.items():
        yield " · ".join(names), result


def _outcomes(kinds: Any) -> str:
    return ", ".join(f"{kind} {kinds[kind]}" for kind in reversed(KINDS) if kind in kinds)


def _proven(one: Proposal) -> str:
    if one.figures.complete:
        every = f", and all {one.orders_run:,} orders as well" if one.orders_run else ""
        return (
            f"every schedule that can differ was run ({one.figures.runs:,}{every}), so this is"
            " proven"
        )
    return f"only a sample was run ({one.figures.runs:,} schedules), so this is not proven"


#: The columns behind the name, and those of numbers.
HEAD = ("kind", "runs", "outcome", "waits", "chain", "locks", "changes", "verdict")
NUMBERS = ("runs", "waits", "chain", "locks", "changes")


def _print_table(console: Console, found: Proposals, *, verbose: bool) -> None:
    shown = [one for one in found.tried if verbose or not one.dominated] or found.tried[:1]
    cells = [_cells("", "as it is", found.baseline, "", "", "")]
    for one in shown:
        in_front = not one.dominated and one.verdict.rank in ("cures", "eases")
        candidate = one.candidate
        what = (candidate.name, one.figures, candidate.kind, str(candidate.size), _rank(one))
        cells.append(_cells("*" if in_front else "", *what))
    widths = [max(len(HEAD[n]), *(len(row[n + 2]) for row in cells)) for n in range(len(HEAD))]
    room = max(16, console.width - sum(widths) - 2 * len(widths) - 3)
    width = min(room, max(len(row[1]) for row in cells))
    line = " " * (width + 2) + "".join("  " + word.ljust(widths[n]) for n, word in enumerate(HEAD))
    say(console, Text(line.rstrip(), style=STYLES["faint"]))
    for row in cells:
        _print_row(console, row, width, widths)
    legend = ["* nothing else that was tried is as good in every respect and better in one"]
    if any(row[-1].endswith(" all") for row in cells):
        legend.append("all: for all values of the parameters")
    if any("¹" in row[-1] for row in cells):
        legend.append("¹ for the values or the rows of this case only; see below")
    for words in legend:
        say(console, words, style=STYLES["faint"])


def _cells(
    mark: str, name: str, figures: Figures, kind: str, size: str, rank: str
) -> tuple[str, ...]:
    """A row: its mark, the name, and what stands in the columns."""
    return (
        mark,
        name,
        kind,
        f"{figures.runs:,}{'' if figures.complete else '…'}",
        ("WRONG " if figures.broken else "") + _outcomes(figures.kinds),
        str(figures.waits),
        str(figures.longest_chain),
        "–" if figures.locks is None else str(figures.locks),
        size,
        rank,
    )


def _print_row(console: Console, row: Sequence[str], width: int, widths: Sequence[int]) -> None:
    """``width``: of the name, which may take several lines."""
    first, *others = textwrap.wrap(row[1], width) or [""]
    text = Text()
    text.append(f"{row[0]:<2}{first.ljust(width)}", style=STYLES["strong"])
    for column, value, room in zip(HEAD, row[2:], widths, strict=True):
        tone = "bad" if value.startswith("WRONG") else "plain"
        if column == "verdict":
            tone = _TONES.get(value.rstrip("¹").removesuffix(" all"), "plain")
        cell = value.rjust(room) if column in NUMBERS else value.ljust(room)
        text.append("  " + cell, style=STYLES[tone])
    text.rstrip()
    say(console, text)
    for part in others:
        say(console, Text(f"  {part}", style=STYLES["strong"]))


def _rank(one: Proposal) -> str:
    if one.cures and one.this_case_only:
        return f"{one.verdict.rank}¹"
    holds = one.values is not None and one.values.holds
    return f"{one.verdict.rank} all" if one.cures and holds else one.verdict.rank


def _print_one(console: Console, found: Proposals, one: Proposal) -> None:
    line = Text(f"{one.candidate.name}: ", style=STYLES["strong"])
    line.append(one.verdict.rank, style=STYLES[_TONES[one.verdict.rank]])
    say(console, line)
    for why in one.these_values:
        _wrapped(console, why, "  only for these values: ", STYLES["bad"])
    if one.values is not None:
        tone = {True: "good", False: "bad", None: "wait"}[one.values.holds]
        _wrapped(console, one.values.said, "  values   ", STYLES[tone])
        if one.values.shortest:
            _wrapped(console, " ".join(one.values.shortest), "           schedule: ")
    for why in one.only_while:
        _wrapped(console, why, "  does not cure ", STYLES["bad"])
    for harm in one.candidate.harms:
        _wrapped(console, harm, "  harms    ", STYLES["bad"])
    for reason in one.candidate.because:
        _wrapped(console, reason, "  because  ")
    if one.load is None or not one.by_loops:
        _wrapped(console, f"{one.verdict.reason}; {_proven(one)}", "  result   ")
    if one.load is not None:
        _wrapped(console, f"in loops: {one.load.reason}; {load_reported(one.load)}", "  result   ")
        if one.by_loops:
            _wrapped(
                console,
                f"move by move: {_outcomes(one.figures.kinds)}; {_proven(one)}",
                "  result   ",
            )
    _print_meaning(console, one)
    for meaning in one.candidate.means:
        _wrapped(console, meaning, "  means    ")
    for text in (
        *difference(found.scenario, one.candidate),
        *ddl(one.candidate, rules_of(found.explored.target.server)),
    ):
        style = (
            STYLES["good"]
            if text.startswith("+")
            else STYLES["bad"]
            if text.startswith("-")
            else STYLES["faint"]
        )
        _wrapped(console, text, "    ", style)


def _print_meaning(console: Console, one: Proposal) -> None:
    """Whether the transactions do the same as before, one after another."""
    if one.checked_orders and not one.candidate.decides:
        also = (
            f", on the rows as loaded and also where {'; '.join(one.varied)}" if one.varied else ""
        )
        _wrapped(
            console,
            "the same rows and results as before in"
            f" {counted(one.checked_orders, 'serial order')}{also}",
            "  meaning  ",
        )
    elif one.candidate.decides:
        _wrapped(
            console,
            f"changed on purpose: the rules hold in all {one.checked_orders} serial orders, as they"
            " did not before",
            "  meaning  ",
        )
    else:
        _wrapped(
            console,
            "not compared: as it is, the transactions do not complete one after another",
            "  meaning  ",
        )


def _wrapped(console: Console, text: str, indent: str, style: str = "") -> None:
    for line in textwrap.wrap(
        text, console.width - 1, initial_indent=indent, subsequent_indent=" " * len(indent)
    ):
        say(console, Text(line, style=style))


def patch(found: Proposals, one: Proposal) -> str:
    """The change as SQL, and as a difference of the statements."""
    rules = rules_of(found.explored.target.server)
    lines = [f"-- {one.candidate.kind}: {one.candidate.name} ({one.verdict.rank}; {_proven(one)})"]
    lines += [f"-- only for these values: {why}" for why in one.these_values]
    lines += [f"-- does not cure {why}" for why in one.only_while]
    lines += [f"-- {one.values.said}"] if one.values is not None else []
    lines += [f"-- harms: {harm}" for harm in one.candidate.harms]
    lines += [f"-- {meaning}" for meaning in one.candidate.means]
    lines += ddl(one.candidate, rules)
    lines += unified(found.scenario, one.candidate)
    return "\n".join(lines) + "\n"


def proposals_value(found: Proposals) -> dict[str, Any]:
    """As plain values; see docs/output.md."""
    target = found.explored.target
    rules = rules_of(target.server)
    return {
        "format": FORMAT,
        "scenario": found.explored.scenario,
        "target": {
            "server": target.server,
            "version": target.version,
            "url": target.url,
            "private": target.private,
        },
        "conflict": found.conflict,
        "placeholders": placeholders(found.scenario),
        "instead": _instead(found),
        "baseline": {**_figures(found.baseline), "load": _load(found.load)},
        "candidates": [
            {
                "rank": number,
                "kind": one.candidate.kind,
                "name": one.candidate.name,
                "because": list(one.candidate.because),
                "change": plain(one.candidate.remedy),
                "statements": list(difference(found.scenario, one.candidate)),
                "ddl": ddl(one.candidate, rules),
                "means": list(one.candidate.means),
                "verdict": one.verdict.rank,
                "reason": one.verdict.reason,
                "proven": one.proven,
                "cost": {
                    **_figures(one.figures),
                    "changes": one.candidate.size,
                    "load": _load(one.load),
                },
                "serial_orders_compared": one.checked_orders,
                "changes_meaning": one.candidate.decides or one.candidate.splits,
                "these_values_only": list(one.these_values),
                "does_not_cure": list(one.only_while),
                "values": _values(one),
                "harms": list(one.candidate.harms),
                "other_data": list(one.varied),
                "orders_run": one.orders_run,
                "defect": one.defect,
                "dominated": one.dominated,
            }
            for number, one in enumerate(found.tried, 1)
        ],
        "dropped": [{"name": name, "why": why} for name, why in found.dropped],
        "why_first": why_first(found.tried),
        "left_alone": list(found.left_alone),
        "stopped": found.stopped,
        "interrupted": found.interrupted,
        "rules_broken_serially": list(found.serial_breaks),
    }


def _instead(found: Proposals) -> dict[str, Any] | None:
    if found.instead is None:
        return None
    return {"words": found.instead.words, "values": found.instead.case.values}


def _values(one: Proposal) -> dict[str, Any] | None:
    if one.values is None:
        return None
    return {
        "holds": one.values.holds,
        "cases": one.values.cases,
        "but": one.values.but,
        "shortest": " ".join(one.values.shortest) if one.values.shortest else None,
    }


def recordings_value(found: Proposals) -> dict[str, Any]:
    """The worst schedule as it is, and with what is put first, where both were played."""
    if found.before is None or found.after is None:
        return {}
    return {"before": recording_value(found.before), "after": recording_value(found.after)}


def load_reported(load: Load) -> str:
    """Throughput and response time with their intervals, and how many iterations they rest on."""
    speed, p95 = load.per_second, load.p95_ms
    return (
        f"{speed.value:,.0f} iterations a second ({speed.low:,.0f} to {speed.high:,.0f}); "
        f"p95 {p95.value:.2g} ms ({p95.low:.2g} to {p95.high:.2g}); {load.iterations:,} iterations"
    )


def _load(load: Load | None) -> dict[str, Any] | None:
    if load is None:
        return None
    plain = asdict(load)
    for name in ("deadlocks", "conflicts"):
        plain[name] = {key: plain[name][key] for key in ("events", "rate", "low", "high")}
    return plain


def _figures(figures: Any) -> dict[str, Any]:
    return {
        "schedules": figures.runs,
        "complete": figures.complete,
        "outcomes": figures.kinds,
        "waits": figures.waits,
        "longest_chain": figures.longest_chain,
        "locks": figures.locks,
        "attempts": figures.attempts,
        "rules_broken": list(figures.broken),
        "anomalies": figures.anomalies,
    }
