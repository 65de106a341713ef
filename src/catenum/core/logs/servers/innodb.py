"""The logs of servers with InnoDB: error logs, general logs, status texts, reports of deadlocks."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from catenum.core.logs import LogReader
from catenum.core.logs.conflicts import CapturedWait, Conflict, ConflictReader
from catenum.core.logs.innodb import InnodbLog, StatusText, lines_with
from catenum.core.logs.innodb_conflicts import (
    GeneralLog,
    InnodbConflicts,
    general_lines,
    with_types,
)
from catenum.core.logs.innodb_rows import StatementRows, has_statements
from catenum.core.logs.servers.rules import LogRules
from catenum.core.sql import named_values


class InnodbLogs(LogRules):
    """See ``LogRules`` for what each member promises."""

    #: What stands before a message of the error log, and before a session's number in a report.
    log_prefix: re.Pattern[str]
    thread_word: str
    victim_reported = (
        "InnoDB rolls back the transaction with the least weight (rows changed and lock structures"
        " held)"
    )
    place_of_value = re.compile(r"\?")
    report_begins = "\n"

    def reader_of(self, head: str, prefix: str | None = None) -> LogReader | None:
        """Of its error log; of a general log; of a text with InnoDB's status in it."""
        if has_statements(head):
            return StatementRows()
        if self._is_status(head):
            return StatusText()
        if general_lines(head) > lines_with(self.log_prefix, head):
            return GeneralLog()
        return self.log_reader() if self.writes_log(head) else None

    def _is_status(self, head: str) -> bool:
        """Whether it has a status, and is no log, which begins with messages; a statement in it may
        quote some.
        """
        begins = self._of_status.search(head)
        if begins is None:
            return False
        before = head[: begins.start()]
        if "[Note]" in head or general_lines(head):
            return (
                "LATEST DETECTED DEADLOCK" in before
                and "[Note]" not in before
                and not general_lines(before)
            )
        return True

    def log_begins(self, head: str) -> int | None:
        """By the prefix of its messages, a line of a general log, or one that a status has."""
        place = 0
        for line in head.split("\n"):
            if self.log_prefix.match(line) or general_lines(line) or self._of_status.search(line):
                return place
            place += len(line) + 1
        return None

    @property
    def _of_status(self) -> re.Pattern[str]:
        return re.compile(rf"{self.thread_word} thread id \d+, ")

    def has_statements_only(self, form: str) -> bool:
        """A general log has, and so have rows of statements."""
        return form in (GeneralLog.__name__, StatementRows.__name__)

    def with_types(
        self, conflict: Conflict, columns: Callable[[str, str], Sequence[tuple[str, str]] | None]
    ) -> Conflict:
        """By InnoDB's row formats."""
        return with_types(conflict, columns)

    def stand_in(self, wait: CapturedWait, statement: str, *, shared: bool) -> str | None:
        """By what was waited for: a gap that an INSERT would go into, an entry of its key, or rows
        by the condition.
        """
        found = self.rules.sql.footprint(statement)
        lock = "lock in share mode" if shared or (wait.held or "").startswith("S") else "for update"
        if any(access.verb == "insert" for access in found.accesses):
            return self._before(wait, statement) if wait.gap else statement
        where = self.rules.sql.condition(statement)
        table = wait.table or (found.accesses[0].table if found.accesses else None)
        return f"select 1 from {table} where {where} {lock}" if where and table else None

    def _before(self, wait: CapturedWait, statement: str) -> str | None:
        """A locking read of the row that an INSERT would make: it finds none, and locks the gap."""
        given = [
            v
            for v in named_values.named_values(statement, self.rules.sql.dialect)
            if v.use == "inserted"
        ]
        if not given or not wait.table:
            return None
        first = given[0]
        column = "id" if first.column.startswith("#") else first.column
        value = f"'{first.value}'" if first.text else first.value
        return f"select 1 from {wait.table} where {column} = {value} for update"

    def conflict_reader(self) -> ConflictReader:
        """By InnoDB's reports."""
        return InnodbConflicts(self.rules)

    def log_reader(self) -> LogReader:
        return InnodbLog(self.log_prefix)
