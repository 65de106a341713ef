"""One statement for a loop: what an application changes row by row, by the keys of a list, is
changed at once, and the rows are locked by key before.

One round trip in place of many, so locks are held for a shorter time as well.
"""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.scenario.loops import Loop, code_of, element
from catenum.core.text import listed


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One candidate, for all such loops that take part in a cycle."""
    add: dict[str, dict[int, str]] = {}
    drop: dict[str, tuple[int, ...]] = {}
    lists: list[str] = []
    for name in evidence.in_cycles:
        for loop in code_of(evidence.transactions[name]) or ():
            found = _merged(evidence, name, loop) if isinstance(loop, Loop) else None
            if found is None or name in drop:
                continue
            turns, over, lock, change = found
            add[name] = {turns[0]: lock, turns[-1] + 1: change}
            drop[name] = turns
            lists.append(over)
    if not drop:
        return
    yield (
        Candidate(
            kind="batch order",
            name=f"one statement for all of {listed(list(dict.fromkeys(lists)))}",
            because=(
                *(f"{name} changes one row after another" for name in drop),
                *evidence.waits_reported(evidence.in_cycles, 2),
            ),
            remedy=remedy(add=add, drop=drop),
            means=(
                "all rows are locked by key, then changed at once; a key that is twice in the list"
                " changes its row once",
            ),
        ),
    )


def _merged(
    evidence: Evidence, name: str, loop: Loop
) -> tuple[tuple[int, ...], str, str, str] | None:
    """The loop's statements by number, its list, the lock, and the statement in their place."""
    statements = evidence.transactions[name].statements
    turns = tuple(
        number
        for number, one in enumerate(statements, 1)
        if one.turn is not None and one.turn.lists == loop.lists
    )
    whole = list(range(turns[0], turns[-1] + 1)) if turns else []
    if len(loop.body) != 1 or len(turns) < 2 or list(turns) != whole:
        return None
    (body,) = loop.body
    if body.kept or body.when is not None or body.require is not None:
        return None
    reading = evidence.reading(statements[turns[0] - 1].text)
    condition = evidence.key_condition(reading)
    if reading.table is None or not reading.changes or condition is None:
        return None
    if reading.terms_beyond(evidence.keys(reading.table).primary):
        return None
    column, _, value = condition.rpartition(" = ")
    over = loop.lists[0]
    elements = {f":{element(one, 1)}" for one in loop.lists}
    if value != f":{element(over, 1)}" or " and " in column:
        return None
    text = statements[turns[0] - 1].text
    head, _, tail = text.rpartition(condition)
    if tail.strip(" ;\n") or any(one in head for one in elements):
        return None  # each turn gives another value
    rows = f"{column} in (:{over})"
    source = evidence.rules.advice.by_key(reading.table)
    clause = evidence.rules.advice.row_locks[-1]
    lock = f"select {column} from {source} where {rows} order by {column} {clause}"
    return turns, over, lock, f"{head}{rows}"
