"""PostgreSQL's logs: plain text, CSV and JSON."""

from __future__ import annotations

import re

from catenum.core.logs import LogReader
from catenum.core.logs.conflicts import CapturedWait, ConflictReader
from catenum.core.logs.postgresql import PostgresqlLog, first_message
from catenum.core.logs.postgresql_conflicts import PostgresqlConflicts
from catenum.core.logs.servers.rules import LogRules
from catenum.core.record.modes import Mode
from catenum.core.servers.postgresql import EXCLUSIVE, TABLE_SHARE, PostgresqlLockRules


class PostgresqlLogs(LogRules):
    """See ``LogRules`` for what each member promises."""

    victim_reported = (
        "PostgreSQL cancels the session whose check finds the cycle, after its deadlock_timeout"
    )
    log_limits = (
        "PostgreSQL logs every deadlock, and waits only with log_lock_waits = on, if they last"
        " longer than deadlock_timeout"
    )

    def log_reader(self) -> LogReader:
        """Of any of its three forms."""
        return PostgresqlLog()

    def reader_of(self, head: str, prefix: str | None = None) -> LogReader | None:
        """Of any of its forms, plain text by its prefix."""
        return PostgresqlLog(prefix) if self.writes_log(head) else None

    def stand_in(self, wait: CapturedWait, statement: str, *, shared: bool) -> str | None:
        """By what was waited for: an advisory lock, a table's, a key that another inserted, a
        row.
        """
        advisory = re.fullmatch(r"advisory lock (.+)", wait.object)
        if advisory:
            return f"select pg_advisory_xact_lock({advisory[1].strip('()')})"
        if (
            wait.mode.endswith("Lock")
            and wait.mode not in ("ShareLock", "ExclusiveLock")
            and wait.table
        ):
            return f"lock table {wait.table} in {_table_lock_against(wait.mode)} mode"
        found = self.rules.sql.footprint(statement)
        if any(access.verb == "insert" for access in found.accesses):
            mine = {access.table.lower() for access in found.accesses}
            if wait.table is None or wait.table.lower() in mine:
                return statement
        where = self.rules.sql.condition(statement)
        if where is None or not found.accesses:
            return None
        weak = any(access.strength == "key share" for access in found.accesses)
        strength = "share" if shared else "update" if weak else "no key update"
        return f"select 1 from {wait.table or found.accesses[0].table} where {where} for {strength}"

    def conflict_reader(self) -> ConflictReader:
        """By SQLSTATE and the form of the details."""
        return PostgresqlConflicts(self.rules)

    def writes_log(self, head: str) -> bool:
        """Whether messages are found in it."""
        reader = PostgresqlLog()
        for _ in (*reader.feed(head), *reader.finish()):
            pass
        return reader.seen > 0

    def log_begins(self, head: str) -> int | None:
        found = first_message(head)
        return found.place if found is not None else None


def _table_lock_against(wanted: str) -> str:
    """The weakest of three table locks that conflict with a mode (table 13.2)."""
    for held, name in ((TABLE_SHARE, "share"), (EXCLUSIVE, "exclusive")):
        found = PostgresqlLockRules().conflict(Mode("table", wanted), held)
        if found is not None and found.conflict:
            return name
    return "access exclusive"
