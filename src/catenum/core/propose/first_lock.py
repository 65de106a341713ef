"""A common first lock: a row that all of them touch by its key is locked before anything else.

Then the transactions wait for each other there, one behind the other, and meet nowhere else.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from catenum.core.propose.candidate import Candidate, Evidence, Ladder, remedy
from catenum.core.propose.stronger_lock import anomalies_told, levels_for


def derive(evidence: Evidence) -> Iterator[Ladder]:
    """One ladder for each such row: at the transactions' own levels, then at read committed."""
    names = list(dict.fromkeys([*evidence.in_cycles, *evidence.in_anomalies])) or evidence.in_waits
    if len(names) < 2:
        return
    touched = [rows_named(evidence, name) for name in names]
    common = set(touched[0]).intersection(*touched[1:])
    clause = evidence.rules.row_locks[-1]
    strict = {name: "read committed" for name in names if evidence.rules.rank(evidence.level(name)) > 1}
    for table, condition in sorted(common):
        sql = f"select {', '.join(evidence.keys(table).primary)} from {table} where {condition} {clause}"
        add = {name: {1: sql} for name in names}
        yield tuple(
            Candidate(
                kind="first lock",
                name=f"{table} ({condition}) first{', at read committed' if levels else ''}",
                because=evidence.waits_told(names) or anomalies_told(evidence),
                remedy=remedy(add=add, isolation=levels or None),
                means=(f"all of them wait for each other at that row; {evidence.rules.lock_blocks(clause)}",),
            )
            for levels in levels_for(evidence, strict)
        )


def rows_named(evidence: Evidence, name: str) -> dict[tuple[str, str], int]:
    """The rows that a transaction names by a whole primary key: table and condition, with the statement."""
    found: dict[tuple[str, str], int] = {}
    for number in range(1, len(evidence.transactions[name].statements) + 1):
        reading = evidence.reading(evidence.sql(name, number))
        condition = evidence.key_condition(reading)
        if reading.table and condition is not None and not _carried(evidence, name, condition):
            found.setdefault((reading.table.lower(), condition), number)
    return found


def _carried(evidence: Evidence, name: str, condition: str) -> bool:
    """Whether the key is a value that an earlier statement kept: at the beginning it is not there yet."""
    kept = {value for statement in evidence.transactions[name].statements for value in statement.kept}
    return bool(kept & set(re.findall(r":([A-Za-z_]\w*)", condition)))
