"""The serial oracle: is the result of a schedule that of some serial order?

A schedule of transactions is right when its end state, and every result that a committed
transaction saw, are those of some order in which the committed transactions ran one after another
(serializability: Papadimitriou 1979; Bernstein, Hadzilacos and Goodman 1987, chapter 2; here by
what was seen rather than by what conflicts). No rule of the user's is needed for that. The serial
orders themselves are run on the same server.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import groupby

from catenum.core.record.recording import Result, TableRows, digest_of
from catenum.core.space.schedule import merges

Row = tuple[str | None, ...]
#: Of serial orders, no more than so many are run for one set of transactions.
MOST_ORDERS = 720


@dataclass(frozen=True, slots=True)
class Seen:
    """What one statement gave: how many rows it found or changed, and the rows it returned as one
    text.
    """

    rows: int | None
    content: str = ""
    shown: str = ""

    @property
    def text(self) -> str:
        """What it gave, or at least how many rows."""
        return self.shown or f"{self.rows} rows"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Seen) and (self.rows, self.content) == (other.rows, other.content)

    def __hash__(self) -> int:
        return hash((self.rows, self.content))


#: What a statement gave that was not run, by its condition.
PASSED_OVER = Seen(None, "passed over", "not run")


@dataclass(frozen=True, slots=True, kw_only=True)
class Observation:
    """What a run did to the data, and saw of it: who committed (in that order), what they saw, and
    the end state. Where each statement is a transaction of its own, it is one of these (``unit``).
    """

    committed: tuple[str, ...]
    seen: Mapping[str, tuple[Seen, ...]]
    end: str
    rows: Mapping[str, TableRows] = field(default_factory=dict)
    #: When each statement had its answer: transaction and number (from 0) to its place in the run.
    places: Mapping[tuple[str, int], int] = field(default_factory=dict)
    commits: Mapping[str, int] = field(default_factory=dict)

    @property
    def key(self) -> tuple[object, ...]:
        """What must be equal for the data to be equal."""
        return (
            tuple(sorted(self.committed)),
            tuple((n, self.seen[n]) for n in sorted(self.committed)),
            self.end,
        )


def seen_of(
    rows: int | None,
    result: Result | None,
    ignored: frozenset[str],
    *,
    ordered: bool,
    order_by: Sequence[str] = (),
) -> Seen:
    """What a statement gave, without the columns whose values differ from run to run (``*``: all of
    them).

    ``ordered``: the order of the rows counts; ``order_by``: rows that are equal in these columns
    may come in any.
    """
    if result is None:
        return Seen(rows)
    if "*" in ignored:
        return Seen(rows)
    kept = [i for i, column in enumerate(result.columns) if column.lower() not in ignored]
    if result.cut and len(kept) == len(result.columns):
        return Seen(rows, result.digest or "", f"{rows} rows")
    values = [tuple(row[i] for i in kept) for row in result.rows]
    content = repr(_in_order(result, values, order_by)) if ordered else digest_of(values)
    return Seen(rows, content, _shown(values))


def _in_order(result: Result, values: list[Row], order_by: Sequence[str]) -> list[Row]:
    """The rows as they came, but equals sorted. Where it is by columns that were not asked for, as
    they came.
    """
    columns = [column.lower() for column in result.columns]
    if not order_by or not set(order_by) <= set(columns):
        return values
    places = [columns.index(column) for column in order_by]
    pairs = zip(([row[place] for place in places] for row in result.rows), values, strict=True)
    groups = groupby(pairs, key=lambda pair: pair[0])
    return [row for _, group in groups for row in sorted((row for _, row in group), key=repr)]


def _shown(values: Sequence[tuple[str | None, ...]]) -> str:
    if not values:
        return "no row"
    if len(values) == 1:
        return ", ".join("null" if v is None else v for v in values[0]) or "one row"
    return f"{len(values)} rows"


def unit(transaction: str, statement: int) -> str:
    """The name of a statement that is a transaction of its own; no transaction has a blank in its
    name.
    """
    return f"{transaction} {statement}"


def transaction_of(unit: str) -> str:
    """The transaction that a unit is, or of which it is a statement."""
    return unit.partition(" ")[0]


def lanes_of(committed: Sequence[str], connections: Iterable[Sequence[str]]) -> list[list[str]]:
    """What committed, by connection: on each, one after another in the order of the commits."""
    place = {name: number for number, names in enumerate(connections) for name in names}
    found: dict[object, list[str]] = {}
    for one in committed:
        found.setdefault(place.get(transaction_of(one), one), []).append(one)
    return sorted(found.values())


def count_of_orders(lanes: Sequence[Sequence[str]]) -> int:
    """How many serial orders there are."""
    whole = math.factorial(sum(map(len, lanes)))
    return whole // math.prod(math.factorial(len(lane)) for lane in lanes)


def serial_orders(
    committed: Sequence[str], lanes: Sequence[Sequence[str]] | None = None
) -> Iterator[tuple[str, ...]]:
    """Orders to try, the order of the commits first: where locks are held to the end it is the
    one. ``lanes``: see ``lanes_of``; default: each on a connection of its own.
    """
    lanes = [[one] for one in sorted(committed)] if lanes is None else lanes
    first = tuple(committed)
    yield first
    for number, order in enumerate(merges(lanes)):
        if number >= MOST_ORDERS:
            return
        if order != first:
            yield order


def differing_columns(one: Observation, two: Observation) -> set[str]:
    """Columns of tables that differ between two runs of one serial order, as ``table.column``."""
    found: set[str] = set()
    for table, rows in one.rows.items():
        other = two.rows.get(table)
        if other is not None and rows.columns == other.columns:
            found |= {
                f"{table}.{c}".lower() for c in _differing(rows.columns, rows.rows, other.rows)
            }
    return found


def differing_result_columns(one: Result, two: Result) -> set[str]:
    """Columns of a result that differ between two runs of one serial order."""
    return {column.lower() for column in _differing(one.columns, one.rows, two.rows)}


def _differing(columns: Sequence[str], one: Sequence[Row], two: Sequence[Row]) -> Iterator[str]:
    for place, column in enumerate(columns):
        if sorted(repr(row[place]) for row in one) != sorted(repr(row[place]) for row in two):
            yield column
