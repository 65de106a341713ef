"""Parameters with a domain: what is in a column is asked of the data once it is loaded."""

from __future__ import annotations

from catenum.core.errors import InputError
from catenum.core.record.values import Value
from catenum.core.scenario.draws import Draws
from catenum.core.scenario.model import Domain, Given, Scenario
from catenum.core.scenario.reader import ScenarioFile
from catenum.engines.ports import DataError, Engine

#: Of a column, so many different values are drawn from.
MOST_VALUES = 10_000


def domain_values(
    engine: Engine, scenario: Scenario, file: ScenarioFile | None, most: int = MOST_VALUES
) -> dict[tuple[str, str], Draws]:
    """What each parameter with a domain is drawn from, by transaction and name; of a column at most
    ``most`` values, in its order.

    Raises InputError where there is no such column, or nothing in it.
    """
    return {
        (transaction, name): _draws(engine, domain, transaction, name, file, most)
        for transaction, reported in scenario.transactions.items()
        for name, domain in reported.domains.items()
    }


def _draws(
    engine: Engine,
    domain: Domain,
    transaction: str,
    name: str,
    file: ScenarioFile | None,
    most: int,
) -> Draws:
    if domain.range is not None:
        low, high = domain.range
        return Draws(low=low, high=high, zipf=domain.zipf)
    if domain.choice is not None:
        return Draws(values=tuple(map(Value.from_python, domain.choice)), zipf=domain.zipf)
    place = file.place("transactions", transaction, "parameters", name) if file else None
    table, column = domain.table_and_column or ("", "")
    try:
        values = engine.values_of(table, column, most)
    except DataError as error:
        message = (
            f"the parameter {name!r} of {transaction} takes its values from"
            f" {table}.{column}: {error}"
        )
        raise InputError(message, place=place) from error
    if not values:
        raise InputError(
            f"the parameter {name!r} of {transaction} finds no value in {table}.{column}",
            place=place,
            advice="'data' or 'fill' must give the table rows.",
        )
    return Draws(values=values, zipf=domain.zipf)


def with_first_values(
    engine: Engine, scenario: Scenario, file: ScenarioFile | None
) -> tuple[Scenario, tuple[str, ...]]:
    """The scenario with one value for each such parameter, the first of its domain, and a note on
    each.
    """
    found = domain_values(engine, scenario, file, most=1)
    transactions = dict(scenario.transactions)
    notes = []
    for (transaction, name), draws in found.items():
        value = draws.value(0)
        reported = transactions[transaction]
        domain = scenario.transactions[transaction].domains[name]
        given = {
            **reported.parameters,
            name: value.plain if value.kind != "text" else Given(value=str(value)),
        }
        transactions[transaction] = reported.model_copy(update={"parameters": given})
        where = domain.column or "its domain"
        notes.append(
            f"the parameter {name} of {transaction} is {value}, the first value of {where}"
        )
    return scenario.model_copy(update={"transactions": transactions}), tuple(notes)
