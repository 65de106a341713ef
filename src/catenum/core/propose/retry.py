"""Retry: whoever is refused, or falls as a victim, begins again, at most so many times, after a
pause.

Only where a transaction may be begun again: it ends by itself, and its session keeps no lock by
name.
"""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.scenario.model import Retry

TIMES, PAUSE_MS = 3, 50


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One candidate, for all that failed."""
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


def may_begin_again(evidence: Evidence, name: str) -> bool:
    """Whether a transaction may be begun again from its first statement."""
    transaction = evidence.transactions[name]
    if transaction.ends != "commit" or transaction.retry is not None:
        return False
    numbers = range(1, len(transaction.statements) + 1)
    footprints = [evidence.footprint(name, number) for number in numbers]
    return not any(lock.of_session for found in footprints for lock in found.named_locks)
