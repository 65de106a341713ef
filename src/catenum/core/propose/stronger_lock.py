"""Stronger lock: who will change rows, or relies on what it read, locks them where it first reads
them.

The weakest of the server's row locks that cures an upgrade, a lost update or a write skew: the
candidates are tried in turn, at the transactions' own levels and, where those are stricter, at read
committed, since under a snapshot a lock that comes too late is refused.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.propose.commuting import apart

Changes = Mapping[str, Mapping[int, str]]


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One series over all tables that two of the transactions meet in."""
    names = list(dict.fromkeys([*evidence.in_cycles, *evidence.in_anomalies]))
    tables = contended(evidence, names)
    reads = {name: list(_first_reads(evidence, name, tables)) for name in names}
    if not any(reads.values()):
        return
    candidates: list[Candidate] = []
    strict = {
        name: "read committed"
        for name in names
        if evidence.rules.locks.rank(evidence.level(name)) > 1
    }
    because = evidence.waits_reported(names) or anomalies_reported(evidence)
    # a read that is followed by a change of the same table needs no weaker lock than that change
    # takes
    upgrades = all(
        _changes_later(evidence, name, number)
        for name, numbers in reads.items()
        for number, _ in numbers
    )
    clauses = [
        c
        for c in evidence.rules.advice.row_locks
        if not (upgrades and c == evidence.rules.advice.row_locks[0])
    ]
    for levels in levels_for(evidence, strict):
        for clause in clauses:
            rewrite, add = _with(evidence, reads, clause)
            if not rewrite and not add:
                continue
            lowered = ", at read committed" if levels else ""
            candidates.append(
                Candidate(
                    kind="stronger lock",
                    name=f"lock when reading: {clause}{lowered}",
                    because=because,
                    remedy=remedy(
                        rewrite=rewrite or None, add=add or None, isolation=levels or None
                    ),
                    means=(_meaning(evidence, clause),),
                    excludes=clause != evidence.rules.advice.row_locks[0],
                )
            )
    yield tuple(candidates)
    yield from _passed_over(evidence, reads, because)


def _passed_over(
    evidence: Evidence, reads: Mapping[str, list[tuple[int, bool]]], because: tuple[str, ...]
) -> Iterator[CandidateSeries]:
    """Who takes some of the rows that there are, as in a queue, passes over those that somebody
    has.
    """
    advice = evidence.rules.advice
    if not advice.skip_locked:
        return
    clause = f"{advice.row_locks[-1]} {advice.skip_locked}"
    rewrite = {
        name: {number: evidence.reading(evidence.sql(name, number)).with_lock(clause)}
        for name, numbers in reads.items()
        for number, direct in numbers
        if direct and evidence.reading(evidence.sql(name, number)).takes_some
    }
    if rewrite:
        yield (
            Candidate(
                kind="stronger lock",
                name=f"take what nobody has: {clause}",
                because=because,
                remedy=remedy(rewrite=rewrite),
                means=(
                    "nobody waits: the read takes the next rows where somebody has the first. Right"
                    " where any of them will do, as in a queue; one that comes back free when its"
                    " transaction fails is taken later than those behind it",
                ),
                excludes=True,
            ),
        )


def levels_for(evidence: Evidence, strict: dict[str, str]) -> tuple[dict[str, str], ...]:
    """The levels at which a lock is tried: those of the transactions, and where that can be no use
    read committed.
    """
    if not strict:
        return ({},)
    return (strict,) if evidence.rules.locks.refuses_late_locks else ({}, strict)


def _changes_later(evidence: Evidence, name: str, number: int) -> bool:
    tables = {access.table.lower() for access in evidence.footprint(name, number).accesses}
    numbers = range(number + 1, len(evidence.transactions[name].statements) + 1)
    later = (access for n in numbers for access in evidence.footprint(name, n).accesses)
    return any(access.writes and access.table.lower() in tables for access in later)


def contended(evidence: Evidence, names: list[str]) -> set[str]:
    """The tables, in lower case, that two of these touch and one of them changes or locks."""
    touched: dict[str, dict[str, bool]] = {}
    for name in names:
        for number in range(1, len(evidence.transactions[name].statements) + 1):
            for access in evidence.footprint(name, number).accesses:
                mine = touched.setdefault(access.table.lower(), {})
                mine[name] = mine.get(name, False) or access.verb != "read"
    return {table for table, by in touched.items() if len(by) > 1 and any(by.values())}


def _first_reads(evidence: Evidence, name: str, tables: set[str]) -> Iterator[tuple[int, bool]]:
    """The first read of each table, before the transaction has changed it; and whether a lock can
    stand behind it.
    """
    done: set[str] = set()
    for number in range(1, len(evidence.transactions[name].statements) + 1):
        reading = evidence.reading(evidence.sql(name, number))
        found = evidence.footprint(name, number).accesses
        mine = [a.table.lower() for a in found if a.table.lower() in tables]
        if mine and not _meets(evidence, name, number):
            continue  # nobody else comes to these rows
        if mine and not set(mine) <= done and all(not access.writes for access in found):
            if reading.is_plain_select:
                yield number, True
            elif (
                reading.table is not None and evidence.keys(reading.table).primary and reading.where
            ):
                yield number, False
        done.update(mine)


def _meets(evidence: Evidence, name: str, number: int) -> bool:
    """Whether another transaction may touch a row of those that a statement touches."""
    mine = evidence.footprint(name, number).accesses
    for other, transaction in evidence.transactions.items():
        for place in range(1, len(transaction.statements) + 1) if other != name else ():
            for theirs in evidence.footprint(other, place).accesses:
                for own in mine:
                    keys = evidence.keys(own.table)
                    same = own.table.lower() == theirs.table.lower()
                    if same and not apart(own, theirs, [keys.primary, *keys.unique]):
                        return True
    return False


def _with(
    evidence: Evidence, reads: Mapping[str, list[tuple[int, bool]]], clause: str
) -> tuple[Changes, Changes]:
    rewrite: dict[str, dict[int, str]] = {}
    add: dict[str, dict[int, str]] = {}
    for name, numbers in reads.items():
        for number, direct in numbers:
            reading = evidence.reading(evidence.sql(name, number))
            if direct and reading.lock_clause != clause:
                rewrite.setdefault(name, {})[number] = reading.with_lock(clause)
            elif not direct and reading.table is not None:
                key = ", ".join(evidence.keys(reading.table).primary)
                order = f" order by {key}" if evidence.rules.advice.orders_locked_rows else ""
                sql = f"select {key} from {reading.table} where {reading.where}{order} {clause}"
                add.setdefault(name, {})[number] = sql
    return rewrite, add


def anomalies_reported(evidence: Evidence) -> tuple[str, ...]:
    """What was wrong with the data, in words."""
    entries = [
        entry for entry in evidence.explored.outcomes if entry.data == "anomaly" and entry.anomaly
    ]
    reported = [f"{entry.anomaly}: {one}" for entry in entries[:1] for one in entry.evidence]
    reported += [f"the rule '{title}' is false" for title in evidence.explored.tally.broken_rules]
    return tuple(reported[:3])


def _meaning(evidence: Evidence, clause: str) -> str:
    blocks = evidence.rules.advice.lock_blocks(clause)
    return (
        "the second transaction waits at its first read and then sees the committed result of the"
        f" first; {blocks}"
    )
