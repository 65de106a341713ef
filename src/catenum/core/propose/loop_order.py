"""Loop order: an application that goes through a list goes through it in the order of the keys.

Two loops over the same rows in different orders are the most common deadlock there is, and sorting
the list the most common fix. Where statements were captured with their values, the groups of
statements that come again are moved as wholes.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.scenario.loops import element
from catenum.core.scenario.model import Scalar, Transaction
from catenum.core.sql.loops import Repeated, repeated
from catenum.core.sql.parameter_uses import uses_of


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One candidate, for all loops that take part in a cycle."""
    names = evidence.in_cycles
    sort, reorder, tables, reported = {}, {}, {}, []
    for name in names:
        transaction = evidence.transactions[name]
        listed = _list_of_keys(evidence, name, transaction)
        if listed is not None:
            sort[name] = listed
            reported.append(f"{name} goes through {listed} in the order that it is given")
            continue
        found = _groups_in_order(evidence, name, transaction)
        if found is not None:
            reorder[name], tables[name] = found
            reported.append(f"{name} runs the same statements for one key after another")
    moved = {name: order for name, order in reorder.items() if list(order) != sorted(order)}
    if not sort and not moved:
        return
    lists = list(dict.fromkeys(sort.values()))
    parts = lists if len(lists) == 1 else [f"{one} of {name}" for name, one in sort.items()]
    parts += [f"the rows of {tables[name]} in {name}" for name in moved]
    yield (
        Candidate(
            kind="order",
            name=f"go through {_joined(parts)} in the order of the keys",
            because=(*reported, *evidence.waits_reported(names, 2)),
            remedy=remedy(sort=sort, reorder=moved),
            means=(
                "sort the list before the loop; the statements are the same, and each row is then"
                " locked in one order by everybody who does so",
            ),
        ),
    )


def _joined(parts: Sequence[str]) -> str:
    return parts[0] if len(parts) == 1 else f"{', '.join(parts[:-1])} and {parts[-1]}"


def _list_of_keys(evidence: Evidence, name: str, transaction: Transaction) -> str | None:
    """The list of a loop by whose elements rows are found that others want."""
    for number, statement in enumerate(transaction.statements, 1):
        if statement.turn is None or not _in_a_cycle(evidence, name, number):
            continue
        elements = {element(one, statement.turn.number): one for one in statement.turn.lists}
        for use in uses_of(statement.text, evidence.rules.sql.dialect, evidence.columns):
            keys = evidence.keys(use.table)
            found = use.how in ("equal", "inserted") and use.column in _lower(keys.columns)
            if found and use.name in elements:
                return elements[use.name]
    return None


def _lower(columns: frozenset[str]) -> set[str]:
    return {column.lower() for column in columns}


def _in_a_cycle(evidence: Evidence, name: str, number: int) -> bool:
    table = {one.table.lower() for one in evidence.footprint(name, number).accesses if one.writes}
    wanted = {
        one.table.lower()
        for members in evidence.cycles
        for other, statement in members
        if statement is not None
        for one in evidence.footprint(other, statement).accesses
    }
    return bool(table & wanted)


def _groups_in_order(
    evidence: Evidence, name: str, transaction: Transaction
) -> tuple[tuple[int, ...], str] | None:
    """An order of the statements in which groups that come again go by their keys, the others stay
    where they are; and the table of the keys.
    """
    if transaction.parameters or any(s.keep or s.when for s in transaction.statements):
        return None
    texts = [statement.text for statement in transaction.statements]
    order = list(range(1, len(texts) + 1))
    table = None
    for group in repeated(texts, evidence.rules.sql.dialect):
        place = _key_place(evidence, name, group)
        if place is None:
            continue
        table = group.columns[place][0]
        turns = sorted(range(len(group.turns)), key=lambda turn: _rank(group.values[turn][place]))
        numbers = [group.turns[turn] for turn in turns]
        order[group.start : group.end] = [n + 1 for turn in numbers for n in turn]
    return (tuple(order), table) if table is not None else None


def _key_place(evidence: Evidence, name: str, group: Repeated) -> int | None:
    """Which of the values of a turn is a key by which rows are changed that others want."""
    for place, (table, column, number) in enumerate(group.columns):
        keys = evidence.keys(table)
        if (
            column in _lower(keys.columns)
            and _in_a_cycle(evidence, name, group.start + number + 1)
            and len({values[place] for values in group.values}) == len(group.values)
        ):
            return place
    return None


def _rank(value: Scalar) -> tuple[int, float, str]:
    try:
        return 0, float(str(value)), ""
    except ValueError:
        return 1, 0.0, str(value)
