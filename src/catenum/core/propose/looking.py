"""Who looks for a row and adds it where none is there, so that two can both find none."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from sqlglot import exp

from catenum.core.propose.candidate import Evidence
from catenum.core.propose.editing import written
from catenum.core.propose.reading import Reading
from catenum.core.propose.value_into_write import expression
from catenum.core.scenario.carry import ROWS
from catenum.core.scenario.conditions import Comparison
from catenum.core.scenario.model import Statement


@dataclass(frozen=True)
class Span:
    """Two columns between which a row stands for something, and whether the end belongs to it."""

    begin: str
    end: str
    closed: bool


@dataclass(frozen=True)
class Look:
    """``read`` and ``insert``: the numbers of the statements; ``columns``: by which the row is
    looked for, and which the new row gets with the same values; ``update``: the statement that
    changes the row where it was found, if there is one; ``span``: rows are looked for that overlap
    the new one from the first of these columns to the second, the end itself among it or not.
    """

    table: str
    read: int
    insert: int
    columns: tuple[str, ...]
    update: int | None = None
    span: Span | None = None


def looks(evidence: Evidence, name: str) -> Iterator[Look]:
    """What a transaction looks for before it adds it."""
    statements = evidence.transactions[name].statements
    for at, look in enumerate(statements, 1):
        source = evidence.reading(look.text)
        if not source.selected or source.table is None or not look.kept:
            continue
        table = source.table.lower()
        sought = evidence.given(name, at, table)
        beyond = source.terms_beyond(tuple(sought))
        if not (sought or beyond):
            continue
        for place in range(at + 1, len(statements) + 1):
            insert = statements[place - 1]
            given = evidence.given(name, place, table)
            adds = evidence.reading(insert.text).inserts_into is not None
            if not adds or any(given.get(column) != value for column, value in sought.items()):
                continue
            span = _overlapping(beyond, given, evidence.rules.sql.dialect) if beyond else None
            if not _where(insert, look, source, found=False) or (beyond and span is None):
                continue
            update = _changed_instead(evidence, name, at, table, sought)
            if not _needed_elsewhere(evidence, name, at, {place, update or place}):
                yield Look(table, at, place, tuple(sought), update, span)
            break


def _overlapping(terms: Sequence[exp.Expr], given: Mapping[str, str], dialect: str) -> Span | None:
    """Whether conditions say that a row overlaps the new one: it begins before that ends, and ends
    after that begins.
    """
    found: dict[bool, tuple[str, str, bool]] = {}
    for term in terms:
        if not isinstance(term, exp.LT | exp.LTE | exp.GT | exp.GTE):
            return None
        if not isinstance(term.this, exp.Column) or term.expression.find(exp.Column):
            return None
        below = isinstance(term, exp.LT | exp.LTE)
        closed = isinstance(term, exp.LTE | exp.GTE)
        found[below] = (term.this.name.lower(), written(term.expression, dialect), closed)
    if len(terms) != 2 or len(found) != 2:
        return None
    (begin, before, one), (end, after, other) = found[True], found[False]
    if given.get(begin) != after or given.get(end) != before or one != other:
        return None
    return Span(begin, end, one)


def _changed_instead(
    evidence: Evidence, name: str, at: int, table: str, sought: dict[str, str]
) -> int | None:
    """The statement that changes the row where it was found."""
    statements = evidence.transactions[name].statements
    look, source = statements[at - 1], evidence.reading(statements[at - 1].text)
    for number in range(at + 1, len(statements) + 1):
        reading = evidence.reading(statements[number - 1].text)
        same = reading.assigned and evidence.given(name, number, table) == sought
        if same and _where(statements[number - 1], look, source, found=True):
            return number
    return None


def _where(one: Statement, look: Statement, source: Reading, *, found: bool) -> bool:
    """Whether a statement is run just where the look found a row, or just where it found none."""
    condition = one.condition
    if condition is None or len(condition.comparisons) != 1:
        return False
    (comparison,) = condition.comparisons
    column = look.kept.get(comparison.left.name or "")
    if column is None:
        return False
    if comparison.right is None:
        return comparison.sign == ("is not null" if found else "is null")
    if column != ROWS and "count" not in source.selected.get(column.lower(), "").lower():
        return False
    return _tells(comparison, found)


def _tells(comparison: Comparison, found: bool) -> bool:
    if comparison.right is None:
        return False
    sign_and_value = (comparison.sign, str(comparison.right))
    if found:
        return sign_and_value in ((">", "0"), ("=", "1"), (">=", "1"), ("<>", "0"))
    return sign_and_value in (("=", "0"), ("<", "1"))


def with_own_columns(evidence: Evidence, name: str, read: int, number: int) -> str:
    """A statement with the columns of its row in the place of what a look has read of that row."""
    statements = evidence.transactions[name].statements
    look, sql = statements[read - 1], statements[number - 1].text
    for value, column in look.kept.items():
        write = evidence.reading(sql)
        if value in write.parameters and write.assigned:
            own = expression(evidence, write, evidence.reading(look.text), column.lower())
            sql = write.with_value(value, own) if isinstance(own, exp.Column) else sql
    return sql


def _needed_elsewhere(evidence: Evidence, name: str, read: int, known: set[int]) -> bool:
    """Whether anything else uses what the look kept. The statements that are ``known`` may ask for
    it in their conditions, and compute with it where it is the column that they change.
    """
    statements = evidence.transactions[name].statements
    kept = set(statements[read - 1].kept)
    for number, one in enumerate(statements, 1):
        conditions = [one.requirement] if number in known else [one.condition, one.requirement]
        named = {operand.name for c in conditions if c is not None for operand in c.names}
        text = with_own_columns(evidence, name, read, number) if number in known else one.text
        if kept & (named | set(evidence.reading(text).parameters)):
            return True
    return False
