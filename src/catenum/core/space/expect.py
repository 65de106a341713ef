"""Whether the schedules of an exploration are as expected."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from catenum.core.record.outcome import KINDS
from catenum.core.scenario.model import ExpectedOutcome
from catenum.core.scenario.terms import DATA_WORDS, WRONG, Term
from catenum.core.space.tally import OutcomeEntry, Tally
from catenum.core.text import listed


@dataclass(frozen=True, slots=True)
class Answer:
    """Whether what is expected of an exploration is so; it stands for true or false.

    ``unmet``: what is not so; ``unproven``: why what was not seen may happen all the same;
    ``apart``: columns that no comparison covers, where something is said of the data. ``sample``:
    whether it is enough that nothing else was seen.
    """

    expected: str
    unmet: tuple[str, ...] = ()
    unproven: tuple[str, ...] = ()
    apart: tuple[str, ...] = ()
    sample: bool = False

    def __bool__(self) -> bool:
        return not self.unmet and (self.sample or not self.unproven)

    def __repr__(self) -> str:
        if self.unmet:
            return f"<not so: {'; '.join(self.unmet)}>"
        apart = f", apart from {listed(list(self.apart))}" if self.apart else ""
        if self.unproven:
            return f"<not proven: {self.expected}{apart}: {'; '.join(self.unproven)}>"
        return f"<so: {self.expected}{apart}>"


def count_of(word: str, tally: Tally) -> int:
    """In how many schedules ``word`` happened."""
    return sum(entry.count for entry in _entries(word, tally))


def _entries(word: str, tally: Tally) -> Iterator[OutcomeEntry]:
    """The outcomes in which ``word`` happened."""
    return (
        entry
        for entry in tally.outcomes.values()
        if (entry.ends_in_error if word == "error" else entry.met(word))
        or (word == "anomaly" and entry.data == "anomaly")
        or word == entry.anomaly
        or (word in WRONG and WRONG[word] == entry.wrong)
        or (word == "conflict" and KINDS.index(entry.kind) > KINDS.index("waited"))
        or (word == "broken rule" and any(value is not True for value in entry.holds.values()))
    )


def shortest(word: str, tally: Tally) -> tuple[str, ...]:
    """The shortest schedule in which ``word`` happened, as an order to play."""
    orders = [entry.shortest for entry in _entries(word, tally) if entry.shortest]
    return min(orders, key=lambda order: (len(order), order), default=())


def other_outcomes(
    expected: Sequence[ExpectedOutcome], tally: Tally
) -> list[tuple[int | None, str]]:
    """Outcomes that were expected and not found, each with its number (from 0), and those that were
    found and not expected.
    """
    entries = list(tally.outcomes.values())
    missing: list[tuple[int | None, str]] = [
        (number, f"{one}: in none of {tally.schedules:,} schedules")
        for number, one in enumerate(expected)
        if not any(is_met_by(one, entry) for entry in entries)
    ]
    unexpected: list[tuple[int | None, str]] = [
        (
            None,
            f"{entry.kind}, data {entry.anomaly or entry.data}{_victims(entry)}: not expected, and"
            f" in {entry.count:,} of {tally.schedules:,} schedules"
            f" ({' '.join(entry.shortest or ())})",
        )
        for entry in entries
        if not any(is_met_by(one, entry) for one in expected)
    ]
    return missing + unexpected


def _victims(entry: OutcomeEntry) -> str:
    names = sorted(name for name, kinds in entry.failed_by.items() if "deadlock" in kinds)
    return f", victim {', '.join(names)}" if names else ""


def is_met_by(expected: ExpectedOutcome, entry: OutcomeEntry) -> bool:
    """Whether an outcome is the expected one."""
    victim = expected.victim is None or "deadlock" in entry.failed_by.get(expected.victim, ())
    data = expected.data in (None, entry.data, entry.anomaly)
    return expected.outcome == entry.kind and victim and data


def unmet(terms: Sequence[Term], tally: Tally) -> list[str]:
    """What did not come out as expected, in words."""
    reported = []
    for term in terms:
        if term.any:
            continue
        count = count_of(term.word, tally)
        if term.none and tally.uncounted and term.word in ("deadlock", "conflict"):
            reported.append(
                f"the server counted {tally.uncounted} deadlocks that no client received"
            )
        unchecked = sum(e.count for e in tally.outcomes.values() if e.data == "unchecked")
        if term.none and unchecked and term.word in DATA_WORDS:
            reported.append(
                f"the data of {unchecked} of {tally.schedules} schedules could not be checked"
            )
        if term.none and count:
            such = " ".join(shortest(term.word, tally))
            example = f", such as {such}" if such else ""
            names = dict.fromkeys(entry.anomaly for entry in _entries(term.word, tally))
            named = ", ".join(name for name in names if name and name != term.word)
            word = f"{term.word} ({named})" if named and term.word in DATA_WORDS else term.word
            reported.append(f"{word} in {count} of {tally.schedules} schedules{example}")
        if not term.none and not count:
            reported.append(f"{term.word} in none of {tally.schedules} schedules")
    return reported
