"""MySQL's rules, beyond those of InnoDB: what leaves a database, statements that commit, error
numbers.

Sources: MySQL 8.4 Reference Manual, 15.3.3 "Statements That Cause an Implicit Commit", 17.7 "InnoDB
Locking and Transaction Model", 10.11.4 "Metadata Locking", 14.14 "Locking Functions"; MySQL Server
Error Message Reference.
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
from catenum.core.servers.rules import Rules
from catenum.core.sql.boundary import ANY_SERVER, Boundary

#: A number in it is a version: older servers pass such a comment over, this one runs it. Hints
#: (``/*+``) stay.
_EXECUTABLE_COMMENT = re.compile(r"/\*!\d*(.*?)\*/", re.DOTALL)


class MysqlLockRules(InnodbLockRules):
    """See ``LockRules`` for what each member promises."""

    tables = (
        *innodb_locks('MySQL Reference Manual, "InnoDB Locking"'),
        metadata_locks('MySQL Reference Manual, "Metadata Locking"'),
    )
    named_source = 'MySQL Reference Manual, "Locking Functions"'


class MysqlSqlRules(InnodbSqlRules):
    """See ``SqlRules`` for what each member promises."""

    boundary = Boundary(
        statements=(
            *ANY_SERVER,
            (
                r"(?:create|drop|alter)(?: or replace)? (?:event|undo tablespace|logfile"
                r" group|resource group)"
            ),
            r"(?:create|drop)(?: or replace)? spatial reference system",
            r"create (?:aggregate )?function .* soname",
            (
                r"(?:use|flush|kill|shutdown|restart|reset|purge|install|uninstall|clone|binlog|import|rename"
                r" user)\b"
            ),
            r"(?:change (?:master|replication)|(?:start|stop) (?:slave|replica|group_replication))",
            r"(?:lock|unlock) instance",
            (
                r"set (?:.* )?(?:global|persist|persist_only|@@global|@@persist|@ @ global|@ @"
                r" persist)"
            ),
            r"set (?:password|role|default role|resource group)",
            r".* into (?:outfile|dumpfile)",
        ),
        functions=(r"load_file\s*\(", r"(?:data|index)\s+directory\b"),
        own_transactions=(
            r"xa (?:start|begin|end|prepare|commit|rollback|recover)",
            r"set (?:.* )?autocommit",
        ),
        commits=(
            r"(?:alter|rename|truncate|analyze|optimize|check|repair|flush|grant|revoke|install|uninstall|cache)\b",
            r"(?:create|drop)(?: or replace)? (?!temporary)",
            r"lock tables?\b",
        ),
    )

    def uncovered(self, sql: str) -> str:
        """The server runs what stands in ``/*! … */``."""
        return _EXECUTABLE_COMMENT.sub(r" \1 ", sql)


class MysqlErrorRules(InnodbErrorRules):
    """See ``ErrorRules`` for what each member promises."""

    error_kinds = {  # noqa: RUF012 - never changed
        **InnodbErrorRules.error_kinds,
        "3058": "deadlock",  # ER_USER_LOCK_DEADLOCK: among locks of GET_LOCK
        "3572": "timeout",  # ER_LOCK_NOWAIT
        "4031": "lost",  # ER_CLIENT_INTERACTION_TIMEOUT
    }
    undoes_statement = frozenset(["3058"])


class MysqlAdviceRules(InnodbAdviceRules):
    """See ``AdviceRules`` for what each member promises."""

    #: It ends the whole session: there is no limit on a transaction that stands idle.
    idle_limit = "wait_timeout"


RULES = Rules(
    name="mysql",
    settings=SETTINGS,
    title="MySQL",
    locks=MysqlLockRules(),
    sql=MysqlSqlRules(),
    errors=MysqlErrorRules(),
    advice=MysqlAdviceRules(),
    answers_as=("mariadb",),
)
