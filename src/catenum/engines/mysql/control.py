"""What a run on MySQL needs that MariaDB does otherwise."""

from __future__ import annotations

from catenum.core.record.recording import TargetInfo
from catenum.core.servers import rules_of
from catenum.engines.innodb.control import MARK, InnodbControl
from catenum.engines.innodb.restore import DataRestorer
from catenum.engines.mysql import concat_rows, versions
from catenum.engines.mysql.locks import DataLocks
from catenum.engines.mysql.metadata import MetadataLocks
from catenum.engines.mysql.restore import MysqlRestorer
from catenum.engines.ports import Capabilities

#: A database has no comment here, so the mark is that of a procedure in it.
MARKER = "catenum_scratch_space"
_MARKED = """
select routine_schema from information_schema.routines
where routine_name = %s and routine_schema like 'catenum\\_%%' and routine_comment like %s
"""
#: A run that was killed between the two statements left a database in which nothing is.
_EMPTY = """
select schema_name from information_schema.schemata s
  where schema_name regexp '^catenum_[0-9a-f]{8}(_kept)?$'
and not exists (select 1 from information_schema.tables t where t.table_schema = s.schema_name)
and not exists (select 1 from information_schema.routines r where r.routine_schema = s.schema_name)
"""
_USERS_LEFT_BEHIND = "select user from mysql.user where user regexp '^catenum_[0-9a-f]{8}$'"


class MysqlControl(InnodbControl):
    """See ``InnodbControl`` for what each method promises."""

    rules = rules_of("mysql")
    process_list = "performance_schema.processlist"
    limits = f"set session lock_wait_timeout = 1, max_execution_time = 60000, {concat_rows.WHOLE}"

    _literally: bool
    reader: DataLocks
    metadata: MetadataLocks

    def _prepare(self, private: bool) -> None:
        version = versions.checked(self.query, self._shown, reads=True)
        self._level = "@@transaction_isolation"
        level, detects, whole, literally = (
            str(value)
            for value in self.query(
                "select @@transaction_isolation, @@innodb_deadlock_detect,"
                " @@innodb_rollback_on_timeout, @@partial_revokes"
            )[0]
        )
        self._timeout_undoes = "transaction" if whole == "1" else "statement"
        self._detects, self._literally = detects == "1", literally == "1"
        self.info = TargetInfo(
            server=self.rules.name,
            version=version,
            url=self._shown,
            private=private,
            default_isolation=level.replace("-", " ").lower(),
        )
        self.capabilities = Capabilities(
            steers_victim=False,
            steers_victim_why="InnoDB chooses by weight alone",
            row_locks_by="data_locks",
            timeout_step_ms=1000,
            counts_waits=True,
        )
        if self.query("show variables like 'explain_json_format_version'"):  # 8.3 and later
            self.limits = f"{self.limits}, explain_json_format_version = 1"
        self.query(self.limits)
        self.metadata = MetadataLocks(self.query, self.schema, self.rules)
        self.reader = DataLocks(self.query, self.schema, self.metadata)
        self.reader.status()  # tells at once whether this login may read the report of a deadlock

    def _make_restorer(self) -> DataRestorer:
        return MysqlRestorer(self.write, self.schema, self.rules, self.make_space)

    def session_limits(self, seconds: int) -> str:
        """With a limit on a session that stands idle, too: there is none on its transaction
        alone.
        """
        return (
            f"set session innodb_lock_wait_timeout = {seconds}, lock_wait_timeout = {seconds}, "
            f"max_execution_time = {seconds * 1000}, wait_timeout = {seconds}"
        )

    def pattern(self, name: str) -> str:
        """With partial revokes on, a name in GRANT is no pattern (Reference Manual, "GRANT
        Statement").
        """
        return name if self._literally else super().pattern(name)

    def _new_user(self, name: str, host: str) -> str:
        """The server thinks up the password, and tells it as a row."""
        return str(
            self.query(f"create user {name}@%s identified by random password", (host,))[0][2]
        )

    def _users_left(self) -> list[str]:
        return [str(row[0]) for row in self.query(_USERS_LEFT_BEHIND)]

    def _spaces_left(self) -> list[str]:
        rows = [*self.query(_MARKED, (MARKER, MARK + "%")), *self.query(_EMPTY)]
        return list(dict.fromkeys(str(row[0]) for row in rows))

    def make_space(self, name: str) -> None:
        """With a procedure whose comment is the mark."""
        self.query(f"create database `{name}` character set utf8mb4")
        self.query(f"create procedure `{name}`.{MARKER}() comment %s select 1", (self.mark(),))
