"""The names of values in a transaction: each must be a parameter, or kept by an earlier
statement.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from catenum.core.record.values import Values
from catenum.core.scenario.carry import ROWS
from catenum.core.scenario.conditions import Condition, ConditionError, known_kinds, parse_condition
from catenum.core.scenario.loops import element
from catenum.core.scenario.model import Statement, Transaction, sql_for
from catenum.core.servers import rules_of, servers_of_texts
from catenum.core.sql.parameters import parameters_in
from catenum.core.text import suggestion

#: A key of a statement, its text, and a name in it with its place.
Use = tuple[str, str, str, int]


@dataclass(frozen=True, slots=True)
class NameProblem:
    """What is wrong with a value's name: in which statement (from 0) and key, at which character of
    which text.
    """

    statement: int
    key: str
    text: str
    offset: int
    message: str
    advice: str | None = None


def name_problems(transaction: Transaction) -> Iterator[NameProblem]:
    """Every use of a name that cannot have a value there, every condition that cannot be read."""
    known = dict.fromkeys(transaction.parameters, -1)
    kept_later = {
        name: n for n, s in reversed(list(enumerate(transaction.statements))) for name in s.keep
    }
    for number, statement in enumerate(transaction.statements):
        uses: list[Use] = []
        try:
            uses = list(_uses(transaction, statement))
        except ConditionError as error:
            yield NameProblem(number, "when", str(statement.when), error.offset, str(error))
            uses = list(_uses_in_sql(statement))
        if statement.turn is not None and statement.turn.number > 1:
            uses = []  # said of the first turn
        for key, text, name, offset in dict.fromkeys(uses):
            if name in transaction.lists:
                message = f"{name!r} is a list, and has no value of its own"
                yield NameProblem(number, key, text, offset, message)
            if name in known:
                continue
            message = (
                f"{name!r} has no value here: no parameter has this name, and no earlier statement"
                " keeps it"
            )
            advice: str | None = "'keep' or 'parameters' give a name its value."
            if name in kept_later:
                message, advice = (
                    f"{name!r} is kept by statement {kept_later[name] + 1}, not before this one",
                    None,
                )
            elif known:
                advice = suggestion(name, _written_names(transaction, statement, known))
            yield NameProblem(number, key, text, offset, message, advice)
        for name in statement.keep:
            if name in transaction.parameters:
                yield NameProblem(
                    number,
                    "keep",
                    "",
                    0,
                    f"{name!r} is a parameter already; keep it under another name",
                )
            known[name] = number
        yield from _required(number, statement, known, transaction.fixed)


def _uses(transaction: Transaction, statement: Statement) -> Iterator[Use]:
    """The names that a statement needs a value of. Raises ConditionError."""
    if statement.when is not None:
        condition = parse_condition(statement.when)
        known_kinds(condition, transaction.fixed)
        for operand in condition.names:
            yield "when", statement.when, str(operand.name), operand.offset
    yield from _uses_in_sql(statement)


def _uses_in_sql(statement: Statement) -> Iterator[Use]:
    servers = reversed(servers_of_texts(statement.sql))
    texts = {sql_for(server, statement.sql): server for server in servers}
    for text, server in texts.items():
        for one in parameters_in(text, rules_of(server).sql.token_patterns):
            yield "sql", text, one.name, one.offset


def _written_names(
    transaction: Transaction, statement: Statement, known: Mapping[str, int]
) -> list[str]:
    """The names that the file has: those of a loop, and not what their elements are called."""
    elements = {
        element(name, number)
        for name, values in transaction.lists.items()
        for number in range(1, len(values) + 1)
    }
    called = statement.turn.called if statement.turn is not None else ()
    return [*called, *(name for name in known if name not in elements)]


def _required(
    number: int, statement: Statement, known: Mapping[str, int], fixed: Values
) -> Iterator[NameProblem]:
    """Of what must be true once a statement is done: of its own values, too, and of the number of
    its rows.
    """
    if statement.require is None:
        return
    try:
        condition = parse_condition(statement.require)
        known_kinds(condition, {name: value for name, value in fixed.items() if name != ROWS})
        _counts(condition)
    except ConditionError as error:
        yield NameProblem(number, "require", statement.require, error.offset, str(error))
        return
    for operand in condition.names:
        if operand.name not in known and operand.name != ROWS:
            message = (
                f"{operand.name!r} has no value here: neither this statement nor an earlier one"
                " keeps it"
            )
            advice = (
                "Keep it with 'keep', or use 'rows', the number of rows that the statement found or"
                " changed."
            )
            yield NameProblem(number, "require", statement.require, operand.offset, message, advice)


def _counts(condition: Condition) -> None:
    """Raises ConditionError where the number of rows is compared with a text."""
    for comparison in condition.comparisons:
        sides = [side for side in (comparison.left, comparison.right) if side is not None]
        text = next(
            (side for side in sides if side.name is None and side.value.kind == "text"), None
        )
        if text is not None and any(side.name == ROWS for side in sides):
            raise ConditionError(
                f"rows, a number, cannot be compared with the text {text}", comparison.offset
            )
