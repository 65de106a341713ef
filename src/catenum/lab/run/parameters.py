"""Parameters that take their values from a column: asked of the data once it is loaded."""

from __future__ import annotations

from catenum.core.errors import InputError
from catenum.core.record.values import Value
from catenum.core.scenario.model import Literally, Scenario
from catenum.core.scenario.reader import ScenarioFile
from catenum.engines.ports import DataError, Engine

#: Of a column, so many different values are drawn from.
MOST_VALUES = 10_000


def domain_values(
    engine: Engine, scenario: Scenario, file: ScenarioFile | None, most: int = MOST_VALUES
) -> dict[tuple[str, str], tuple[Value, ...]]:
    """The values of each such parameter, by transaction and name, in the order of the column.

    Raises InputError where there is no such column, or nothing in it.
    """
    found = {}
    for transaction, reported in scenario.transactions.items():
        for name, (table, column) in reported.domains.items():
            place = file.place("transactions", transaction, "parameters", name) if file else None
            try:
                values = engine.values_of(table, column, most)
            except DataError as error:
                message = (
                    f"the parameter {name!r} of {transaction} takes its values from"
                    f" {table}.{column}: {error}"
                )
                raise InputError(message, place=place) from error
            if not values:
                message = (
                    f"the parameter {name!r} of {transaction} finds no value in {table}.{column}"
                )
                raise InputError(
                    message, place=place, advice="'data' or 'fill' must give the table rows."
                )
            found[transaction, name] = values
    return found


def with_first_values(
    engine: Engine, scenario: Scenario, file: ScenarioFile | None
) -> tuple[Scenario, tuple[str, ...]]:
    """The scenario with one value for each such parameter, the first of its column, and a note on
    each.
    """
    found = domain_values(engine, scenario, file, most=1)
    transactions = dict(scenario.transactions)
    notes = []
    for (transaction, name), (value, *_) in found.items():
        reported = transactions[transaction]
        table, column = scenario.transactions[transaction].domains[name]
        given = {
            **reported.parameters,
            name: value.plain if value.kind != "text" else Literally(value=str(value)),
        }
        transactions[transaction] = reported.model_copy(update={"parameters": given})
        notes.append(
            f"the parameter {name} of {transaction} is {value}, the first value of {table}.{column}"
        )
    return scenario.model_copy(update={"transactions": transactions}), tuple(notes)
