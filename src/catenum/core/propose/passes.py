"""The kinds of changes that are looked for, those first that people fix with first. A new kind is a
line here.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

from catenum.core.propose import (
    batch_order,
    condition_into_write,
    decide_in_write,
    first_lock,
    index,
    isolation,
    loop_order,
    one_statement,
    order,
    parent_lock,
    portions,
    reader_level,
    retry,
    rows_first,
    schema_change,
    shorter,
    stronger_lock,
    timeout,
    upsert,
    value_into_write,
    version_check,
)
from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence

Pass = Callable[[Evidence], Iterable[CandidateSeries]]

PASSES: tuple[Pass, ...] = (
    loop_order.derive,
    order.derive,
    batch_order.derive,
    one_statement.derive,
    index.derive,
    stronger_lock.derive,
    reader_level.derive,
    condition_into_write.derive,
    value_into_write.derive,
    decide_in_write.derive,
    upsert.derive,
    parent_lock.derive,
    first_lock.derive,
    rows_first.derive,
    shorter.derive,
    portions.derive,
    isolation.derive,
    schema_change.derive,
    version_check.derive,
    retry.derive,
    timeout.derive,
)


def all_series(evidence: Evidence) -> list[CandidateSeries]:
    """All that can be tried, without what two passes both come to.

    Where the scenario breaks its own rules in any order nothing but another condition can cure:
    that comes first.
    """
    known: set[str] = set()
    found = []
    first = condition_into_write.derive if evidence.serial_breaks else PASSES[0]
    for derive in (first, *(derive for derive in PASSES if derive is not first)):
        for series in derive(evidence):
            candidates = [
                candidate
                for candidate in series
                if not _known(candidate.remedy.model_dump_json(), known)
                and _may_be_written(evidence, candidate)
            ]
            if candidates:
                found.append(tuple(candidates))
    return found


def _may_be_written(evidence: Evidence, candidate: Candidate) -> bool:
    """Whether the server has what its new statements say: an order of the rows that they lock."""
    advice = evidence.rules.advice
    return advice.orders_locked_rows or not any(
        " order by " in text.lower() and text.lower().endswith(advice.row_locks)
        for part in (candidate.remedy.add, candidate.remedy.rewrite)
        for by_number in (part or {}).values()
        for change in by_number.values()
        for text in (change if isinstance(change, str) else str(change.sql or ""),)
    )


def _known(text: str, known: set[str]) -> bool:
    if text in known:
        return True
    known.add(text)
    return False
