"""What catches errors in a run: stored routines and triggers, and statements that are blocks of
their own.
"""

from __future__ import annotations

from catenum.core.scenario.model import Scenario
from catenum.core.sql.handlers import caught
from catenum.core.text import listed
from catenum.engines.ports import Engine

Handlers = list[tuple[str, tuple[str, ...]]]


def handlers_of(engine: Engine, scenario: Scenario) -> Handlers:
    """Routines of the scratch space, then statements of a scenario that was made for the server;
    what each catches.
    """
    own = [
        (f"{name} statement {number}", found)
        for name, transaction in scenario.transactions.items()
        for number, statement in enumerate(transaction.statements, 1)
        if (found := caught(statement.text))
    ]
    return [*engine.handlers(), *own]


def handler_notes(handlers: Handlers) -> tuple[str, ...]:
    """What a reader of results should know of them."""
    return tuple(
        f"{routine} catches {listed(list(conditions))}: a deadlock or a refusal inside it need not"
        " reach its client, so the server's own count is compared after each schedule"
        for routine, conditions in handlers
    )
