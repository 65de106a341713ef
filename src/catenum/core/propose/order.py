"""Order: a common order of access over all transactions of the cycles, by the fewest swaps that
break every cycle.

Each transaction takes the resources that others met it over in the order of its statements; a cycle
can close only where these orders, put together, have one (a feedback arc set of that graph is what
the swaps remove; exact, by trying all orders that keep each transaction's meaning).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from graphlib import CycleError, TopologicalSorter
from itertools import combinations, islice, product

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.propose.commuting import group_moves, inversions, orders
from catenum.core.propose.reading import PARAMETER

#: Orders of one transaction, and put together, that are looked at; and candidates that are tried.
MOST_OWN, MOST_TOGETHER, MOST_TRIED = 120, 20_000, 3
#: A condition that is longer than that names nothing.
MOST_WORDS = 30
#: A row that is named by one plain value: ``berth(id=3)`` is ``berth 3`` to people.
_KEY = re.compile(r"(\w+)\(\w+=(\w+)\)$")
#: By transaction: what it takes, and the number of the statement that does.
Taken = Mapping[str, Mapping[str, int]]


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One series: the fewest swaps first."""
    names = [name for name in evidence.in_cycles if len(evidence.transactions[name].statements) > 1]
    if not names:
        return
    taken = _taken(evidence, evidence.in_cycles)
    own = [_orders(evidence, name, taken.get(name, {})) for name in names]
    together = sorted(
        islice(product(*own), MOST_TOGETHER), key=lambda chosen: sum(map(inversions, chosen))
    )
    changed = [
        dict(zip(names, chosen, strict=True)) for chosen in together if any(map(inversions, chosen))
    ]
    good = [chosen for chosen in changed if _acyclic(taken, chosen)]
    # Where one thing is taken twice, weakly and then strongly, the orders of resources say nothing.
    tried = good or [
        chosen for chosen in changed if sum(inversions(order) > 0 for order in chosen.values()) == 1
    ]
    because = evidence.waits_reported(evidence.in_cycles)
    yield tuple(_candidate(evidence, chosen, taken, because) for chosen in tried[:MOST_TRIED])


def _orders(evidence: Evidence, name: str, taken: Mapping[str, int]) -> list[tuple[int, ...]]:
    """Orders of a transaction's statements that keep its meaning, the fewest swaps first; of a long
    one those in which a group of statements goes past another.
    """
    found = list(islice(orders(evidence, name), MOST_OWN))
    if len(found) == 1:
        found += group_moves(evidence, name, list(taken.values()))
    return sorted(dict.fromkeys(found), key=inversions)


def _candidate(
    evidence: Evidence, chosen: Mapping[str, Sequence[int]], taken: Taken, because: tuple[str, ...]
) -> Candidate:
    reorder = {name: tuple(order) for name, order in chosen.items() if inversions(order)}
    return Candidate(
        kind="order",
        name="; ".join(
            _name(evidence, name, order, taken.get(name, {})) for name, order in reorder.items()
        ),
        because=because,
        remedy=remedy(reorder=reorder),
        these_values=tuple(
            dict.fromkeys(
                f"which of its two rows of {table} {name} should take first depends on their keys"
                for name, order in reorder.items()
                for table in _of_one_table(evidence, name, order, taken.get(name, {}))
            )
        ),
        means=(
            (
                "the statements are the same; one transaction waits for the other instead of"
                " deadlocking with it"
            ),
        ),
    )


def _name(evidence: Evidence, name: str, order: Sequence[int], taken: Mapping[str, int]) -> str:
    """What is taken before what, where the order of two things that others wait for is turned by
    this order alone.
    """
    place = {number: at for at, number in enumerate(order)}
    turned = _turned(order, taken)
    short = [found for one in turned for resource in one if (found := _KEY.match(resource))]
    if len(turned) == 1 and len(short) == 2:
        first, then = (f"{found[1]} {found[2]}" for found in short)
        if evidence.transactions[name].parameters:  # another night has other keys
            pair = [_asked(evidence, name, taken[resource]) for resource in turned[0]]
            first, then = (one or known for one, known in zip(pair, (first, then), strict=True))
        return f"{name} takes {first} before {then}"
    passed = [
        pair
        for pair in combinations(range(1, len(order) + 1), 2)
        if place[pair[0]] > place[pair[1]]
    ]
    ahead = {then for _, then in passed}
    if len(ahead) == 1:
        asked = [_rows(evidence, name, number) for number in (*ahead, passed[0][0])]
        if asked[0] and asked[1] and asked[0] != asked[1]:
            return f"{name} takes {asked[0]} before {asked[1]}"
    return f"{name} in the order {' '.join(map(str, order))}"


def _turned(order: Sequence[int], taken: Mapping[str, int]) -> list[tuple[str, str]]:
    """Pairs of what is taken the other way round: what then comes first, and what came first."""
    place = {number: at for at, number in enumerate(order)}
    return [
        (then, first)
        for first, then in combinations(sorted(taken, key=lambda resource: taken[resource]), 2)
        if taken[first] < taken[then] and place[taken[then]] < place[taken[first]]
    ]


def _of_one_table(
    evidence: Evidence, name: str, order: Sequence[int], taken: Mapping[str, int]
) -> Iterator[str]:
    """The tables of which two rows are taken the other way round that the code names by parameters
    alone: with their values exchanged the old order is the right one.
    """
    for pair in _turned(order, taken):
        tables = {evidence.reading(evidence.sql(name, taken[one])).table for one in pair}
        asked = {_asked(evidence, name, taken[one]) for one in pair}
        if len(tables) == 1 and len(asked) == 2 and None not in asked:
            yield from filter(None, tables)


def _rows(evidence: Evidence, name: str, number: int) -> str | None:
    """What a statement asks for, where that is said in a few words."""
    reading = evidence.reading(evidence.sql(name, number))
    where = reading.where
    if not reading.table or not where or len(where) > MOST_WORDS:
        return None
    return f"{reading.table} ({where})"


def _asked(evidence: Evidence, name: str, number: int) -> str | None:
    """The row that a statement names by its key, in the words of the code."""
    reading = evidence.reading(evidence.sql(name, number))
    condition = evidence.key_condition(reading)
    if condition is None or not PARAMETER.search(condition):
        return None
    return f"{reading.table} ({condition})"


def _taken(evidence: Evidence, names: Sequence[str]) -> Taken:
    found: dict[str, dict[str, int]] = {name: {} for name in names}
    for wait_pair in evidence.explored.tally.wait_pairs.values():
        for name, number in (
            (wait_pair.waiter, wait_pair.statement),
            *(
                (wait_pair.holder, number)
                for number in (wait_pair.holder_statement, *wait_pair.holder_candidates)
            ),
        ):
            if name in found and number is not None:
                found[name][wait_pair.resource] = min(
                    number, found[name].get(wait_pair.resource, number)
                )
    return found


def _acyclic(taken: Taken, chosen: Mapping[str, Sequence[int]]) -> bool:
    graph: dict[str, set[str]] = {}
    for name, resources in taken.items():
        order = chosen.get(name)
        place = {number: at for at, number in enumerate(order)} if order is not None else None
        at = {
            resource: place[number] if place else number for resource, number in resources.items()
        }
        for one, first in at.items():
            graph.setdefault(one, set()).update(other for other, then in at.items() if then > first)
    try:
        TopologicalSorter(graph).prepare()
    except CycleError:
        return False
    return True
