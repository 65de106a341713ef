"""The value into the write: what was read only to be computed with becomes part of the statement
that writes it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from sqlglot import exp

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.propose.reading import Reading, same_row
from catenum.core.propose.stronger_lock import anomalies_reported


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One change in all transactions whose data was wrong."""
    rewrite: dict[str, dict[int, str]] = {}
    drop: dict[str, tuple[int, ...]] = {}
    reported = []
    for name in evidence.in_anomalies or (evidence.in_cycles if evidence.wrong else ()):
        for number, (sql, what) in changed(evidence, name).items():
            rewrite.setdefault(name, {})[number] = sql
            reported.append(f"{name} statement {number} writes {what}, which it read before")
        if left := needless(evidence, name, rewrite.get(name, {})):
            drop[name] = left
    if rewrite:
        yield (
            Candidate(
                kind="value into write",
                name="compute in the write",
                because=(*reported, *anomalies_reported(evidence)),
                remedy=remedy(rewrite=rewrite, drop=drop),
                means=(
                    "the value is that at the moment of the write, and not the one that was read"
                    + ("; the reads that gave it are not needed any more" if drop else ""),
                ),
            ),
        )


def needless(evidence: Evidence, name: str, rewritten: Mapping[int, str]) -> tuple[int, ...]:
    """The plain reads whose values nobody uses any more."""
    statements = evidence.transactions[name].statements
    texts = {n: rewritten.get(n, statement.text) for n, statement in enumerate(statements, 1)}
    used = {value for text in texts.values() for value in evidence.reading(text).parameters}
    used |= {
        word
        for statement in statements
        for word in re.findall(r"\w+", f"{statement.when} {statement.require}")
    }
    gone = {
        value for n in rewritten for value in evidence.reading(statements[n - 1].text).parameters
    } - used
    found = []
    for number, statement in enumerate(statements, 1):
        plain = all(access.verb == "read" for access in evidence.footprint(name, number).accesses)
        if plain and statement.kept and set(statement.kept) <= gone and statement.when is None:
            found.append(number)
    return tuple(found)


def changed(evidence: Evidence, name: str) -> dict[int, tuple[str, str]]:
    """The statements that write what their transaction read before: how they read with it in them,
    and which values.
    """
    kept: dict[str, tuple[Reading, str]] = {}
    found: dict[int, tuple[str, str]] = {}
    for number, statement in enumerate(evidence.transactions[name].statements, 1):
        reading = evidence.reading(statement.text)
        sql: str | None = statement.text
        used: list[str] = []
        for parameter in reading.parameters if reading.assigned else ():
            if sql is None:
                break
            source, column = kept.get(parameter, (None, ""))
            value = expression(evidence, reading, source, column) if source is not None else None
            if value is not None and source is not None:
                sql, used = evidence.reading(sql).with_value(parameter, value), [*used, parameter]
                sql = _asking(evidence, sql, source)
        if used and sql is not None:
            found[number] = (sql, ", ".join(used))
        kept |= {
            value: (reading, column.lower())
            for value, column in statement.kept.items()
            if column != "rows"
        }
    return found


def _asking(evidence: Evidence, sql: str, source: Reading) -> str | None:
    """A write that asks for whatever the read of its row asked for besides the key; None where it
    cannot.
    """
    write = evidence.reading(sql)
    if source.table is None or write.table is None or source.table.lower() != write.table.lower():
        return sql
    stands = write.terms_beyond(())
    beyond = [
        one for one in source.terms_beyond(evidence.keys(source.table).primary) if one not in stands
    ]
    return write.with_condition(*beyond) if beyond else sql


def expression(evidence: Evidence, write: Reading, read: Reading, column: str) -> exp.Expr | None:
    """What stands in place of the value: the column itself in the same row, else the query that
    gave it.
    """
    selected = read.selected.get(column)
    if selected is None or write.table is None:
        return None
    if read.table is not None and read.table.lower() == write.table.lower():
        own = (
            read.columns.get(column)
            if same_row(read, write, evidence.keys(write.table).primary)
            else None
        )
        return exp.column(own) if own is not None else None
    return read.as_value() if len(read.selected) == 1 else None
