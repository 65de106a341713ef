"""Upsert: who reads whether a row is there, and inserts it where not, does so in one statement.

Two who look at the same time both find nothing, and both add: one of them then fails, or each waits
for the gap that the other has locked. A statement that adds the row unless it is there needs no
look. Where the row has no unique key, a constraint has to say that there is one of it only.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.propose.editing import of_table
from catenum.core.propose.looking import Look, Span, looks, with_own_columns
from catenum.core.propose.retry import PAUSE_MS, TIMES, may_begin_again
from catenum.core.propose.stronger_lock import anomalies_reported

#: What a changed statement says, as in a remedy.
Rewritten = dict[str, object]


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One statement; beginning again; and a constraint where there is none."""
    if not (evidence.wrong or evidence.cycles or evidence.explored.tally.met("error")):
        return
    found = {name: list(looks(evidence, name)) for name in evidence.transactions}
    unique = {
        name: one
        for name, own in found.items()
        if (one := next((look for look in own if _is_unique(evidence, look)), None)) is not None
    }
    if unique:
        yield from _in_one(evidence, unique)
        yield from _begun_again(evidence, unique)
    yield from _constraints(evidence, found)
    yield from _same_keys(evidence, found)


def _same_keys(evidence: Evidence, found: Mapping[str, list[Look]]) -> Iterator[CandidateSeries]:
    """Two who insert the same keys and look before neither: the second adds nothing, and goes on;
    lists are gone through in key order, or they would wait for each other's new keys.
    """
    rewrite: dict[str, dict[int, Rewritten]] = {}
    sort: dict[str, str] = {}
    for name, number in dict.fromkeys(member for members in evidence.cycles for member in members):
        transaction = evidence.transactions[name]
        if number is None or number > len(transaction.statements) or found[name]:
            continue
        turn = transaction.statements[number - 1].turn
        table = evidence.reading(evidence.sql(name, number)).inserts_into
        for place in range(1, len(transaction.statements) + 1):
            sql = _unless_there(evidence, name, place)
            same = evidence.reading(evidence.sql(name, place)).inserts_into == table
            if sql is not None and same:
                rewrite.setdefault(name, {})[place] = {"sql": sql}
        if turn is not None and name in rewrite:
            sort[name] = turn.lists[0]
    if rewrite:
        yield (
            Candidate(
                kind="upsert",
                name=f"insert, unless it is there{', in the order of the keys' if sort else ''}",
                because=evidence.waits_reported(list(rewrite)),
                remedy=remedy(rewrite=rewrite, sort=sort),
                means=(
                    "who comes second adds nothing where the key is there, gets no error and goes"
                    " on: the number of rows says so",
                ),
                by_count=True,
            ),
        )


def _else_of(evidence: Evidence, name: str, table: str) -> bool:
    """Whether the transaction does more with a table than adding rows."""
    return any(
        access.table.lower() == table and access.verb != "insert"
        for number in range(1, len(evidence.transactions[name].statements) + 1)
        for access in evidence.footprint(name, number).accesses
    )


def _unless_there(evidence: Evidence, name: str, number: int) -> str | None:
    """An insert of one row that gives a whole unique key, unless that is there."""
    text = evidence.sql(name, number)
    table = (evidence.reading(text).inserts_into or "").lower()
    given = evidence.given(name, number, table) if table else {}
    keys = evidence.keys(table)
    unique = [key for key in (keys.primary, *keys.unique) if key]
    if len(unique) != 1 or _else_of(evidence, name, table):
        return None  # what it has locked before, or another key, is what the others wait for
    whole = next((key for key in unique if all(c.lower() in given for c in key)), None)
    if whole is None:
        return None
    return _with_clause(evidence, text, whole, {})


def _with_clause(
    evidence: Evidence, insert: str, key: tuple[str, ...], assigned: Mapping[str, str]
) -> str | None:
    """The insert with what is to be done where the key is there; None where that cannot be read."""
    clause = evidence.rules.advice.unless_there(key, assigned)
    sql = f"{insert.rstrip().rstrip(';').rstrip()} {clause}"
    tree = evidence.reading(sql).tree
    return sql if tree is not None and tree.args.get("conflict") else None


def _is_unique(evidence: Evidence, look: Look) -> bool:
    if look.span is not None:
        return False
    keys = evidence.keys(look.table)
    columns = {column.lower() for column in look.columns}
    return any(key and {c.lower() for c in key} <= columns for key in (keys.primary, *keys.unique))


def _because(evidence: Evidence, found: Mapping[str, Look]) -> tuple[str, ...]:
    return (
        *(
            f"{name} looks in statement {look.read}, and adds the row in statement {look.insert}"
            " where it found none"
            for name, look in found.items()
        ),
        *(evidence.waits_reported(list(found), 2) or anomalies_reported(evidence)),
    )


def _in_one(evidence: Evidence, found: Mapping[str, Look]) -> Iterator[CandidateSeries]:
    rewrite: dict[str, Mapping[int, Rewritten]] = {}
    drop: dict[str, tuple[int, ...]] = {}
    changes = False
    for name, look in found.items():
        written = _written(evidence, name, look)
        if written is not None:
            rewrite[name] = written
            drop[name] = (look.read, *((look.update,) if look.update is not None else ()))
            changes = changes or look.update is not None
    if not rewrite:
        return
    otherwise = "or change the row that is there" if changes else "unless it is there"
    yield (
        Candidate(
            kind="upsert",
            name=f"insert, {otherwise}",
            because=_because(evidence, {name: found[name] for name in rewrite}),
            remedy=remedy(rewrite=rewrite, drop=drop),
            by_count=True,
            means=(
                "one statement in place of the look and the insert; who comes second waits for the"
                " first, and the number of rows says whether the row was added",
            ),
        ),
    )


def _written(evidence: Evidence, name: str, look: Look) -> Mapping[int, Rewritten] | None:
    """The insert that needs no look; None where what follows hangs on the look."""
    statements = evidence.transactions[name].statements
    insert = statements[look.insert - 1]
    if insert.otherwise in ("rollback", "commit"):
        # where the row is there the transaction ends: it must have nothing else to undo or to do
        before = range(1, look.insert)
        writes = any(a.writes for n in before for a in evidence.footprint(name, n).accesses)
        if look.insert < len(statements) or writes:
            return None
    assigned: Mapping[str, str] = {}
    if look.update is not None:
        dialect = evidence.rules.sql.dialect
        change = evidence.reading(with_own_columns(evidence, name, look.read, look.update))
        assigned = {
            column: of_table(value, look.table, dialect)
            for column, value in change.assigned.items()
        }
    sql = _with_clause(evidence, insert.text, _key(evidence, look), assigned)
    if sql is None:
        return None
    return {look.insert: {"sql": sql, "when": None, "otherwise": None}}


def _key(evidence: Evidence, look: Look) -> tuple[str, ...]:
    keys = evidence.keys(look.table)
    columns = {column.lower() for column in look.columns}
    return next(key for key in (keys.primary, *keys.unique)
                if key and {c.lower() for c in key} <= columns)  # fmt: skip


def _begun_again(evidence: Evidence, found: Mapping[str, Look]) -> Iterator[CandidateSeries]:
    names = [name for name in found if may_begin_again(evidence, name)]
    if len(names) < len(found):
        return
    yield (
        Candidate(
            kind="retry",
            name="retry on a duplicate key",
            because=_because(evidence, found),
            remedy=remedy(retry=_retry(names)),
            means=(
                "who comes second gets the error that the key is there already; the application"
                f" begins the transaction again, at most {TIMES} times, and then finds the row",
            ),
        ),
    )


def _retry(names: list[str]) -> dict[str, object]:
    on = ["deadlock", "refused", "duplicate"]
    return {name: {"times": TIMES, "pause": f"{PAUSE_MS}ms", "on": on} for name in names}


def _constraints(evidence: Evidence, found: Mapping[str, list[Look]]) -> Iterator[CandidateSeries]:
    """A constraint on what is looked for, where the table has none."""
    if not evidence.wrong:
        return
    wanted: dict[tuple[str, tuple[str, ...], Span | None], dict[str, Look]] = {}
    for name, own in found.items():
        for look in own:
            if not _is_unique(evidence, look):
                key = (look.table, tuple(sorted(look.columns)), look.span)
                wanted.setdefault(key, {})[name] = look
    for (table, columns, span), of in wanted.items():
        names = [name for name in of if may_begin_again(evidence, name)]
        constraint = _constraint(evidence, table, columns, span)
        if len(names) < len(of) or constraint is None:
            continue
        what, sql = constraint
        yield (
            Candidate(
                kind="constraint",
                name=f"{what}, retry on a duplicate",
                because=_because(evidence, of),
                remedy=remedy(ddl=(sql,), retry=_retry(names)),
                means=(
                    "the server refuses a second such row, whoever adds it; who comes second gets"
                    f" the error, begins again, at most {TIMES} times, and then finds the row",
                    "rows that are there already against it must be mended first",
                ),
            ),
        )


def _constraint(
    evidence: Evidence, table: str, columns: tuple[str, ...], span: Span | None
) -> tuple[str, str] | None:
    """What it asks for in words, and its DDL; None where the server has no such constraint."""
    listed = ", ".join(columns)
    if span is None:
        name = "_".join((table, *columns, "once"))
        what = f"{listed} of {table} unique"
        return what, f"alter table {table} add constraint {name} unique ({listed})"
    info = evidence.schema.tables.get(table)
    types = {name.lower(): one.type for name, one in info.columns.items()} if info else {}
    sql = evidence.rules.advice.excluding(
        table,
        {column: types.get(column, "") for column in columns},
        (span.begin, span.end),
        types.get(span.begin, ""),
        closed=span.closed,
    )
    for_each = f" of one {listed}" if columns else ""
    what = f"no rows of {table}{for_each} overlap from {span.begin} to {span.end}"
    return (what, sql) if sql is not None else None
