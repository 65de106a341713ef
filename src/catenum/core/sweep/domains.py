"""Where the parameters of a scenario take their values from: columns, and those that refer to one
another.

Two parameters can be equal where their columns hold the same kind of thing: the same column, or
one that a foreign key leads to. All such columns are one domain, named after the one that the keys
lead to.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field

from catenum.core.logs.tables import Schema, TableInfo, read_schema
from catenum.core.scenario.loops import element
from catenum.core.scenario.model import Given, Scenario, Transaction
from catenum.core.servers import Rules
from catenum.core.sql.parameter_uses import Use, uses_of

_POSITIONAL = re.compile(r"(?i)\s*insert\s+into\s+(?P<table>\w+)\s+(?=values\b)")
#: A column, by its table, both in lower case.
ColumnKey = tuple[str, str]


@dataclass(frozen=True, kw_only=True)
class Slot:
    """A parameter that is swept: of a transaction, whether it is a list, and its domain."""

    transaction: str
    name: str
    listed: bool
    domain: ColumnKey


@dataclass(frozen=True, kw_only=True)
class Crossing:
    """A table whose rows are found by a key, of domain ``by``, and by another column as well: which
    row has which value in it counts.
    """

    by: ColumnKey
    table: str
    key: str
    column: str


@dataclass(frozen=True, kw_only=True)
class Domains:
    """The slots of a scenario; ``given``: parameters that keep the value they have, and why;
    ``columns``: every column of each domain; ``ranged``: domains in which values are compared by
    their order; ``made``: those of which rows are inserted or deleted; ``crossed``: those whose
    values find rows of a table that those of another domain find by a key.
    """

    schema: Schema
    slots: tuple[Slot, ...]
    given: dict[tuple[str, str], str] = field(default_factory=dict)
    columns: dict[ColumnKey, frozenset[ColumnKey]] = field(default_factory=dict)
    ranged: frozenset[ColumnKey] = frozenset()
    made: frozenset[ColumnKey] = frozenset()
    crossed: dict[ColumnKey, Crossing] = field(default_factory=dict)

    def with_columns(self, sql: str) -> str:
        """An INSERT that names no columns, with those of its table: to be read, not run."""
        found = _POSITIONAL.match(sql)
        info = self.schema.tables.get(found["table"].lower()) if found is not None else None
        if found is None or info is None:
            return sql
        return f"{found[0]} ({', '.join(info.columns)}) {sql[found.end() :]}"

    def of(self, transaction: str) -> list[Slot]:
        """The slots of one transaction."""
        return [slot for slot in self.slots if slot.transaction == transaction]


def domains_of(scenario: Scenario, rules: Rules) -> Domains:
    """The domains of a scenario that was made for one server."""
    schema = read_schema(scenario.data.script_for(rules.name), rules)
    same = ColumnClasses(schema)
    found: dict[tuple[str, str], ColumnKey] = {}
    given: dict[tuple[str, str], str] = {}
    ranged: set[ColumnKey] = set()
    tables: set[str] = set()
    compared: list[tuple[ColumnKey, ColumnKey]] = []
    for name, transaction in scenario.transactions.items():
        uses = _uses(transaction, schema, rules)
        tables.update(_written(transaction, rules))
        for parameter in parameters_of(transaction):
            own = uses.get(parameter, [])
            column = _column(transaction, parameter, own, schema)
            if _counts_up(transaction, parameter, own):
                given[name, parameter] = "it counts the turns of its loop"
                continue
            if column is None:
                given[name, parameter] = _why_given(own)
                continue
            found[name, parameter] = column
            compared += [
                (column, (use.table, use.column)) for use in own if use.how in ("equal", "range")
            ]
            for use in own:
                if use.how in ("equal", "range") or is_key(
                    schema.tables.get(use.table), use.column
                ):
                    same.join(column, (use.table, use.column))
            if any(use.how == "range" for use in own):
                ranged.add(column)
    slots = tuple(
        Slot(
            transaction=name,
            name=parameter,
            listed=parameter in scenario.transactions[name].lists,
            domain=same.named(column),
        )
        for (name, parameter), column in found.items()
    )
    return Domains(
        schema=schema,
        slots=slots,
        given=given,
        columns={slot.domain: same.members(slot.domain) for slot in slots},
        ranged=frozenset(map(same.named, ranged)),
        made=frozenset(slot.domain for slot in slots if slot.domain[0] in tables),
        crossed=_crossed([(same.named(column), at) for column, at in compared], schema),
    )


def _crossed(
    compared: Sequence[tuple[ColumnKey, ColumnKey]], schema: Schema
) -> dict[ColumnKey, Crossing]:
    """``compared``: domains, each with a column that its values are compared with."""
    found: dict[ColumnKey, Crossing] = {}
    for by, (table, key) in compared:
        info = schema.tables.get(table)
        keys = [info.primary, *info.unique] if info is not None else []
        if not any([column.lower() for column in one] == [key] for one in keys):
            continue
        for domain, (other, column) in compared:
            if other == table and domain != by and domain not in found and by not in found:
                found[domain] = Crossing(by=by, table=table, key=key, column=column)
    return found


class ColumnClasses:
    """Columns that hold the same kind of thing (union-find)."""

    def __init__(self, schema: Schema) -> None:
        self.schema = schema
        self.above: dict[ColumnKey, ColumnKey] = {}
        self.targets: set[ColumnKey] = set()
        for name, info in schema.tables.items():
            for columns, target, named_there in info.references:
                parent = schema.tables.get(target.lower())
                other = named_there or (parent.primary if parent is not None else ())
                for column, wanted in zip(columns, other, strict=False):
                    at = (target.lower(), wanted.lower())
                    self.join((name, column.lower()), at)
                    self.targets.add(at)

    def root(self, column: ColumnKey) -> ColumnKey:
        while self.above.setdefault(column, column) != column:
            column = self.above[column]
        return column

    def join(self, one: ColumnKey, other: ColumnKey) -> None:
        self.above[self.root(one)] = self.root(other)

    def members(self, column: ColumnKey) -> frozenset[ColumnKey]:
        return frozenset(one for one in list(self.above) if self.root(one) == self.root(column))

    def named(self, column: ColumnKey) -> ColumnKey:
        """The column that a class is called after: a primary key by itself, one that keys lead to,
        or the first by name.
        """

        def rank(one: ColumnKey) -> tuple[bool, bool, ColumnKey]:
            info = self.schema.tables.get(one[0])
            alone = info is not None and [c.lower() for c in info.primary] == [one[1]]
            return not alone, one not in self.targets, one

        return min(self.members(column) or {column}, key=rank)


def parameters_of(transaction: Transaction) -> list[str]:
    """Its parameters, without the elements of its lists."""
    elements = {
        element(name, number)
        for name, values in transaction.lists.items()
        for number in range(1, len(values) + 1)
    }
    return [name for name in transaction.parameters if name not in elements]


def _uses(transaction: Transaction, schema: Schema, rules: Rules) -> dict[str, list[Use]]:
    """By parameter, how statements use it; the elements of a list count for the list."""
    whole = {
        element(name, number): name
        for name, values in transaction.lists.items()
        for number in range(1, len(values) + 1)
    }
    columns = {name: list(info.columns) for name, info in schema.tables.items()}
    found: dict[str, list[Use]] = {}
    for statement in transaction.statements:
        for use in uses_of(statement.text, rules.sql.dialect, columns):
            found.setdefault(whole.get(use.name, use.name), []).append(use)
    return found


def _written(transaction: Transaction, rules: Rules) -> list[str]:
    """The tables that it inserts rows into or deletes rows from."""
    return [
        access.table.lower()
        for statement in transaction.statements
        for access in rules.sql.footprint(statement.text, transaction.fixed).accesses
        if access.verb in ("insert", "delete")
    ]


def _column(
    transaction: Transaction, parameter: str, uses: Sequence[Use], schema: Schema
) -> ColumnKey | None:
    """The column that a parameter's values come from: what the file says, else one that it is
    compared with, else a key that it is given to.
    """
    given = transaction.parameters.get(parameter)
    domain = transaction.domains.get(parameter)
    if isinstance(given, Given) and given.source is not None:
        table, _, column = given.source.lower().partition(".")
        return table, column
    if domain is not None and domain.table_and_column is not None:
        table, column = domain.table_and_column
        return table.lower(), column.lower()
    for use in uses:
        if use.how in ("equal", "range"):
            return use.table, use.column
    for use in uses:
        if use.how == "inserted" and is_key(schema.tables.get(use.table), use.column):
            return use.table, use.column
    return None


def _counts_up(transaction: Transaction, parameter: str, uses: Sequence[Use]) -> bool:
    """Whether a list is 1, 2, 3 … and only given to new rows."""
    values = transaction.lists.get(parameter, ())
    given = transaction.parameters.get(parameter)
    if isinstance(given, Given) and given.source is not None:
        return False
    counts = any(list(values) == [*range(start, start + len(values))] for start in (0, 1))
    return len(values) > 0 and counts and all(use.how == "inserted" for use in uses)


def is_key(info: TableInfo | None, column: str) -> bool:
    """Whether a column is in a key: of its table's own, or one that refers to another."""
    if info is None:
        return False
    keys = [info.primary, *info.unique, *(columns for columns, _, _ in info.references)]
    return any(column == one.lower() for key in keys for one in key)


def _why_given(uses: Sequence[Use]) -> str:
    if uses:
        where = f"{uses[0].table}.{uses[0].column}"
        return f"it is only written, to {where}, which is no key"
    return "it is compared with no column, and none is named (from: table.column)"


def named(domain: ColumnKey) -> str:
    """A domain in words, as ``stock.item``."""
    return ".".join(domain)
