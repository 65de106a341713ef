"""MariaDB's rules, beyond those of InnoDB: metadata locks, executable comments, statements that
commit, error numbers.

Sources: MariaDB documentation, "Metadata Locking", "SQL statements That Cause an Implicit Commit",
"MariaDB Error Code Reference"; for conflicts of metadata locks the table in MariaDB's mdl.cc.
"""

from __future__ import annotations

import re

from catenum.core.servers.innodb import (
    SETTINGS,
    InnodbAdviceRules,
    InnodbErrorRules,
    InnodbLockRules,
    InnodbSqlRules,
    innodb_locks,
)
from catenum.core.servers.metadata import metadata_locks
from catenum.core.servers.rules import Rules, ServerSetting
from catenum.core.sql.boundary import ANY_SERVER, Boundary

_EXECUTABLE_COMMENT = re.compile(r"/\*M?!\d*(.*?)\*/", re.DOTALL)
#: Compound statements, which may stand outside of stored programs (documentation, "BEGIN END",
#: "IF").
_COMPOUND = re.compile(
    r"\s*(?:begin\s+not\s+atomic|if|case|while|loop|repeat|for)\b", re.IGNORECASE
)


class MariadbLockRules(InnodbLockRules):
    """See ``LockRules`` for what each member promises."""

    tables = (
        *innodb_locks('MariaDB documentation, "InnoDB Lock Modes"'),
        metadata_locks('MariaDB documentation, "Metadata Locking"'),
    )
    named_source = 'MariaDB documentation, "GET_LOCK"'


class MariadbSqlRules(InnodbSqlRules):
    """See ``SqlRules`` for what each member promises."""

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
        own_transactions=(
            r"xa (?:start|begin|end|prepare|commit|rollback|recover)",
            r"set (?:.* )?autocommit",
        ),
        commits=(
            r"(?:alter|rename|truncate|analyze|optimize|check|repair|flush|grant|revoke|install|uninstall)\b",
            r"(?:create|drop)(?: or replace)? (?!temporary)",
            r"lock tables?\b",
        ),
    )
    silence_limits = (
        "wait_timeout",
        "idle_transaction_timeout",
        "idle_write_transaction_timeout",
        "idle_readonly_transaction_timeout",
    )
    wait_limits = (*InnodbSqlRules.wait_limits, "max_statement_time")

    def uncovered(self, sql: str) -> str:
        """MariaDB runs what stands in ``/*! … */`` and ``/*M! … */``."""
        return _EXECUTABLE_COMMENT.sub(r" \1 ", sql)

    def is_compound(self, sql: str) -> bool:
        """BEGIN NOT ATOMIC, IF, CASE and loops, outside of stored programs."""
        return _COMPOUND.match(sql) is not None


class MariadbErrorRules(InnodbErrorRules):
    """See ``ErrorRules`` for what each member promises."""

    error_kinds = {  # noqa: RUF012 - never changed
        **InnodbErrorRules.error_kinds,
        "1020": (
            "refused"
        ),  # ER_CHECKREAD: the record has changed since the snapshot (innodb_snapshot_isolation)
        "1927": "lost",  # ER_CONNECTION_KILLED
    }
    asks_transaction = "select @@in_transaction"


class MariadbAdviceRules(InnodbAdviceRules):
    """See ``AdviceRules`` for what each member promises."""

    row_locks = ("lock in share mode", "for update")
    locks_of_tables = False
    idle_limit = "idle_transaction_timeout"


RULES = Rules(
    name="mariadb",
    settings=(*SETTINGS, ServerSetting("innodb_snapshot_isolation")),
    title="MariaDB",
    locks=MariadbLockRules(),
    sql=MariadbSqlRules(),
    errors=MariadbErrorRules(),
    advice=MariadbAdviceRules(),
    answers_as=("mysql",),
)
