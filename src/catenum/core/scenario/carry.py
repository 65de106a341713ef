"""What one attempt of a transaction carries from statement to statement: its parameters, and what
it has kept.
"""

from __future__ import annotations

from catenum.core.record.recording import Result
from catenum.core.record.values import NULL, Binding, Value, Values
from catenum.core.scenario.conditions import Comparison, MissingValue
from catenum.core.scenario.model import Statement

#: In ``keep`` and ``require``: the number of rows that a statement found or changed.
ROWS = "rows"


class Carrier:
    """The values of one transaction, in one attempt. Statements are counted from 1 in its
    messages.
    """

    def __init__(self, fixed: Values) -> None:
        """``fixed``: the values of its parameters."""
        self.fixed = dict(fixed)
        self.values = dict(fixed)
        self._missing: dict[str, str] = {}

    def begin_again(self) -> None:
        """Another attempt: nothing is kept."""
        self.values = dict(self.fixed)
        self._missing.clear()

    def undecided(self, statement: Statement) -> Comparison | None:
        """The comparison by which the statement is not run; None where it is.

        Raises MissingValue, and ConditionError for a comparison of different types.
        """
        condition = statement.condition
        return condition.undecided(self.values) if condition is not None else None

    def bound(self, names: tuple[str, ...]) -> Binding:
        """The values of a statement's parameters. Raises MissingValue."""
        for name in names:
            if name not in self.values:
                raise MissingValue(name)
        return tuple((name, self.values[name]) for name in names)

    def keep(
        self, statement: Statement, number: int, rows: int | None, result: Result | None
    ) -> dict[str, Value]:
        """Take from a reply what the statement keeps. Raises ValueError for a column that it does
        not return.
        """
        kept: dict[str, Value] = {}
        for name, column in statement.kept.items():
            self._missing.pop(name, None)
            self.values.pop(name, None)
            if column == ROWS:
                kept[name] = Value.from_python(rows)
            elif result is None or column not in result.columns:
                returned = ", ".join(result.columns) if result is not None else "no columns"
                raise ValueError(
                    f"it returns no column {column!r} to keep as {name!r}; it returns: {returned}"
                )
            elif not result.rows:
                self._missing[name] = f"statement {number} returned no row"
            else:
                place = result.columns.index(column)
                kept[name] = Value.read(
                    result.rows[0][place], result.kinds[place] if result.kinds else "text"
                )
        self.values.update(kept)
        return kept

    def lacking(self, statement: Statement, rows: int | None) -> Comparison | None:
        """Of what a statement requires once it is done, the first comparison that is not true.

        Raises MissingValue, and ConditionError for a comparison of different types.
        """
        requirement = statement.requirement
        return (
            requirement.undecided({**self.values, ROWS: Value.from_python(rows)})
            if requirement is not None
            else None
        )

    def said_of(self, comparison: Comparison, rows: int | None) -> str:
        """That a comparison is not true, with the values of its names."""
        values = {**self.values, ROWS: Value.from_python(rows)}
        sides = (
            side
            for side in (comparison.left, comparison.right)
            if side is not None and side.name is not None
        )
        reported = ", ".join(f"{side.name} is {values.get(str(side.name), NULL)}" for side in sides)
        return (
            f"'{comparison}' is not true: {reported}" if reported else f"'{comparison}' is not true"
        )

    def pass_over(self, statement: Statement, number: int) -> None:
        """The statement is not run: what it would have kept is missing."""
        for name in statement.keep:
            self.values.pop(name, None)
            self._missing[name] = f"statement {number} was passed over"

    def why_missing(self, name: str) -> str:
        """In a sentence, that a name has no value now, and why."""
        return f"{name!r} has no value: {self._missing.get(name, 'no statement has kept it')}"
