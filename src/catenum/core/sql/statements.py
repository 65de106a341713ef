"""What a statement reads, writes and locks, derived from its text.

The parse tree (sqlglot) is the source. What cannot be parsed is reported as such, so that callers
can assume the worst. Server rules (which table lock, which row lock) are not here but in
``servers``. ``dialect`` is the parser's name for a server's SQL (``Rules.dialect``).
"""

from __future__ import annotations

import logging
import re
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass
from functools import cache, lru_cache
from typing import Literal

from catenum.core.record.values import Value
from catenum.core.sql.beginning import begins
from catenum.core.sql.functions import BY_NATURE, HARMLESS
from catenum.core.sql.named_locks import NamedLock, named_locks
from catenum.core.sql.parser import exp, sqlglot
from catenum.core.sql.understood import (
    computes_plainly,
    counts_found_rows,
    goes_by_primary_key,
    is_understood,
    names_rows_plainly,
    sets_own_variables,
)

Verb = Literal["read", "lock", "insert", "update", "delete", "schema"]

# sqlglot warns on a logger of its own where it falls back to an opaque command; the fallback itself
# tells us enough.
logging.getLogger("sqlglot").setLevel(logging.ERROR)

#: A constant as it is written: whether it is a text (in quotes), and the value.
Written = tuple[bool, str]


@dataclass(frozen=True, slots=True, kw_only=True)
class Access:
    """One table as one statement touches it.

    ``strength`` is the lock clause of a locking read (``update``, ``no key update``, ``share``,
    ``key share``). ``equals`` holds the columns that the WHERE clause compares with constants by
    ``=``, joined by AND, as text; ``literals``, the same (of an INSERT: the values) where constant
    and column are as plain as can be, so that it is certain which rows are meant: whether the
    literal is a text, and the literal. ``choices``: the same of a column that is compared with a
    list of them by IN.
    """

    table: str
    schema: str | None
    verb: Verb
    strength: str | None = None
    columns: tuple[str, ...] = ()
    equals: tuple[tuple[str, str], ...] = ()
    literals: tuple[tuple[str, Written], ...] = ()
    choices: tuple[tuple[str, tuple[Written, ...]], ...] = ()
    by_primary: bool = False  # by a hint it goes through the primary key and nothing else
    changes_found: tuple[
        str, ...
    ] = ()  # the columns that an INSERT sets in a row that is already there
    lock_mode: str | None = None  # of LOCK TABLE, as it is written
    makes_index: bool = False
    concurrently: bool = False
    equals_only: bool = (
        False  # WHERE is nothing but ``literals`` and ``choices``, and no LIMIT cuts
    )
    sets_default: bool = False  # an UPDATE (or a row that an INSERT finds) gets a column's default

    @property
    def writes(self) -> bool:
        """Whether rows are changed (a lock alone does not change them)."""
        return self.verb in ("insert", "update", "delete")


@dataclass(frozen=True, slots=True)
class Footprint:
    """All that a statement touches. ``parsed`` is False where the parser does not know the
    statement at all; ``understood`` only where ``accesses`` is certain to be complete.
    ``functions``: every name that it calls.
    """

    accesses: tuple[Access, ...]
    parsed: bool = True
    understood: bool = False
    functions: frozenset[str] = frozenset()
    attributes: frozenset[str] = (
        frozenset()
    )  # columns with their table before them: on PostgreSQL perhaps calls
    count: int = 1
    control: str | None = (
        None  # begin, commit, rollback: what a transaction's own statement must not be
    )
    calls_unknown: bool = False  # calls a function whose doings its name does not tell
    by_nature: tuple[
        str, ...
    ] = ()  # what it calls that gives another value each time: now, random, nextval
    ordered: bool = False  # the order of the rows it returns is asked for
    order_by: tuple[str, ...] = ()  # the columns that it is by, where they are plain columns
    sets: Literal["transaction", "session"] | None = (
        None  # changes a setting or a variable, for how long
    )
    sets_level: bool = False  # a setting, not only a variable of the user's own
    named_locks: tuple[NamedLock, ...] = ()
    counts_found: bool = False  # the rows that it reports are rows of its one table that it found
    computes_plainly: bool = (
        False  # nothing in it can fail before the rows are locked, as far as its text shows
    )
    gathers: bool = False  # makes one value of many rows, in the order in which they come
    limited: bool = False  # returns or changes some of the rows that match

    @property
    def may_set_anything(self) -> bool:
        """Whether it may change the isolation level, the search path or a limit of the statements
        after it.
        """
        return self.sets_level or self.calls_unknown or not self.parsed

    @property
    def changes_tables(self) -> bool:
        """Whether it changes what tables there are or how they are made, as far as one can tell."""
        return not self.parsed or any(access.verb == "schema" for access in self.accesses)

    @property
    def may_outlive(self) -> bool:
        """Whether it may leave something in its session after the transaction: a setting, a named
        lock, a temporary table.
        """
        kept = any(not lock.takes or lock.of_session for lock in self.named_locks)
        return self.changes_tables or self.calls_unknown or self.sets == "session" or kept

    @property
    def recalls_numbers(self) -> bool:
        """Whether it asks for a number that its session took before."""
        return bool({"currval", "lastval", "last_insert_id"} & {*self.by_nature, *self.functions})

    @property
    def may_change_plans(self) -> bool:
        """Whether the same statement may be planned otherwise after it."""
        return self.changes_tables or self.calls_unknown or self.sets is not None

    def on(self, table: str) -> list[Access]:
        return [access for access in self.accesses if access.table.lower() == table.lower()]


@lru_cache(maxsize=4096)
def footprint(sql: str, dialect: str) -> Footprint:
    """What ``sql`` touches. Never raises: what cannot be parsed comes back with ``parsed``
    False.
    """
    if begins(sql):
        return Footprint((), control="begin", understood=True)
    try:
        trees = [tree for tree in sqlglot.parse(sql, dialect=dialect) if tree is not None]
    except (sqlglot.errors.SqlglotError, RecursionError):
        return _command(sql, 1)
    if not trees:
        return Footprint((), parsed=False, count=0)
    return _of_tree(trees[0], sql, len(trees))


def _order_by(tree: exp.Expr) -> tuple[str, ...]:
    order = tree.args.get("order")
    terms = [term.this for term in order.expressions] if isinstance(order, exp.Order) else []
    names = tuple(term.name.lower() for term in terms if isinstance(term, exp.Column))
    return names if len(names) == len(terms) else ()


def _setting(tree: exp.Expr, sql: str) -> Literal["transaction", "session"] | None:
    if isinstance(tree, exp.Set):
        return "transaction" if _SET_LOCAL.match(sql) else "session"
    return "session" if tree.find(exp.Parameter) is not None else None


#: A setting that ends with its transaction.
_SET_LOCAL = re.compile(r"\s*set\s+(local|transaction)\b", re.IGNORECASE)


def _of_tree(tree: exp.Expr, sql: str, count: int) -> Footprint:
    spelled = re.match(r"\s*(start\s+transaction|end|abort)\b", sql, re.IGNORECASE)
    if spelled:  # the parser knows one spelling of each only
        word = spelled[1].lower()
        return Footprint(
            (), count=count, control={"end": "commit", "abort": "rollback"}.get(word, "begin")
        )
    if isinstance(tree, exp.Transaction | exp.Commit | exp.Rollback):
        savepoint = (
            re.search(r"\bto\b", sql, re.IGNORECASE) if isinstance(tree, exp.Rollback) else None
        )
        control = None if savepoint else type(tree).__name__.lower().replace("transaction", "begin")
        return Footprint((), count=count, control=control)
    if isinstance(tree, exp.Command):
        return _command(sql, count)
    if not isinstance(
        tree, exp.Query | exp.DML | exp.DDL | exp.Alter | exp.Drop | exp.TruncateTable | exp.Set
    ):
        return Footprint((), parsed=False, count=count)
    called = [_function_name(call) for call in tree.find_all(exp.Func)]
    return Footprint(
        tuple(_accesses(tree)),
        count=count,
        understood=is_understood(tree),
        functions=frozenset(
            name.lower() for call in tree.find_all(exp.Func) for name in _function_names(call)
        ),
        attributes=frozenset(one.name.lower() for one in tree.find_all(exp.Column) if one.table),
        sets_level=isinstance(tree, exp.Set) and not sets_own_variables(tree),
        calls_unknown=any(
            isinstance(f, exp.Anonymous) and _function_name(f) not in HARMLESS
            for f in tree.find_all(exp.Func)
        ),
        named_locks=tuple(named_locks(tree)),
        by_nature=tuple(sorted({name for name in called if name in BY_NATURE})),
        ordered=tree.args.get("order") is not None,
        order_by=_order_by(tree),
        sets=_setting(tree, sql),
        counts_found=counts_found_rows(tree),
        computes_plainly=computes_plainly(tree),
        gathers=any(tree.find_all(*_gathering())) or bool(_GATHERING_NAMES & set(called)),
        limited=any(tree.find_all(exp.Limit, exp.Fetch, exp.Offset)),
    )


@cache
def _gathering() -> tuple[type[exp.Expr], ...]:
    """Aggregates whose value depends on the order in which rows come."""
    return (exp.ArrayAgg, exp.GroupConcat, exp.JSONArrayAgg, exp.JSONObjectAgg, exp.First, exp.Last)


_GATHERING_NAMES = frozenset(["string_agg", "json_agg", "jsonb_agg", "xmlagg", "row_number"])


def _function_names(call: exp.Func) -> Iterable[str]:
    """Every name that the call may have in the text."""
    return [call.name] if isinstance(call, exp.Anonymous) else call.sql_names()


def _function_name(call: exp.Func) -> str:
    name = call.name if isinstance(call, exp.Anonymous) else call.sql_name()
    return name.lower()


#: ``lock table a, b in share mode`` and ``lock tables a read, b as c write``; the parser keeps them
#: as opaque text.
_LOCK = re.compile(
    r"\s*lock\s+(?:tables?\s+)?(?P<names>.+?)(?:\s+in\s+(?P<mode>[\w"
    r" ]+?)\s+mode)?(?:\s+nowait)?[\s;]*$",
    re.IGNORECASE | re.DOTALL,
)
_LOCKED = re.compile(
    r"\s*(?:only\s+)?(?:[\"`]?(\w+)[\"`]?\.)?[\"`]?(\w+)[\"`]?(?:.*\b(read|write)\b)?",
    re.IGNORECASE | re.DOTALL,
)


def _command(sql: str, count: int) -> Footprint:
    """What the parser does not understand. LOCK TABLE is worth knowing."""
    match = _LOCK.match(sql)
    if not match:
        return Footprint((), parsed=False, count=count)
    mode = (match["mode"] or "access exclusive").lower()
    found = [_LOCKED.match(name) for name in match["names"].split(",")]
    accesses = tuple(
        Access(table=one[2], schema=one[1], verb="schema", lock_mode=(one[3] or mode).lower())
        for one in found
        if one
    )
    return Footprint(
        accesses, parsed=bool(accesses), understood=bool(accesses) and all(found), count=count
    )


#: What MERGE may do to its target, each to any row.
_OF_MERGE: tuple[Verb, ...] = ("insert", "update", "delete")


def _accesses(tree: exp.Expr) -> Iterator[Access]:
    target = _target(tree)
    plain, by_primary = names_rows_plainly(tree), goes_by_primary_key(tree)
    if target is not None:
        yield from _writes(tree, target, plain=plain, by_primary=by_primary)
    common = {cte.alias.lower() for cte in tree.find_all(exp.CTE)}
    for table in tree.find_all(exp.Table):
        if table is target or not table.name or (table.name.lower() in common and not table.db):
            continue
        yield _read(tree, table, plain=plain, by_primary=by_primary)


def _writes(
    tree: exp.Expr, target: exp.Table, *, plain: bool, by_primary: bool
) -> Iterator[Access]:
    if isinstance(tree, exp.Merge):
        for verb in _OF_MERGE:
            yield Access(table=target.name, schema=target.db or None, verb=verb)
        return
    verb = _verb(tree)
    pairs = list(_inserted(tree) if verb == "insert" else _compared(tree))
    kind = str(tree.args.get("kind") or "").lower() if isinstance(tree, exp.Create) else ""
    yield Access(
        table=target.name,
        schema=target.db or None,
        verb=verb,
        columns=tuple(_written_columns(tree)),
        equals=_constants(pairs),
        literals=_literals(pairs) if plain else (),
        choices=tuple(_choices(tree)) if plain and verb != "insert" else (),
        equals_only=plain and verb in ("update", "delete") and _equals_only(tree),
        sets_default=_sets_default(tree),
        by_primary=by_primary,
        changes_found=tuple(_on_conflict(tree)),
        makes_index=kind == "index",
        concurrently=bool(tree.args.get("concurrently")),
    )


def _read(tree: exp.Expr, table: exp.Table, *, plain: bool, by_primary: bool) -> Access:
    select = table.find_ancestor(exp.Select)
    strength = _strength(select, table) if select is not None else None
    pairs = list(_compared(tree if select is None else select))
    return Access(
        table=table.name,
        schema=table.db or None,
        verb="lock" if strength else "read",
        strength=strength,
        equals=_constants(pairs),
        literals=_literals(pairs) if plain and select is not None else (),
        choices=tuple(_choices(select)) if plain and select is not None else (),
        equals_only=plain and select is not None and _equals_only(select),
        by_primary=by_primary,
    )


def _target(tree: exp.Expr) -> exp.Table | None:
    """The table that is written or whose definition is changed."""
    if isinstance(tree, exp.Query | exp.Set):
        return None
    this = tree.this
    if isinstance(tree, exp.TruncateTable):
        this = tree.expressions[0] if tree.expressions else None
    if isinstance(this, exp.Schema):
        this = this.this
    if isinstance(this, exp.Index):
        this = this.args.get("table")
    return this if isinstance(this, exp.Table) else None


def _verb(tree: exp.Expr) -> Verb:
    if isinstance(tree, exp.Insert):
        return "insert"
    if isinstance(tree, exp.Update):
        return "update"
    return "delete" if isinstance(tree, exp.Delete) else "schema"


def _written_columns(tree: exp.Expr) -> Iterator[str]:
    if isinstance(tree, exp.Update):
        for assignment in tree.expressions:
            if isinstance(assignment, exp.EQ):
                yield assignment.this.name.lower()


def _inserted(tree: exp.Expr) -> Iterator[tuple[exp.Expr, exp.Expr]]:
    """Columns and values of a one-row INSERT; ``#0``, ``#1`` by their places where it lists no
    columns.
    """
    values = tree.args.get("expression")
    if not isinstance(values, exp.Values) or len(values.expressions) != 1:
        return
    given = values.expressions[0].expressions
    columns = tree.this.expressions if isinstance(tree.this, exp.Schema) else ()
    yield from zip(
        columns or [exp.column(f"#{place}") for place in range(len(given))], given, strict=False
    )


def assigned(
    sql: str, dialect: str, values: Iterable[Value], functions: Collection[str] = ()
) -> frozenset[tuple[str, str]]:
    """The columns (with their tables) that an UPDATE or INSERT sets from an expression with one of
    these literals, or with a call of one of ``functions``. Where no columns are listed: ``#0``,
    ``#1`` by their places.
    """
    texts = frozenset(value.text for value in values)
    return _assigned(sql, dialect, texts, frozenset(functions))


@lru_cache(maxsize=4096)
def _assigned(
    sql: str, dialect: str, texts: frozenset[str | None], functions: frozenset[str]
) -> frozenset[tuple[str, str]]:
    try:
        tree = sqlglot.parse_one(sql, dialect=dialect)
    except sqlglot.errors.SqlglotError:
        return frozenset()
    found: set[tuple[str, str]] = set()
    target = _target(tree)
    if target is None:
        return frozenset()
    if isinstance(tree, exp.Update):
        pairs = [(e.this.name, e.expression) for e in tree.expressions if isinstance(e, exp.EQ)]
    elif isinstance(tree, exp.Insert):
        source = tree.args.get("expression")
        rows = (
            source.expressions
            if isinstance(source, exp.Values)
            else [source]
            if source is not None
            else []
        )
        listed = (
            [column.name for column in tree.this.expressions]
            if isinstance(tree.this, exp.Schema)
            else []
        )
        widest = max((len(row.expressions) for row in rows), default=0)
        names = listed or [f"#{place}" for place in range(widest)]
        pairs = [pair for row in rows for pair in zip(names, row.expressions, strict=False)]
    else:
        pairs = []
    for name, expression in pairs:
        called = {call.name.lower() for call in expression.find_all(exp.Anonymous)}
        if called & functions or any(
            literal.this in texts for literal in expression.find_all(exp.Literal)
        ):
            found.add((target.name, name))
    return frozenset(found)


def _strength(select: exp.Select, table: exp.Table) -> str | None:
    for lock in select.args.get("locks") or ():
        named = [t.name.lower() for t in lock.expressions or ()]
        if named and (table.alias_or_name.lower() not in named):
            continue
        key = bool(lock.args.get("key"))
        if lock.args.get("update"):
            return "no key update" if key else "update"
        return "key share" if key else "share"
    return None


def _terms(tree: exp.Expr) -> Iterable[exp.Expr]:
    """What the WHERE clause joins by AND."""
    where = tree.args.get("where")
    if where is None:
        return ()
    return where.this.flatten() if isinstance(where.this, exp.And) else (where.this,)


def _equals_only(tree: exp.Expr) -> bool:
    """Whether WHERE is nothing but columns compared with plain literals, and all that matches is
    taken.
    """
    if any(
        tree.args.get(part)
        for part in ("limit", "offset", "having", "qualify", "distinct", "group")
    ):
        return False
    terms = list(_terms(tree))
    compared = sum(1 for _ in _literals(_compared(tree)))
    return bool(terms) and compared + sum(1 for _ in _choices(tree)) == len(terms)


def _sets_default(tree: exp.Expr) -> bool:
    """Whether an UPDATE, or an INSERT for a row that it finds, sets a column to its default."""
    conflict = tree.args.get("conflict")
    terms = [*(tree.expressions if isinstance(tree, exp.Update) else ())]
    terms += conflict.expressions if isinstance(conflict, exp.OnConflict) else ()
    values = (term.expression for term in terms if isinstance(term, exp.EQ))
    return any(
        part.name.lower() == "default"
        for value in values
        for part in value.find_all(exp.Column, exp.Var)
    )


def _choices(tree: exp.Expr) -> Iterator[tuple[str, tuple[Written, ...]]]:
    """Columns that the WHERE clause compares with a list of plain literals."""
    for term in _terms(tree):
        if isinstance(term, exp.In) and isinstance(term.this, exp.Column) and term.expressions:
            written = [_plain_literal(term.this, value) for value in term.expressions]
            if None not in written:
                yield term.this.name.lower(), tuple(one for one in written if one is not None)


def _compared(tree: exp.Expr) -> Iterator[tuple[exp.Expr, exp.Expr]]:
    """Columns that the WHERE clause compares by ``=``, joined by AND, and what with."""
    for term in _terms(tree):
        if not isinstance(term, exp.EQ):
            continue
        column, value = term.this, term.expression
        if not isinstance(column, exp.Column):
            column, value = value, column
        if isinstance(column, exp.Column):
            yield column, value


def _constants(pairs: Iterable[tuple[exp.Expr, exp.Expr]]) -> tuple[tuple[str, str], ...]:
    found = ((column.name.lower(), _constant(value)) for column, value in pairs)
    return tuple((name, text) for name, text in found if text is not None)


def _literals(pairs: Iterable[tuple[exp.Expr, exp.Expr]]) -> tuple[tuple[str, Written], ...]:
    """As ``_constants``, of literals that nothing converts and columns that no other could be meant
    by.
    """
    found = ((column.name.lower(), _plain_literal(column, value)) for column, value in pairs)
    return tuple((name, written) for name, written in found if written is not None)


def _plain_literal(column: exp.Expr, value: exp.Expr) -> Written | None:
    if column.name != column.name.lower() and any(
        name.args.get("quoted") for name in column.find_all(exp.Identifier)
    ):
        return None  # "Id" may stand beside id
    if isinstance(value, exp.Literal):
        return bool(value.is_string), str(value.this)
    if (
        isinstance(value, exp.Neg)
        and isinstance(value.this, exp.Literal)
        and not value.this.is_string
    ):
        return False, f"-{value.this.this}"
    return None


def _on_conflict(tree: exp.Expr) -> Iterator[str]:
    """The columns that an INSERT sets in a row that it finds; ``*`` for one that cannot be told."""
    conflict = tree.args.get("conflict")
    for term in conflict.expressions if isinstance(conflict, exp.OnConflict) else ():
        yield (
            term.this.name.lower()
            if isinstance(term, exp.EQ) and isinstance(term.this, exp.Column)
            else "*"
        )


def _constant(value: exp.Expr) -> str | None:
    if isinstance(value, exp.Literal):
        return str(value.this)
    if isinstance(value, exp.Neg) and isinstance(value.this, exp.Literal):
        return f"-{value.this.this}"
    if isinstance(value, exp.Cast):
        return _constant(value.this)
    return None
