"""Smaller portions: a statement that changes so many rows that their locks become one on the table
is made in several, by ranges of the key, each committed by itself.

From what number of locks on a server does so is its own affair, so ever smaller portions are tried.
"""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.propose.reading import Reading, term
from catenum.core.record.recording import TableRows
from catenum.core.space.escalated import escalated
from catenum.core.text import named

#: Into so many portions, in turn; with fewer rows each it is no batch.
PORTIONS, LEAST_ROWS = (2, 4, 8), 8


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One series for each statement whose locks on rows became one on their table."""
    for (name, number), table in _escalated(evidence).items():
        reading = evidence.reading(evidence.sql(name, number))
        rows = _changed_rows(evidence, name, number)
        found = tuple(
            _candidate(evidence, name, number, table, portions)
            for parts in PORTIONS
            if rows >= parts * LEAST_ROWS and (portions := _portions(evidence, reading, parts))
        )
        if found:
            yield found


def _escalated(evidence: Evidence) -> dict[tuple[str, int], str]:
    """Statements, by transaction and number, that lock rows of a table for whose whole somebody
    waited; of each transaction the one that changes most.
    """
    found: dict[tuple[str, int], str] = {}
    pairs = evidence.explored.tally.wait_pairs.values()
    for name, table in sorted(escalated(pairs, evidence.scenario, evidence.rules)):
        transaction = evidence.transactions[name]
        changing = [
            number
            for number, statement in enumerate(transaction.statements, 1)
            if (reading := evidence.reading(statement.text)).changes
            and (reading.table or "").lower() == table
        ]
        plain = transaction.ends == "commit" and not transaction.goes_on
        if changing and plain and not any(one.kept for one in transaction.statements):
            found[name, max(changing, key=lambda n: _changed_rows(evidence, name, n))] = table
    return found


def _changed_rows(evidence: Evidence, name: str, number: int) -> int:
    """How many rows the statement changed where it was played."""
    return max(
        (
            event.rows or 0
            for event in evidence.played.events
            if (event.transaction, event.statement, event.what) == (name, number, "done")
        ),
        default=0,
    )


def _portions(evidence: Evidence, reading: Reading, parts: int) -> tuple[str, ...]:
    """The statement's texts for ranges of the key; none where the key is not one whole number."""
    key = evidence.keys(reading.table or "").primary
    if len(key) != 1 or key[0].lower() in reading.assigned:
        return ()
    loaded = {name.lower(): rows for name, rows in evidence.loaded.items()}
    rows = loaded.get((reading.table or "").lower())
    bounds = _bounds(rows, key[0], parts) if rows is not None else []
    texts = []
    for low, high in zip([None, *bounds], [*bounds, None], strict=True):
        asked = [f"{key[0]} >= {low}"] if low is not None else []
        asked += [f"{key[0]} < {high}"] if high is not None else []
        terms = [
            one for text in asked if (one := term(text, evidence.rules.sql.dialect)) is not None
        ]
        texts.append(reading.with_condition(*terms))
    return tuple(text for text in texts if text is not None) if all(texts) and bounds else ()


def _bounds(rows: TableRows, key: str, parts: int) -> list[int]:
    """Keys that divide the table's rows evenly, as far as the first rows tell how they go on."""
    place = [column.lower() for column in rows.columns].index(key.lower())
    values = [row[place] or "" for row in rows.rows]
    if not values or not all(value.lstrip("-").isdigit() for value in values):
        return []
    keys = sorted(map(int, values))
    step = (keys[-1] - keys[0]) / max(1, len(keys) - 1)
    bounds = []
    for number in range(1, parts):
        rank = rows.total * number // parts
        bounds.append(keys[rank] if rank < len(keys) else round(keys[0] + step * rank))
    return sorted(set(bounds))


def _candidate(
    evidence: Evidence, name: str, number: int, table: str, portions: tuple[str, ...]
) -> Candidate:
    rows = _changed_rows(evidence, name, number)
    return Candidate(
        kind="portions",
        name=f"{name} in {len(portions)} portions, each committed by itself",
        because=(
            f"{named(name, number)} changed {rows:,} rows, and somebody waited for the whole of"
            f" {table}, which no statement asks for",
        ),
        remedy=remedy(portions={name: {number: portions}}),
        means=(
            "IT CHANGES WHAT THE TRANSACTION MEANS: others see some portions done and others not,"
            " and what was committed stays if a later one fails",
            f"the ranges are those of the rows at hand: in code, go on behind the last key of"
            f" {table} with so many rows that they stay locks on rows, until none is left",
        ),
    )
