"""Schedules: the order of moves, as in the textbooks.

A schedule names a transaction for each move. What an order leaves out follows in turns, so that any
prefix is a schedule.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import permutations

Order = tuple[str, ...]


def merges(lanes: Sequence[Sequence[str]]) -> Iterator[Order]:
    """Every order of what stands in the lanes that keeps the order of each lane."""
    if not any(lanes):
        yield ()
    for place, lane in enumerate(lanes):
        if lane:
            left = [*lanes[:place], lane[1:], *lanes[place + 1 :]]
            for rest in merges(left):
                yield (lane[0], *rest)


def complete(
    order: Sequence[str], moves: Mapping[str, int], previous: Mapping[str, str] | None = None
) -> Order:
    """``order`` and then, in turns, the moves it leaves out.

    ``moves`` gives the number of moves of each transaction. Turns are taken in the order in which
    transactions first appear, then as listed. Moves beyond a transaction's number are dropped (a
    remedy may have shortened it). ``previous``: after which other a transaction comes on its
    connection; its turns begin when that one has had all of its own.
    """
    left = dict(moves)
    result: list[str] = []
    for name in order:
        if left[name] > 0:
            left[name] -= 1
            result.append(name)
    turn = list(dict.fromkeys([*order, *moves]))
    while any(left.values()):
        for name in turn:
            if left[name] > 0 and not left.get((previous or {}).get(name, ""), 0):
                left[name] -= 1
                result.append(name)
    return tuple(result)


def mirror_images(order: Sequence[str], names: Sequence[str]) -> list[Order]:
    """``order`` and its mirror images: the same order with the transactions' names exchanged.

    Up to three transactions all exchanges are made; beyond that only the reversal and the rotations
    of the names, since all of them would be a factorial. The given order comes first; equal ones
    appear once.
    """
    if len(names) <= 3:
        roles: list[Sequence[str]] = list(permutations(names))
    else:
        rotations = [[*names[i:], *names[:i]] for i in range(len(names))]
        roles = [*rotations, list(reversed(names))]
    images = (tuple(dict(zip(names, role, strict=True))[name] for name in order) for role in roles)
    return list(dict.fromkeys(images))
