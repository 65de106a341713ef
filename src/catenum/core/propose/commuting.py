"""Which of a transaction's own statements may change places without changing what it means.

Conservative, and by the texts alone: no swap across a value that is kept for later, a condition
that may end the transaction or that it requires, a table that one of the two writes (unless they
ask for different values of a column), a table with triggers, or a foreign key between what one
inserts or deletes and the other writes. What is left is run and compared all the same.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import combinations, permutations

from catenum.core.propose.candidate import Evidence
from catenum.core.sql.statements import Access

#: With more statements than this no other order is looked for.
MOST_STATEMENTS = 7


def orders(evidence: Evidence, name: str) -> Iterator[tuple[int, ...]]:
    """The orders of a transaction's statements (numbers from 1) that keep its meaning, its own
    first.
    """
    count = len(evidence.transactions[name].statements)
    own = tuple(range(1, count + 1))
    if count > MOST_STATEMENTS:
        yield own
        return
    fixed = {(a, b) for a, b in combinations(own, 2) if not commute(evidence, name, a, b)}
    for order in permutations(own):
        place = {number: at for at, number in enumerate(order)}
        if all(place[a] < place[b] for a, b in fixed):
            yield order


def group_moves(evidence: Evidence, name: str, hot: Sequence[int]) -> Iterator[tuple[int, ...]]:
    """Orders of a long transaction in which one of its ``hot`` statements goes past an earlier one,
    with the statements that it needs, or the earlier one goes behind it with those that need it.
    """
    own = range(1, len(evidence.transactions[name].statements) + 1)
    for first, then in combinations(sorted(set(hot)), 2):
        between = range(first, then + 1)
        for group in (
            _bound(evidence, name, then, reversed(between)),
            _bound(evidence, name, first, between),
        ):
            if first in group and then in group:
                continue
            rest = [number for number in between if number not in group]
            moved = (*group, *rest) if then in group else (*rest, *group)
            yield (*own[: first - 1], *moved, *own[then:])


def _bound(evidence: Evidence, name: str, start: int, others: Iterable[int]) -> list[int]:
    """The statements among ``others``, on the way from ``start``, that cannot change places with it
    or with one that goes along; in their own order.
    """
    group = [start]
    for number in others:
        if number in group:
            continue
        if any(not commute(evidence, name, *sorted((number, one))) for one in group):
            group.append(number)
    return sorted(group)


def inversions(order: Sequence[int]) -> int:
    """How many pairs have changed places: the swaps of neighbours that lead there (Kendall
    1938).
    """
    return sum(a > b for a, b in combinations(order, 2))


def commute(evidence: Evidence, name: str, first: int, then: int) -> bool:
    """Whether two statements of one transaction may change places."""
    statements = evidence.transactions[name].statements
    one, other = statements[first - 1], statements[then - 1]
    if any(
        statement.when is not None or statement.require is not None for statement in (one, other)
    ):
        return False
    if _uses(evidence, name, then) & set(one.kept):
        return False
    if set(one.kept) & set(other.kept):
        return False
    mine, theirs = evidence.footprint(name, first), evidence.footprint(name, then)
    if mine.control or theirs.control:
        return False
    if (
        not (mine.understood and theirs.understood)
        or mine.may_set_anything
        or theirs.may_set_anything
    ):
        return False
    if mine.named_locks or theirs.named_locks or mine.by_nature or theirs.by_nature:
        return False
    return not any(_conflict(evidence, a, b) for a in mine.accesses for b in theirs.accesses)


def _uses(evidence: Evidence, name: str, number: int) -> set[str]:
    return set(evidence.reading(evidence.sql(name, number)).parameters)


def _conflict(evidence: Evidence, a: Access, b: Access) -> bool:
    if "schema" in (a.verb, b.verb):
        return True
    if not (a.writes or b.writes):
        return False
    keys, other = evidence.keys(a.table), evidence.keys(b.table)
    if keys.triggers or other.triggers or keys.opaque or other.opaque:
        return True
    if a.table.lower() == b.table.lower():
        return not apart(a, b, [keys.primary, *keys.unique])
    parent, child = (a, b) if a.table in other.references else (b, a)
    related = a.table in other.references or b.table in keys.references
    return related and child.writes and parent.verb in ("insert", "delete")


def apart(a: Access, b: Access, keys: Sequence[tuple[str, ...]]) -> bool:
    """Whether their rows differ in a column that both compare with a literal, and neither moves a
    row from one value of it to another. Of two that insert, a unique key must say so: the server
    may number what they add.
    """
    mine, theirs = dict(a.literals), dict(b.literals)
    both = mine.keys() & theirs.keys()
    if (a.verb, b.verb) == ("insert", "insert"):
        both &= {column for key in keys if key and set(key) <= both for column in key}
    moved = {column for one in (a, b) if one.verb == "update" for column in one.columns}
    return any(mine[c][0] == theirs[c][0] and mine[c][1] != theirs[c][1] for c in both - moved)
