"""Batch order: a statement that changes several rows locks them in the order of its plan; they are
locked by key first.

Where two such statements go through the same rows in different orders, each holds what the other
comes to next.
"""

from __future__ import annotations

from collections.abc import Iterator

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.propose.editing import written


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One candidate, for all batches that are in a cycle."""
    add: dict[str, dict[int, str]] = {}
    reported = []
    for name, number in dict.fromkeys(member for members in evidence.cycles for member in members):
        if number is None or not _several(evidence, name, number):
            continue
        sql = _locked_first(evidence, name, number)
        if sql is not None:
            add.setdefault(name, {})[number] = sql
            reported.append(
                f"{name} statement {number} changes several rows, and locks them in the order of"
                " its plan"
            )
    if add:
        yield (
            Candidate(
                kind="batch order",
                name="lock the rows by key first",
                because=(*reported, *evidence.waits_reported(evidence.in_cycles, 2)),
                remedy=remedy(add=add),
                means=(
                    (
                        "one more statement; the rows are then locked in one order, whatever the"
                        " plans are"
                    ),
                ),
            ),
        )


def _several(evidence: Evidence, name: str, number: int) -> bool:
    reading = evidence.reading(evidence.sql(name, number))
    if reading.table is None or reading.selected:
        return False
    return bool(evidence.keys(reading.table).primary) and evidence.key_condition(reading) is None


def _locked_first(evidence: Evidence, name: str, number: int) -> str | None:
    """A SELECT of the same rows by the key, in its order, with a lock."""
    try:
        tree = sqlglot.parse_one(evidence.sql(name, number), dialect=evidence.rules.sql.dialect)
    except (SqlglotError, RecursionError):
        return None
    if not isinstance(tree, exp.Update | exp.Delete) or not isinstance(tree.this, exp.Table):
        return None
    table, dialect = tree.this, evidence.rules.sql.dialect
    called = table.alias_or_name
    key = [f"{called}.{column}" for column in evidence.keys(table.name).primary]
    others = tree.args.get("from_") or tree.args.get("from") or tree.args.get("using")
    more = ""
    if isinstance(others, exp.From):
        more = f", {written(others.this, dialect)}"
    elif isinstance(others, list) and others:
        more = "".join(f", {written(one, dialect)}" for one in others)
    where = tree.args.get("where")
    if table.args.get("joins") or tree.args.get("limit"):
        return None
    condition = f" where {written(where.this, dialect)}" if where is not None else ""
    source = evidence.rules.advice.by_key(table.sql(dialect=dialect))
    clause = evidence.rules.advice.row_locks[-1]
    of = f" of {called}" if more and evidence.rules.advice.locks_of_tables else ""
    return (
        f"select {', '.join(key)} from {source}{more}{condition} order by {', '.join(key)}"
        f" {clause}{of}"
    )
