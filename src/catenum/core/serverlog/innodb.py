"""Error logs of servers with InnoDB: the deadlocks that ``innodb_print_all_deadlocks`` writes, many lines each."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from catenum.core.serverlog import LogEntry

#: What stands before a message: in MariaDB's log, where InnoDB names itself in it, and in MySQL's.
MARIADB_PREFIX = re.compile(
    r"(?P<at>\d{4}-\d\d-\d\d +\d{1,2}:\d\d:\d\d) (?P<thread>\d+) \[\w+\] (?:(?P<innodb>InnoDB: ))?(?P<rest>.*)"
)
MYSQL_PREFIX = re.compile(
    r"(?P<at>\d{4}-\d\d-\d\dT[\d:.]+\S+) (?P<thread>\d+) \[\w+\] \[MY-\d+\] \[(?:(?P<innodb>InnoDB)|\w+)\] (?P<rest>.*)"
)
_BEGINS = "Transactions deadlock detected"
_VICTIM = re.compile(r"\*\*\* WE ROLL BACK TRANSACTION \(\d+\)")
#: A report that is not over after so many lines is cut.
MOST_LINES = 20_000


@dataclass
class InnodbLog:
    """Reports as InnoDB's status has them: without the prefixes of the log."""

    prefix: re.Pattern[str]
    left: str = ""
    begun: tuple[str, ...] = ()
    at: str | None = None
    thread: int | None = None

    def feed(self, text: str) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        lines = (self.left + text).split("\n")
        self.left = lines.pop()
        for line in lines:
            prefixed = self.prefix.match(line)
            if prefixed and _BEGINS in prefixed["rest"]:
                yield from self._over()
                self.begun, self.at, self.thread = ("",), prefixed["at"], int(prefixed["thread"])
                continue
            if not self.begun:
                continue
            if prefixed and not prefixed["innodb"]:
                continue  # another thread's line has come between
            shown = prefixed["rest"].strip() if prefixed else line
            self.begun = (*self.begun, shown)
            if _VICTIM.search(shown) or len(self.begun) > MOST_LINES:
                yield from self._over()

    def finish(self) -> Iterator[LogEntry]:
        """See ``LogReader``: a report is whole with its last line only."""
        yield from ()

    def _over(self) -> Iterator[LogEntry]:
        lines, self.begun = self.begun, ()
        if any(_VICTIM.search(line) for line in lines):
            yield LogEntry(
                text="\n".join(lines).strip(), at=self.at, pid=self.thread, code="40P01", message="deadlock detected"
            )
