"""What is expected of all schedules, in one line: ``no deadlock, no anomaly``."""

from __future__ import annotations

from dataclasses import dataclass
from difflib import get_close_matches
from typing import get_args

from catenum.core.errors import InputError
from catenum.core.record.outcome import KINDS
from catenum.core.record.recording import AnomalyName

#: An expectation that stands for the scenario's own list of outcomes.
LISTED = "listed"
ANOMALIES = tuple(get_args(AnomalyName))
#: Where an anomaly shows: in the rows at the end, or only in what was read on the way.
WRONG = {"wrong rows": "rows", "wrong reads": "reads"}
WORDS = (*KINDS, "anomaly", *WRONG, "conflict", "broken rule", *ANOMALIES)
#: What an expectation says of the data.
DATA_WORDS = ("anomaly", *WRONG, *ANOMALIES)
#: What counts though no term names it, and the term by which it does not.
ALWAYS = {"broken rule": "any rules", "error": "any errors"}


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


def _said(free: str) -> tuple[str, str]:
    """``any rules``, also as ``rules: any``, which in YAML needs quotes."""
    every, what = free.split()
    return free, f"{what}: {every}"


def known_word(word: str, said: str = "--expect") -> str:
    """A word of ``WORDS``. Raises InputError for another."""
    if word not in WORDS:
        near = get_close_matches(word, WORDS, n=1)
        known = ", ".join((*WORDS, *ALWAYS.values()))
        hint = f"Did you mean {near[0]!r}?" if near else f"Known are: {known}."
        raise InputError(f"{said}: {word!r} is not an outcome of a schedule", advice=hint)
    return word


def parse_expectation(text: str, said: str = "--expect") -> list[Term]:
    """The terms of an expectation; errors name what ``said`` it. Raises InputError for an unknown
    word.

    That no rule is false and no statement is rejected is expected in any case, unless a term says
    something of it.
    """
    terms = []
    for part in text.split(","):
        word = " ".join(part.split()).lower()
        always = next((what for what, free in ALWAYS.items() if word in _said(free)), None)
        if always is not None:
            terms.append(Term(always, none=False, any=True))
            continue
        none = word.startswith("no ")
        terms.append(Term(known_word(word.removeprefix("no "), said), none))
    named = {term.word for term in terms}
    terms += [Term(word, none=True) for word in ALWAYS if word not in named]
    return terms
