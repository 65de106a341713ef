"""Error logs of servers with InnoDB: the deadlocks that ``innodb_print_all_deadlocks`` writes, many lines each."""

from __future__ import annotations

import json
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
    seen: int = 0

    def feed(self, text: str) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        lines = (self.left + text).split("\n")
        self.left = lines.pop()
        for line in lines:
            prefixed = self.prefix.match(line)
            self.seen += prefixed is not None
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
                raw="\n".join(lines).strip(),
                at=self.at,
                pid=self.thread,
                code="40P01",
                severity="ERROR",
                message="deadlock detected",
            )


#: The first line of a report within a status text, and a time like the one that stands before it.
_MEMBER = re.compile(r"\*\*\* \((\d+)\) TRANSACTION:")
_WHEN = re.compile(r"(\d{4}-\d\d-\d\d[ T]\d\d:\d\d:\d\d(?:\.\d+\S*)?)")
_NOT_BLANK = re.compile(r"\S")
#: A client that writes one row a line has the breaks of a text as two signs.
_ESCAPED = "\\n"


@dataclass
class StatusText:
    """A saved status of InnoDB, or part of one, with any other text around it."""

    left: str = ""
    begun: tuple[str, ...] = ()
    at: str | None = None
    seen: int = 0

    def feed(self, text: str) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        lines = (self.left + text).split("\n")
        self.left = lines.pop()
        for line in lines:
            for part in line.split(_ESCAPED) if _MEMBER.search(line) and _ESCAPED in line else (line,):
                yield from self._line(part)

    def _line(self, line: str) -> Iterator[LogEntry]:
        member = _MEMBER.search(line)
        if member and member[1] == "1":
            self.begun, self.seen = (), self.seen + 1
        if member or self.begun:
            # what somebody put before every line when quoting it
            margin = line[: member.start()] if member else self._margin
            self._margin = margin
            self.begun = (*self.begun, line.removeprefix(margin).rstrip("\r"))
            if _VICTIM.search(line) or len(self.begun) > MOST_LINES:
                yield LogEntry(
                    raw="\n".join(self.begun), at=self.at, code="40P01", severity="ERROR", message="deadlock detected"
                )
                self.begun = ()
            return
        when = _WHEN.search(line)
        if when:
            self.at = when[1]

    _margin = ""

    def finish(self) -> Iterator[LogEntry]:
        """See ``LogReader``: a report is whole with its last line only."""
        yield from ()


class LogRows:
    """Rows of ``performance_schema.error_log`` as JSON: a list of objects, or one in each line."""

    def __init__(self, prefix: re.Pattern[str]) -> None:
        self.left, self.seen = "", 0
        self._log = InnodbLog(prefix)

    def feed(self, text: str) -> Iterator[LogEntry]:
        """See ``LogReader``. The list is read when it is whole."""
        self.left += text
        yield from ()

    def finish(self) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        for told in rows_of(self.left):
            if "data" not in told:
                continue
            self.seen += 1
            at = str(told.get("logged", "")).replace(" ", "T") or "1970-01-01T00:00:00"
            where = f"{at if at.endswith('Z') else f'{at}Z'} {told.get('thread_id', 0)} [{told.get('prio', 'Note')}]"
            code, system = told.get("error_code", "MY-000000"), told.get("subsystem", "InnoDB")
            yield from self._log.feed(f"{where} [{code}] [{system}] {told['data']}\n")
        self.left = ""


def rows_of(text: str) -> list[dict[str, object]]:
    """Rows as JSON, in lists or one in each line, the names of their columns in lower case."""
    try:
        rows = _documents(text)
    except ValueError:
        rows = [row for line in text.split("\n") if line.strip().startswith("{") and (row := _read(line)) is not None]
    return [{str(key).lower(): value for key, value in row.items()} for row in rows if isinstance(row, dict)]


def _documents(text: str) -> list[object]:
    """What stands in a text of one or more JSON values, lists opened. Raises ValueError."""
    found: list[object] = []
    decoder, place = json.JSONDecoder(), 0
    while begins := _NOT_BLANK.search(text, place):
        value, place = decoder.raw_decode(text, begins.start())
        found += value if isinstance(value, list) else [value]
    return found


def _read(line: str) -> dict[str, object] | None:
    try:
        found = json.loads(line.rstrip(", "))
    except ValueError:
        return None
    return found if isinstance(found, dict) else None
