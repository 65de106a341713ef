"""What a build may expect of an exploration: ``no deadlock, no anomaly``."""

from __future__ import annotations

from dataclasses import dataclass
from difflib import get_close_matches
from typing import get_args

from catenum.core.errors import InputError
from catenum.core.record.outcome import KINDS
from catenum.core.space import anomaly
from catenum.core.space.tally import Tally

ANOMALIES = tuple(get_args(anomaly.Name))
WORDS = (*KINDS, "anomaly", "conflict", "broken rule", *ANOMALIES)


@dataclass(frozen=True, slots=True)
class Term:
    """One thing expected: that some schedule ends in ``word``, or that none does."""

    word: str
    none: bool

    def __str__(self) -> str:
        return f"no {self.word}" if self.none else self.word


def parse_expectation(text: str) -> list[Term]:
    """The terms of an expectation. Raises InputError for an unknown word."""
    terms = []
    for part in text.split(","):
        word = " ".join(part.split()).lower()
        none = word.startswith("no ")
        word = word.removeprefix("no ")
        if word not in WORDS:
            near = get_close_matches(word, WORDS, n=1)
            hint = f"Did you mean {near[0]!r}?" if near else f"Known are: {', '.join(WORDS)}."
            raise InputError(f"--expect: {word!r} is not an outcome of a schedule", advice=hint)
        terms.append(Term(word, none))
    return terms


def count_of(word: str, tally: Tally) -> int:
    """In how many schedules ``word`` happened."""
    return sum(
        entry.count
        for entry in tally.outcomes.values()
        if entry.met(word)
        or (word == "anomaly" and entry.data == "anomaly")
        or word == entry.anomaly
        or (word == "conflict" and KINDS.index(entry.kind) > KINDS.index("waited"))
        or (word == "broken rule" and any(value is not True for value in entry.holds.values()))
    )


def unmet(terms: list[Term], tally: Tally) -> list[str]:
    """What did not come out as expected, in words."""
    told = []
    for term in terms:
        count = count_of(term.word, tally)
        unchecked = sum(e.count for e in tally.outcomes.values() if e.data == "unchecked")
        if term.none and unchecked and (term.word == "anomaly" or term.word in ANOMALIES):
            told.append(f"the data of {unchecked} of {tally.schedules} schedules could not be checked")
        if term.none and count:
            told.append(f"{term.word} in {count} of {tally.schedules} schedules")
        if not term.none and not count:
            told.append(f"{term.word} in none of {tally.schedules} schedules")
    return told
