"""A remedy for the code, rather than for the values at hand: what it changes in a transaction as it
is written out for some values is carried over to the same code written out for others.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import groupby
from typing import Any

from catenum.core.scenario.loops import as_code, element, in_texts
from catenum.core.scenario.model import Portions, Remedy, Scenario, Sql, Statement, Transaction

#: A statement of the code: a single one, by its place among those of no loop; or one of a loop, by
#: the loop and its place in it.
Key = tuple[str, int, int]
_NAMED = ("isolation", "timeout", "retry", "ends", "sort")


class OnlyHere(ValueError):
    """The remedy treats turns of a loop differently: it is one for these values only."""


def carried_over(
    remedy: Remedy, original: Scenario, scenario: Scenario, like: Mapping[str, str]
) -> Remedy | None:
    """``remedy`` of ``original`` for the same code with other values in ``scenario``; ``like``:
    which transaction each there is a copy of. None where it changes nothing of what is run there.
    Raises OnlyHere where it is none of the code.
    """
    parts: dict[str, Any] = {
        part: getattr(remedy, part) for part in ("index", "ddl") if getattr(remedy, part)
    }
    for part in _NAMED:
        change = getattr(remedy, part)
        if isinstance(change, Mapping):
            change = {name: change[of] for name, of in like.items() if of in change} or None
            change = _of_those(change, scenario) if part != "sort" else change
        if change is not None:
            parts[part] = change
    for name, of in like.items():
        if name not in scenario.transactions:
            continue
        mine = _of_statements(remedy, of, original.transactions[of], scenario.transactions[name])
        for part, change in mine:
            parts.setdefault(part, {})[name] = change
    return Remedy.model_construct(**parts) if parts else None


def _of_statements(
    remedy: Remedy, of: str, old: Transaction, new: Transaction
) -> Iterator[tuple[str, Any]]:
    """By part of the remedy, what it changes of one transaction's statements; ``of``: its name
    there.
    """

    def change(part: str) -> Any:
        return (getattr(remedy, part) or {}).get(of)

    for part in ("rewrite", "add"):
        if found := dict(_statements(change(part) or {}, old, new, added=part == "add")):
            yield part, found
    if gone := tuple(_dropped(change("drop") or (), old, new)):
        yield "drop", gone
    if change("split") is not None:
        yield "split", _behind(change("split"), old, new)
    if change("portions"):
        yield "portions", dict(_portions(change("portions"), old, new))
    if change("reorder"):
        yield "reorder", tuple(_order(change("reorder"), old, new))


def _of_those(change: Any, scenario: Scenario) -> Any:
    return {
        name: one for name, one in (change or {}).items() if name in scenario.transactions
    } or None


def keys_of(transaction: Transaction) -> list[Key]:
    """For each statement, which of the code it is."""
    found: list[Key] = []
    single = 0
    for statement in transaction.statements:
        if statement.turn is None:
            found.append(("single", single, 0))
            single += 1
        else:
            found.append(("loop", statement.turn.group, statement.turn.place))
    return found


def _statements(
    changes: Mapping[int, Statement], old: Transaction, new: Transaction, *, added: bool
) -> Iterator[tuple[int, Statement]]:
    """Statements by number, for the other values; ``added``: before those that have the numbers."""
    before, after = keys_of(old), keys_of(new)
    in_loops: dict[Key, dict[int, Statement]] = {}
    for number, one in changes.items():
        if number > len(before):
            yield len(after) + 1, one
            continue
        key, turn = before[number - 1], old.statements[number - 1].turn
        if turn is None:
            yield after.index(key) + 1, one
        elif (
            added
            and turn.number == 1
            and turn.place == 1
            and len(_turns(old, key[1])) > 1
            and all(n == number or before[n - 1] != key for n in changes if n <= len(before))
        ):
            yield _before_loop(key, before, after), one  # before the whole loop
        else:
            in_loops.setdefault(key, {})[turn.number] = one
    for key, of_turns in in_loops.items():
        if set(of_turns) != _turns(old, key[1]):
            raise OnlyHere("it changes some turns of a loop")
        codes = [_as_code(one, old, key, turn, old.lists) for turn, one in sorted(of_turns.items())]
        if any(code != codes[0] for code in codes):
            raise OnlyHere("it changes the turns of a loop in different ways")
        for place, other in enumerate(after, 1):
            turn_there = new.statements[place - 1].turn
            if other == key and turn_there is not None:
                yield place, _in_turn(codes[0], turn_there.lists, turn_there.number)


def _before_loop(key: Key, before: Sequence[Key], after: Sequence[Key]) -> int:
    """The number of the first statement of a loop; of one with nothing to go through, of what comes
    next.
    """
    start = before.index(key)
    for later in before[start:]:
        if later in after:
            return after.index(later) + 1
    return len(after) + 1


def _turns(transaction: Transaction, group: int) -> set[int]:
    return {
        one.turn.number
        for one in transaction.statements
        if one.turn is not None and one.turn.group == group
    }


def _as_code(
    statement: Statement, old: Transaction, key: Key, turn: int, lists: Mapping[str, Sequence[Any]]
) -> Statement:
    of = next(one.turn for one in old.statements if one.turn and one.turn.group == key[1])
    placed = of.model_copy(update={"number": turn})
    return as_code(statement.model_copy(update={"turn": placed}), lists).model_copy(
        update={"turn": None}
    )


def _in_turn(statement: Statement, lists: Sequence[str], number: int) -> Statement:
    sql = in_texts(statement.sql, {name: f":{element(name, number)}" for name in lists})
    return statement.model_copy(update={"sql": sql})


def _dropped(numbers: Sequence[int], old: Transaction, new: Transaction) -> Iterator[int]:
    before, after = keys_of(old), keys_of(new)
    gone = {before[number - 1] for number in numbers}
    for number, key in enumerate(before, 1):
        if key in gone and number not in numbers:
            raise OnlyHere("it leaves statements of some turns out")
    yield from (number for number, key in enumerate(after, 1) if key in gone)


def _behind(number: int, old: Transaction, new: Transaction) -> int:
    """The number of the statement behind which it commits."""
    before, after = keys_of(old), keys_of(new)
    if before[number - 1] == before[number] or before[number - 1] not in after:
        raise OnlyHere("it commits within a loop")
    return len(after) - after[::-1].index(before[number - 1])


def _portions(
    portions: Portions, old: Transaction, new: Transaction
) -> Iterator[tuple[int, tuple[Sql, ...]]]:
    """By the numbers of the same statements."""
    before, after = keys_of(old), keys_of(new)
    for number, texts in portions.items():
        if old.statements[number - 1].turn is not None:
            raise OnlyHere("it makes a loop's statement in portions")
        yield after.index(before[number - 1]) + 1, texts


def _order(order: Sequence[int], old: Transaction, new: Transaction) -> Iterator[int]:
    """An order of the code's statements, in which loops stay whole and go through their turns as
    before.
    """
    before = keys_of(old)
    after: dict[Key, list[int]] = {}
    for number, key in enumerate(keys_of(new), 1):
        after.setdefault(key, []).append(number)
    steps = [(before[n - 1], old.statements[n - 1].turn) for n in order]

    def loop(step: tuple[Key, Any]) -> object:
        return step[0][1] if step[0][0] == "loop" else step[0]

    seen: set[object] = set()
    for which, members in groupby(steps, key=loop):
        if which in seen:
            raise OnlyHere("it takes a loop apart")
        seen.add(which)
        listed = list(members)
        if listed[0][0][0] == "single":
            yield from after[listed[0][0]]
            continue
        turns = [(turn.number, key) for key, turn in listed if turn is not None]
        by_turn = [[key for _, key in of] for _, of in groupby(turns, key=_first)]
        if [number for number, _ in groupby(turns, key=_first)] != sorted(
            _turns(old, listed[0][0][1])
        ):
            raise OnlyHere("it changes the order of a loop's turns")
        if any(keys != by_turn[0] for keys in by_turn):
            raise OnlyHere("it changes the turns of a loop in different ways")
        for place in range(len(after.get(by_turn[0][0], ()))):
            yield from (after[key][place] for key in by_turn[0])


def _first(pair: tuple[int, Key]) -> int:
    return pair[0]
