"""The rules of InnoDB, which every server with that storage engine shares.

Record locks are shown as a mode and what it covers: ``X record`` (the row alone), ``X gap`` (the
space before it), ``X next-key`` (both), ``X insert intention`` (a wish to insert into the gap).
Sources: MariaDB documentation, "InnoDB Lock Modes"; for records and gaps the rules of
``lock_rec_has_to_wait`` in InnoDB's lock0lock.cc.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping, Sequence

from catenum.core.record.modes import Covers, Mode
from catenum.core.record.recording import ErrorKind, PathStep, TableKeys
from catenum.core.servers.metadata import MDL_EXCLUSIVE, MDL_READ, MDL_WRITE, metadata_mode
from catenum.core.servers.modes import ModeTable, symmetric
from catenum.core.servers.rules import (
    AdviceRules,
    ErrorRules,
    LockRules,
    PlanLocks,
    ServerSetting,
    SqlRules,
)
from catenum.core.servers.table_access import AccessMode
from catenum.core.sql.statements import Access
from catenum.core.sql.token_patterns import NUMBER, WORD, TokenPatterns

#: MariaDB documentation, "InnoDB System Variables", "Server System Variables"; MySQL Reference
#: Manual, "InnoDB Startup Options and System Variables".
SETTINGS = (
    ServerSetting("innodb_lock_wait_timeout", "set session innodb_lock_wait_timeout = {}"),
    ServerSetting("lock_wait_timeout", "set session lock_wait_timeout = {}"),
    *map(
        ServerSetting,
        (
            "innodb_autoinc_lock_mode",
            "innodb_deadlock_detect",
            "innodb_print_all_deadlocks",
            "innodb_rollback_on_timeout",
            "optimizer_switch",
            "sql_mode",
            "transaction_isolation",
            "transaction_read_only",
        ),
    ),
)

#: MariaDB documentation, "Literals", "String Literals", "Comment Syntax", "Identifier Names"; MySQL
#: Reference Manual, "Language Structure".
TOKEN_PATTERNS = TokenPatterns(
    pieces=re.compile(
        rf"(?P<comment>--(?=\s|\Z)[^\n]*|\#[^\n]*|/\*)|(?P<string>(?:\b(?:[bBxXnN]|_\w+\s*))?['\"])"
        rf"|(?P<name>`(?:[^`]|``)*(?:`|\Z))|(?P<value>{NUMBER})|(?P<word>{WORD})"
    ),
    opaque=re.compile(
        r"'(?:[^'\\]|\\.|'')*(?:'|$)"
        r'|"(?:[^"\\]|\\.|"")*(?:"|$)|`[^`]*(?:`|$)|--\s[^\n]*|\#[^\n]*|/\*.*?(?:\*/|$)',
        re.DOTALL,
    ),
)

_TABLE_MODES = tuple(Mode("table", name) for name in ("IS", "IX", "AUTO-INC", "S", "X"))
_TABLE_CONFLICTS = symmetric(
    _TABLE_MODES,
    {"IS": (4,), "IX": (3, 4), "AUTO-INC": (2, 3, 4), "S": (1, 2, 4), "X": (0, 1, 2, 3, 4)},
)

RECORD_COVERS: tuple[Covers, ...] = ("gap", "insert intention", "record", "next-key")
_RECORD_MODES = tuple(
    Mode("record", name, covers) for name in ("S", "X") for covers in RECORD_COVERS
)


def has_to_wait(wanted: Mode, held: Mode) -> bool:
    """``lock_rec_has_to_wait`` (lock0lock.cc).

    Whether a request on a record waits for a lock that another has on it.
    """
    if wanted.name == "S" == held.name:
        return False
    if held.covers == "insert intention":
        return False  # nobody waits for a wish to insert
    if wanted.covers == "insert intention":
        return held.covers in ("gap", "next-key")
    if wanted.covers == "gap":
        return False  # a gap lock only keeps inserts out
    return held.covers != "gap"


_RECORD_CONFLICTS = frozenset(
    (a, b) for a in _RECORD_MODES for b in _RECORD_MODES if has_to_wait(a, b)
)


def innodb_locks(source: str) -> tuple[ModeTable, ModeTable]:
    """The tables for whole tables and for records, with where a server's documentation describes
    them.
    """
    records = f"{source} (gap locks), and lock_rec_has_to_wait in lock0lock.cc"
    return (
        ModeTable(
            title="InnoDB table locks",
            source=source,
            modes=_TABLE_MODES,
            conflicts=_TABLE_CONFLICTS,
        ),
        ModeTable(
            title="InnoDB record and gap locks",
            source=records,
            modes=_RECORD_MODES,
            conflicts=_RECORD_CONFLICTS,
        ),
    )


SHARED, EXCLUSIVE = Mode("record", "S", "next-key"), Mode("record", "X", "next-key")


class InnodbLockRules(LockRules):
    """See ``LockRules`` for what each member promises."""

    undoes_row_by_row = True
    usual_level = "repeatable read"
    settings = (
        "transaction_isolation",
        "tx_isolation",  # its name before MariaDB 11.1
        "innodb_deadlock_detect",
        "innodb_lock_wait_timeout",
        "innodb_rollback_on_timeout",
        "innodb_autoinc_lock_mode",
        "innodb_snapshot_isolation",
        "lock_wait_timeout",
    )
    grants_at_release = True  # lock_rec_dequeue_from_page in lock0lock.cc
    locks_before_checks = True  # row_search_mvcc locks; row_upd computes and checks afterwards
    #: An implicit lock: others see it as this until the transaction commits.
    inserted_mode = Mode("record", "X", "record")
    shows_inserts_late = True  # implicit locks (lock_rec_convert_impl_to_expl in lock0lock.cc)
    parent_mode = Mode("record", "S", "record")
    schema_modes = frozenset([MDL_EXCLUSIVE])
    named_locks_span = "server"
    reports_modes = True

    def row_mode(self, access: Access, key_columns: frozenset[str]) -> Mode | None:
        """On index records, at its strictest.

        Whether the gap is locked too depends on the isolation level and the index; for what
        conflicts the strictest serves.
        """
        if access.verb == "lock":
            return SHARED if access.strength in ("share", "key share") else EXCLUSIVE
        return EXCLUSIVE if access.verb in ("update", "delete") else None

    def table_mode(self, access: Access) -> Mode:
        """The metadata lock on the table."""
        if access.verb in ("read", "lock"):
            return MDL_READ if access.verb == "read" else MDL_WRITE
        if access.lock_mode in ("read", "write"):
            only = (
                "MDL_SHARED_READ_ONLY" if access.lock_mode == "read" else "MDL_SHARED_NO_READ_WRITE"
            )
            return metadata_mode(only)
        return MDL_WRITE if access.writes else MDL_EXCLUSIVE

    def read_mode(self, level: str, *, within_write: bool) -> AccessMode:
        """Plain reads lock at serializable, and reads within any other statement at every level
        (MariaDB documentation, "SET TRANSACTION", "InnoDB Lock Modes").

        At read committed the server spares INSERT … SELECT and UPDATE of one table, but not SET,
        DELETE or statements on several tables (``ha_innobase::store_lock``); all are taken to lock
        here.
        """
        if level == "serializable" or within_write:
            return AccessMode.SHARE
        return AccessMode.DIRTY if level == "read uncommitted" else AccessMode.READ

    def scans_as_written(self, keys: TableKeys) -> bool:
        """Only where rows are not clustered by a primary key ("Clustered and Secondary
        Indexes").
        """
        return not keys.primary

    def locks_gaps(self, levels: Collection[str]) -> bool:
        """From repeatable read on."""
        return any(level in ("repeatable read", "serializable") for level in levels)

    def snapshot_statements(self, level: str, touched: Sequence[Sequence[AccessMode]]) -> range:
        """The first plain read takes it (MariaDB documentation, "Transactions: Repeatable
        Read").
        """
        if level != "repeatable read":
            return range(0)
        for number, modes in enumerate(touched):
            if modes and all(mode is AccessMode.READ for mode in modes):
                return range(number + 1)
        return range(len(touched))

    def plan_locks(self, step: PathStep, access: Access, keys: TableKeys) -> PlanLocks:
        """Index entries and rows as the path passes them ("InnoDB Lock Modes")."""
        return PlanLocks(
            words=tuple(_words(step, access, keys)), rows_passed=step.kind in ("scan", "index scan")
        )

    def locks_per_row(self, step: PathStep, access: Access) -> int:
        """Two, the entry and its row, through a secondary index that does not cover a shared
        read.
        """
        through = step.kind != "scan" and step.index not in (None, "PRIMARY")
        coverable = access.strength in (
            "share",
            "key share",
        )  # an exclusive read locks the rows in any case
        return 2 if through and coverable and not step.covering else 1


class InnodbSqlRules(SqlRules):
    """See ``SqlRules`` for what each member promises."""

    prepares_by = re.compile(r"(?i)\bxa\s+(?:start|begin|prepare)\b")
    dialect = "mysql"
    token_patterns = TOKEN_PATTERNS
    catalogues = ("information_schema", "performance_schema")
    silence_limits: tuple[str, ...] = ("wait_timeout",)
    wait_limits: tuple[str, ...] = ("innodb_lock_wait_timeout", "lock_wait_timeout")
    wait_limit_unit_ms = 1000.0
    name_quote = "`"


class InnodbErrorRules(ErrorRules):
    """See ``ErrorRules`` for what each member promises."""

    code_word = "error number"
    #: ER_STATEMENT_TIMEOUT (MariaDB), ER_QUERY_TIMEOUT (MySQL).
    time_limits = frozenset(["1969", "3024"])
    duplicates = frozenset(
        ["1062", "1022", "1586"]
    )  # ER_DUP_ENTRY, ER_DUP_KEY, ER_DUP_ENTRY_WITH_KEY_NAME
    #: Numbers that mean the same on every server that speaks the protocol.
    error_kinds: Mapping[str, ErrorKind] = {
        "1213": "deadlock",  # ER_LOCK_DEADLOCK
        "1205": "timeout",  # ER_LOCK_WAIT_TIMEOUT: innodb_lock_wait_timeout, lock_wait_timeout
        "1053": "lost",  # ER_SERVER_SHUTDOWN
        "2006": "lost",  # CR_SERVER_GONE_ERROR
        "2013": "lost",  # CR_SERVER_LOST
        "2055": "lost",  # CR_SERVER_LOST_EXTENDED
    }


class InnodbAdviceRules(AdviceRules):
    """See ``AdviceRules`` for what each member promises."""

    counting_note = (
        (
            "the count is that of rows *found*, as here: a driver that counts rows *changed* (the"
            " protocol's default) reports 0 where the values are the same, so set its option for"
            " found rows (CLIENT_FOUND_ROWS)"
        ),
    )
    outlived_lock_advice = (
        (
            "Call release_lock, or unlock tables, on every way out, errors included: neither a"
            " commit nor a rollback does."
        ),
        (
            "A row taken with select … for update serves the same end, and goes with its"
            " transaction; so, in place of lock tables, do the locks that statements take."
        ),
    )

    def unless_there(self, key: Sequence[str], assigned: Mapping[str, str]) -> str:
        """Another unique key that is there counts as well ("INSERT ... ON DUPLICATE KEY UPDATE").
        To leave the row as it is, its key gets the value that it has.
        """
        changes = assigned or {column: column for column in key}
        listed = ", ".join(f"{column} = {value}" for column, value in changes.items())
        return f"on duplicate key update {listed}"

    def lock_blocks(self, clause: str) -> str:
        """By InnoDB's table of lock modes; a foreign key takes a shared lock on the row that it
        refers to.
        """
        if clause == self.row_locks[-1]:
            return (
                "plain reads go on; changes and locking reads of the row wait, and foreign keys"
                " that refer to it too"
            )
        return (
            "plain reads go on, and so do shared locks and foreign keys that refer to the row;"
            " changes of it wait"
        )

    def gentle(self, ddl: str) -> tuple[str, ...]:
        """In place, with a lock that lets writers go on ("Online DDL Operations"): refused where
        that cannot be.
        """
        return ("set session lock_wait_timeout = 2", f"{ddl} algorithm=inplace lock=none")

    def by_key(self, table: str) -> str:
        """InnoDB locks rows as it reads them, whatever order is asked for behind."""
        return f"{table} force index (primary)"


def _words(step: PathStep, access: Access, keys: TableKeys) -> Iterator[str]:
    if step.kind == "scan":
        yield "every row it passes, in the order of the primary key, whether it matches or not"
    elif step.kind == "index scan":
        yield (
            f"every entry of {step.index} it passes, and its row unless only shared entries are"
            " read"
        )
    elif step.index in (None, "PRIMARY"):
        yield "the rows, by the primary key"
    elif step.covering and access.verb == "lock" and access.strength in ("share", "key share"):
        yield f"entries of {step.index} alone"
    else:
        yield f"an entry of {step.index}, then its row, one after the other"
    others = [name for name in keys.indexes if name not in ("PRIMARY", step.index)]
    if access.verb == "delete" and others:
        yield f"then the entries of {', '.join(others)}"
    changed = [name for name in others if set(keys.indexes[name]) & set(access.columns)]
    if access.verb == "update" and changed:
        yield f"then the entries of {', '.join(changed)}"
