"""MariaDB's logs, beyond those of InnoDB."""

from __future__ import annotations

import re

from catenum.core.logs.innodb import MARIADB_PREFIX, MYSQL_PREFIX, lines_with
from catenum.core.logs.servers.innodb import InnodbLogs


class MariadbLogs(InnodbLogs):
    """See ``LogRules`` for what each member promises."""

    log_prefix, thread_word = MARIADB_PREFIX, "MariaDB"
    log_limits = (
        "MariaDB logs deadlocks only with innodb_print_all_deadlocks = on, and neither waits nor"
        " timeouts: a log without them does not show that there were none"
    )

    def writes_log(self, head: str) -> bool:
        """Whether it names itself or InnoDB, without the numbers that MySQL gives its messages."""
        if not ("InnoDB" in head or "mariadb" in head.lower()):
            return False
        if own := lines_with(MARIADB_PREFIX, head):
            return own > lines_with(MYSQL_PREFIX, head)
        return re.search(r"\bMY-\d{6}\b", head) is None and "MySQL thread id" not in head
