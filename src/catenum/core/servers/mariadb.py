"""MariaDB's rules, beyond those of InnoDB: metadata locks, executable comments, statements that commit, error numbers.

Sources: MariaDB documentation, "Metadata Locking", "SQL statements That Cause an Implicit Commit", "MariaDB Error Code
Reference"; for conflicts of metadata locks the table in MariaDB's mdl.cc.
"""

from __future__ import annotations

import re

from catenum.core.record.modes import Mode
from catenum.core.record.recording import ErrorKind
from catenum.core.serverlog import LogReader
from catenum.core.serverlog.mariadb import MariadbLog
from catenum.core.servers.innodb import RECORD, TABLE, InnodbRules
from catenum.core.servers.modes import ModeTable, symmetric
from catenum.core.sql.boundary import ANY_SERVER, Boundary
from catenum.core.sql.statements import Access

_METADATA_MODES = tuple(
    Mode("metadata", name)
    for name in (
        "MDL_SHARED",
        "MDL_SHARED_HIGH_PRIO",
        "MDL_SHARED_READ",
        "MDL_SHARED_WRITE",
        "MDL_SHARED_UPGRADABLE",
        "MDL_SHARED_READ_ONLY",
        "MDL_SHARED_NO_WRITE",
        "MDL_SHARED_NO_READ_WRITE",
        "MDL_EXCLUSIVE",
    )
)
METADATA = ModeTable(
    title="metadata locks",
    source='MariaDB documentation, "Metadata Locking", and the compatibility table in mdl.cc',
    modes=_METADATA_MODES,
    conflicts=symmetric(
        _METADATA_MODES,
        {
            "MDL_SHARED": (8,),
            "MDL_SHARED_HIGH_PRIO": (8,),
            "MDL_SHARED_READ": (7, 8),
            "MDL_SHARED_WRITE": (5, 6, 7, 8),
            "MDL_SHARED_UPGRADABLE": (6, 7, 8),
            "MDL_SHARED_READ_ONLY": (3, 7, 8),
            "MDL_SHARED_NO_WRITE": (3, 4, 6, 7, 8),
            "MDL_SHARED_NO_READ_WRITE": (2, 3, 4, 5, 6, 7, 8),
            "MDL_EXCLUSIVE": (0, 1, 2, 3, 4, 5, 6, 7, 8),
        },
    ),
)
TABLES = (TABLE, RECORD, METADATA)


def metadata_mode(name: str) -> Mode:
    """A metadata lock's mode by the server's name for it."""
    return Mode("metadata", name)


MDL_READ, MDL_WRITE, MDL_EXCLUSIVE = map(metadata_mode, ("MDL_SHARED_READ", "MDL_SHARED_WRITE", "MDL_EXCLUSIVE"))
_EXECUTABLE_COMMENT = re.compile(r"/\*M?!\d*(.*?)\*/", re.DOTALL)
#: Compound statements, which may stand outside of stored programs (documentation, "BEGIN END", "IF").
_COMPOUND = re.compile(r"\s*(?:begin\s+not\s+atomic|if|case|while|loop|repeat|for)\b", re.IGNORECASE)


class MariadbRules(InnodbRules):
    """See ``Rules`` for what each member promises."""

    name, title = "mariadb", "MariaDB"
    schemes = ("mariadb", "mysql")

    tables = TABLES
    named_source = 'MariaDB documentation, "GET_LOCK"'
    schema_modes = frozenset([MDL_EXCLUSIVE])

    catalogues = ("information_schema", "performance_schema")
    boundary = Boundary(
        statements=(
            *ANY_SERVER,
            r"(?:create|drop|alter)(?: or replace)? event",
            r"(?:use|flush|kill|shutdown|reset|purge|install|uninstall|rename user)\b",
            r"(?:change (?:master|replication)|(?:start|stop) (?:all )?(?:slave|replica))",
            r"set (?:.* )?(?:global|persist|@@global|@ @ global)",
            r"set (?:password|role|default role)",
            r".* into (?:outfile|dumpfile)",
        ),
        functions=(r"(?:load_file|sys_exec|sys_eval)\s*\(", r"(?:data|index)\s+directory\b"),
        own_transactions=(r"xa (?:start|begin|end|prepare|commit|rollback|recover)", r"set (?:.* )?autocommit"),
        commits=(
            r"(?:alter|rename|truncate|analyze|optimize|check|repair|flush|grant|revoke|install|uninstall)\b",
            r"(?:create|drop)(?: or replace)? (?!temporary)",
            r"lock tables?\b",
        ),
    )

    error_kinds: dict[str, ErrorKind] = {  # noqa: RUF012 - never changed
        "1213": "deadlock",  # ER_LOCK_DEADLOCK
        "1205": "timeout",  # ER_LOCK_WAIT_TIMEOUT: innodb_lock_wait_timeout, lock_wait_timeout, NOWAIT
        "1020": "refused",  # ER_CHECKREAD: the record has changed since the snapshot (innodb_snapshot_isolation)
        "1053": "lost",  # ER_SERVER_SHUTDOWN
        "1927": "lost",  # ER_CONNECTION_KILLED
        "2006": "lost",  # CR_SERVER_GONE_ERROR
        "2013": "lost",  # CR_SERVER_LOST
        "2055": "lost",  # CR_SERVER_LOST_EXTENDED
    }
    wait_limits = ("innodb_lock_wait_timeout", "lock_wait_timeout", "max_statement_time")
    wait_limit_unit_ms = 1000.0
    idle_limit = "idle_transaction_timeout"
    outlived_lock_advice = (
        "Call release_lock, or unlock tables, on every way out, errors included: neither a commit nor a rollback does.",
        "A row taken with select … for update serves the same end, and goes with its transaction; so, in place of lock "
        "tables, do the locks that statements take.",
    )
    named_locks_span = "server"

    def log_reader(self) -> LogReader:
        """Of its error log."""
        return MariadbLog()

    def writes_log(self, head: str) -> bool:
        """Whether it names itself or InnoDB, as it does when it starts and whenever InnoDB has a message."""
        return "InnoDB" in head or "mariadb" in head.lower()

    def table_mode(self, access: Access) -> Mode:
        """The metadata lock on the table."""
        if access.verb in ("read", "lock"):
            return MDL_READ if access.verb == "read" else MDL_WRITE
        if access.lock_mode in ("read", "write"):
            only = "MDL_SHARED_READ_ONLY" if access.lock_mode == "read" else "MDL_SHARED_NO_READ_WRITE"
            return metadata_mode(only)
        return MDL_WRITE if access.writes else MDL_EXCLUSIVE

    def uncovered(self, sql: str) -> str:
        """MariaDB runs what stands in ``/*! … */`` and ``/*M! … */``."""
        return _EXECUTABLE_COMMENT.sub(r" \1 ", sql)

    def is_compound(self, sql: str) -> bool:
        """BEGIN NOT ATOMIC, IF, CASE and loops, outside of stored programs."""
        return _COMPOUND.match(sql) is not None
