"""A common first lock: a row that all of them touch by its key is locked before anything else.

Then the transactions wait for each other there, one behind the other, and meet nowhere else.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.propose.reading import PARAMETER
from catenum.core.propose.stronger_lock import anomalies_reported, levels_for
from catenum.core.scenario.loops import element
from catenum.core.sql.statements import Written

#: A table, and the values of its primary key.
Row = tuple[str, tuple[tuple[str, Written], ...]]


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One series for each such row: at the transactions' own levels, then at read committed."""
    names = list(dict.fromkeys([*evidence.in_cycles, *evidence.in_anomalies])) or evidence.in_waits
    if len(names) < 2:
        return
    touched = [rows_named(evidence, name) for name in names]
    common = set(touched[0]).intersection(*touched[1:])
    for row in sorted(common):
        table, values = row
        asked = dict(zip(names, (own[row] for own in touched), strict=True))
        if any(_of_a_list(evidence, name, condition) for name, condition in asked.items()):
            continue  # which element it is, no code can say
        key = ", ".join(evidence.keys(table).primary)
        lock = evidence.rules.advice.row_locks[-1]
        reads = {
            name: f"select {key} from {table} where {condition} {lock}"
            for name, condition in asked.items()
        }
        literal = ", ".join(f"{column} = {value}" for column, (_, value) in values)
        named = any(PARAMETER.search(condition) for condition in asked.values())
        # in the code's own words, where there is one way to put it
        title = asked[names[0]] if named and len(set(asked.values())) == 1 else literal
        what = "all of them wait for each other at that row"
        why = f"that all of them access {table} ({literal}) is so for the values of this case"
        if not named:
            why += "; the code names no such row"
        yield locked_first(evidence, names, reads, f"{table} ({title})", what, these_values=(why,))


def locked_first(
    evidence: Evidence,
    names: list[str],
    reads: Mapping[str, str],
    title: str,
    what: str,
    *,
    these_values: tuple[str, ...] = (),
    lock: str | None = None,
) -> CandidateSeries:
    """A locking read before everything else, at the transactions' own levels and then at read
    committed.

    ``what``: what that means for the application, beside what such a lock keeps out; ``lock``: its
    clause, the strongest by default.
    """
    clause = lock or evidence.rules.advice.row_locks[-1]
    strict = {
        name: "read committed"
        for name in names
        if evidence.rules.locks.rank(evidence.level(name)) > 1
    }
    add = {name: {evidence.transactions[name].leading + 1: sql} for name, sql in reads.items()}
    return tuple(
        Candidate(
            kind="first lock",
            name=f"{title} first{', at read committed' if levels else ''}",
            because=evidence.waits_reported(names) or anomalies_reported(evidence),
            remedy=remedy(add=add, isolation=levels or None),
            means=(f"{what}; {evidence.rules.advice.lock_blocks(clause)}",),
            these_values=these_values,
        )
        for levels in levels_for(evidence, strict)
    )


def rows_named(evidence: Evidence, name: str) -> dict[Row, str]:
    """The rows that a transaction names by a whole primary key, with the condition by which it
    does.
    """
    found: dict[Row, str] = {}
    for number in range(1, len(evidence.transactions[name].statements) + 1):
        reading = evidence.reading(evidence.sql(name, number))
        condition = evidence.key_condition(reading)
        if reading.table is None or condition is None or evidence.carried(name, condition):
            continue
        # by its values, since two transactions may have one name for two rows
        for access in evidence.footprint(name, number).on(reading.table):
            given = dict(access.literals)
            key = [column.lower() for column in evidence.keys(reading.table).primary]
            if all(column in given for column in key):
                row = (reading.table.lower(), tuple((column, given[column]) for column in key))
                found.setdefault(row, condition)
    return found


def _of_a_list(evidence: Evidence, name: str, condition: str) -> bool:
    """Whether a row is named by one element of a list."""
    elements = {
        element(one, number)
        for one, values in evidence.transactions[name].lists.items()
        for number in range(1, len(values) + 1)
    }
    return bool(elements & set(PARAMETER.findall(condition)))
