"""MariaDB's error log: the deadlocks that ``innodb_print_all_deadlocks`` writes there, many lines each."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from catenum.core.serverlog import LogEntry

_PREFIX = re.compile(r"(?P<at>\d{4}-\d\d-\d\d +\d{1,2}:\d\d:\d\d) (?P<thread>\d+) \[(?P<kind>\w+)\] (?P<rest>.*)")
_BEGINS = "InnoDB: Transactions deadlock detected"
_VICTIM = re.compile(r"\*\*\* WE ROLL BACK TRANSACTION \(\d+\)")
#: A report that is not over after so many lines is cut.
MOST_LINES = 20_000


@dataclass
class MariadbLog:
    """Reports as InnoDB's status has them: without the prefixes of the log."""

    left: str = ""
    begun: tuple[str, ...] = ()
    at: str | None = None
    thread: int | None = None

    def feed(self, text: str) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        lines = (self.left + text).split("\n")
        self.left = lines.pop()
        for line in lines:
            prefixed = _PREFIX.match(line)
            if prefixed and _BEGINS in prefixed["rest"]:
                yield from self._over()
                self.begun, self.at, self.thread = ("",), prefixed["at"], int(prefixed["thread"])
                continue
            if not self.begun:
                continue
            if prefixed and not prefixed["rest"].startswith("InnoDB: "):
                continue  # another thread's line has come between
            shown = prefixed["rest"].removeprefix("InnoDB: ") if prefixed else line
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
