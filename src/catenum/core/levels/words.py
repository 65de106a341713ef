"""The words of a matrix of isolation levels, and of the levels that a scenario needs."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from catenum.core.levels.matrix import CHANGES, Cell, CellResult, Matrix, Outline
from catenum.core.levels.need import LevelsTried, Need
from catenum.core.levels.probes import ProbeName, probe_of
from catenum.core.report.lines import Line, Section
from catenum.core.text import counted, listed

#: What each result means, in the order in which a legend has them.
RESULTS: dict[CellResult, str] = {
    "happens": "some schedule shows it",
    "waits": "prevented: one transaction waits for the other",
    "snapshot": "prevented: a snapshot keeps the other's changes out of sight",
    "refused": "prevented: one transaction is refused (serialization failure)",
    "deadlock": "prevented: some schedules end in a deadlock",
}


def matrix_sections(matrix: Matrix) -> list[Section]:
    """What stands below a matrix."""
    sections = [
        Section("The same in practice", tuple(_same(matrix)), "same"),
        Section(
            "Against the standard (ISO/IEC 9075-2; Berenson et al. 1995, table 4)",
            tuple(_against_standard(matrix)),
            "standard",
        ),
        Section("Who is given up, and when", tuple(_given_up(matrix)), "given-up"),
        Section("With the transaction that only reads changed", tuple(_changed(matrix)), "changed"),
        Section("What else was seen", tuple(_also(matrix)), "also"),
        Section("Not proven", tuple(_unproven(matrix)), "unproven"),
    ]
    return [section for section in sections if section.lines]


def _same(matrix: Matrix) -> Iterator[Line]:
    for levels in matrix.same_levels:
        yield Line(f"{listed(list(levels))}: the same result in every probe")
    if not matrix.same_levels and len(matrix.levels) > 1:
        yield Line("no two levels: each pair differs in some probe")


def _against_standard(matrix: Matrix) -> Iterator[Line]:
    for level in matrix.levels:
        said, others = _apart(matrix.weaker, level)
        parts = [f"{listed(said)} can happen"] if said else []
        if others:
            parts.append(f"{listed(others)} can happen, which locks held to the end would prevent")
        if parts:
            yield Line(f"weaker at {level}: {'; '.join(parts)}", "bad")
    if not matrix.weaker:
        yield Line("weaker: at no level", "good")
    for level in matrix.levels:
        said, others = _apart(matrix.stricter, level)
        parts = [f"{listed(said)} cannot happen"] if said else []
        if others:
            parts.append(f"{listed(others)} cannot happen, which the locks of this level would let")
        if parts:
            yield Line(f"stricter at {level}: {'; '.join(parts)}")


def _apart(cells: Sequence[Cell], level: str) -> tuple[list[str], list[str]]:
    """The probes at a level: those that the standard names, and the others."""
    probes = [probe_of(cell.probe) for cell in cells if cell.level == level]
    said = [str(probe.name) for probe in probes if probe.named_by_standard]
    return said, [str(probe.name) for probe in probes if not probe.named_by_standard]


def _given_up(matrix: Matrix) -> Iterator[Line]:
    """Who is refused or the victim: one line for the levels that do the same."""
    levels: dict[tuple[str, str], list[str]] = {}
    for cell in matrix.cells:
        if cell.who is None:
            continue
        where = "its end" if cell.statement is None else f"its statement {cell.statement}"
        word = "is refused" if cell.result == "refused" else "is the victim"
        text = f"{cell.who} {word} at {where} (order: {' '.join(cell.evidence)})"
        levels.setdefault((cell.probe, text), []).append(cell.level)
    for (probe, text), those in levels.items():
        yield Line(f"{probe} at {listed(those)}: {text}")


def _changed(matrix: Matrix) -> Iterator[Line]:
    for change in CHANGES:
        orders = [one for one in matrix.changed if one.change == change]
        differing = [one for one in orders if one.after != one.before]
        for one in differing:
            yield Line(
                f"{change}, {one.probe} at {one.level}: {_outline(one.after)}; without it"
                f" {_outline(one.before)} (order: {' '.join(one.order)})"
            )
        if orders and not differing:
            tried = listed([f"{one.probe} at {one.level}" for one in orders])
            yield Line(f"{change}: nothing changes in the textbook's order of {tried}")


def _is(names: Sequence[str]) -> str:
    return "is" if len(names) == 1 else "are"


def _outline(one: Outline) -> str:
    parts = []
    if one.given_up:
        verb = "refused" if one.kind == "refused" else "given up"
        parts.append(f"{listed(list(one.given_up))} {_is(one.given_up)} {verb}")
    if one.waited:
        parts.append(f"{listed(list(one.waited))} {'waits' if len(one.waited) == 1 else 'wait'}")
    return " and ".join(parts) or "nobody waits or is refused"


def _also(matrix: Matrix) -> Iterator[Line]:
    levels: dict[tuple[str, str], list[str]] = {}
    for cell in matrix.cells:
        for name in cell.also:
            levels.setdefault((cell.probe, name), []).append(cell.level)
    for (probe, name), those in levels.items():
        yield Line(f"{probe} at {listed(those)}: {name}", "faint")


def _unproven(matrix: Matrix) -> Iterator[Line]:
    for cell in matrix.cells:
        if not cell.proven:
            yield Line(
                f"{cell.level}, {cell.probe}: {cell.result} in {cell.schedules:,} schedules; the"
                " server decided by itself how some of them went on",
                "bad",
            )


def differences(
    matrices: Sequence[Matrix],
) -> list[tuple[ProbeName, str, tuple[CellResult | None, ...]]]:
    """Probes and levels at which the servers differ, with the result of each."""
    levels = dict.fromkeys(level for matrix in matrices for level in matrix.levels)
    found = []
    for probe in dict.fromkeys(probe.name for matrix in matrices for probe in matrix.probes):
        for level in levels:
            cells = [matrix.cell(probe, level) for matrix in matrices]
            results = tuple(cell.result if cell is not None else None for cell in cells)
            if len(set(results)) > 1:
                found.append((probe, level, results))
    return found


# -- what a scenario needs -------------------------------------------------------------------------


def need_sections(need: Need) -> list[Section]:
    """The answer, what it costs, and what else was tried."""
    sections = [
        Section("The least strict level for all", tuple(_uniform(need)), "uniform"),
        Section("For each transaction by itself", tuple(_each(need)), "each"),
        Section("What it costs", tuple(_cost_lines(need)), "costs"),
        Section("Why no level is enough", tuple(Line(t, "bad") for t in need.why_not), "why"),
        Section("Notes", tuple(Line(note, "faint") for note in need.notes), "notes"),
    ]
    return [section for section in sections if section.lines]


def _uniform(need: Need) -> Iterator[Line]:
    if need.uniform is None:
        yield Line("none: at every level some schedule is wrong, or not all were run", "bad")
        return
    chosen = next(one for one in need.levels if set(one.levels.values()) == {need.uniform})
    default = " (the server's default)" if need.uniform == need.default_level else ""
    yield Line(
        f"{need.uniform}{default}: proven, every schedule gives data of a serial order"
        f"{' and every rule is true' if need.rules else ''}"
        f" ({counted(chosen.schedules, 'schedule')} run)",
        "good",
    )


def _each(need: Need) -> Iterator[Line]:
    if not need.found or need.assignment is None:
        if need.uniform is None:
            return
        yield Line("no assignment was proven", "bad")
        return
    for name, level in need.each.items():
        yield Line(f"{name}: {level}", "strong")
    if set(need.each.values()) == {need.uniform}:
        yield Line("no transaction can do with less", "faint")
    elif need.all_tried:
        yield Line("every assignment that is less strict in sum was tried, and is wrong", "faint")
    else:
        yield Line("no transaction can be at a lower level by itself", "faint")
    if "read uncommitted" in need.each.values() and need.uncommitted_differs:
        yield Line(
            "at read uncommitted a transaction sees what others may still roll back; here that is"
            " harmless only as long as they commit",
            "bad",
        )


_ENDS = {
    "timeout": "in a timeout",
    "stuck": "with a transaction still waiting",
    "error": "in an error",
}


def cost_of(one: LevelsTried, retries: int) -> str:
    """What levels cost, in a sentence."""
    whole = one.schedules
    parts = [
        f"{count:,} {word}"
        for count, word in (
            (one.refused, "with a refusal"),
            (one.deadlocks, "with a deadlock"),
            (one.waited, "with a wait and nothing else"),
        )
        if count
    ]
    parts += [f"{count:,} that end {_ENDS[kind]}" for kind, count in one.other_ends.items()]
    if not parts:
        return f"no wait, refusal or deadlock in {counted(whole, 'schedule')}"
    text = f"of {counted(whole, 'schedule')} {listed(parts)}"
    if one.retried is None:
        return text
    again = one.retried
    if not again.proven:
        ran = f"a sample of {counted(again.schedules, 'schedule')}"
    else:
        ran = f"all {counted(again.schedules, 'schedule')}"
    if again.ended_well == again.schedules:
        most = counted(again.attempts, "attempt")
        return f"{text}; with retries all transactions succeed in {ran} ({most} at most)"
    lost = again.schedules - again.ended_well
    most = "1 retry" if retries == 1 else f"{retries} retries"
    return f"{text}; with {most} a transaction still fails in {lost:,} of {ran}"


def _cost_lines(need: Need) -> Iterator[Line]:
    if need.uniform is not None:
        chosen = next(one for one in need.levels if set(one.levels.values()) == {need.uniform})
        yield Line(f"all at {need.uniform}: {cost_of(chosen, need.retries)}")
    mixed = need.assignment is not None and set(need.each.values()) != {need.uniform}
    if need.assignment is not None and mixed:
        yield Line(f"each at its own: {cost_of(need.assignment, need.retries)}")
