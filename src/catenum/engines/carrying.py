"""One iteration of a loop whose statements carry values and decide: the part that no server has to
know.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Mapping

from catenum.core.record.recording import Result, ServerError
from catenum.core.record.values import Binding, Value
from catenum.core.scenario.carry import Carrier
from catenum.core.scenario.conditions import ConditionError, MissingValue
from catenum.engines.ports import LoopPlan

#: Runs a statement (from 1) with its values: how many rows, the rows, or an error.
Execute = Callable[[int, Binding], tuple[int | None, Result | None, ServerError | None]]


def numbered(names: Mapping[str, str]) -> dict[int, str]:
    """Loops' names by the numbers of their sessions, where a server has numbers for ids."""
    return {int(one): name for one, name in names.items()}


class CarryingLoop:
    """Makes the decisions of an iteration; ``execute`` is the server's part."""

    def __init__(self, plan: LoopPlan, names: tuple[tuple[str, ...], ...], seed: int) -> None:
        """``names``: those of each statement's parameters, in the order of its text."""
        self._plan, self._names, self._thinks = plan, names, bool(plan.thinks)
        chance = random.Random(seed)
        self._drawers = {name: draws.drawer(chance) for name, draws in plan.drawn.items()}
        self._values: dict[str, Value] = dict(plan.fixed)
        given = self._values.keys() | self._drawers.keys()
        #: Statements that keep and decide nothing, and whose values are all given.
        self._plain = {
            number
            for number, (statement, used) in enumerate(zip(plan.statements, names, strict=True), 1)
            if not (statement.keep or statement.when or statement.require) and given >= set(used)
        }
        self._draw()

    def _draw(self) -> None:
        for name, drawer in self._drawers.items():
            self._values[name] = drawer()

    @property
    def needed(self) -> bool:
        """Whether anything is carried at all."""
        return bool(
            any(self._names) or any(s.keep or s.when or s.require for s in self._plan.statements)
        )

    def run(
        self, execute: Execute, at: Callable[[int], None], *, again: bool = False
    ) -> ServerError | str:
        """The statements of one iteration. Returns how it is to end, or the error that ended it.
        ``again``: with the values that were drawn before.
        """
        if not again:
            self._draw()
        if len(self._plain) == len(self._plan.statements):
            return self._run_plain(execute, at)
        carried = Carrier(self._values)
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
        if self._thinks:
            at(len(self._names) + 1)
        return self._plan.ends

    def _run_plain(self, execute: Execute, at: Callable[[int], None]) -> ServerError | str:
        """Nothing is decided on the way: what is done here is done thousands of times a second."""
        values = self._values
        for number, names in enumerate(self._names, 1):
            at(number)
            error = execute(number, tuple([(name, values[name]) for name in names]))[2]
            if error is not None:
                return error
        if self._thinks:
            at(len(self._names) + 1)
        return self._plan.ends


def _fault(message: str) -> ServerError:
    return ServerError(code="", kind="rejected", message=message)
