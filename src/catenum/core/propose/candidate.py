"""A change to try: what it is, why, and what it means for the application."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

from catenum.core.logs.tables import Schema, read_schema
from catenum.core.propose.reading import PARAMETER, Reading
from catenum.core.record.recording import NO_KEYS, Recording, TableKeys, TableRows
from catenum.core.scenario.model import REMEDY_KINDS, Remedy, Scenario, Transaction
from catenum.core.servers import Rules
from catenum.core.space.exploration import Exploration
from catenum.core.sql.statements import Footprint

CandidateKind = Literal[
    "order",
    "batch order",
    "stronger lock",
    "reader's level",
    "condition into write",
    "value into write",
    "first lock",
    "index",
    "isolation",
    "retry",
    "timeout",
    "shorter",
    "portions",
    "schema change",
    "upsert",
    "constraint",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class Candidate:
    """One change. ``because``: the evidence; ``means``: what it changes for the application.

    ``decides``: it makes the data right where no serial order of the scenario as it is does, so
    serial results may differ from before. ``eases_only``: it ends waits by failing, and never
    counts as a cure of wrong data. ``for_checks``: an index for checks that the server makes by
    itself, of which no plan is shown. ``excludes``: who comes second waits at its first read
    already, so where a cycle closes all the same a stronger lock there hardly breaks it.
    ``these_values``: why it fits the values of this case only, and not the code; ``harms``: whom it
    holds up that nobody held up before. ``held``: over how many statements locks are held that
    others wait for, before and after. ``by_count``: how many rows a write has changed says what a
    rollback said before.
    """

    kind: CandidateKind
    name: str
    because: tuple[str, ...]
    remedy: Remedy
    means: tuple[str, ...] = ()
    decides: bool = False
    eases_only: bool = False
    for_checks: bool = False
    excludes: bool = False
    these_values: tuple[str, ...] = ()
    harms: tuple[str, ...] = ()
    held: tuple[int, int] | None = None
    by_count: bool = False

    @property
    def splits(self) -> bool:
        """Whether it makes several transactions of one: what others see in between is new."""
        return self.remedy.split is not None or self.remedy.portions is not None

    @property
    def size(self) -> int:
        """How much is changed: statements that are written anew or added, that move, levels,
        settings, indexes.
        """
        remedy = self.remedy
        count = sum(len(numbers) for numbers in (remedy.rewrite or {}).values())
        count += sum(len(numbers) for numbers in (remedy.add or {}).values())
        count += sum(len(numbers) for numbers in (remedy.drop or {}).values())
        count += sum(_moved(order) for order in (remedy.reorder or {}).values())
        count += sum(len(texts) for of in (remedy.portions or {}).values() for texts in of.values())
        count += len(remedy.sort or {}) + len(remedy.split or {})
        count += len(remedy.index or ()) + len(remedy.ddl or ())
        for change in (remedy.isolation, remedy.timeout, remedy.retry, remedy.ends):
            count += len(change) if isinstance(change, dict) else change is not None
        return count


def _moved(order: Sequence[int]) -> int:
    return sum(number != place for place, number in enumerate(order, 1))


def remedy(**parts: object) -> Remedy:
    """A remedy with these parts, by their names in a scenario; empty ones are left out."""
    return Remedy.model_validate({name: part for name, part in parts.items() if part}, strict=False)


#: Candidates of which the first that cures makes the rest needless.
CandidateSeries = tuple[Candidate, ...]


@dataclass(frozen=True, kw_only=True)
class Evidence:
    """What is known of a scenario as it is: all outcomes, one schedule in full with plans and
    findings, its tables.

    ``scenario`` is made for the server. ``loaded``: the rows before anything ran, all or the first
    of them; ``serial_breaks``: rules that serial orders break, too.
    """

    scenario: Scenario
    rules: Rules
    explored: Exploration
    played: Recording
    tables: Mapping[str, TableKeys]
    loaded: Mapping[str, TableRows] = field(default_factory=dict)
    serial_breaks: tuple[str, ...] = ()
    looped: tuple[Recording, ...] = ()  # deadlocks that loops brought
    _readings: dict[str, Reading] = field(default_factory=dict)
    _schemas: list[Schema] = field(default_factory=list)

    @property
    def transactions(self) -> Mapping[str, Transaction]:
        return self.scenario.transactions

    def sql(self, name: str, number: int) -> str:
        """A statement's text, by its number from 1."""
        return self.transactions[name].statements[number - 1].text

    def resolved(self, name: str, number: int) -> str:
        """A statement's text with the values of the transaction's parameters in it: to compare, not
        to run.
        """
        return self.rules.sql.with_values(self.sql(name, number), self.transactions[name].fixed)

    def footprint(self, name: str, number: int) -> Footprint:
        """What a statement touches."""
        return self.rules.sql.footprint(self.sql(name, number), self.transactions[name].fixed)

    def reading(self, sql: str) -> Reading:
        """A statement's parse tree, with questions about it."""
        if sql not in self._readings:
            self._readings[sql] = Reading(sql, self.rules.sql.dialect)
        return self._readings[sql]

    @property
    def not_understood(self) -> Iterator[str]:
        """The statements of which it is not certain what they touch, as people name them."""
        for name, one in self.transactions.items():
            for number in range(1, len(one.statements) + 1):
                if not self.footprint(name, number).understood:
                    yield f"{name} statement {number}"

    @property
    def schema(self) -> Schema:
        """The tables as the scenario's data makes them: their columns, and where keys lead to."""
        if not self._schemas:
            script = self.scenario.data.script_for(self.rules.name)
            self._schemas.append(read_schema(script, self.rules))
        return self._schemas[0]

    @property
    def columns(self) -> dict[str, list[str]]:
        """The columns of each table, in their order."""
        return {name: list(info.columns) for name, info in self.schema.tables.items()}

    def given(self, name: str, number: int, table: str) -> dict[str, str]:
        """The columns of a table, in lower case, that a statement fixes, with what it gives each as
        it is written: what its condition asks them to equal, or what a new row gets.
        """
        reading = self.reading(self.sql(name, number))
        if (reading.table or "").lower() == table:
            return reading.equals
        if (reading.inserts_into or "").lower() != table:
            return {}
        info = self.schema.tables.get(table)
        columns = reading.inserted_columns or (info.columns if info is not None else ())
        return dict(zip((c.lower() for c in columns), reading.inserted, strict=False))

    def carried(self, name: str, text: str) -> bool:
        """Whether it needs a value that an earlier statement keeps: at the beginning it is not
        there yet.
        """
        kept = {value for one in self.transactions[name].statements for value in one.kept}
        return bool(kept & set(PARAMETER.findall(text)))

    def keys(self, table: str) -> TableKeys:
        """A table's keys, whatever the case of its name."""
        return next(
            (keys for name, keys in self.tables.items() if name.lower() == table.lower()), NO_KEYS
        )

    def key_condition(self, reading: Reading) -> str | None:
        """The condition by which a statement names one row, by the whole primary key; None where it
        does not.
        """
        key = [column.lower() for column in self.keys(reading.table or "").primary]
        if not reading.table or not key or any(column not in reading.equals for column in key):
            return None
        return " and ".join(f"{column} = {reading.equals[column]}" for column in key)

    def level(self, name: str) -> str:
        """The isolation level that a transaction has."""
        return self.explored.levels[name]

    @property
    def cycles(self) -> list[tuple[tuple[str, int | None], ...]]:
        """Deadlock cycles by their members: transaction and the number of its statement."""
        found = [entry.members for entry in self.explored.tally.most_met_cycles()]
        for recording in self.looped:
            found += [
                tuple((m.transaction, m.statement) for m in cycle.members)
                for cycle in recording.deadlocks
            ]
        return list(dict.fromkeys(found))

    @property
    def in_cycles(self) -> list[str]:
        """The transactions that take part in a deadlock."""
        return list(dict.fromkeys(name for members in self.cycles for name, _ in members))

    @property
    def in_waits(self) -> list[str]:
        wait_pairs = self.explored.tally.wait_pairs.values()
        return [
            name
            for name in self.transactions
            if any(name in (m.waiter, m.holder) for m in wait_pairs)
        ]

    @property
    def in_anomalies(self) -> list[str]:
        """The transactions whose data was wrong; all that write, where only a rule is broken."""
        entries = [
            entry for entry in self.explored.tally.outcomes.values() if entry.data == "anomaly"
        ]
        found = list(dict.fromkeys(name for entry in entries for name in entry.transactions))
        if found or not self.explored.tally.broken_rules:
            return found
        return [name for name in self.transactions if self.writes(name)]

    @property
    def refused(self) -> bool:
        """Whether a transaction was refused."""
        return bool(self.explored.tally.met("refused"))

    @property
    def wrong(self) -> bool:
        """Whether data is wrong in any schedule."""
        return bool(self.explored.tally.anomalies or self.explored.tally.broken_rules)

    def writes(self, name: str) -> bool:
        """Whether a transaction changes rows."""
        return any(
            access.writes
            for number in range(1, len(self.transactions[name].statements) + 1)
            for access in self.footprint(name, number).accesses
        )

    def waits_reported(self, names: Sequence[str], most: int = 3) -> tuple[str, ...]:
        """The waits between some transactions, in words."""
        found = []
        for wait_pair in sorted(self.explored.tally.wait_pairs.values(), key=lambda m: -m.count):
            if wait_pair.waiter in names and wait_pair.holder in names:
                known = (
                    (wait_pair.holder_statement,)
                    if wait_pair.holder_statement
                    else wait_pair.holder_candidates
                )
                by = f", locked by its statement {' or '.join(map(str, known))}" if known else ""
                at = f" statement {wait_pair.statement}" if wait_pair.statement else " (at its end)"
                found.append(
                    f"{wait_pair.waiter}{at} waits for {wait_pair.holder} over"
                    f" {wait_pair.resource}{by}"
                )
        return tuple(found[:most])


def merged(one: Candidate, other: Candidate) -> Candidate | None:
    """Both changes in one; None where they are of one kind or change the same, or where one makes
    several transactions.
    """
    if one.kind == other.kind or one.splits or other.splits:
        return None
    parts: dict[str, object] = {}
    for kind in REMEDY_KINDS:
        mine, theirs = getattr(one.remedy, kind), getattr(other.remedy, kind)
        if not (mine and theirs):
            parts[kind] = mine or theirs
        elif kind in ("index", "ddl"):
            parts[kind] = (*mine, *theirs)
        elif kind in ("rewrite", "add"):
            texts = {name: dict(numbers) for name, numbers in mine.items()}
            for name, numbers in theirs.items():
                if set(numbers) & set(texts.get(name, ())):
                    return None
                texts[name] = {**texts.get(name, {}), **numbers}
            parts[kind] = texts
        else:
            return None
    if _drops_what_changes(one.remedy, other.remedy) or _drops_what_changes(
        other.remedy, one.remedy
    ):
        return None
    return Candidate(
        kind=one.kind,
        name=f"{one.name} + {other.name}",
        because=tuple(dict.fromkeys((*one.because, *other.because))),
        remedy=remedy(**parts),
        means=tuple(dict.fromkeys((*one.means, *other.means))),
        decides=one.decides or other.decides,
        these_values=tuple(dict.fromkeys((*one.these_values, *other.these_values))),
        harms=tuple(dict.fromkeys((*one.harms, *other.harms))),
        by_count=one.by_count or other.by_count,
    )


def _drops_what_changes(one: Remedy, other: Remedy) -> bool:
    """Whether the first leaves out a statement that the second writes anew."""
    rewritten = other.rewrite or {}
    return any(
        set(numbers) & set(rewritten.get(name, ())) for name, numbers in (one.drop or {}).items()
    )
