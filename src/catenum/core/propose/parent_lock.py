"""The parent first: who looks for rows and then adds one locks the row that they refer to.

Rows that are not there yet cannot be locked. The row of another table that all of them belong to
is there, and there the transactions wait for each other: a berth, for the calls of that berth.
"""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.propose.candidate import CandidateSeries, Evidence
from catenum.core.propose.first_lock import locked_first
from catenum.core.propose.stronger_lock import contended


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One series for each foreign key of a table that two of the transactions meet in."""
    names = list(dict.fromkeys([*evidence.in_cycles, *evidence.in_anomalies]))
    if len(names) < 2:
        return
    for table in sorted(contended(evidence, names)):
        info = evidence.schema.tables.get(table)
        for columns, parent, named_there in info.references if info is not None else ():
            key = named_there or evidence.keys(parent).primary
            lock = _weakest(evidence)
            reads = {}
            for name in names:
                rows = _parents(evidence, name, table, columns)
                if rows and key:
                    where = _one_of(key, rows)
                    several = len(rows) > 1
                    order = f" order by {', '.join(key)}" if several else ""
                    source = evidence.rules.advice.by_key(parent) if several else parent
                    reads[name] = (
                        f"select {', '.join(key)} from {source} where {where}{order} {lock}"
                    )
            if len(reads) == len(names):
                yield locked_first(
                    evidence,
                    names,
                    reads,
                    f"the row of {parent} that rows of {table} refer to",
                    "whoever comes second waits there, before it reads",
                    lock=lock,
                )


def _weakest(evidence: Evidence) -> str:
    """The weakest lock that two transactions cannot both have: checks of foreign keys pass it where
    the server has such a lock.
    """
    return next(one for one in evidence.rules.advice.row_locks if "share" not in one)


def _parents(
    evidence: Evidence, name: str, table: str, columns: tuple[str, ...]
) -> list[tuple[str, ...]]:
    """The rows that those belong to which a transaction looks for, changes or adds."""
    found = []
    for number in range(1, len(evidence.transactions[name].statements) + 1):
        given = evidence.given(name, number, table)
        if all(column.lower() in given for column in columns):
            row = tuple(given[column.lower()] for column in columns)
            if row not in found and not any(evidence.carried(name, value) for value in row):
                found.append(row)
    return found


def _one_of(key: tuple[str, ...], rows: list[tuple[str, ...]]) -> str:
    if len(key) == 1:
        values = [value for (value,) in rows]
        return (
            f"{key[0]} = {values[0]}" if len(values) == 1 else f"{key[0]} in ({', '.join(values)})"
        )
    terms = [
        " and ".join(f"{column} = {value}" for column, value in zip(key, row, strict=True))
        for row in rows
    ]
    return terms[0] if len(terms) == 1 else " or ".join(f"({term})" for term in terms)
