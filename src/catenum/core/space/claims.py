"""What an exploration allows to be said, in sentences: proven where every class was run, otherwise
only not seen.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Literal

from catenum.core.space.exploration import Exploration
from catenum.core.space.tally import OutcomeEntry
from catenum.core.text import counted, listed

Subject = Literal["deadlock", "data", "rule", "retry"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Claim:
    """One sentence. ``good``: whether it is what one hopes for; None where it only says what is not
    known.

    ``proven``: it holds for every schedule, since all classes were run. ``runs``: how many
    schedules it rests on. ``swaps``: how many exchanges of independent moves were checked for it.
    ``by_serial_order``: a rule is false even where the transactions ran one after another.
    ``apart``: values that were left out of the comparison.
    """

    about: Subject
    text: str
    good: bool | None
    proven: bool
    runs: int
    swaps: int = 0
    by_serial_order: bool = False
    apart: tuple[str, ...] = ()


def claims(exploration: Exploration) -> list[Claim]:
    """The sentences that matter: of deadlocks, of data, of rules, of retries."""
    return [
        *_deadlocks(exploration),
        *_data(exploration),
        *_rules(exploration),
        *_tries(exploration),
    ]


def _seen(
    exploration: Exploration, about: Subject, text: str, *, good: bool | None = False
) -> Claim:
    """The outcome of some schedules: seen, so it needs no proof that it can happen."""
    return Claim(about=about, text=text, good=good, proven=True, runs=exploration.tally.schedules)


def _never(exploration: Exploration, about: Subject, proven: str, unseen: str) -> Claim:
    """What was the outcome of no schedule: proven where all were run, otherwise not seen in so
    many.
    """
    runs = exploration.tally.schedules
    swaps = exploration.tally.swaps
    if exploration.reach.complete:
        return Claim(
            about=about, text=f"proven: {proven}", good=True, proven=True, runs=runs, swaps=swaps
        )
    why = "the others were not run"
    if exploration.reach.raced:
        why = "the server itself decided how some of them went on"
    text = f"{unseen} in {counted(runs, 'schedule')}; {why}, so this is not proven"
    return Claim(about=about, text=text, good=None, proven=False, runs=runs, swaps=swaps)


def _deadlocks(exploration: Exploration) -> Iterator[Claim]:
    tally = exploration.tally
    deadlocks = tally.met("deadlock")
    if tally.uncounted:
        text = (
            f"the server counted {counted(tally.uncounted, 'deadlock')} that no client received, so"
            " a routine catches them: nothing is said of deadlocks here"
        )
        yield Claim(about="deadlock", text=text, good=False, proven=False, runs=tally.schedules)
        return
    if not deadlocks and tally.may_hide:
        text = (
            "not proven: no deadlock was reported to a client, but a routine catches errors, and"
            " the server's own count could not be compared, since others are at work there"
        )
        yield Claim(about="deadlock", text=text, good=None, proven=False, runs=tally.schedules)
        return
    if not deadlocks:
        yield _never(
            exploration,
            "deadlock",
            "no schedule of these statements deadlocks",
            "no deadlock was seen",
        )
        return
    cycles = f", in {len(tally.cycles)} different cycles" if len(tally.cycles) > 1 else ""
    verb = "deadlocks" if deadlocks == 1 else "deadlock"
    yield _seen(exploration, "deadlock", f"{_how_often(deadlocks, tally.schedules)} {verb}{cycles}")


def _data(exploration: Exploration) -> Iterator[Claim]:
    tally = exploration.tally
    unchecked = sum(entry.count for entry in tally.outcomes.values() if entry.data == "unchecked")
    rows, reads = tally.anomalies_in("rows"), tally.anomalies_in("reads")
    if rows:
        count = sum(rows.values())
        verb = "leaves" if count == 1 else "leave"
        text = (
            f"{_how_often(count, tally.schedules)} {verb} rows that no serial order leaves:"
            f" {_named(rows)}"
        )
        yield _seen(exploration, "data", text)
    if reads:
        count = sum(reads.values())
        text = (
            f"in {_how_often(count, tally.schedules)} the rows at the end are right, but what was"
            f" read is not: {_named(reads)}"
        )
        yield _seen(exploration, "data", text)
    if not tally.anomalies and not unchecked:
        apart = tuple(exploration.ignored)
        but = f", apart from {listed(list(apart))}" if apart else ""
        proven = f"every schedule gives data that some serial order gives{but}"
        claim = _never(exploration, "data", proven, f"no wrong data was seen{but}")
        yield replace(claim, apart=apart)
    if unchecked:
        text = (
            f"not proven: the data of {_how_often(unchecked, tally.schedules)} could not be"
            " checked, since not every serial "
        )
        text += "order was run"
        yield Claim(about="data", text=text, good=None, proven=False, runs=tally.schedules)


def _rules(exploration: Exploration) -> Iterator[Claim]:
    tally = exploration.tally
    titles = dict.fromkeys(title for entry in tally.outcomes.values() for title in entry.holds)
    for title in titles:
        count = tally.broken_rules.get(title, 0)
        if not count:
            yield _never(
                exploration,
                "rule",
                f"the rule '{title}' is true after every schedule",
                f"the rule '{title}' was never false",
            )
            continue
        serial = tally.broken_serially.get(title)
        text = f"the rule '{title}' is false after {_how_often(count, tally.schedules)}"
        if serial is not None:
            text += (
                f"; it is also false where they run one after another ({', then '.join(serial)}),"
                " so no isolation level can keep the rule: the statements themselves break it"
            )
        yield Claim(
            about="rule",
            text=text,
            good=False,
            proven=True,
            runs=tally.schedules,
            by_serial_order=serial is not None,
        )


def _named(counts: dict[str, int]) -> str:
    return ", ".join(
        f"{name} in {count:,}"
        for name, count in sorted(counts.items(), key=lambda i: (-i[1], i[0]))
    )


def _tries(exploration: Exploration) -> Iterator[Claim]:
    tally = exploration.tally
    if not tally.attempts or max(tally.attempts.values()) <= 1:
        return
    most = ", ".join(f"{name} {n}" for name, n in tally.attempts.items() if n > 1)
    failed = tally.schedules - tally.ended_well
    text = (
        f"with retries, all transactions succeed in {_how_often(tally.ended_well, tally.schedules)}"
        f" (most attempts: {most})"
    )
    if failed:
        text += f"; in {failed:,} a transaction exhausted its retries"
    yield _seen(exploration, "retry", text, good=not failed)


def _how_often(count: int, whole: int) -> str:
    return f"{count:,} of {counted(whole, 'schedule')}"


_FAILED_BY = {
    "deadlock": "victim",
    "refused": "refused",
    "timeout": "timed out",
    "lost": "lost its session",
}


def describe_outcome(entry: OutcomeEntry) -> str:
    """Who failed by what, and which rules are false, in a few words."""
    parts = []
    for name, kinds in entry.failed_by.items():
        gone = entry.status.get(name) == "failed"
        word = _FAILED_BY.get(kinds[-1], "rejected")
        times = f" {len(kinds)}×" if len(kinds) > 1 else ""
        end = ", then rolled back" if entry.status.get(name) == "rolled back" else ", then done"
        parts.append(f"{name} {word}{times}" + ("" if gone else end))
    left = [name for name, status in entry.status.items() if status == "cut off"]
    if left:
        parts.append(f"{', '.join(left)} still wait{'s' if len(left) == 1 else ''}")
    if entry.kind == "timeout" and not any("timeout" in k for k in entry.failed_by.values()):
        parts.append("a timeout that a routine caught: its client received no error")
    if entry.hidden:
        parts.append("a deadlock that a routine caught: its client received no error")
    if entry.wrong == "reads":
        parts.append("the rows are right, what was read is not")
    if entry.only_chosen:
        parts.append("only when the server let the later of two waiters continue first")
    parts.extend(f"'{title}' false" for title, value in entry.holds.items() if value is not True)
    return "; ".join(parts)
