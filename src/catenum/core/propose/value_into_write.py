"""The value into the write: what was read only to be computed with becomes part of the statement that writes it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from catenum.core.propose.candidate import Candidate, Evidence, Ladder, remedy
from catenum.core.propose.reading import Reading, same_row
from catenum.core.propose.stronger_lock import anomalies_told


def derive(evidence: Evidence) -> Iterator[Ladder]:
    """One change in all transactions whose data was wrong."""
    rewrite: dict[str, dict[int, str]] = {}
    drop: dict[str, tuple[int, ...]] = {}
    told = []
    for name in evidence.in_anomalies or (evidence.in_cycles if evidence.wrong else ()):
        for number, (sql, what) in changed(evidence, name).items():
            rewrite.setdefault(name, {})[number] = sql
            told.append(f"{name} statement {number} writes {what}, which it read before")
        if left := needless(evidence, name, rewrite.get(name, {})):
            drop[name] = left
    if rewrite:
        yield (
            Candidate(
                kind="value into write",
                name="compute in the write",
                because=(*told, *anomalies_told(evidence)),
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
    used |= {word for statement in statements for word in re.findall(r"\w+", f"{statement.when} {statement.require}")}
    gone = {value for n in rewritten for value in evidence.reading(statements[n - 1].text).parameters} - used
    found = []
    for number, statement in enumerate(statements, 1):
        plain = all(access.verb == "read" for access in evidence.footprint(name, number).accesses)
        if plain and statement.kept and set(statement.kept) <= gone and statement.when is None:
            found.append(number)
    return tuple(found)


def changed(evidence: Evidence, name: str) -> dict[int, tuple[str, str]]:
    """The statements that write what their transaction read before: how they read with it in them, and which values."""
    kept: dict[str, tuple[Reading, str]] = {}
    found: dict[int, tuple[str, str]] = {}
    for number, statement in enumerate(evidence.transactions[name].statements, 1):
        reading = evidence.reading(statement.text)
        sql = statement.text
        used: list[str] = []
        for parameter in reading.parameters if reading.assigned else ():
            source, column = kept.get(parameter, (None, ""))
            text = expression(evidence, reading, source, column) if source is not None else None
            if text is not None:
                sql, used = evidence.reading(sql).with_value(parameter, text), [*used, parameter]
        if used:
            found[number] = (sql, ", ".join(used))
        kept |= {value: (reading, column.lower()) for value, column in statement.kept.items() if column != "rows"}
    return found


def expression(evidence: Evidence, write: Reading, read: Reading, column: str) -> str | None:
    """What stands in place of the value: the column itself in the same row, else the query that gave it."""
    selected = read.selected.get(column)
    if selected is None or write.table is None:
        return None
    if read.table is not None and read.table.lower() == write.table.lower():
        return read.columns.get(column) if same_row(read, write, evidence.keys(write.table).primary) else None
    return read.subquery() if len(read.selected) == 1 else None
