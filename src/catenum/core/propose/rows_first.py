"""Its rows first: a transaction locks all the rows that it names by their keys before anything else, in key order.

This is what is left where statements cannot change places, since one needs what the other read: nobody then holds a
row that comes later in the order than one that it waits for.
"""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.propose.candidate import Candidate, Evidence, Ladder, remedy
from catenum.core.propose.first_lock import rows_named
from catenum.core.propose.stronger_lock import anomalies_told, contended, levels_for


def derive(evidence: Evidence) -> Iterator[Ladder]:
    """One ladder for each table that two of the transactions meet in, and of which one names several rows."""
    names = list(dict.fromkeys([*evidence.in_cycles, *evidence.in_anomalies]))
    clause = evidence.rules.row_locks[-1]
    strict = {name: "read committed" for name in names if evidence.rules.rank(evidence.level(name)) > 1}
    for table in sorted(contended(evidence, names)):
        key = evidence.keys(table).primary
        rows = {name: [where for other, where in rows_named(evidence, name) if other == table] for name in names}
        if not key or not any(len(conditions) > 1 for conditions in rows.values()):
            continue
        listed, source = ", ".join(key), evidence.rules.by_key(table)
        add = {
            name: {1: f"select {listed} from {source} where {_any(conditions)} order by {listed} {clause}"}
            for name, conditions in rows.items()
            if conditions
        }
        yield tuple(
            Candidate(
                kind="first lock",
                name=f"its rows of {table} first, in key order{', at read committed' if levels else ''}",
                because=evidence.waits_told(names) or anomalies_told(evidence),
                remedy=remedy(add=add, isolation=levels or None),
                means=(f"one more statement; {evidence.rules.lock_blocks(clause)}",),
            )
            for levels in levels_for(evidence, strict)
        )


def _any(conditions: list[str]) -> str:
    """Conditions of one column each as one list, so that the server goes through the key once."""
    parts = [condition.partition(" = ") for condition in conditions]
    if not any(" and " in condition for condition in conditions):
        return f"{parts[0][0]} in ({', '.join(value for _, _, value in parts)})"
    return " or ".join(f"({condition})" for condition in conditions)
