"""MySQL's logs, beyond those of InnoDB: the JSON sink, and rows of the performance schema."""

from __future__ import annotations

import re

from catenum.core.logs import LogReader
from catenum.core.logs.innodb import (
    MARIADB_PREFIX,
    MYSQL_PREFIX,
    JsonSink,
    LogRows,
    is_json_sink,
    lines_with,
)
from catenum.core.logs.servers.innodb import InnodbLogs


class MysqlLogs(InnodbLogs):
    """See ``LogRules`` for what each member promises."""

    log_prefix, thread_word = MYSQL_PREFIX, "MySQL"
    log_limits = (
        "MySQL logs deadlocks only with innodb_print_all_deadlocks = on and log_error_verbosity ="
        " 3, and neither waits nor timeouts: a log without them does not show that there were none"
    )

    def reader_of(self, head: str, prefix: str | None = None) -> LogReader | None:
        """Lines of the JSON sink, and rows of the performance schema too."""
        if is_json_sink(head):
            return JsonSink(self.log_prefix)
        if head.lstrip()[:1] in ("[", "{") and '"data"' in head.lower():
            return LogRows(self.log_prefix)
        return super().reader_of(head, prefix)

    def log_begins(self, head: str) -> int | None:
        """By a line of the JSON sink too."""
        return 0 if is_json_sink(head) else super().log_begins(head)

    def writes_log(self, head: str) -> bool:
        """Whether its lines carry the numbers that this server's messages have."""
        if others := lines_with(MARIADB_PREFIX, head):
            return lines_with(MYSQL_PREFIX, head) > others
        return re.search(r"\[MY-\d{6}\]", head) is not None
