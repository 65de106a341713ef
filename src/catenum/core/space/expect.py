"""What a build may expect of an exploration: ``no deadlock, no anomaly``."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from typing import get_args

from catenum.core.errors import InputError
from catenum.core.record.outcome import KINDS
from catenum.core.scenario.model import ExpectedOutcome
from catenum.core.space import anomaly
from catenum.core.space.tally import OutcomeEntry, Tally

ANOMALIES = tuple(get_args(anomaly.Name))
#: Where an anomaly shows: in the rows at the end, or only in what was read on the way.
WRONG = {"wrong rows": "rows", "wrong reads": "reads"}
WORDS = (*KINDS, "anomaly", *WRONG, "conflict", "broken rule", *ANOMALIES)
#: What an expectation says of the data.
DATA_WORDS = ("anomaly", *WRONG, *ANOMALIES)
#: What counts though no term names it, and the term by which it does not.
ALWAYS = {"broken rule": "rules: any", "error": "errors: any"}


@dataclass(frozen=True, slots=True)
class Term:
    """One thing expected: that some schedule ends in ``word``, or that none does, or (``any``)
    either.
    """

    word: str
    none: bool
    any: bool = False

    def __str__(self) -> str:
        return f"no {self.word}" if self.none else self.word


def parse_expectation(text: str) -> list[Term]:
    """The terms of an expectation. Raises InputError for an unknown word.

    That no rule is false and no statement is rejected is expected in any case, unless a term says
    something of it.
    """
    terms = []
    for part in text.split(","):
        word = " ".join(part.split()).lower()
        free = next((what for what, said in ALWAYS.items() if word == said), None)
        if free is not None:
            terms.append(Term(free, none=False, any=True))
            continue
        none = word.startswith("no ")
        word = word.removeprefix("no ")
        if word not in WORDS:
            near = get_close_matches(word, WORDS, n=1)
            known = ", ".join((*WORDS, *ALWAYS.values()))
            hint = f"Did you mean {near[0]!r}?" if near else f"Known are: {known}."
            raise InputError(f"--expect: {word!r} is not an outcome of a schedule", advice=hint)
        terms.append(Term(word, none))
    said = {term.word for term in terms}
    terms += [Term(word, none=True) for word in ALWAYS if word not in said]
    return terms


def count_of(word: str, tally: Tally) -> int:
    """In how many schedules ``word`` happened."""
    return sum(
        entry.count
        for entry in tally.outcomes.values()
        if (entry.ends_in_error if word == "error" else entry.met(word))
        or (word == "anomaly" and entry.data == "anomaly")
        or word == entry.anomaly
        or (word in WRONG and WRONG[word] == entry.wrong)
        or (word == "conflict" and KINDS.index(entry.kind) > KINDS.index("waited"))
        or (word == "broken rule" and any(value is not True for value in entry.holds.values()))
    )


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
        if not any(_is(one, entry) for entry in entries)
    ]
    unexpected: list[tuple[int | None, str]] = [
        (
            None,
            f"{entry.kind}, data {entry.anomaly or entry.data}{_victims(entry)}: not expected, and"
            f" in {entry.count:,} of {tally.schedules:,} schedules"
            f" ({' '.join(entry.shortest or ())})",
        )
        for entry in entries
        if not any(_is(one, entry) for one in expected)
    ]
    return missing + unexpected


def _victims(entry: OutcomeEntry) -> str:
    names = sorted(name for name, kinds in entry.failed_by.items() if "deadlock" in kinds)
    return f", victim {', '.join(names)}" if names else ""


def _is(expected: ExpectedOutcome, entry: OutcomeEntry) -> bool:
    victim = expected.victim is None or "deadlock" in entry.failed_by.get(expected.victim, ())
    data = expected.data in (None, entry.data, entry.anomaly)
    return expected.outcome == entry.kind and victim and data


def unmet(terms: list[Term], tally: Tally) -> list[str]:
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
            reported.append(f"{term.word} in {count} of {tally.schedules} schedules")
        if not term.none and not count:
            reported.append(f"{term.word} in none of {tally.schedules} schedules")
    return reported
