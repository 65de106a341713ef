"""What catches errors in a run: stored routines and triggers, and statements that are blocks of their own."""

from __future__ import annotations

from catenum.core.scenario.model import Scenario
from catenum.core.sql.handlers import caught
from catenum.engines.ports import Engine

Handlers = list[tuple[str, tuple[str, ...]]]


def handlers_of(engine: Engine, scenario: Scenario) -> Handlers:
    """Routines of the scratch space, then statements of a scenario that was made for the server; what each catches."""
    own = [
        (f"{name} statement {number}", found)
        for name, transaction in scenario.transactions.items()
        for number, statement in enumerate(transaction.statements, 1)
        if (found := caught(statement.text))
    ]
    return [*engine.handlers(), *own]
