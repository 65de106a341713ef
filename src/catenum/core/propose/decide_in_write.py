"""Decide in the write: a value that is read, checked and computed with goes into the write as a
whole.

`select free`, `when free > 0`, `set free = :free - 1` becomes `set free = free - 1 … and free > 0`;
whether it changed its row then decides what the check decided before, and the read is not needed
any more. Where only the check or only the value goes into the write, the other is still that of a
row which has changed since.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from catenum.core.propose import value_into_write
from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.propose.editing import written
from catenum.core.propose.reading import Reading, own_comparison, same_row
from catenum.core.propose.stronger_lock import anomalies_reported
from catenum.core.scenario.carry import ROWS
from catenum.core.scenario.model import Statement

#: What a changed statement says, as in a remedy.
Rewritten = dict[str, object]


@dataclass(frozen=True)
class Whole:
    """One transaction's change: its statements by number, the read that is left out, and what was
    relied on.
    """

    read: int
    write: int
    condition: str
    rewritten: Mapping[int, Rewritten] = field(default_factory=dict)


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One change in all transactions whose data was wrong."""
    found = {
        name: whole
        for name in evidence.in_anomalies
        if (whole := _whole(evidence, name)) is not None
    }
    if not found:
        return
    rewritten = [
        f"{name} statement {one.write} relies on '{one.condition}', read before"
        for name, one in found.items()
    ]
    rewrite: dict[str, dict[int, object]] = {
        name: dict(one.rewritten) for name, one in found.items()
    }
    drop: dict[str, tuple[int, ...]] = {name: (one.read,) for name, one in found.items()}
    for name in evidence.in_anomalies:  # who only computes with what it read goes along
        if name not in found and (computed := value_into_write.changed(evidence, name)):
            texts = {number: sql for number, (sql, _) in computed.items()}
            rewrite[name] = dict(texts)
            drop[name] = value_into_write.needless(evidence, name, texts)
    yield (
        Candidate(
            kind="condition into write",
            name="decide in the write",
            because=(*rewritten, *anomalies_reported(evidence)),
            remedy=remedy(
                rewrite=rewrite, drop={name: numbers for name, numbers in drop.items() if numbers}
            ),
            means=(
                (
                    "the write decides on the row as it is then: how many rows it changed says"
                    " whether it did; the read before it is not needed any more"
                ),
            ),
        ),
    )


def _whole(evidence: Evidence, name: str) -> Whole | None:
    """The first write that checks what a plain read of the same row gave; None where something else
    needs the value.
    """
    statements = evidence.transactions[name].statements
    readings = [evidence.reading(statement.text) for statement in statements]
    for at, (read, source) in enumerate(zip(statements, readings, strict=True)):
        plain = all(access.verb == "read" for access in evidence.footprint(name, at + 1).accesses)
        if not (
            plain and source.table and read.kept and read.when is None and read.require is None
        ):
            continue
        key = evidence.keys(source.table).primary
        for place in range(at + 1, len(statements)):
            write = readings[place]
            if write.changes and write.table == source.table and same_row(source, write, key):
                return _moved(evidence, statements, at, place)
    return None


def _moved(
    evidence: Evidence, statements: tuple[Statement, ...], at: int, place: int
) -> Whole | None:
    source, write = (evidence.reading(statements[n].text) for n in (at, place))
    columns = {
        value: column.lower() for value, column in statements[at].kept.items() if column != ROWS
    }
    condition = statements[place].condition
    if condition is None or statements[place].require is not None:
        return None
    own = {
        str(c): own_comparison(source, columns, c)
        for c in condition.comparisons
        if _uses(str(c), columns)
    }
    checks = [term for term in own.values() if term is not None]
    sql = _with_own_values(evidence, source, write, columns, statements[place].text)
    if not checks or len(checks) < len(own) or sql is None:
        return None
    # the read is left out, so whatever else it asked for is asked for here
    beyond = [
        one
        for one in source.terms_beyond(evidence.keys(source.table or "").primary)
        if one not in checks
    ]
    stands = write.terms_beyond(())
    checks = [*(one for one in beyond if one not in stands), *checks]
    sql = evidence.reading(sql).with_condition(*checks)
    rest = [str(c) for c in condition.comparisons if str(c) not in own]
    rewritten = _followers(statements, at, place, set(statements[at].kept), set(own))
    if (
        sql is None
        or rewritten is None
        or any(_uses(text, set(statements[at].kept)) for text in rest)
    ):
        return None
    first: Rewritten = {"sql": sql, "when": " and ".join(rest) or None}
    if not rest:
        first["otherwise"] = None
    if rewritten:
        first["keep"] = {**statements[place].kept, _name(statements): ROWS}
    text = " and ".join(written(one, evidence.rules.sql.dialect) for one in checks)
    return Whole(at + 1, place + 1, text, {place + 1: first, **rewritten})


def _with_own_values(
    evidence: Evidence, source: Reading, write: Reading, columns: Mapping[str, str], text: str
) -> str | None:
    """A write with the expressions of the values that a read kept; None where one has none."""
    sql: str | None = text
    for value in write.parameters:
        if value in columns and sql is not None:
            found = value_into_write.expression(evidence, write, source, columns[value])
            sql = evidence.reading(sql).with_value(value, found) if found is not None else None
    return sql


def _followers(
    statements: tuple[Statement, ...], at: int, place: int, values: set[str], checked: set[str]
) -> dict[int, Rewritten] | None:
    """What the others say instead of the check; None where one needs a value that would be gone."""
    changed = f"{_name(statements)} = 1"
    found: dict[int, Rewritten] = {}
    for number, one in enumerate(statements):
        if number in (at, place):
            continue
        comparisons = (
            [str(c) for c in one.condition.comparisons] if one.condition is not None else []
        )
        mine = [text for text in comparisons if _uses(text, values)]
        if set(_words(one.text, ":")) & values or _uses(one.require or "", values):
            return None
        if mine and (number < place or set(mine) != checked):
            return None
        if mine:
            rest = [text for text in comparisons if text not in mine]
            found[number + 1] = {"sql": one.text, "when": " and ".join([changed, *rest])}
    if (end := statements[place].otherwise) in ("commit", "rollback"):
        # the check ended the transaction: so does the statement behind it, by what the write has
        # changed
        following = place + 1
        if following < len(statements):
            own = found.setdefault(following + 1, {"sql": statements[following].text})
            if statements[following].condition is not None and "when" not in own:
                return None
            found[following + 1] = {**own, "when": own.get("when", changed), "otherwise": end}
        elif end == "rollback" and place:
            return None
    return found


def _name(statements: tuple[Statement, ...]) -> str:
    """A name for the number of rows that no value has."""
    taken = {
        value
        for statement in statements
        for value in (*statement.keep, *_words(statement.text, ":"))
    }
    return next(
        name
        for n in range(1, len(taken) + 2)
        if (name := f"changed{n if n > 1 else ''}") not in taken
    )


def _uses(text: str, values: Mapping[str, str] | set[str]) -> bool:
    return bool(set(_words(text)) & set(values))


def _words(text: str, before: str = "") -> list[str]:
    return re.findall(rf"{before}\b([A-Za-z_]\w*)", re.sub(r"'(?:[^']|'')*'", "", text))
