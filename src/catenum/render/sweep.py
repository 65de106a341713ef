"""Prints a sweep: the distinct cases in words, what each comes to, what it rests on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from rich.console import Console
from rich.table import Table

from catenum.core.sweep.result import CaseResult, Sweep
from catenum.core.sweep.words import values_line
from catenum.core.text import counted, duration, listed
from catenum.render.console import STYLES, say

#: Rows of the table, and cases that are told with their shortest schedule.
MOST_ROWS, MOST_TOLD = 40, 3


@dataclass(frozen=True)
class Row:
    """Cases of the same members and words: the first is told."""

    words: str
    members: tuple[str, ...]
    cases: tuple[CaseResult, ...]

    @property
    def first(self) -> CaseResult:
        """The one that is told, with the smallest values."""
        return self.cases[0]

    @property
    def said(self) -> str:
        """What it comes to."""
        kinds = dict.fromkeys(kind for case in self.cases for kind in case.outcomes)
        names = dict.fromkeys(name for case in self.cases for name in case.anomalies)
        broken = dict.fromkeys(rule for case in self.cases for rule in case.broken)
        if not any(case.ran for case in self.cases):
            return "nothing meets"
        alone = all(case.alone for case in self.cases)
        if alone and set(kinds) == {"error"}:
            return "fails in every order"
        fine = ("clean", "waited", "error") if alone else ("clean", "waited")
        hard = [kind for kind in kinds if kind not in fine]
        parts = [*hard, *names, *(f"'{rule}' is false" for rule in broken)]
        if alone and not parts:
            return "fails in some order"
        return ", ".join(parts) or ("waits" if "waited" in kinds else "clean")


def rows_of(found: Sweep) -> list[Row]:
    """The cases that are told alike together, the bad first."""
    groups: dict[tuple[object, ...], list[CaseResult]] = {}
    together = [case.members for case in found.cases]
    for case in sorted(found.ordered(), key=lambda one: together.index(one.members)):
        names = tuple(member.name for member in case.members)
        groups.setdefault((names, case.words, case.bad, case.ran), []).append(case)
    return [
        Row(cases[0].words, tuple(member.name for member in cases[0].members), tuple(cases))
        for cases in groups.values()
    ]


def answer(found: Sweep) -> str:
    """One sentence."""
    if found.faults:
        return "The check failed: two assignments that were taken for the same differ."
    bad = found.bad
    if not bad:
        if found.proven:
            return f"Nothing is wrong, for all values{_under(found)}."
        return f"Nothing was found, {how_far(found)}."
    kinds = dict.fromkeys(
        word for case in bad for word in (*_hard(case), *case.anomalies, *case.broken)
    )
    distinct = counted(sum(case.ran for case in found.cases), "distinct case")
    what = "bring" if len(bad) > 1 else "brings"
    return f"{len(bad)} of {distinct} {what} {listed(list(kinds))}."


def _hard(case: CaseResult) -> list[str]:
    return [kind for kind in case.outcomes if kind not in ("clean", "waited")]


def _under(found: Sweep) -> str:
    return f" (lists of up to {found.longest}; see docs/exploring.md)"


def how_far(found: Sweep) -> str:
    """What stands in the way of *for all values*."""
    if found.stopped:
        return "but not every case was run"
    if found.sampled:
        return "in a sample of the assignments"
    return "but not every schedule of every case was run"


def print_sweep(
    console: Console, found: Sweep, *, brief: bool = False, verbose: bool = False
) -> None:
    """The answer, the table, the first bad cases, what it rests on."""
    say(console, answer(found), style=STYLES["good" if found else "bad"])
    for fault in found.faults:
        line = f"  {fault.words}: {fault.found}; expected {fault.expected}; please report this"
        say(console, line, style=STYLES["bad"])
    if brief:
        return
    rows = rows_of(found)
    say(console)
    _print_rows(console, rows if verbose else rows[:MOST_ROWS])
    if len(rows) > MOST_ROWS and not verbose:
        say(console, f"… {len(rows) - MOST_ROWS} rows more: --verbose", style=STYLES["faint"])
    worst = [(n, row) for n, row in enumerate(rows, 1) if row.first.bad][:MOST_TOLD]
    for number, row in worst:
        say(console)
        say(console, f"{number}. {row.words}", style=STYLES["strong"])
        say(console, f"   values: {values_line(row.first.case.values)}")
        if row.first.shortest:
            say(console, f"   shortest schedule: {' '.join(row.first.shortest)}")
    say(console)
    for line in _rests_on(found):
        say(console, line, style=STYLES["faint"])


def _print_rows(console: Console, rows: Sequence[Row]) -> None:
    """A table for each set of transactions, the cases counted through."""
    for place, members in enumerate(dict.fromkeys(row.members for row in rows)):
        if place:
            say(console)
        say(console, " + ".join(members), style=STYLES["strong"])
        table = Table(box=None, pad_edge=False, show_edge=False, header_style=STYLES["faint"])
        table.add_column("", justify="right")
        for name in ("coincide", "comes to"):
            table.add_column(name, overflow="fold")
        for name in ("schedules", "stands for"):
            table.add_column(name, justify="right")
        for number, row in enumerate(rows, 1):
            if row.members == members:
                _add(table, number, row)
        console.print(table)


def _add(table: Table, number: int, row: Row) -> None:
    schedules = sum(case.schedules for case in row.cases)
    style = STYLES["bad"] if row.first.bad else STYLES["faint"] if not row.first.ran else None
    table.add_row(
        str(number),
        row.words,
        row.said,
        f"{schedules:,}" if schedules else "–",
        f"{sum(case.case.equal for case in row.cases):,}",
        style=style,
    )


def _rests_on(found: Sweep) -> list[str]:
    lines = [
        f"{counted(found.assignments, 'assignment')} of values: {found.run:,} distinct run,"
        f" {max(0, found.equal):,} the same but for names, {found.pruned:,} in which no statements"
        f" meet; {found.audited:,} of those run as a check. {duration(found.ran_ms)}."
    ]
    for names in found.kinds.values():
        if len(names) > 1:
            whole = listed(list(names))
            lines.append(f"{whole[0].upper()}{whole[1:]} are one kind: they differ in values only.")
    lines += [
        f"{parameter} of {name} keeps the value it has: {why}."
        for (name, parameter), why in found.given.items()
    ]
    lines += [f"{note[0].upper()}{note[1:]}." for note in found.notes]
    lines.append(
        "Not covered: arithmetic on values, other contents of rows, lists that are longer"
        f" than {found.longest}."
    )
    return lines
