"""An exploration in the terminal: outcomes, the shortest schedule to each, cycles, who meets whom,
what is proven.
"""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Sequence

from rich.console import Console
from rich.text import Text

from catenum.core.space.claims import Claim, claims, describe_outcome
from catenum.core.space.exploration import Exploration, how_far, letter_of
from catenum.core.space.tally import OutcomeEntry
from catenum.core.text import counted, duration, shortened
from catenum.render.console import STYLES, say

#: Outcomes listed in full; of more, the number is shown.
MOST_LISTED = 20


def print_exploration(
    console: Console, found: Exploration, *, verbose: bool = False, answer: str = ""
) -> None:
    """The whole of it: the answer in a sentence, the outcomes, and what they rest on."""
    info = found.target
    stand_in = " (a stand-in, not a real server)" if info.standin else ""
    say(
        console,
        f"{found.scenario} on {info.server} {info.version}{stand_in}, {_levels(found)}",
        style=STYLES["strong"],
    )
    if answer:
        _wrapped(console, answer, style="bad" if found.tally.bad else "good")
    _wrapped(console, f"{how_far(found)}; {duration(found.ran_ms)}", style="faint")
    say(console)
    _print_outcomes(console, found, verbose=verbose)
    _print_evidence(console, found)
    _print_cycles(console, found)
    _print_meetings(console, found)
    if found.tally.chain:
        path = " ".join(found.tally.longest or ())
        say(console, f"Longest chain of waits: {found.tally.chain}", style=STYLES["strong"])
        say(console, f"    {path}", style=STYLES["faint"])
        say(console)
    for claim in claims(found):
        tone, sign = {True: ("good", "✓ "), False: ("bad", "✗ "), None: ("plain", "· ")}[claim.good]
        basis = (
            f" ({_basis(claim, every=found.reach.every)})" if claim.good and claim.proven else ""
        )
        _wrapped(
            console,
            f"{sign}{claim.text[0].upper()}{claim.text[1:]}.{basis}",
            style=tone,
            indent="  ",
        )
    for line in _notes(found):
        _wrapped(console, f"· {line}", style="faint", indent="  ")


def _basis(claim: Claim, *, every: bool) -> str:
    """What a proof rests on."""
    swaps = f", {counted(claim.swaps, 'swap')} checked" if claim.swaps else ""
    return counted(claim.runs, "order" if every else "class") + " run" + swaps


def _levels(found: Exploration) -> str:
    levels = set(found.levels.values())
    if len(levels) == 1:
        return levels.pop()
    return ", ".join(f"{name} {level}" for name, level in found.levels.items())


def _wrapped(console: Console, text: str, *, style: str = "plain", indent: str = "") -> None:
    for line in textwrap.wrap(text, console.width - 1, subsequent_indent=indent):
        say(console, line, style=STYLES[style])


def data_word(entry: OutcomeEntry) -> str:
    """The verdict on the data: the anomaly's name where there is one."""
    return entry.anomaly or entry.data


def _print_outcomes(console: Console, found: Exploration, *, verbose: bool) -> None:
    entries = found.outcomes
    listed = entries if verbose else entries[:MOST_LISTED]
    total = max(1, found.tally.schedules)
    rows = [
        (
            letter_of(n),
            entry.kind,
            data_word(entry),
            f"{entry.count:,}",
            f"{entry.count / total:.0%}",
            entry,
        )
        for n, entry in enumerate(listed)
    ]
    head = ("", "outcome", "data", "runs", "share")
    widths = [
        max(len(head[i]), *(len(str(row[i])) for row in rows)) if rows else len(head[i])
        for i in range(5)
    ]
    line = "  ".join(
        title.ljust(width) if i < 3 else title.rjust(width)
        for i, (title, width) in enumerate(zip(head, widths, strict=True))
    )
    say(console, line.rstrip() + "  shortest schedule", style=STYLES["faint"])
    left = sum(widths) + 2 * 5
    for *cells, entry in rows:
        text = Text()
        text.append(str(cells[0]).ljust(widths[0]), style=STYLES["strong"])
        text.append(
            "  " + str(cells[1]).ljust(widths[1]), style=STYLES["bad" if entry.bad else "plain"]
        )
        text.append(
            "  " + str(cells[2]).ljust(widths[2]),
            style=STYLES["bad" if entry.data == "anomaly" else "plain"],
        )
        text.append("  " + str(cells[3]).rjust(widths[3]) + "  " + str(cells[4]).rjust(widths[4]))
        path = textwrap.wrap(" ".join(entry.shortest or ()), max(30, console.width - left - 1))
        text.append("  " + (path[0] if path else ""))
        say(console, text)
        for part in path[1:]:
            say(console, " " * left + part)
        reported = describe_outcome(entry)
        for part in textwrap.wrap(reported, max(30, console.width - left - 1)):
            say(console, " " * left + part, style=STYLES["faint"])
    if len(listed) < len(entries):
        say(
            console,
            f"… and {len(entries) - len(listed)} more outcomes (--verbose lists all)",
            style=STYLES["faint"],
        )
    say(console)


def _print_evidence(console: Console, found: Exploration) -> None:
    reported: set[str] = set()
    for number, entry in enumerate(found.outcomes):
        if entry.anomaly is None or entry.anomaly in reported:
            continue
        reported.add(entry.anomaly)
        title = f"{entry.anomaly[0].upper()}{entry.anomaly[1:]} (outcome {letter_of(number)})"
        say(console, title, style=STYLES["strong"])
        for text in entry.evidence:
            _wrapped(console, f"    · {text}", indent="      ")
        say(console)


def _print_cycles(console: Console, found: Exploration) -> None:
    for cycle in found.tally.most_met_cycles():
        fell = ", ".join(f"{name} {count}×" for name, count in sorted(cycle.victims.items()))
        say(
            console,
            f"Deadlock in {counted(cycle.count, 'schedule')} (victims: {fell})",
            style=STYLES["strong"],
        )
        if cycle.unended:
            often = (
                "in all of them"
                if cycle.unended == cycle.count
                else f"in {cycle.unended:,} of them"
            )
            say(
                console,
                f"    the server did not end it {often}, and Catenum ended it",
                style=STYLES["bad"],
            )
        for place, (name, statement) in enumerate(cycle.members):
            others = cycle.members[place + 1 :] or cycle.members[:place]
            following = others[0][0] if others else "a session that was not seen"
            room = console.width - 12 - len(name) - len(following) - len(cycle.resources[place])
            sql = shortened(_sql(found, name, statement), max(24, room))
            say(
                console,
                f"    {name} {statement or 'end'} waits for {following} over"
                f" {cycle.resources[place]}",
            )
            say(console, f"        {sql}", style=STYLES["faint"])
        say(console, f"    first with: {' '.join(cycle.shortest or ())}", style=STYLES["faint"])
        say(console)


def _sql(found: Exploration, name: str, statement: int | None) -> str:
    texts = found.statements.get(name, ())
    return (
        texts[statement - 1] if statement and statement <= len(texts) else found.ends.get(name, "")
    )


def _print_meetings(console: Console, found: Exploration) -> None:
    wait_pairs = list(found.tally.wait_pairs.values())
    if not wait_pairs:
        return
    say(
        console,
        "Who waits for whom, in how many schedules (left waits for above)",
        style=STYLES["strong"],
    )
    rows = sorted({(m.waiter, m.statement or 0) for m in wait_pairs})
    columns = sorted({(m.holder, m.holder_numbers) for m in wait_pairs})
    counts: dict[tuple[tuple[str, int], tuple[str, str]], int] = {}
    for m in wait_pairs:
        key = ((m.waiter, m.statement or 0), (m.holder, m.holder_numbers))
        counts[key] = counts.get(key, 0) + m.count
    heads = [_step(column) for column in columns]
    left = max(len(_step(row)) for row in rows)
    widths = [max(len(h), 4) for h in heads]
    if left + 4 + sum(width + 2 for width in widths) > console.width:
        for m in sorted(wait_pairs, key=lambda m: -m.count):
            holder = _step((m.holder, m.holder_numbers))
            say(
                console,
                f"    {_step((m.waiter, m.statement or 0))} waits for {holder}: {m.count:,} "
                f" ({m.resource})",
            )
        say(console)
        return
    say(
        console,
        " " * (4 + left) + "".join("  " + h.rjust(w) for h, w in zip(heads, widths, strict=True)),
        style=STYLES["faint"],
    )
    for row in rows:
        cells = [counts.get((row, column), 0) for column in columns]
        text = Text("    " + _step(row).ljust(left), style=STYLES["faint"])
        for count, width in zip(cells, widths, strict=True):
            text.append("  " + (f"{count:,}" if count else "·").rjust(width), style="none")
        say(console, text)
    say(console)


def _step(pair: tuple[str, int | str]) -> str:
    return f"{pair[0]} {pair[1]}" if pair[1] else f"{pair[0]} …"


def _notes(found: Exploration) -> Iterator[str]:
    yield from found.notes
    for name, why in found.ignored.items():
        yield f"left out of comparisons: {name} ({why})"


#: The columns of a level's row, and those that tell of trouble wherever they are not empty.
LEVEL_HEAD = (
    *("level", "runs", "deadlock", "refused", "timeout", "error", "waits", "anomaly", "rules"),
    "shortest bad schedule",
)
TROUBLE = ("deadlock", "refused", "timeout", "error")


def print_levels(console: Console, found: Sequence[Exploration], note: str = "") -> None:
    """Outcome by isolation level: what each level of the server makes of the scenario."""
    info = found[0].target
    title = f"{found[0].scenario} on {info.server} {info.version}, at each isolation level"
    say(console, title, style=STYLES["strong"])
    say(console)
    _print_level_rows(console, found)
    say(console)
    for one in found:
        evidence = {entry.anomaly: entry.evidence for entry in reversed(one.outcomes)}
        for anomaly in dict.fromkeys(entry.anomaly for entry in one.outcomes if entry.anomaly):
            text = f"{_levels(one)}: {anomaly}: {'; '.join(evidence[anomaly])}"
            _wrapped(console, text, indent="    ")
        if not one.reach.complete:
            _wrapped(console, f"{_levels(one)}: {how_far(one)}", style="faint", indent="    ")
    serial = [claim.text for one in found for claim in claims(one) if claim.by_serial_order]
    for text in dict.fromkeys(serial):
        _wrapped(console, f"· {text}", indent="  ")
    notes = [line for one in found for line in _notes(one)]
    for line in dict.fromkeys((*notes, note) if note else notes):
        _wrapped(console, f"· {line}", style="faint", indent="  ")


def _print_level_rows(console: Console, found: Sequence[Exploration]) -> None:
    rows = [_level_row(one) for one in found]
    widths = [max(map(len, column)) for column in zip(LEVEL_HEAD, *rows, strict=True)]
    widths[-1] = 0
    head = "  ".join(h.ljust(w) for h, w in zip(LEVEL_HEAD, widths, strict=True)).rstrip()
    say(console, head, style=STYLES["faint"])
    for one, row in zip(found, rows, strict=True):
        text = Text()
        for column, cell, width in zip(LEVEL_HEAD, row, widths, strict=True):
            troubled = (
                (column in TROUBLE and cell != "–")
                or (column == "anomaly" and cell != "none")
                or (column == "rules" and bool(one.tally.broken_rules))
            )
            style = "bad" if troubled else "strong" if column == "level" else "plain"
            text.append(cell.ljust(width) + "  ", style=STYLES[style])
        text.rstrip()
        say(console, text)


def _level_row(one: Exploration) -> tuple[str, ...]:
    tally = one.tally
    worst = next((entry for entry in one.outcomes if entry.bad), None)
    names = sorted({entry.anomaly for entry in one.outcomes if entry.anomaly})
    broken = sum(tally.broken_rules.values())
    return (
        _levels(one),
        f"{tally.schedules:,}",
        str(tally.met("deadlock") or "–"),
        str(tally.met("refused") or "–"),
        str(tally.met("timeout") or "–"),
        str(tally.count_of("error") or "–"),
        str(tally.count_of("waited") or "–"),
        f"{', '.join(names)} {tally.anomalies}" if names else "none",
        f"false in {broken}" if broken else "kept" if worst is None or worst.holds else "–",
        " ".join(worst.shortest or ()) if worst else "",
    )
