"""What a statement reads, writes and locks, as its text tells.

The parse tree (sqlglot) is the source. What cannot be parsed is told as such, so that callers can assume the worst.
Server rules (which table lock, which row lock) are not here but in ``locks``.
"""

from __future__ import annotations

import logging
import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

import sqlglot
from sqlglot import exp
from sqlglot.errors import SqlglotError

from catenum.core.named_locks import FUNCTIONS, NamedLock, named_locks
from catenum.core.scripts import DIALECTS

Verb = Literal["read", "lock", "insert", "update", "delete", "schema"]

# sqlglot warns on a logger of its own where it falls back to an opaque command; the fallback itself tells us enough.
logging.getLogger("sqlglot").setLevel(logging.ERROR)


@dataclass(frozen=True, slots=True, kw_only=True)
class Access:
    """One table as one statement touches it.

    ``strength`` is the lock clause of a locking read (``update``, ``no key update``, ``share``, ``key share``).
    ``equals`` holds the columns that the WHERE clause compares with constants by ``=``, joined by AND, as text.
    """

    table: str
    schema: str | None
    verb: Verb
    strength: str | None = None
    columns: tuple[str, ...] = ()
    equals: tuple[tuple[str, str], ...] = ()
    detail: str = ""

    @property
    def writes(self) -> bool:
        """Whether rows are changed (a lock alone does not change them)."""
        return self.verb in ("insert", "update", "delete")


@dataclass(frozen=True, slots=True)
class Footprint:
    """All that a statement touches. ``parsed`` is False where the text could not be understood."""

    accesses: tuple[Access, ...]
    parsed: bool = True
    count: int = 1
    control: str | None = None  # begin, commit, rollback: what a transaction's own statement must not be
    calls_unknown: bool = False  # calls a function whose doings its name does not tell
    by_nature: tuple[str, ...] = ()  # what it calls that gives another value each time: now, random, nextval
    ordered: bool = False  # the order of the rows it returns is asked for
    sets: Literal["transaction", "session"] | None = None  # changes a setting or a variable, for how long
    named_locks: tuple[NamedLock, ...] = ()

    @property
    def changes_tables(self) -> bool:
        """Whether it changes what tables there are or how they are made, as far as one can tell."""
        return not self.parsed or any(access.verb == "schema" for access in self.accesses)

    @property
    def may_outlive(self) -> bool:
        """Whether it may leave something in its session after the transaction: a setting, a named lock, a temporary
        table.
        """
        kept = any(not lock.takes or lock.of_session for lock in self.named_locks)
        return self.changes_tables or self.calls_unknown or self.sets == "session" or kept

    @property
    def may_change_plans(self) -> bool:
        """Whether the same statement may be planned otherwise after it."""
        return self.changes_tables or self.calls_unknown or self.sets is not None

    def on(self, table: str) -> list[Access]:
        """The accesses to ``table``."""
        return [access for access in self.accesses if access.table.lower() == table.lower()]


@lru_cache(maxsize=4096)
def footprint(sql: str, server: str = "postgresql") -> Footprint:
    """What ``sql`` touches on ``server``. Never raises: what cannot be parsed comes back with ``parsed`` False."""
    try:
        trees = [tree for tree in sqlglot.parse(sql, dialect=DIALECTS.get(server)) if tree is not None]
    except (SqlglotError, RecursionError):
        return _command(sql, 1)
    if not trees:
        return Footprint((), parsed=False, count=0)
    return _of_tree(trees[0], sql, len(trees))


def footprints(script: str, server: str = "postgresql") -> list[Footprint]:
    """What each statement of a script touches; where the whole cannot be parsed, piece by piece at the semicolons."""
    try:
        trees = [tree for tree in sqlglot.parse(script, dialect=DIALECTS.get(server)) if tree is not None]
    except (SqlglotError, RecursionError):
        return [footprint(piece, server) for piece in script.split(";") if piece.strip()]
    return [_of_tree(tree, tree.sql(dialect=DIALECTS.get(server)), 1) for tree in trees]


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
        return Footprint((), count=count, control={"end": "commit", "abort": "rollback"}.get(word, "begin"))
    if isinstance(tree, exp.Transaction | exp.Commit | exp.Rollback):
        savepoint = re.search(r"\bto\b", sql, re.IGNORECASE) if isinstance(tree, exp.Rollback) else None
        control = None if savepoint else type(tree).__name__.lower().replace("transaction", "begin")
        return Footprint((), count=count, control=control)
    if isinstance(tree, exp.Command):
        return _command(sql, count)
    if not isinstance(tree, exp.Query | exp.DML | exp.DDL | exp.Alter | exp.Drop | exp.TruncateTable | exp.Set):
        return Footprint((), parsed=False, count=count)
    called = [_function_name(call) for call in tree.find_all(exp.Func)]
    return Footprint(
        tuple(_accesses(tree)),
        count=count,
        calls_unknown=any(
            isinstance(f, exp.Anonymous) and _function_name(f) not in _HARMLESS for f in tree.find_all(exp.Func)
        ),
        named_locks=tuple(named_locks(tree)),
        by_nature=tuple(sorted({name for name in called if name in _BY_NATURE})),
        ordered=tree.args.get("order") is not None,
        sets=_setting(tree, sql),
    )


#: Functions that give another value at each call or in each transaction.
_BY_NATURE = frozenset(
    [
        "now",
        "current_timestamp",
        "currenttimestamp",
        "current_date",
        "currentdate",
        "current_time",
        "currenttime",
        "localtime",
        "localtimestamp",
        "clock_timestamp",
        "statement_timestamp",
        "transaction_timestamp",
        "timeofday",
        "sysdate",
        "utc_timestamp",
        "unix_timestamp",
        "curdate",
        "curtime",
        "random",
        "rand",
        "uuid",
        "gen_random_uuid",
        "uuid_generate_v4",
        "nextval",
        "currval",
        "lastval",
        "last_insert_id",
        "txid_current",
        "pg_current_xact_id",
        "connection_id",
        "pg_backend_pid",
    ]
)
#: Functions that the parser does not know by a name of its own, and that touch no table.
_HARMLESS = (
    _BY_NATURE
    | FUNCTIONS
    | frozenset(["pg_sleep", "sleep", "version", "database", "current_setting", "to_json", "row_to_json", "md5"])
)


def _function_name(call: exp.Func) -> str:
    name = call.name if isinstance(call, exp.Anonymous) else call.sql_name()
    return name.lower()


#: ``lock table a, b in share mode`` and ``lock tables a read, b as c write``; the parser keeps them as opaque text.
_LOCK = re.compile(
    r"\s*lock\s+(?:tables?\s+)?(?P<names>.+?)(?:\s+in\s+(?P<mode>[\w ]+?)\s+mode)?(?:\s+nowait)?[\s;]*$",
    re.IGNORECASE | re.DOTALL,
)
_LOCKED = re.compile(
    r"\s*(?:only\s+)?(?:[\"`]?(\w+)[\"`]?\.)?[\"`]?(\w+)[\"`]?(?:.*\b(read|write)\b)?", re.IGNORECASE | re.DOTALL
)


def _command(sql: str, count: int) -> Footprint:
    """What the parser does not understand. LOCK TABLE is worth knowing."""
    match = _LOCK.match(sql)
    if not match:
        return Footprint((), parsed=False, count=count)
    mode = (match["mode"] or "access exclusive").lower()
    found = [_LOCKED.match(name) for name in match["names"].split(",")]
    accesses = tuple(
        Access(table=one[2], schema=one[1], verb="schema", detail=f"lock {(one[3] or mode).lower()}")
        for one in found
        if one
    )
    return Footprint(accesses, parsed=bool(accesses), count=count)


def _accesses(tree: exp.Expr) -> Iterator[Access]:
    common = {cte.alias.lower() for cte in tree.find_all(exp.CTE)}
    target = _target(tree)
    equals = tuple(_equalities(tree))
    if target is not None:
        verb, detail = _verb(tree)
        yield Access(
            table=target.name,
            schema=target.db or None,
            verb=verb,
            columns=tuple(_written_columns(tree)),
            equals=tuple(_inserted(tree)) if verb == "insert" else equals,
            detail=detail,
        )
    for table in tree.find_all(exp.Table):
        if table is target or not table.name or (table.name.lower() in common and not table.db):
            continue
        select = table.find_ancestor(exp.Select)
        strength = _strength(select, table) if select is not None else None
        own = tuple(_equalities(select)) if select is not None else equals
        yield Access(
            table=table.name,
            schema=table.db or None,
            verb="lock" if strength else "read",
            strength=strength,
            equals=own,
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


def _verb(tree: exp.Expr) -> tuple[Verb, str]:
    if isinstance(tree, exp.Insert):
        return "insert", ""
    if isinstance(tree, exp.Update):
        return "update", ""
    if isinstance(tree, exp.Delete):
        return "delete", ""
    if isinstance(tree, exp.TruncateTable):
        return "schema", "truncate"
    kind = str(tree.args.get("kind") or "").lower()
    concurrently = " concurrently" if tree.args.get("concurrently") else ""
    return "schema", f"{type(tree).__name__.lower()} {kind}{concurrently}".strip()


def _written_columns(tree: exp.Expr) -> Iterator[str]:
    if isinstance(tree, exp.Update):
        for assignment in tree.expressions:
            if isinstance(assignment, exp.EQ):
                yield assignment.this.name.lower()


def _inserted(tree: exp.Expr) -> Iterator[tuple[str, str]]:
    """Column values of a one-row INSERT of constants."""
    values = tree.args.get("expression")
    if not (isinstance(tree.this, exp.Schema) and isinstance(values, exp.Values) and len(values.expressions) == 1):
        return
    for column, value in zip(tree.this.expressions, values.expressions[0].expressions, strict=False):
        text = _constant(value)
        if text is not None:
            yield column.name.lower(), text


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


def _equalities(tree: exp.Expr) -> Iterator[tuple[str, str]]:
    where = tree.args.get("where")
    if where is None:
        return
    for term in where.this.flatten() if isinstance(where.this, exp.And) else [where.this]:
        if not isinstance(term, exp.EQ):
            continue
        column, value = term.this, term.expression
        if not isinstance(column, exp.Column):
            column, value = value, column
        text = _constant(value)
        if isinstance(column, exp.Column) and text is not None:
            yield column.name.lower(), text


def _constant(value: exp.Expr) -> str | None:
    if isinstance(value, exp.Literal):
        return str(value.this)
    if isinstance(value, exp.Neg) and isinstance(value.this, exp.Literal):
        return f"-{value.this.this}"
    if isinstance(value, exp.Cast):
        return _constant(value.this)
    return None


@lru_cache(maxsize=4096)
def masked(sql: str, server: str = "postgresql") -> str:
    """The statement with ``?`` in place of every literal and of every numbered parameter (``$1``).

    A text that cannot be read in full is masked roughly.
    """
    try:
        tokens = sqlglot.tokenize(sql, dialect=DIALECTS.get(server))
    except SqlglotError:
        return _roughly_masked(sql)
    parts, end = [], 0
    for token in tokens:
        if token.token_type.name in _LITERALS:
            parts.append(sql[end : token.start].removesuffix("$") + "?")
            end = token.end + 1
    return _COMMENTS.sub(" ", "".join(parts) + sql[end:])


def _roughly_masked(sql: str) -> str:
    """For a text that was cut within a literal: what follows an unpaired quote goes too."""
    text = re.sub(r"'(?:[^']|'')*(?:'|$)", "?", sql)
    return _COMMENTS.sub(" ", re.sub(r"(?<![\w.$])\$?\d+(?:\.\d+)?", "?", text))


_LITERALS = {"STRING", "NUMBER", "HEX_STRING", "BIT_STRING", "BYTE_STRING", "NATIONAL_STRING", "RAW_STRING",
             "HEREDOC_STRING", "UNICODE_STRING"}  # fmt: skip
_COMMENTS = re.compile(r"/\*.*?(?:\*/|$)|--[^\n]*", re.DOTALL)


@lru_cache(maxsize=4096)
def shape(sql: str, server: str = "postgresql") -> str:
    """What statements of one kind share: literals taken out, lists of them made one, spaces and case made alike."""
    text = " ".join(masked(sql, server).lower().split()).rstrip("; ")
    text = re.sub(r"\? ?(, ?\? ?)+", "?, … ", text)
    return re.sub(r"(\([?, …]*\))( ?, ?\([?, …]*\))+", r"\1, …", text)


def same_kind(shaped: str) -> str:
    """What two shapes share where one comes from a server's own statistics.

    MariaDB's digests put every name in backquotes and spaces around every sign, and write ``...`` for a list.
    """
    bare = re.sub(r"[\s`\"]", "", shaped)
    return bare.replace("...", "?").replace("?,…", "?")
