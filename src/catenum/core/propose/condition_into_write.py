"""The condition into the write: what was read only to be checked becomes part of the write's own
WHERE.

A condition on a value that was kept from the same row; or, where the scenario's rule is broken
whatever the order, a column that was seen empty and is then filled: it is filled only while it is
still empty.
"""

from __future__ import annotations

from collections.abc import Iterator

from sqlglot import exp

from catenum.core.propose import first_lock, order, stronger_lock
from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, merged, remedy
from catenum.core.propose.editing import written
from catenum.core.propose.reading import Reading, is_null, own_comparison, same_row, term
from catenum.core.propose.stronger_lock import anomalies_reported
from catenum.core.scenario.conditions import Comparison

#: The number of a statement, what it relies on, and how it reads with that; None where it cannot be
#: written so.
Found = tuple[int, str, str | None]


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """What is checked; and what is claimed."""
    for name, decides, find in (
        ("check in the write", False, _checked),
        ("only while it is free", True, _claimed),
        ("only while nobody has changed its state", True, _guarded),
    ):
        if decides and not evidence.serial_breaks:
            continue
        rewrite: dict[str, dict[int, str]] = {}
        reported = []
        for transaction in evidence.transactions if evidence.wrong else ():
            for number, condition, sql in find(evidence, transaction):
                if sql is not None:
                    rewrite.setdefault(transaction, {})[number] = sql
                    reported.append(f"{transaction} statement {number} relies on '{condition}'")
        if rewrite:
            alone = (
                Candidate(
                    kind="condition into write",
                    name=name,
                    because=(*reported, *anomalies_reported(evidence)),
                    remedy=remedy(rewrite=rewrite),
                    means=(
                        (
                            "where that is not true any more the write changes no row: the"
                            " application must check how many"
                        ),
                    ),
                    decides=decides,
                ),
            )
            if not decides:
                yield alone
                continue
            together = tuple(_with_locks(evidence, alone[0]))
            # where there is a cycle to break, too, the condition by itself cannot be enough
            yield (*together, *alone) if evidence.cycles else (*alone, *together)


def _with_locks(evidence: Evidence, claim: Candidate) -> Iterator[Candidate]:
    """The same with the reads locked, or a common row first."""
    for series in (
        *stronger_lock.derive(evidence),
        *first_lock.derive(evidence),
        *order.derive(evidence),
    ):
        for candidate in series:
            together = merged(claim, candidate)
            if together is not None:
                yield together


def _checked(evidence: Evidence, name: str) -> Iterator[Found]:
    kept: dict[str, tuple[Reading, str]] = {}
    for number, statement in enumerate(evidence.transactions[name].statements, 1):
        reading = evidence.reading(statement.text)
        condition = statement.condition
        if condition is not None and reading.table is not None:
            parts = [_own(evidence, reading, kept, one) for one in condition.comparisons]
            terms = [part for part in parts if part is not None]
            if terms and len(terms) == len(parts):
                text = " and ".join(written(part, evidence.rules.sql.dialect) for part in terms)
                yield number, text, reading.with_condition(*terms)
        kept |= {
            value: (reading, column.lower())
            for value, column in statement.kept.items()
            if column != "rows"
        }


def _own(
    evidence: Evidence, write: Reading, kept: dict[str, tuple[Reading, str]], one: Comparison
) -> exp.Expr | None:
    source, column = kept.get(one.left.name or "", (None, ""))
    if source is None:
        return None
    same = (
        source.table is not None
        and write.table is not None
        and source.table.lower() == write.table.lower()
    )
    if not same or not same_row(source, write, evidence.keys(write.table or "").primary):
        return None
    return own_comparison(source, {one.left.name or "": column}, one)


def _claimed(evidence: Evidence, name: str) -> Iterator[Found]:
    reads: list[tuple[int, Reading]] = []
    for number, statement in enumerate(evidence.transactions[name].statements, 1):
        reading = evidence.reading(statement.text)
        for at, source in reads:
            if not (reading.assigned and source.table and reading.table):
                continue
            if source.table.lower() != reading.table.lower():
                continue
            if not same_row(source, reading, evidence.keys(reading.table).primary):
                continue
            empty = [
                c
                for c in source.selected
                if c in reading.assigned and _was_empty(evidence, name, at, c)
            ]
            for column in empty[:1]:
                yield number, f"{column} is null", reading.with_condition(is_null(column))
        if reading.selected:
            reads.append((number, reading))


def _was_empty(evidence: Evidence, name: str, number: int, column: str) -> bool:
    """Whether the column was NULL in what the statement read first."""
    for event in evidence.played.events:
        if (event.transaction, event.statement, event.what) == (
            name,
            number,
            "done",
        ) and event.result is not None:
            columns = [one.lower() for one in event.result.columns]
            rows = event.result.rows
            return column in columns and bool(rows) and rows[0][columns.index(column)] is None
    return False


def _guarded(evidence: Evidence, name: str) -> Iterator[Found]:
    """Writes that rely on a row whose state another transaction changes, from a value that it names
    to another.
    """
    for other, transaction in evidence.transactions.items():
        for number in range(1, len(transaction.statements) + 1) if other != name else ():
            change = evidence.reading(evidence.resolved(other, number))
            key = [column.lower() for column in evidence.keys(change.table or "").primary]
            states = [
                c
                for c in change.assigned
                if c in change.equals and change.assigned[c] != change.equals[c]
            ]
            row = evidence.key_condition(change)
            if not states or row is None:
                continue
            state = f"{states[0]} = {change.equals[states[0]]}"
            asked = term(state, evidence.rules.sql.dialect)
            if asked is None:
                continue
            for own in range(1, len(evidence.transactions[name].statements) + 1):
                reading = evidence.reading(evidence.sql(name, own))
                known = evidence.reading(evidence.resolved(name, own))
                if (
                    reading.assigned
                    and same_row(change, known, key)
                    and states[0] not in reading.equals
                ):
                    yield own, state, reading.with_condition(asked)
                    continue
                refers = change.table in evidence.keys(reading.inserts_into or "").references
                if refers and change.equals[key[0]] in known.inserted:
                    yield (
                        own,
                        state,
                        reading.inserted_where(f"{change.table} where {row} and {state}"),
                    )
