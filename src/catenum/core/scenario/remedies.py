"""Applies a remedy to a scenario: the result is another scenario, and DDL to run after its data."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from catenum.core.errors import InputError
from catenum.core.scenario.loops import sorted_by, with_lists
from catenum.core.scenario.model import AfterError, Remedy, Scenario, Statement, Transaction, chosen
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
    return (_split(found, remedy.split) if remedy.split else found), ddl


def rest_of(name: str, names: Collection[str]) -> str:
    """What the second part of a transaction is called that commits in the middle."""
    number = 2
    while f"{name}-{number}" in names:
        number += 1
    return f"{name}-{number}"


def _split(scenario: Scenario, split: Mapping[str, int]) -> Scenario:
    """With transactions that commit behind a statement, and the rest as another one behind them on
    the same connection. An order of moves of the whole is none of the parts'.
    """
    found: dict[str, Transaction] = {}
    for name, transaction in scenario.transactions.items():
        number = split.get(name)
        if number is None:
            found[name] = transaction
            continue
        first, rest = transaction.statements[:number], transaction.statements[number:]
        found[name] = transaction.model_copy(update={"statements": first, "ends": "commit"})
        second = {"statements": rest, "connection": transaction.connection or name, "session": None}
        found[rest_of(name, scenario.transactions)] = transaction.model_copy(update=second)
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
    lines = []
    for name, order in (remedy.reorder or {}).items():
        lines.append(f"{name} runs its statements in the order {', '.join(map(str, order))}")
    for name, listed in (remedy.sort or {}).items():
        lines.append(f"{name} goes through {listed} in the order of the values")
    for name, number in (remedy.split or {}).items():
        rest = "the rest is a transaction of its own"
        lines.append(f"{name} commits behind statement {number}; {rest}")
    for kind, verb in (("isolation", "at"), ("timeout", "waits at most"), ("ends", "ends with")):
        change = getattr(remedy, kind)
        pairs = (
            change.items()
            if isinstance(change, dict)
            else [("every transaction", change)]
            if change
            else []
        )
        for name, value in pairs:
            lines.append(f"{name} {verb} {f'{value} ms' if kind == 'timeout' else value}")
    for name, statements in (remedy.rewrite or {}).items():
        lines.extend(
            f"{name} statement {number}: {_described(one)}" for number, one in statements.items()
        )
    for name, numbers in (remedy.drop or {}).items():
        lines.extend(f"{name} without statement {number}" for number in numbers)
    for name, statements in (remedy.add or {}).items():
        lines.extend(
            f"{name} before statement {number}: {_described(one)}"
            for number, one in statements.items()
        )
    lines.extend(
        " ".join(chosen(sql).split()) for sql in (*(remedy.index or ()), *(remedy.ddl or ()))
    )
    retry = remedy.retry
    for name, value in (
        retry.items()
        if isinstance(retry, dict)
        else [("every transaction", retry)]
        if retry
        else []
    ):
        lines.append(f"{name} tries again up to {value.times} times on {', '.join(value.on)}")
    return lines


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
