"""What a run on MariaDB needs that MySQL does otherwise."""

from __future__ import annotations

import re
import secrets
from hashlib import sha1

import pymysql

from catenum.core.errors import TargetError
from catenum.core.record.recording import TargetInfo
from catenum.core.servers import rules_of
from catenum.engines.innodb.control import MARK, InnodbControl
from catenum.engines.innodb.metadata_queue import TELLS
from catenum.engines.innodb.restore import DataRestorer
from catenum.engines.mariadb.locks import LockReader
from catenum.engines.mariadb.metadata import MetadataReader
from catenum.engines.mariadb.restore import MariadbRestorer
from catenum.engines.ports import Capabilities

_OLDEST = (10, 6)
_LEFT_BEHIND = """
select schema_name from information_schema.schemata where schema_name like 'catenum\\_%%'
  and schema_comment like %s
"""
_USERS_LEFT_BEHIND = "select user from mysql.global_priv where user regexp '^catenum_[0-9a-f]{8}$'"


class MariadbControl(InnodbControl):
    """See ``InnodbControl`` for what each method promises."""

    rules = rules_of("mariadb")
    process_list = "information_schema.processlist"
    limits = "set session lock_wait_timeout = 1, max_statement_time = 60"

    reader: LockReader
    metadata: MetadataReader

    def _prepare(self, private: bool) -> None:
        version = str(self.query("select version()")[0][0])
        numbers = tuple(int(part) for part in re.findall(r"\d+", version)[:2])
        if "mariadb" not in version.lower() or numbers < _OLDEST:
            raise TargetError(f"{self._shown}: {version} is not MariaDB 10.6 or later")
        self._level = "@@transaction_isolation" if numbers >= (11, 1) else "@@tx_isolation"
        row = self.query(
            f"select {self._level}, @@innodb_deadlock_detect, @@innodb_rollback_on_timeout, "
            "@@innodb_status_output_locks, (select count(*) from information_schema.plugins "
            "where plugin_name = 'METADATA_LOCK_INFO' and plugin_status = 'ACTIVE')"
        )[0]
        level, detects, whole, lists_held, metadata = (str(value) for value in row)
        self._timeout_undoes = "transaction" if whole == "1" else "statement"
        self._detects = detects == "1"
        self.info = TargetInfo(
            server=self.rules.name,
            version=version.partition("-")[0],
            url=self._shown,
            private=private,
            default_isolation=level.replace("-", " ").lower(),
        )
        self.capabilities = Capabilities(
            steers_victim=False,
            steers_victim_why="InnoDB chooses by weight alone",
            row_locks_by="innodb status" if lists_held == "1" else "innodb_lock_waits",
            timeout_step_ms=1000,
            counts_waits=True,
        )
        self.query(self.limits)
        self.metadata = MetadataReader(
            self.query, self.schema, listed=metadata != "0", tells=self._lists_metadata_waits()
        )
        self.reader = LockReader(
            self.query, self.schema, lists_held=lists_held == "1", metadata=self.metadata
        )
        self.reader.status()  # tells at once whether this login may ask who waits for whom

    def _make_restorer(self) -> DataRestorer:
        return MariadbRestorer(self.write, self.schema, self.rules, self.make_space)

    def session_limits(self, seconds: int) -> str:
        """With a limit on a transaction that stands idle, too."""
        return (
            f"set session innodb_lock_wait_timeout = {seconds}, lock_wait_timeout = {seconds}, "
            f"max_statement_time = {seconds}, idle_transaction_timeout = {seconds}"
        )

    def _lists_metadata_waits(self) -> bool:
        try:
            return str(self.query(TELLS)[0][0]) != "0"
        except pymysql.Error:  # this login may not read it
            return False

    def _new_user(self, name: str, host: str) -> str:
        password = secrets.token_hex(16)
        digest = "*" + sha1(sha1(password.encode()).digest()).hexdigest().upper()
        self.query(
            f"create user {name}@%s identified via mysql_native_password using %s", (host, digest)
        )
        return password

    def _users_left(self) -> list[str]:
        return [str(row[0]) for row in self.query(_USERS_LEFT_BEHIND)]

    def _spaces_left(self) -> list[str]:
        return [str(row[0]) for row in self.query(_LEFT_BEHIND, (MARK + "%",))]

    def make_space(self, name: str) -> None:
        """With the mark as its comment."""
        self.query(f"create database `{name}` character set utf8mb4 comment %s", (self.mark(),))
