"""Whether one run, or loops, are as a line of terms expects: the same words as of explorations."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from catenum.core.compare.churn_result import ChurnResult
from catenum.core.errors import InputError
from catenum.core.record.outcome import KINDS
from catenum.core.record.recording import Recording
from catenum.core.scenario.terms import DATA_WORDS, Term

#: What loops count, by the word of an expectation.
_OF_LOOPS = {
    "deadlock": ("deadlock",),
    "refused": ("refused",),
    "timeout": ("timeout",),
    "error": ("rejected",),
    "conflict": ("deadlock", "refused", "timeout", "rejected"),
}


def unmet_in_run(terms: Sequence[Term], recording: Recording) -> list[str]:
    """What is not so of a run. Raises InputError for what one run cannot tell."""
    found = []
    for term in terms:
        if term.any:
            continue
        if term.word in DATA_WORDS and recording.outcome.data == "unchecked":
            raise InputError(
                f"--expect {term}: one run is not compared with serial orders",
                advice="'catenum explore --expect' does that.",
            )
        if _happened(term.word, recording) == term.none:
            found.append(f"{term.word} happened" if term.none else f"no {term.word}")
    return found


def _happened(word: str, recording: Recording) -> bool:
    outcome = recording.outcome
    if word == "conflict":
        return KINDS.index(outcome.kind) > KINDS.index("waited")
    if word == "broken rule":
        return bool(outcome.broken_rules)
    if word in KINDS:
        return outcome.kind == word or any(_failed(word, recording))
    return outcome.data == "anomaly"


def _failed(word: str, recording: Recording) -> Iterator[bool]:
    return (
        event.error.kind == word
        for event in recording.events
        if event.what == "failed" and event.error is not None
    )


def unmet_in_loops(terms: Sequence[Term], result: ChurnResult) -> list[str]:
    """What is not so of loops. Raises InputError for what loops do not count."""
    found = []
    for term in terms:
        if term.any or term.word == "broken rule":  # rules are not asked for in loops
            continue
        kinds = _OF_LOOPS.get(term.word)
        if kinds is None:
            known = ", ".join(_OF_LOOPS)
            raise InputError(
                f"--expect {term}: loops do not count this", advice=f"They count: {known}."
            )
        count = sum(result.failures[kind] for kind in kinds)
        if term.word in ("deadlock", "conflict"):
            count += result.hidden or 0
        if (count > 0) == term.none:
            of = f" in {result.iterations:,} iterations"
            found.append(f"{count:,} × {term.word}{of}" if term.none else f"no {term.word}{of}")
    return found
