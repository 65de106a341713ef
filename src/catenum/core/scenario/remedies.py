"""Applies a remedy to a scenario: the result is another scenario, and DDL to run after its data."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from itertools import count, islice
from typing import Any

from catenum.core.errors import InputError
from catenum.core.scenario.loops import sorted_by, with_lists
from catenum.core.scenario.model import (
    AfterError,
    Remedy,
    Scenario,
    Sql,
    Statement,
    Transaction,
    chosen,
)
from catenum.core.text import suggestion

#: No statements.
NONE: Mapping[int, Statement] = {}
#: The label of a statement that a remedy adds.
ADDED = "added by the remedy"


def apply_remedy(scenario: Scenario, remedy: Remedy) -> tuple[Scenario, tuple[str, ...]]:
    """The changed scenario and the DDL that the remedy adds (indexes first)."""
    changed = {
        name: _changed(name, transaction, remedy)
        for name, transaction in scenario.transactions.items()
    }
    ddl = tuple(chosen(sql) for sql in (*(remedy.index or ()), *(remedy.ddl or ())))
    found = scenario.model_copy(update={"transactions": changed})
    return (_split(found, remedy) if remedy.split or remedy.portions else found), ddl


def names_of_parts(name: str, parts: int, names: Collection[str]) -> list[str]:
    """What the parts of a transaction are called that commits in between; the first keeps its
    name.
    """
    free = (f"{name}-{number}" for number in count(2) if f"{name}-{number}" not in names)
    return [name, *islice(free, parts - 1)]


def parts_of(name: str, transaction: Transaction, remedy: Remedy) -> list[tuple[Statement, ...]]:
    """The statements of the transactions that a remedy makes of one, which has its other changes
    already.
    """
    behind = (remedy.split or {}).get(name)
    portions = (remedy.portions or {}).get(name, {})
    found: list[list[Statement]] = [[]]
    for number, statement in enumerate(transaction.statements, 1):
        first, *others = portions.get(number) or (statement.sql,)
        found[-1].append(statement.model_copy(update={"sql": first}) if others else statement)
        found += [[statement.model_copy(update={"sql": text})] for text in others]
        if number == behind:
            found.append([])
    return [tuple(statements) for statements in found]


def _split(scenario: Scenario, remedy: Remedy) -> Scenario:
    """With transactions that commit behind a statement, and the rest as others behind them on the
    same connection. An order of moves of the whole is none of the parts'.
    """
    found: dict[str, Transaction] = {}
    for name, transaction in scenario.transactions.items():
        first, *others = parts_of(name, transaction, remedy)
        if not others:
            found[name] = transaction
            continue
        names = names_of_parts(name, 1 + len(others), scenario.transactions)
        found[name] = transaction.model_copy(update={"statements": first, "ends": "commit"})
        behind = {"connection": transaction.connection or name, "session": None}
        for place, statements in enumerate(others, 1):
            ends = transaction.ends if place == len(others) else "commit"
            part = {"statements": statements, "ends": ends, **behind}
            found[names[place]] = transaction.model_copy(update=part)
    return scenario.model_copy(update={"transactions": found, "order": None, "orders": {}})


def apply_remedies(scenario: Scenario, names: str | None) -> tuple[Scenario, tuple[str, ...]]:
    """The scenario with the remedies in ``names`` ("one + other") applied in turn, and the DDL that
    they add.

    Raises InputError for a name that the scenario does not have.
    """
    ddl: list[str] = []
    for name in split_names(names, scenario.remedies) if names else ():
        scenario, added = apply_remedy(scenario, scenario.remedies[name])
        ddl.extend(added)
    return scenario, tuple(ddl)


def split_names(names: str, known: Mapping[str, Remedy]) -> list[str]:
    """The names in "one + other". Raises InputError for one that is not among ``known``."""
    parts = [names] if names in known else [part.strip() for part in names.split("+")]
    for part in parts:
        if part not in known:
            raise InputError(f"there is no remedy {part!r}", advice=suggestion(part, list(known)))
    return parts


def changed_statements(
    transaction: Transaction,
    order: Sequence[int] | None,
    changed: Mapping[int, Statement],
    added: Mapping[int, Statement] = NONE,
    dropped: Sequence[int] = (),
) -> Transaction:
    """The transaction with some statements changed in what is said of them, others added before
    those that have their numbers or left out, in another order; all count the statements as they
    were, from 1. One that was added stays before its statement.
    """
    statements = list(transaction.statements)
    for number, change in changed.items():
        reported = {part: getattr(change, part) for part in change.model_fields_set}
        statements[number - 1] = statements[number - 1].model_copy(update=reported)
    places = [*(order or range(1, len(statements) + 1)), len(statements) + 1]
    statements = [
        one
        for number in places
        for one in (
            *((_labelled(added[number]),) if number in added else ()),
            *(statements[number - 1 : number] if number not in dropped else ()),
        )
    ]
    return transaction.model_copy(update={"statements": tuple(statements)})


def _labelled(statement: Statement) -> Statement:
    return (
        statement if statement.label is not None else statement.model_copy(update={"label": ADDED})
    )


def _changed(name: str, transaction: Transaction, remedy: Remedy) -> Transaction:
    listed = (remedy.sort or {}).get(name)
    if listed is not None:
        transaction = sorted_by(transaction, listed)
    transaction = changed_statements(
        transaction,
        (remedy.reorder or {}).get(name),
        (remedy.rewrite or {}).get(name) or NONE,
        (remedy.add or {}).get(name) or NONE,
        (remedy.drop or {}).get(name, ()),
    )
    transaction = with_lists(transaction)
    update: dict[str, object] = {}
    for kind in ("isolation", "timeout", "retry", "ends"):
        change = getattr(remedy, kind)
        value = change.get(name) if isinstance(change, dict) else change
        if value is not None:
            update[kind] = value
    level = update.pop("isolation", None)
    if level is not None:
        transaction = transaction.at_level(str(level))
    return transaction.model_copy(update=update)


def describe(remedy: Remedy) -> list[str]:
    """The remedy's changes as short lines."""
    return [*_course(remedy), *_settings(remedy), *_statements(remedy), *_retries(remedy)]


def _course(remedy: Remedy) -> Iterator[str]:
    """What is done in another order, or in several transactions."""
    for name, order in (remedy.reorder or {}).items():
        yield f"{name} runs its statements in the order {', '.join(map(str, order))}"
    for name, listed in (remedy.sort or {}).items():
        yield f"{name} goes through {listed} in the order of the values"
    for name, number in (remedy.split or {}).items():
        yield f"{name} commits behind statement {number}; the rest is a transaction of its own"
    for name, portions in (remedy.portions or {}).items():
        for number, texts in portions.items():
            yield (
                f"{name} makes statement {number} in {len(texts)} portions, and commits behind each"
            )
            yield from (f"  {_in_a_line(text)}" for text in texts)


def _settings(remedy: Remedy) -> Iterator[str]:
    for name, level in _by_name(remedy.isolation):
        yield f"{name} at {level}"
    for name, limit in _by_name(remedy.timeout):
        yield f"{name} waits at most {limit} ms"
    for name, end in _by_name(remedy.ends):
        yield f"{name} ends with {end}"


def _statements(remedy: Remedy) -> Iterator[str]:
    for name, statements in (remedy.rewrite or {}).items():
        for number, one in statements.items():
            yield f"{name} statement {number}: {_described(one)}"
    for name, numbers in (remedy.drop or {}).items():
        yield from (f"{name} without statement {number}" for number in numbers)
    for name, statements in (remedy.add or {}).items():
        for number, one in statements.items():
            yield f"{name} before statement {number}: {_described(one)}"
    yield from map(_in_a_line, (*(remedy.index or ()), *(remedy.ddl or ())))


def _retries(remedy: Remedy) -> Iterator[str]:
    for name, retry in _by_name(remedy.retry):
        yield f"{name} tries again up to {retry.times} times on {', '.join(retry.on)}"


def _by_name(change: Any) -> Iterable[tuple[str, Any]]:
    """What is said for all, or for some by name."""
    if isinstance(change, Mapping):
        return change.items()
    return [("every transaction", change)] if change else []


def _in_a_line(sql: Sql) -> str:
    return " ".join(chosen(sql).split())


def after_error_text(step: AfterError | None) -> str:
    """What a statement or a transaction does after an error; empty where nothing is said of it."""
    if step is None:
        return ""
    by_kind = step.items() if isinstance(step, dict) else [("an error", step)]
    return f"after {', '.join(f'{kind}: {what}' for kind, what in by_kind)}"


def _described(statement: Statement) -> str:
    """Its SQL in one line, and what else is said of it."""
    said = statement.model_fields_set
    more = (
        [f"keeps {', '.join(statement.kept)}" if statement.kept else "keeps nothing"]
        if "keep" in said
        else []
    )
    if "when" in said:
        more.append(f"only when {statement.when}" if statement.when is not None else "always")
    if "after_error" in said:
        more.append(after_error_text(statement.after_error) or "after an error: as the others")
    if "require" in said:
        more.append(
            f"refused unless {statement.require}"
            if statement.require is not None
            else "whatever it finds"
        )
    return " ".join(statement.text.split()) + (f" ({'; '.join(more)})" if more else "")
