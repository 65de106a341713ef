"""What is left out when runs are compared: values that differ from run to run, wherever they end
up.

Numbers from a sequence, the clock and chance differ between schedules that are equally right. They
are known from the tables (columns that the server fills in), from the scenario (``ignore``), from
running one serial order twice, and from the statements that carry such a value on: ``returning id``
kept as ``box``, and ``set latest = :box`` after it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from catenum.core.record.recording import NO_KEYS, Result, TableKeys, TableRows
from catenum.core.scenario.model import Scenario
from catenum.core.servers import Rules
from catenum.core.space.oracle import Observation, differing_columns, differing_result_columns
from catenum.core.sql.statements import Access, Footprint

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
        loaded: Mapping[str, TableRows],
    ) -> None:
        """``loaded``: the rows of each table before anything runs, all or the first of them."""
        self.scenario, self.rules, self.footprints = scenario, rules, footprints
        self.tables, self._loaded = tables, loaded
        self._columns = {name: rows.columns for name, rows in loaded.items()}
        self._of_new: set[str] = set()  # of these, only the values of rows that were not loaded
        self.why: dict[str, str] = {}
        self._results: dict[Place, set[str]] = {}  # columns of single results
        self._unused = set(_unused_reads(scenario, rules))
        self.made = False  # whether the server fills some column in
        for name in scenario.ignore:
            self.add(name.lower(), "the scenario says so")
        for found in footprints.values():
            self._add_made(found)
        self._add_carried()

    def add(self, name: str, why: str, *, of_new: bool = False) -> None:
        """Leave a column out; ``of_new``: its values in rows that were not loaded, as far as that
        can be told.
        """
        if of_new and (name not in self.why or name in self._of_new):
            self._of_new.add(name)
        else:
            self._of_new.discard(name)
        self.why.setdefault(name, why)

    def by_table(self, *, of_new: bool = False) -> dict[str, list[str]]:
        """For each table the columns that no fingerprint covers; or those that it covers in rows
        that were loaded.
        """
        whole = self.why.keys() - self._of_new
        left_out = self._of_new if of_new else whole
        return {
            table: [
                column
                for column in columns
                if column.lower() in left_out or self._named(table, column) in left_out
            ]
            for table, columns in self._columns.items()
            if table in self.tables
        }

    def left_out(self) -> dict[str, str]:
        """What is left out, in words, and why."""
        found = {
            f"{name} of new rows" if name in self._of_new else name: why
            for name, why in self.why.items()
        }
        for (name, number), read in self.footprints.items():
            if self._gives_numbers(read):
                found[f"what {name} statement {number + 1} returns"] = "the server makes its values"
            if (name, number) in self._unused:
                found[f"what {name} statement {number + 1} keeps"] = "no later statement uses it"
        return found

    def of_result(self, place: Place) -> frozenset[str]:
        """The columns of a statement's result that are left out; ``*`` stands for all of them."""
        found = self.footprints[place]
        if self._gives_numbers(found) or place in self._unused:
            return frozenset("*")
        tables = {
            access.table.lower() for access in found.accesses if not self._names_loaded(access)
        }
        every = {access.table.lower() for access in found.accesses}
        named = {
            column
            for name in self.why
            for table, dot, column in [name.partition(".")]
            if dot and table in (tables if name in self._of_new else every)
        }
        return frozenset(
            {name for name in self.why if "." not in name} | named | self._results.get(place, set())
        )

    def add_differing(self, one: SerialRun, two: SerialRun) -> bool:
        """Two runs of one serial order: what differs between them can differ in any run. Whether
        anything was new.

        A column of a result is left out of that statement's results alone; others may have one of
        the same name.
        """
        fresh = differing_columns(one[0], two[0]) - self.why.keys()
        for name in sorted(fresh):
            self.add(name, _DIFFERED)
        new = bool(fresh)
        for place in one[1].keys() & two[1].keys():
            differing = differing_result_columns(one[1][place], two[1][place]) - self.of_result(
                place
            )
            if differing:
                new = True
                self._results.setdefault(place, set()).update(differing)
                for name in sorted(differing):
                    self.add(f"{name} of {place[0]} {place[1] + 1}", _DIFFERED)
        return new

    def _at_place(self, table: str, named: str) -> str:
        columns = next(
            (c for name, c in self._columns.items() if name.lower() == table.lower()), ()
        )
        place = int(named[1:]) if named.startswith("#") else len(columns)
        return columns[place] if place < len(columns) else named

    @staticmethod
    def _gives_numbers(found: Footprint) -> bool:
        return bool(NUMBERS & set(found.by_nature)) and not any(
            access.writes for access in found.accesses
        )

    def _names_loaded(self, access: Access) -> bool:
        """Whether what is named by a key is a row that was loaded."""
        table = next((name for name in self._loaded if name.lower() == access.table.lower()), None)
        if table is None or access.verb == "insert":
            return False
        key, rows = self.tables.get(table, NO_KEYS).primary, self._loaded[table]
        given = {column: written for column, (_, written) in access.literals}
        if (
            not key
            or not {column.lower() for column in key} <= given.keys()
            or not set(key) <= set(rows.columns)
        ):
            return False
        places = [rows.columns.index(column) for column in key]
        named = tuple(given[column.lower()] for column in key)
        return any(tuple(row[place] for place in places) == named for row in rows.rows)

    @staticmethod
    def _named(table: str, column: str) -> str:
        return f"{table}.{column}".lower()

    def _add_made(self, found: Footprint) -> None:
        for access in found.accesses:
            given = {column for column, _ in access.equals}
            for column in (
                self.tables.get(access.table, NO_KEYS).made if access.verb == "insert" else ()
            ):
                if column.lower() not in given:
                    self.made = True
                    keyed = bool(self.tables[access.table].primary) and not access.changes_found
                    self.add(
                        self._named(access.table, column),
                        "the server makes its values",
                        of_new=keyed,
                    )
            if access.verb == "update" or access.changes_found:
                for column in self.tables.get(access.table, NO_KEYS).stamped:
                    self.add(
                        self._named(access.table, column),
                        "the server sets it whenever the row is changed",
                    )
            if access.sets_default:
                for column in self.tables.get(access.table, NO_KEYS).made:
                    self.made = True
                    self.add(self._named(access.table, column), "the server makes its values")

    def _add_carried(self) -> None:
        """Columns that are set from a kept value which the server made."""
        for name, transaction in self.scenario.transactions.items():
            made: set[str] = set()
            for number, statement in enumerate(transaction.statements):
                assigned = self.rules.sql.assigned(statement.text, frozenset(made), NUMBERS)
                writes = [a for a in self.footprints[name, number].accesses if a.writes]
                added = all(a.verb == "insert" and not a.changes_found for a in writes)
                for table, named in assigned:
                    column = self._at_place(table, named)
                    keyed = added and bool(self.tables.get(table, NO_KEYS).primary)
                    self.add(
                        self._named(table, column),
                        "it is set from a value that the server makes",
                        of_new=keyed,
                    )
                left_out = self.of_result((name, number))
                made -= statement.keep.keys()
                made |= {
                    kept
                    for kept, column in statement.kept.items()
                    if column != "rows" and (column.lower() in left_out or "*" in left_out)
                }


def _unused_reads(scenario: Scenario, rules: Rules) -> Iterator[Place]:
    """Plain queries that keep values of which no later statement or condition makes any use: what
    they gave no longer matters. One that keeps nothing is for whoever reads it.
    """
    for name, transaction in scenario.transactions.items():
        for number, statement in enumerate(transaction.statements):
            if not statement.kept or statement.require is not None:
                continue
            later = transaction.statements[number + 1 :]
            used = {value for one in later for value in rules.sql.value_names(one.text)}
            conditions = " ".join(f"{one.when or ''} {one.require or ''}" for one in later)
            used |= set(re.findall(r"[A-Za-z_]\w*", conditions))
            reads = rules.sql.footprint(statement.text).accesses
            if not used & set(statement.kept) and not any(access.writes for access in reads):
                yield name, number
