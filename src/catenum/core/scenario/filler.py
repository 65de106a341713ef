"""Filler rows, so that the server takes the access paths it would take on real data.

The same seed gives the same rows.
"""

from __future__ import annotations

import random
import string
from collections.abc import Callable, Iterator

from catenum.core.scenario.model import Column, Fill

Value = str | int | None


def rows_of(fill: Fill) -> Iterator[tuple[Value, ...]]:
    """The rows, one after another, with their columns in the order of ``fill.columns``."""
    chance = random.Random(fill.seed)
    makers = [_maker(column, chance) for column in fill.columns.values()]
    for number in range(fill.rows):
        yield tuple(make(number) for make in makers)


def _maker(column: Column, chance: random.Random) -> Callable[[int], Value]:
    if column.sequence is not None:
        start = column.sequence
        return lambda number: start + number
    if column.choice is not None:
        choice = column.choice
        return lambda number: choice[number % len(choice)]
    if column.random is not None:
        low, high = sorted(column.random)
        return lambda number: chance.randint(low, high)
    if column.text is not None:
        length = column.text
        return lambda number: "".join(chance.choices(string.ascii_lowercase, k=length))
    constant = column.constant
    return lambda number: constant
