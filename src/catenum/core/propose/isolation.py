"""Isolation: the least strict levels under which every schedule is right, with a bounded retry
where one is refused.

One level for all is looked for first, from the least strict that sees committed data only; then
each transaction's own is lowered as far as that holds (the allocation of levels to transactions:
Fekete 2005; here by running it). For read committed, snapshots and serializable snapshots there is
one lowest allocation, which this finds whatever the order (Vandevoort, Ketsman and Neven 2023,
"Allocating Isolation Levels to Transactions in a Multiversion Setting"); where levels take locks it
is one in which no single level can be lowered.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.propose.retry import may_begin_again
from catenum.core.propose.stronger_lock import anomalies_reported
from catenum.core.scenario.model import Retry

TIMES = 3


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """Levels from the least strict on, with retries where transactions may begin again."""
    if evidence.serial_breaks and not evidence.explored.tally.anomalies:
        return  # what is wrong in any order of the transactions is so at every level
    ranked = {
        level: evidence.rules.locks.rank(level) for level in evidence.rules.locks.distinct_levels
    }
    now = {name: evidence.level(name) for name in evidence.transactions}
    ranks = [evidence.rules.locks.rank(level) for level in now.values()]
    if evidence.wrong or evidence.refused:
        names = [name for name in evidence.transactions if may_begin_again(evidence, name)]
        stricter = [level for level, rank in ranked.items() if rank > max(ranks)]
        others = [level for level, rank in ranked.items() if 0 < rank <= max(ranks)]
    elif evidence.cycles and evidence.rules.locks.reports_modes:
        # a stricter level ends no deadlock, and a retry is a kind of its own; a lower one may lock
        # less
        names, stricter, others = (
            [],
            [],
            [level for level, rank in ranked.items() if 0 < rank < min(ranks)],
        )
    else:
        return
    ways = (names, ()) if names else ((),)
    # what is wrong at a level is rarely right at a lower one, so the stricter ones come first
    for group in (stricter, others):
        found = (
            _candidate(evidence, dict.fromkeys(now, level), retried)
            for level in group
            for retried in ways
        )
        candidates = tuple(candidate for candidate in found if candidate is not None)
        if candidates:
            yield candidates


def lowered(
    evidence: Evidence, assignment: Mapping[str, str], *, retried: bool
) -> Iterator[Candidate]:
    """The same with one transaction's level lowered, as far down as there are levels, the least
    strict first.
    """
    names = (
        [name for name in evidence.transactions if may_begin_again(evidence, name)]
        if retried
        else []
    )
    for name, level in assignment.items():
        for other in evidence.rules.locks.distinct_levels:
            if 0 < evidence.rules.locks.rank(other) < evidence.rules.locks.rank(level):
                found = _candidate(evidence, {**assignment, name: other}, names)
                if found is not None:
                    yield found


def _candidate(evidence: Evidence, levels: Mapping[str, str], retried: object) -> Candidate | None:
    names = list(retried) if isinstance(retried, list | tuple) else []
    rank = evidence.rules.locks.rank
    changed = {n: level for n, level in levels.items() if rank(evidence.level(n)) != rank(level)}
    if not changed:
        return None  # as it is; a retry alone is another kind
    uniform = len(set(levels.values())) == 1
    reported = (
        next(iter(levels.values()))
        if uniform
        else ", ".join(f"{n} at {level}" for n, level in changed.items())
    )
    retry = {name: Retry(times=TIMES, pause=None) for name in names}
    return Candidate(
        kind="isolation",
        name=f"{reported}{', with a retry' if names else ''}",
        because=anomalies_reported(evidence)
        or evidence.waits_reported(list(evidence.transactions)),
        remedy=remedy(isolation=changed, retry=retry or None),
        means=(
            (
                (
                    "a transaction that is refused must be retried from its first statement, with"
                    " fresh values"
                ),
            )
            if names
            else ("no statement changes",)
        ),
    )
