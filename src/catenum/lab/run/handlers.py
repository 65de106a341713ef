"""What catches errors in a run: stored routines and triggers, and statements that are blocks of
their own.
"""

from __future__ import annotations

from catenum.core.errors import InputError
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.sql.handlers import caught, may_meet_timeout
from catenum.core.text import listed

Handlers = list[tuple[str, tuple[str, ...]]]


def handlers_of(routines: Handlers, scenario: Scenario) -> Handlers:
    """``routines`` of the scratch space, then statements of a scenario that was made for the
    server; what each catches.
    """
    own = [
        (f"{name} statement {number}", found)
        for name, transaction in scenario.transactions.items()
        for number, statement in enumerate(transaction.statements, 1)
        if (found := caught(statement.text))
    ]
    return [*routines, *own]


def refuse_cancelling(
    scenario: Scenario, handlers: Handlers, file: ScenarioFile | None = None
) -> None:
    """Raises InputError where timeouts run out by order and code may catch one: Catenum cancels the
    statement then, and no handler catches that.
    """
    for routine, conditions in handlers if scenario.timeouts == "by order" else ():
        meeting = [one for one in conditions if may_meet_timeout(one)]
        if meeting:
            raise InputError(
                f"timeouts: by order: a wait is ended by cancelling its statement, which no handler"
                f" catches, but {routine} catches {listed(meeting)}",
                place=file.places.get(("timeouts",)) if file else None,
                advice="Leave it out: the server's own timeouts then run out before the next move.",
            )


def handler_notes(handlers: Handlers) -> tuple[str, ...]:
    """What a reader of results should know of them."""
    return tuple(
        f"{routine} catches {listed(list(conditions))}: a deadlock, a timeout or a"
        " refusal inside it need not reach its client, so the server's own count of deadlocks is"
        " compared after each schedule, and so is who still held what was waited for"
        for routine, conditions in handlers
    )
