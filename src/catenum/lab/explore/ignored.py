"""What is left out when runs are compared: values that differ from run to run, wherever they end up.

Numbers from a sequence, the clock and chance differ between schedules that are equally right. They are known from the
tables (columns that the server fills in), from the scenario (``ignore``), from running one serial order twice, and from
the statements that carry such a value on: ``returning id`` kept as ``box``, and ``set latest = :box`` after it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from catenum.core.record.recording import NO_KEYS, Result, TableKeys
from catenum.core.scenario.model import Scenario
from catenum.core.servers import Rules
from catenum.core.space.oracle import Observation, differing_columns, differing_result_columns
from catenum.core.sql.statements import Footprint

#: A transaction and the number of its statement, from 0.
Place = tuple[str, int]
#: Functions that give a number that the server made.
NUMBERS = frozenset(["nextval", "currval", "lastval", "last_insert_id"])


_DIFFERED = "it differed between two runs of the same serial order"
#: What one serial order gave, and the result of each statement.
SerialRun = tuple[Observation, Mapping[Place, Result]]


class Ignored:
    """Columns by ``table.column`` or by name alone, and the columns of each statement's result."""

    def __init__(
        self,
        scenario: Scenario,
        rules: Rules,
        footprints: Mapping[Place, Footprint],
        tables: Mapping[str, TableKeys],
        columns: Mapping[str, Sequence[str]],
    ) -> None:
        """``columns``: those of each table, in order."""
        self.scenario, self.rules, self.footprints = scenario, rules, footprints
        self.tables, self._columns = tables, columns
        self.why: dict[str, str] = {}
        self._results: dict[Place, set[str]] = {}  # columns of single results
        self.made = False  # whether the server fills some column in
        for name in scenario.ignore:
            self.add(name.lower(), "the scenario says so")
        for found in footprints.values():
            self._add_made(found)
        self._add_carried()

    def add(self, name: str, why: str) -> None:
        """Leave a column out."""
        self.why.setdefault(name, why)

    def by_table(self) -> dict[str, list[str]]:
        """For each table the columns that no fingerprint covers."""
        return {
            table: [
                column for column in columns if column.lower() in self.why or self._named(table, column) in self.why
            ]
            for table, columns in self._columns.items()
            if table in self.tables
        }

    def of_result(self, place: Place) -> frozenset[str]:
        """The columns of a statement's result that are left out; ``*`` stands for all of them."""
        found = self.footprints[place]
        if NUMBERS & set(found.by_nature) and not any(access.writes for access in found.accesses):
            return frozenset("*")
        tables = [access.table.lower() for access in found.accesses]
        named = {column for name in self.why for table, dot, column in [name.partition(".")] if dot and table in tables}
        return frozenset({name for name in self.why if "." not in name} | named | self._results.get(place, set()))

    def add_differing(self, one: SerialRun, two: SerialRun) -> bool:
        """Two runs of one serial order: what differs between them can differ in any run. Whether anything was new.

        A column of a result is left out of that statement's results alone; others may have one of the same name.
        """
        fresh = differing_columns(one[0], two[0]) - self.why.keys()
        for name in sorted(fresh):
            self.add(name, _DIFFERED)
        new = bool(fresh)
        for place in one[1].keys() & two[1].keys():
            differing = differing_result_columns(one[1][place], two[1][place]) - self.of_result(place)
            if differing:
                new = True
                self._results.setdefault(place, set()).update(differing)
                for name in sorted(differing):
                    self.add(f"{name} of {place[0]} {place[1] + 1}", _DIFFERED)
        return new

    @staticmethod
    def _named(table: str, column: str) -> str:
        return f"{table}.{column}".lower()

    def _add_made(self, found: Footprint) -> None:
        for access in found.accesses:
            given = {column for column, _ in access.equals}
            for column in self.tables.get(access.table, NO_KEYS).made if access.verb == "insert" else ():
                if column.lower() not in given:
                    self.made = True
                    self.add(self._named(access.table, column), "the server makes its values")

    def _add_carried(self) -> None:
        """Columns that are set from a kept value which the server made."""
        for name, transaction in self.scenario.transactions.items():
            made: set[str] = set()
            for number, statement in enumerate(transaction.statements):
                assigned = self.rules.assigned(statement.text, frozenset(made), NUMBERS)
                for table, column in assigned:
                    self.add(self._named(table, column), "it is set from a value that the server makes")
                left_out = self.of_result((name, number))
                made -= statement.keep.keys()
                made |= {
                    kept
                    for kept, column in statement.kept.items()
                    if column != "rows" and (column.lower() in left_out or "*" in left_out)
                }
