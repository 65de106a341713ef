"""Shorter: locks are let go of as soon as nobody needs them.

A transaction left open is ended; a lock by name that its session keeps becomes one of the
transaction; a read on which nothing later depends, and which comes after the first lock, is moved
before it; what others wait for is locked as late as the transaction's meaning allows.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.propose.commuting import commute, inversions, orders
from catenum.core.text import counted


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """Each by itself."""
    wait_pairs = evidence.explored.tally.wait_pairs.values()
    holders = {wait_pair.holder for wait_pair in wait_pairs}
    left = [
        name
        for name, one in evidence.transactions.items()
        if one.ends == "open" and name in holders
    ]
    if left:
        yield (
            Candidate(
                kind="shorter",
                name=f"end {', '.join(left)}",
                because=evidence.waits_reported(list(evidence.transactions)),
                remedy=remedy(ends=dict.fromkeys(left, "commit")),
                means=(
                    "the transaction is committed before the application turns to anything else",
                ),
            ),
        )
    yield from _named(evidence)
    yield from _reads_first(evidence, holders)
    yield from _hot_last(evidence)
    yield from _split(evidence)


def _named(evidence: Evidence) -> Iterator[CandidateSeries]:
    rewrite: dict[str, dict[int, str]] = {}
    rows: set[object] = set()  # what stands in place of the name, in each transaction that takes it
    whole = True
    for name, transaction in evidence.transactions.items():
        for number, statement in enumerate(transaction.statements, 1):
            if any(
                lock.of_session and lock.takes
                for lock in evidence.footprint(name, number).named_locks
            ):
                sql = evidence.rules.advice.lock_of_transaction(statement.text)
                if sql is None:
                    found = _row_in_place(evidence, name, number)
                    whole = whole and found is not None
                    sql, row = found or (None, None)
                    rows.add(row)
                if sql is not None:
                    rewrite.setdefault(name, {})[number] = sql
    # a row excludes the same others only where all who take the name come to that one row
    if rewrite and whole and len(rows) <= 1:
        yield (
            Candidate(
                kind="shorter",
                name="a lock that the transaction's end lets go of",
                because=("a lock by name that a session takes outlives the transaction",),
                remedy=remedy(rewrite=rewrite),
                means=("the lock ends with the transaction, whether it commits or not",),
            ),
        )


def _row_in_place(evidence: Evidence, name: str, number: int) -> tuple[str, object] | None:
    """The row that the transaction changes by its key, locked in place of the name; and which one
    that is.
    """
    for later in range(number + 1, len(evidence.transactions[name].statements) + 1):
        reading = evidence.reading(evidence.sql(name, later))
        condition = evidence.key_condition(reading)
        if reading.table and reading.assigned and condition is not None:
            key = ", ".join(evidence.keys(reading.table).primary)
            known = evidence.key_condition(evidence.reading(evidence.resolved(name, later)))
            sql = (
                f"select {key} from {reading.table} where {condition}"
                f" {evidence.rules.advice.row_locks[-1]}"
            )
            return sql, (reading.table.lower(), known)
    return None


def _reads_first(evidence: Evidence, holders: set[str]) -> Iterator[CandidateSeries]:
    reorder: dict[str, tuple[int, ...]] = {}
    for name in holders:
        transaction = evidence.transactions[name]
        leading = tuple(range(1, transaction.leading + 1))
        numbers = list(range(len(leading) + 1, len(transaction.statements) + 1))
        plain = [
            n
            for n in numbers
            if all(a.verb == "read" for a in evidence.footprint(name, n).accesses)
        ]
        locking = [n for n in numbers if n not in plain]
        moved = [
            n
            for n in plain
            if locking
            and n > locking[0]
            and all(commute(evidence, name, m, n) for m in numbers if m < n)
        ]
        if moved:
            reorder[name] = (*leading, *moved, *(n for n in numbers if n not in moved))
    if reorder:
        yield (
            Candidate(
                kind="shorter",
                name="reads before the first lock",
                because=tuple(
                    f"{name} reads while it holds locks that others wait for" for name in reorder
                ),
                remedy=remedy(reorder=reorder),
                means=("the statements are the same, and locks are held for a shorter time",),
            ),
        )


def _hot_last(evidence: Evidence) -> Iterator[CandidateSeries]:
    """The statements whose locks others wait for, as late as they can be."""
    reorder: dict[str, tuple[int, ...]] = {}
    means, tables = [], []
    held = Counter[str]()
    for name in evidence.transactions:
        waited: Counter[int] = Counter()
        if evidence.cycles or evidence.wrong:
            return  # which order is right is another question
        for wait_pair in evidence.explored.tally.wait_pairs.values():
            number = wait_pair.holder_statement
            if wait_pair.holder == name and number is not None and _alone(evidence, name, number):
                waited[number] += wait_pair.count
        if not waited:
            continue
        own, *others = orders(evidence, name)
        best = min(others, key=lambda o: (_behind(o, waited), inversions(o)), default=own)
        if _behind(best, waited) < _behind(own, waited):
            reorder[name] = best
            (most, _), *_ = waited.most_common(1)
            before, after = (len(own) - 1 - order.index(most) for order in (own, best))
            held.update({"before": before, "after": after})
            tables += [one.table for one in evidence.footprint(name, most).accesses]
            over = f"over {counted(after, 'more statement')}" if after else "until its commit only"
            means.append(
                f"{name} holds what its statement {most} locks {over}, instead of over"
                f" {counted(before, 'more statement')}"
            )
    if reorder:
        yield (
            Candidate(
                kind="shorter",
                name=f"lock {', '.join(dict.fromkeys(tables))} last: {', '.join(reorder)}",
                because=evidence.waits_reported(list(evidence.transactions)),
                remedy=remedy(reorder=reorder),
                means=("the statements are the same", *means),
                held=(held["before"], held["after"]),
            ),
        )


def _alone(evidence: Evidence, name: str, number: int) -> bool:
    """Whether a statement locks rows of tables that no other statement of its transaction needs."""
    mine = {a.table.lower() for a in evidence.footprint(name, number).accesses if a.verb != "read"}
    others = {
        access.table.lower()
        for other in range(1, len(evidence.transactions[name].statements) + 1)
        for access in evidence.footprint(name, other).accesses
        if other != number
    }
    return bool(mine) and not mine & others


def _behind(order: Sequence[int], waited: Mapping[int, int]) -> int:
    """Over how many statements locks are held, each as often as it is waited for."""
    return sum((len(order) - 1 - order.index(number)) * count for number, count in waited.items())


def _split(evidence: Evidence) -> Iterator[CandidateSeries]:
    """Transactions of a cycle in two: each then holds what the others want one at a time. Where
    a rule needs both halves at once, no such change can be made.
    """
    split: dict[str, int] = {}
    for name in evidence.in_cycles:
        transaction = evidence.transactions[name]
        wanted = [
            number
            for wait_pair in evidence.explored.tally.wait_pairs.values()
            if wait_pair.holder == name
            for number in (wait_pair.holder_statement,)
            if number is not None and number < len(transaction.statements)
        ]
        if not wanted or transaction.retry or transaction.ends != "commit" or transaction.goes_on:
            continue
        number = min(wanted)
        kept = {value for one in transaction.statements[:number] for value in one.kept}
        rest = range(number + 1, len(transaction.statements) + 1)
        needed = {
            word
            for other in rest
            for word in evidence.reading(evidence.sql(name, other)).parameters
        }
        decided = any(transaction.statements[other - 1].when for other in rest)
        turns = any(one.turn is not None for one in transaction.statements[number - 1 : number + 1])
        halves = (range(1, number + 1), rest)
        both_write = all(any(_writes(evidence, name, n) for n in half) for half in halves)
        if both_write and not (kept & needed or decided or turns):
            split[name] = number
    if split:
        yield (
            Candidate(
                kind="shorter",
                name=f"two transactions: {', '.join(split)}",
                because=evidence.waits_reported(list(split)),
                remedy=remedy(split=split),
                means=(
                    "IT CHANGES WHAT THE TRANSACTIONS MEAN: others see the first part without the"
                    " second, and the first stays if the second fails",
                    *(f"{name} commits behind its statement {n}" for name, n in split.items()),
                ),
            ),
        )


def _writes(evidence: Evidence, name: str, number: int) -> bool:
    return any(access.writes for access in evidence.footprint(name, number).accesses)
