"""Retry: whoever is refused, or falls as a victim, begins again, at most so many times, after a
pause. Whoever goes on after such an error rolls back first.

Only where a transaction may be begun again: it ends by itself, and its session keeps no lock by
name.
"""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.record.outcome import BY_OTHERS
from catenum.core.scenario.model import Retry
from catenum.core.text import listed

TIMES, PAUSE_MS = 3, 50


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One candidate for all that failed, and one for those that went on after it."""
    yield from _of_those_that_failed(evidence)
    yield from _of_those_that_went_on(evidence)


def _of_those_that_failed(evidence: Evidence) -> Iterator[CandidateSeries]:
    failed = {
        name
        for entry in evidence.explored.outcomes
        for name, kinds in entry.failed_by.items()
        if kinds
    }
    failed.update(evidence.in_cycles)  # another of the cycle may fall next time
    names = [
        name for name in evidence.transactions if name in failed and may_begin_again(evidence, name)
    ]
    if not names or not (evidence.cycles or evidence.refused):
        return
    retry = {
        name: Retry.model_validate({"times": TIMES, "pause": f"{PAUSE_MS}ms"}) for name in names
    }
    yield (
        Candidate(
            kind="retry",
            name="retry",
            because=evidence.waits_reported(names) or ("a transaction is refused",),
            remedy=remedy(retry=retry),
            means=(
                (
                    "the conflict still happens; the application begins the transaction again, at"
                    f" most {TIMES} times, with fresh values. Let the pause differ from one attempt"
                    " to the next, by chance"
                ),
            ),
        ),
    )


def _of_those_that_went_on(evidence: Evidence) -> Iterator[CandidateSeries]:
    kinds: dict[str, set[str]] = {}
    for entry in evidence.explored.outcomes:
        for name, failed in entry.failed_by.items():
            kinds.setdefault(name, set()).update(BY_OTHERS.intersection(failed))
    names = [
        name
        for name, transaction in evidence.transactions.items()
        if kinds.get(name) and transaction.goes_on and may_begin_again(evidence, name)
    ]
    if not names:
        return
    retry = {
        name: {"times": TIMES, "pause": f"{PAUSE_MS}ms", "on": sorted(kinds[name])}
        for name in names
    }
    yield (
        Candidate(
            kind="retry",
            name="roll back after an error, and retry",
            because=tuple(
                f"{name} goes on after an error ({listed(sorted(kinds[name]))})" for name in names
            ),
            remedy=remedy(
                rewrite={name: _rolling_back(evidence, name) for name in names}, retry=retry
            ),
            means=(
                "the application lets the error roll the whole transaction back and begins it"
                f" again, at most {TIMES} times, with fresh values",
            ),
        ),
    )


def _rolling_back(evidence: Evidence, name: str) -> dict[int, dict[str, object]]:
    """Its statements without what they do after an error, which may be what all of them do."""
    transaction = evidence.transactions[name]
    return {
        number: {"sql": statement.text, "after_error": "roll back"}
        for number, statement in enumerate(transaction.statements, 1)
        if statement.kill is None and (transaction.after_error or statement.after_error)
    }


def may_begin_again(evidence: Evidence, name: str) -> bool:
    """Whether a transaction may be begun again from its first statement."""
    transaction = evidence.transactions[name]
    if transaction.ends != "commit" or transaction.retry is not None:
        return False
    numbers = range(1, len(transaction.statements) + 1)
    footprints = [evidence.footprint(name, number) for number in numbers]
    return not any(lock.of_session for found in footprints for lock in found.named_locks)
