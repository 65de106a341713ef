"""A version check: a write only while its row is as it was read, and the transaction begins again
where it is not.

For transactions that think between the read and the write, and must not keep others waiting
meanwhile. What was read is compared, so no column is added; an application that has a version
compares that.
"""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.propose.reading import same_row, same_value
from catenum.core.propose.retry import PAUSE_MS, TIMES, may_begin_again
from catenum.core.propose.stronger_lock import anomalies_reported
from catenum.core.scenario.carry import ROWS
from catenum.core.scenario.model import Retry


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One change in all transactions whose data was wrong."""
    rewrite: dict[str, dict[int, object]] = {}
    reported = []
    for name in evidence.in_anomalies:
        found = _checked(evidence, name) if may_begin_again(evidence, name) else None
        if found is not None:
            number, condition, sql = found
            rewrite[name] = {number: {"sql": sql, "require": "rows = 1"}}
            reported.append(
                f"{name} statement {number} changes a row that it read before ({condition})"
            )
    if rewrite:
        retry = {
            name: Retry.model_validate({"times": TIMES, "pause": f"{PAUSE_MS}ms"})
            for name in rewrite
        }
        yield (
            Candidate(
                kind="condition into write",
                name="update only if unchanged, otherwise retry",
                because=(*reported, *anomalies_reported(evidence)),
                remedy=remedy(rewrite=rewrite, retry=retry),
                means=(
                    (
                        "where the write changes no row, somebody has changed it since the read:"
                        " the application rolls back and begins the transaction again, at most"
                        f" {TIMES} times, with fresh values"
                    ),
                    *evidence.rules.advice.counting_note,
                ),
            ),
        )


def _checked(evidence: Evidence, name: str) -> tuple[int, str, str] | None:
    """The first write of a row that was read for its values: its number, what is compared, and how
    it then reads.
    """
    statements = evidence.transactions[name].statements
    for at, read in enumerate(statements):
        source = evidence.reading(read.text)
        columns = {column.lower(): value for value, column in read.kept.items() if column != ROWS}
        given = {
            source.columns[name]: value for name, value in columns.items() if name in source.columns
        }
        if not given or len(given) < len(columns) or source.table is None:
            continue
        key = evidence.keys(source.table).primary
        for number in range(at + 2, len(statements) + 1):
            one = statements[number - 1]
            write = evidence.reading(one.text)
            if not (write.changes and write.table == source.table and same_row(source, write, key)):
                continue
            if one.require is not None:
                return None
            keys = evidence.keys(source.table)
            filled = {column.lower() for column in (*keys.primary, *keys.filled)}
            parts = [
                same_value(column, value, may_be_null=column not in filled)
                for column, value in given.items()
                if write.equals.get(column) != f":{value}"
            ]
            sql = write.with_condition(*parts) if parts else one.text
            return (number, ", ".join(given), sql) if sql is not None else None
    return None
