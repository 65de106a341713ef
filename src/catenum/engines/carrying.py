"""One iteration of a loop whose statements carry values and decide: the part that no server has to
know.
"""

from __future__ import annotations

import random
from collections.abc import Callable

from catenum.core.record.recording import Result, ServerError
from catenum.core.record.values import Binding
from catenum.core.scenario.carry import Carrier
from catenum.core.scenario.conditions import ConditionError, MissingValue
from catenum.engines.ports import LoopPlan

#: Runs a statement (from 1) with its values: how many rows, the rows, or an error.
Execute = Callable[[int, Binding], tuple[int | None, Result | None, ServerError | None]]


class CarryingLoop:
    """Makes the decisions of an iteration; ``execute`` is the server's part."""

    def __init__(self, plan: LoopPlan, names: tuple[tuple[str, ...], ...], seed: int) -> None:
        """``names``: those of each statement's parameters, in the order of its text."""
        self._plan, self._names, self._chance = plan, names, random.Random(seed)

    @property
    def needed(self) -> bool:
        """Whether anything is carried at all."""
        return bool(
            any(self._names) or any(s.keep or s.when or s.require for s in self._plan.statements)
        )

    def run(self, execute: Execute, at: Callable[[int], None]) -> ServerError | str:
        """The statements of one iteration. Returns how it is to end, or the error that ended it."""
        drawn = {name: self._chance.choice(values) for name, values in self._plan.drawn.items()}
        carried = Carrier({**self._plan.fixed, **drawn})
        for number, statement in enumerate(self._plan.statements, 1):
            try:
                if carried.undecided(statement) is not None:
                    carried.pass_over(statement, number)
                    if statement.otherwise in ("commit", "rollback"):
                        return str(statement.otherwise)
                    continue
                bound = carried.bound(self._names[number - 1])
                at(number)
                rows, result, error = execute(number, bound)
                if error is not None:
                    return error
                carried.keep(statement, number, rows, result)
                lacking = carried.lacking(statement, rows)
                if lacking is not None:
                    message = carried.said_of(lacking, rows)
                    return ServerError(code="", kind="refused", message=message, check="required")
            except MissingValue as missing:
                return _fault(carried.why_missing(missing.name))
            except (ConditionError, ValueError) as fault:
                return _fault(str(fault))
        return self._plan.ends


def _fault(message: str) -> ServerError:
    return ServerError(code="", kind="rejected", message=message)
