"""PostgreSQL's rules. Chapters are those of its documentation; lock modes are in 13.3, "Explicit
Locking".

Row locks carry the names of the documentation (``FOR UPDATE``), also where an UPDATE took them;
table locks those of ``pg_locks`` (``AccessShareLock``).
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence

from catenum.core.record.modes import Mode
from catenum.core.record.recording import ErrorKind, PathStep, TableKeys
from catenum.core.servers.modes import ModeTable, symmetric
from catenum.core.servers.rules import (
    AdviceRules,
    ErrorRules,
    LockRules,
    PlanLocks,
    Rules,
    ServerSetting,
    SqlRules,
)
from catenum.core.servers.table_access import AccessMode
from catenum.core.sql.boundary import ANY_SERVER, Boundary
from catenum.core.sql.statements import Access
from catenum.core.sql.token_patterns import NUMBER, TAG, WORD, TokenPatterns

#: Documentation, 4.1 "Lexical Structure".
TOKEN_PATTERNS = TokenPatterns(
    pieces=re.compile(
        rf"(?P<comment>--[^\n]*|/\*)|(?P<dollar>\$(?:{TAG})?\$)|(?P<string>(?:\b[eEbBxXnN]|\b[uU]&)?')"
        rf"|(?P<name>\"(?:[^\"]|\"\")*(?:\"|\Z))|(?P<value>\$\d+|{NUMBER})|(?P<word>{WORD})"
    ),
    opaque=re.compile(
        r"[eE]'(?:[^'\\]|\\.|'')*(?:'|$)|\$(?P<tag>\w*)\$.*?(?:\$(?P=tag)\$|$)|'(?:[^']|'')*(?:'|$)"
        r'|"(?:[^"]|"")*(?:"|$)|--[^\n]*|/\*.*?(?:\*/|$)',
        re.DOTALL,
    ),
)

_ROW_MODES = tuple(
    Mode("row", name) for name in ("FOR KEY SHARE", "FOR SHARE", "FOR NO KEY UPDATE", "FOR UPDATE")
)
KEY_SHARE, SHARE, NO_KEY_UPDATE, UPDATE = _ROW_MODES
ROW = ModeTable(
    title="row locks",
    source='PostgreSQL documentation, 13.3.2 "Row-Level Locks", table 13.3',
    modes=_ROW_MODES,
    conflicts=symmetric(
        _ROW_MODES,
        {
            "FOR KEY SHARE": (3,),
            "FOR SHARE": (2, 3),
            "FOR NO KEY UPDATE": (1, 2, 3),
            "FOR UPDATE": (0, 1, 2, 3),
        },
    ),
)

_TABLE_MODES = tuple(
    Mode("table", name)
    for name in (
        "AccessShareLock",
        "RowShareLock",
        "RowExclusiveLock",
        "ShareUpdateExclusiveLock",
        "ShareLock",
        "ShareRowExclusiveLock",
        "ExclusiveLock",
        "AccessExclusiveLock",
    )
)
TABLE = ModeTable(
    title="table locks",
    source='PostgreSQL documentation, 13.3.1 "Table-Level Locks", table 13.2',
    modes=_TABLE_MODES,
    conflicts=symmetric(
        _TABLE_MODES,
        {
            "AccessShareLock": (7,),
            "RowShareLock": (6, 7),
            "RowExclusiveLock": (4, 5, 6, 7),
            "ShareUpdateExclusiveLock": (3, 4, 5, 6, 7),
            "ShareLock": (2, 3, 5, 6, 7),
            "ShareRowExclusiveLock": (2, 3, 4, 5, 6, 7),
            "ExclusiveLock": (1, 2, 3, 4, 5, 6, 7),
            "AccessExclusiveLock": (0, 1, 2, 3, 4, 5, 6, 7),
        },
    ),
)
TABLES = (ROW, TABLE)


def _table(name: str) -> Mode:
    return Mode("table", name)


ACCESS_SHARE, ROW_SHARE, ROW_EXCLUSIVE = map(
    _table, ("AccessShareLock", "RowShareLock", "RowExclusiveLock")
)
ACCESS_EXCLUSIVE, EXCLUSIVE, TABLE_SHARE = map(
    _table, ("AccessExclusiveLock", "ExclusiveLock", "ShareLock")
)
#: The end of a read-write serializable transaction, for which a deferrable one waits (13.2.3).
SAFE_SNAPSHOT = Mode("other", "SafeSnapshot")

#: A session about to lock a row takes a lock on its tuple first; that lock's mode tells the row
#: lock it is after (``tupleLockExtraInfo`` in PostgreSQL's heapam.c).
ROW_MODE_OF_TUPLE_LOCK = {
    ACCESS_SHARE: KEY_SHARE,
    ROW_SHARE: SHARE,
    EXCLUSIVE: NO_KEY_UPDATE,
    ACCESS_EXCLUSIVE: UPDATE,
}

#: What ``pgrowlocks`` and ``pg_get_multixact_members`` call the modes.
ROW_MODE_ALIASES = {
    **{mode.name.lower(): mode for mode in _ROW_MODES},
    "no key update": NO_KEY_UPDATE,
    "update": UPDATE,
    "key share": KEY_SHARE,
    "share": SHARE,
    "keysh": KEY_SHARE,
    "sh": SHARE,
    "fornokeyupd": NO_KEY_UPDATE,
    "nokeyupd": NO_KEY_UPDATE,
    "forupd": UPDATE,
    "upd": UPDATE,
}
_SESSION_LOCK = re.compile(r"\bpg_(try_)?advisory_lock(_shared)?\b", re.IGNORECASE)
_STRENGTHS = {
    "key share": KEY_SHARE,
    "share": SHARE,
    "no key update": NO_KEY_UPDATE,
    "update": UPDATE,
}


class PostgresqlLockRules(LockRules):
    """See ``LockRules`` for what each member promises."""

    distinct_levels = ("read committed", "repeatable read", "serializable")
    level_note = "read uncommitted is not listed: PostgreSQL runs it as read committed"
    usual_level = "read committed"
    settings = (
        "default_transaction_isolation",
        "deadlock_timeout",
        "lock_timeout",
        "statement_timeout",
        "idle_in_transaction_session_timeout",
    )
    locks_matches_only = True
    tables = TABLES
    inserted_mode = UPDATE
    parent_mode = KEY_SHARE  # RI_FKey_check in ri_triggers.c
    named_source = 'PostgreSQL documentation, 13.3.5 "Advisory Locks"'
    schema_modes = frozenset(
        [ACCESS_EXCLUSIVE, EXCLUSIVE, _table("ShareRowExclusiveLock"), TABLE_SHARE]
    )
    asks_victim = True  # by each session's deadlock_timeout
    named_locks_span = "database"
    limits_named_locks = True
    refuses_late_locks = True  # 13.2.2
    defers_at = "serializable"  # "SET TRANSACTION", DEFERRABLE

    def row_mode(self, access: Access, key_columns: frozenset[str]) -> Mode | None:
        """By 13.3.2.

        An UPDATE takes FOR UPDATE where it changes a column of a unique index that a foreign key
        could use (``key_columns``), otherwise FOR NO KEY UPDATE; a plain read takes none.
        """
        if access.verb == "lock" and access.strength:
            return _STRENGTHS[access.strength]
        if access.verb == "delete":
            return UPDATE
        if access.verb == "update":
            return UPDATE if key_columns.intersection(access.columns) else NO_KEY_UPDATE
        return None

    def table_mode(self, access: Access) -> Mode:
        """By 13.3.1 and the commands that it lists for each mode."""
        if access.verb == "read":
            return ACCESS_SHARE
        if access.verb == "lock":
            return ROW_SHARE
        if access.writes:
            return ROW_EXCLUSIVE
        if access.lock_mode is not None:
            wanted = access.lock_mode.replace(" ", "") + "lock"
            return next(
                (mode for mode in _TABLE_MODES if mode.name.lower() == wanted), ACCESS_EXCLUSIVE
            )
        if access.makes_index:
            return _table("ShareUpdateExclusiveLock") if access.concurrently else TABLE_SHARE
        return ACCESS_EXCLUSIVE

    def snapshot_statements(self, level: str, touched: Sequence[Sequence[AccessMode]]) -> range:
        """The first one, at the levels with one snapshot a transaction (13.2.2)."""
        return range(1) if level in ("repeatable read", "serializable") else range(0)

    def may_overtake(self, levels: Collection[str]) -> bool:
        """Both go after the row's new version, where neither is refused for it (13.2.1;
        README.tuplock).
        """
        return not any(map(self.refuses_what_changed, levels))

    def refuses_by_any_order(self, level: str) -> bool:
        """Under serializable snapshot isolation (Ports and Grittner 2012)."""
        return level == "serializable"

    def plan_locks(self, step: PathStep, access: Access, keys: TableKeys) -> PlanLocks:
        """Rows that match and no others (13.3.2): whatever the path, a scan locks only what it
        returns.
        """
        return PlanLocks(words=(f"the rows that match, in {step.table}",))


class PostgresqlSqlRules(SqlRules):
    """See ``SqlRules`` for what each member promises."""

    dialect = "postgres"
    token_patterns = TOKEN_PATTERNS
    calls_as_columns = True  # 4.2.6 "Function Calls": functional notation
    catalogues = ("pg_catalog", "information_schema")
    boundary = Boundary(
        statements=(
            *ANY_SERVER,
            (
                r"(?:create|drop|alter) (?:group|publication|subscription|event trigger|foreign"
                r" data wrapper)"
            ),
            r"alter (?:system|default privileges)",
            r"(?:reassign|drop) owned",
            (
                r"(?:vacuum|analyze|cluster|checkpoint)(?: \(.*\))?(?: full| freeze| verbose|"
                r" analyze)*$"
            ),
            r"reindex (?:\(.*\) )?(?:database|system|schema)",
            r"set (?:session |local )?(?:search_path|role|session authorization|schema)",
            r"reset (?:all|search_path|role|session authorization)",
            r"discard all",
            r"copy .* program",
        ),
        functions=(
            r"pg_(?:terminate_backend|cancel_backend|reload_conf|rotate_logfile|promote|switch_wal)\s*\(",
            r"(?:dblink\w*|lo_\w+)\s*\(",
            r"set_config\s*\(\s*'(?:search_path|role|session_authorization)'",
            r"(?:nextval|setval|currval)\s*\(\s*'[^'.]+\.",
        ),
        own_transactions=(r"(?:prepare transaction|commit prepared|rollback prepared)",),
    )
    silence_limits = (
        "idle_in_transaction_session_timeout",
        "idle_session_timeout",
        "transaction_timeout",
    )
    sets_level_within = True
    wait_limits = ("lock_timeout", "statement_timeout")
    wait_limit_unit_ms = 1.0
    before_definitions = "set check_function_bodies = off"
    prepares_by = re.compile(r"(?i)\bprepare\s+transaction\b")

    def counts_on(self, table: str, column: str) -> str:
        """For a column that owns a sequence; otherwise it does nothing."""
        sequence = f"pg_get_serial_sequence('{table}', '{column.strip(self.name_quote)}')"
        return f"select setval({sequence}, max({column})) from {table}"


class PostgresqlErrorRules(ErrorRules):
    """See ``ErrorRules`` for what each member promises."""

    refuses_after_error = True
    code_word = "SQLSTATE"
    time_limits = frozenset(["57014"])  # query_canceled: whoever cancelled it, in any language
    duplicates = frozenset(["23505", "23P01"])  # unique_violation, exclusion_violation
    #: Appendix A, "PostgreSQL Error Codes".
    error_kinds: dict[str, ErrorKind] = {  # noqa: RUF012 - never changed
        "40P01": "deadlock",
        "40001": "refused",
        "55P03": "timeout",  # lock_not_available: lock_timeout and NOWAIT
        "57P01": "lost",  # admin_shutdown
        "57P02": "lost",  # crash_shutdown
        "57P03": "lost",  # cannot_connect_now
        "57P05": "lost",  # idle_session_timeout
        "25P03": "lost",  # idle_in_transaction_session_timeout
    }


class PostgresqlAdviceRules(AdviceRules):
    """See ``AdviceRules`` for what each member promises."""

    wall_advice = (
        ", or log in as a superuser, so that Catenum can make a role that has no rights elsewhere"
    )
    idle_limit = "idle_in_transaction_session_timeout"
    outlived_lock_advice = (
        (
            "Take it with pg_advisory_xact_lock, which is released when the transaction ends,"
            " whether it commits or not."
        ),
        (
            "Where it has to span transactions, call pg_advisory_unlock on every way out, errors"
            " included."
        ),
    )
    password_places = ("PGPASSWORD", "~/.pgpass", "CATENUM_TARGET")
    row_locks = ("for share", "for no key update", "for update")

    def lock_blocks(self, clause: str) -> str:
        """By the table of row locks (13.3.2)."""
        if clause == "for update":
            return (
                "plain reads go on; changes and locking reads of the row wait, and foreign keys"
                " that refer to it too"
            )
        return (
            "plain reads go on, and so do foreign keys that refer to the row; changes and stronger"
            " locks of it wait"
        )

    def excluding(
        self,
        table: str,
        equal: Mapping[str, str],
        span: tuple[str, str],
        kind: str,
        *,
        closed: bool,
    ) -> str | None:
        """By ranges, which need no extension ("CREATE TABLE", EXCLUDE; 8.17 "Range Types")."""
        ranges = {column: _range_of(type_) for column, type_ in equal.items()}
        over = _range_of(kind)
        if over is None or any(
            one != "int4range" and one != "int8range" for one in ranges.values()
        ):
            return None
        parts = [f"{one}({column}, {column}, '[]') with &&" for column, one in ranges.items()]
        begin, end = span
        parts.append(f"{over}({begin}, {end}, '{'[]' if closed else '[)'}') with &&")
        name = "_".join((table, *equal, begin, end, "apart"))
        return f"alter table {table} add constraint {name} exclude using gist ({', '.join(parts)})"

    def unless_there(self, key: Sequence[str], assigned: Mapping[str, str]) -> str:
        """As in "INSERT", ON CONFLICT Clause."""
        at = f"on conflict ({', '.join(key)})"
        if not assigned:
            return f"{at} do nothing"
        changes = ", ".join(f"{column} = {value}" for column, value in assigned.items())
        return f"{at} do update set {changes}"

    def gentle(self, ddl: str) -> tuple[str, ...]:
        """CREATE INDEX CONCURRENTLY, outside a transaction; one that fails leaves an invalid index
        ("Building Indexes Concurrently").
        """
        return (
            "set lock_timeout = '2s'",
            re.sub(r"(?i)^(create\s+(?:unique\s+)?index)\s+", r"\1 concurrently ", ddl),
            "-- outside a transaction; if it fails, drop the index that it leaves, and try again",
        )

    def lock_of_transaction(self, sql: str) -> str | None:
        changed = _SESSION_LOCK.sub(r"pg_\1advisory_xact_lock\2", sql)
        return changed if changed != sql else None


#: Documentation, 20.7 "Query Planning", 20.11 "Client Connection Defaults", 20.12 "Lock
#: Management".
SETTINGS = (
    ServerSetting("deadlock_timeout"),
    ServerSetting("lock_timeout", "set lock_timeout = '{}'"),
    *map(
        ServerSetting,
        (
            "default_transaction_deferrable",
            "default_transaction_isolation",
            "default_transaction_read_only",
            "enable_bitmapscan",
            "enable_hashjoin",
            "enable_indexonlyscan",
            "enable_indexscan",
            "enable_mergejoin",
            "enable_nestloop",
            "enable_seqscan",
            "max_locks_per_transaction",
            "max_pred_locks_per_page",
            "max_pred_locks_per_relation",
            "max_pred_locks_per_transaction",
            "max_prepared_transactions",
            "random_page_cost",
            "seq_page_cost",
            "synchronize_seqscans",
            "work_mem",
        ),
    ),
)

RULES = Rules(
    name="postgresql",
    settings=SETTINGS,
    title="PostgreSQL",
    locks=PostgresqlLockRules(),
    sql=PostgresqlSqlRules(),
    errors=PostgresqlErrorRules(),
    advice=PostgresqlAdviceRules(),
)


def _range_of(kind: str) -> str | None:
    """The range type over a column's type."""
    plain = " ".join(kind.lower().split()).partition("(")[0].strip()
    return {
        "int": "int4range",
        "integer": "int4range",
        "bigint": "int8range",
        "date": "daterange",
        "timestamp": "tsrange",
        "timestamp without time zone": "tsrange",
        "timestamptz": "tstzrange",
        "timestamp with time zone": "tstzrange",
        "numeric": "numrange",
    }.get(plain)
