"""Its rows first: a transaction locks all the rows that it names by their keys before anything
else, in key order.

This is what is left where statements cannot change places, since one needs what the other read:
nobody then holds a row that comes later in the order than one that it waits for.
"""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.propose.candidate import CandidateSeries, Evidence
from catenum.core.propose.first_lock import locked_first, rows_named
from catenum.core.propose.stronger_lock import contended
from catenum.core.scenario.loops import element


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One series for each table that two of the transactions meet in, and of which one names
    several rows.
    """
    names = list(dict.fromkeys([*evidence.in_cycles, *evidence.in_anomalies]))
    for table in sorted(contended(evidence, names)):
        key = evidence.keys(table).primary
        named = {name: rows_named(evidence, name).items() for name in names}
        rows = {
            name: [where for (other, _), where in own if other == table]
            for name, own in named.items()
        }
        if not key or not any(len(conditions) > 1 for conditions in rows.values()):
            continue
        rows = {name: _by_lists(evidence, name, own) for name, own in rows.items()}
        listed, source = ", ".join(key), evidence.rules.advice.by_key(table)
        ends = f"order by {listed} {evidence.rules.advice.row_locks[-1]}"
        reads = {
            name: f"select {listed} from {source} where {_any(conditions)} {ends}"
            for name, conditions in rows.items()
            if conditions
        }
        yield locked_first(
            evidence, names, reads, f"the rows of {table} by key", "one more statement"
        )


def _any(conditions: list[str]) -> str:
    """Conditions of one column each as one list, so that the server goes through the key once."""
    parts = [condition.partition(" = ") for condition in conditions]
    if not any(" and " in condition for condition in conditions):
        return f"{parts[0][0]} in ({', '.join(value for _, _, value in parts)})"
    return " or ".join(f"({condition})" for condition in conditions)


def _by_lists(evidence: Evidence, name: str, conditions: list[str]) -> list[str]:
    """With whole lists in the place of the elements that a loop goes through, as the code has it
    for lists of any length.
    """
    lists = evidence.transactions[name].lists
    whole = {
        f":{element(one, number)}": f":{one}"
        for one, values in lists.items()
        for number in range(1, len(values) + 1)
    }
    parts = (condition.rpartition(" = ") for condition in conditions)
    return list(
        dict.fromkeys(f"{left}{sign}{whole.get(value, value)}" for left, sign, value in parts)
    )
