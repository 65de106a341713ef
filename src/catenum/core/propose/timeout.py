"""Timeout: nobody waits longer than so long. It ends waits by failing, so it eases and never cures
wrong data.

Those in the middle of a chain first: they hold up others while they wait. A locking read can also
be told not to wait at all; and one that takes only some of the rows that there are, to pass over
those that somebody has. Of another read that would change the meaning, so it is not proposed.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.propose.reading import Reading
from catenum.core.space.tally import WaitPairEntry

LIMIT_MS = 200


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """Those in the middle alone; then everybody who waits. None where a session has no limit of its
    own.
    """
    if not evidence.rules.locks.has_timeouts:
        return
    wait_pairs = evidence.explored.tally.wait_pairs.values()
    waiters = [
        n
        for n in evidence.transactions
        if any(m.waiter == n and _limited(evidence, m) for m in wait_pairs)
    ]
    middle = [n for n in waiters if any(m.holder == n for m in wait_pairs)]
    if not waiters or evidence.wrong:
        return
    for names in dict.fromkeys((tuple(middle), tuple(waiters))):
        who = "all that wait" if len(names) == len(waiters) else ", ".join(names)
        if names:
            yield (
                Candidate(
                    kind="timeout",
                    name=f"give up after {LIMIT_MS} ms: {who}",
                    because=evidence.waits_reported(list(evidence.transactions)),
                    remedy=remedy(timeout=dict.fromkeys(names, f"{LIMIT_MS}ms")),
                    means=(
                        (
                            "a transaction that gives up has done nothing; the application must say"
                            " so, or retry"
                        ),
                    ),
                    eases_only=True,
                ),
            )
    yield from _unlike_before(
        evidence,
        evidence.rules.advice.no_wait,
        lambda reading: True,
        "do not wait",
        "the read fails at once where somebody has the row; the application can say who, or come"
        " back",
    )
    yield from _unlike_before(
        evidence,
        evidence.rules.advice.skip_locked,
        lambda reading: reading.takes_some,
        "pass over what is locked",
        "the read takes the next rows where somebody has the first: right where any of them will"
        " do, as in a queue",
    )


def _unlike_before(
    evidence: Evidence, word: str, fits: Callable[[Reading], bool], what: str, means: str
) -> Iterator[CandidateSeries]:
    """Locking reads that are what waits, with another word on what to do instead."""
    rewrite: dict[str, dict[int, str]] = {}
    if not word:
        return
    for wait_pair in evidence.explored.tally.wait_pairs.values():
        if wait_pair.statement is None:
            continue
        reading = evidence.reading(evidence.sql(wait_pair.waiter, wait_pair.statement))
        clause = reading.lock_clause
        if clause is not None and not clause.endswith(("nowait", "skip locked")) and fits(reading):
            rewrite.setdefault(wait_pair.waiter, {})[wait_pair.statement] = reading.with_lock(
                f"{clause} {word}"
            )
    if rewrite:
        yield (
            Candidate(
                kind="timeout",
                name=f"{what}: {', '.join(rewrite)}",
                because=evidence.waits_reported(list(evidence.transactions)),
                remedy=remedy(rewrite=rewrite),
                means=(means,),
                eases_only=True,
            ),
        )


def _limited(evidence: Evidence, wait_pair: WaitPairEntry) -> bool:
    """Whether a limit on waits ends this one."""
    if evidence.rules.locks.limits_named_locks or wait_pair.statement is None:
        return True
    return not evidence.footprint(wait_pair.waiter, wait_pair.statement).named_locks
