"""Error logs of servers with InnoDB: the deadlocks that ``innodb_print_all_deadlocks`` writes, many
lines each.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from catenum.core.logs import LogEntry
from catenum.core.logs.innodb_report import ReportLines, heading_in

#: What stands before a message: in MariaDB's log, where InnoDB names itself in it, and in MySQL's.
MARIADB_PREFIX = re.compile(
    r"(?P<at>\d{4}-\d\d-\d\d +\d{1,2}:\d\d:\d\d) (?P<thread>\d+) \[\w+\] (?:(?P<innodb>InnoDB:"
    r" ))?(?P<rest>.*)"
)
MYSQL_PREFIX = re.compile(
    r"(?P<at>\d{4}-\d\d-\d\dT[\d:.]+\S+) (?P<thread>\d+) \[\w+\] \[MY-\d+\]"
    r" \[(?:(?P<innodb>InnoDB)|\w+)\] (?P<rest>.*)"
)
_BEGINS = "Transactions deadlock detected"


def lines_with(prefix: re.Pattern[str], text: str) -> int:
    """How many lines of a text begin as messages of a log do: a statement in it may quote some of
    another server's.
    """
    return sum(prefix.match(line) is not None for line in text.split("\n"))


#: A report that is not over after so many lines is cut.
MOST_LINES = 20_000


@dataclass
class InnodbLog:
    """Reports as InnoDB's status has them: without the prefixes of the log."""

    prefix: re.Pattern[str]
    left: str = ""
    begun: list[str] | None = None
    at: str = ""
    thread: int | None = None
    seen: int = 0

    def feed(self, text: str) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        lines = (self.left + text).split("\n")
        self.left = lines.pop()
        for line in lines:
            prefixed = self.prefix.match(line)
            if prefixed and self.begun is not None and prefixed["at"] < self.at:
                prefixed = None  # from before the report: a statement in it quotes a log
            self.seen += prefixed is not None
            if prefixed and _BEGINS in prefixed["rest"]:
                self.begun, self.at, self.thread = [], prefixed["at"], int(prefixed["thread"])
                continue
            if self.begun is None:
                continue
            if prefixed and not (prefixed["innodb"] and int(prefixed["thread"]) == self.thread):
                continue  # another thread's line has come between
            self.begun.append(prefixed["rest"].strip() if prefixed else line)
            heading = (
                heading_in(self.begun[-1]) if prefixed else None
            )  # without a prefix it stands in a statement
            if heading and heading.victim is not None:
                yield self._report()
            elif len(self.begun) > MOST_LINES:
                self.begun = None

    def finish(self) -> Iterator[LogEntry]:
        """See ``LogReader``: a report is whole with its last line only."""
        yield from ()

    def _report(self) -> LogEntry:
        lines, self.begun = self.begun or [], None
        return LogEntry(
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
    begun: list[str] = field(default_factory=list)
    at: str | None = None
    seen: int = 0
    _margin: str = ""
    _headings: ReportLines = field(default_factory=ReportLines)

    def feed(self, text: str) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        lines = (self.left + text).split("\n")
        self.left = lines.pop()
        for line in lines:
            for part in (
                line.split(_ESCAPED) if _MEMBER.search(line) and _ESCAPED in line else (line,)
            ):
                yield from self._line(part)

    def _line(self, line: str) -> Iterator[LogEntry]:
        member = _MEMBER.search(line)
        if not self.begun and not member:
            when = _WHEN.search(line)
            self.at = when[1] if when else self.at
            return
        if not self.begun and member:
            self._margin = line[
                : member.start()
            ]  # what somebody put before every line when quoting it
        line = line.removeprefix(self._margin).rstrip("\r")
        heading = self._headings.heading(line)
        if heading and heading.member == 1:
            self.begun, self.seen = [], self.seen + 1
        self.begun.append(line)
        if (heading is not None and heading.victim is not None) or len(self.begun) > MOST_LINES:
            yield LogEntry(
                raw="\n".join(self.begun),
                at=self.at,
                code="40P01",
                severity="ERROR",
                message="deadlock detected",
            )
            self.begun, self._headings = [], ReportLines()

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
        for reported in rows_of(self.left):
            if "data" not in reported:
                continue
            self.seen += 1
            at = str(reported.get("logged", "")).replace(" ", "T") or "1970-01-01T00:00:00"
            where = (
                f"{at if at.endswith('Z') else f'{at}Z'} {reported.get('thread_id', 0)}"
                f" [{reported.get('prio', 'Note')}]"
            )
            code, system = (
                reported.get("error_code", "MY-000000"),
                reported.get("subsystem", "InnoDB"),
            )
            yield from self._log.feed(f"{where} [{code}] [{system}] {reported['data']}\n")
        self.left = ""


class JsonSink:
    """The error log as MySQL's JSON sink (``log_sink_json``) writes it: one object a line.

    Of the report of a deadlock only the headings pass through the server's log: the transactions
    stand in the file that ``log_error`` names.
    """

    def __init__(self, prefix: re.Pattern[str]) -> None:
        self.left, self.seen = "", 0
        self._log = InnodbLog(prefix)

    def feed(self, text: str) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        lines = (self.left + text).split("\n")
        self.left = lines.pop()
        for line in lines:
            row = _read(line)
            if row is not None and "msg" in row:
                self.seen += 1
                where = f"{row.get('time')} {row.get('thread') or 0} [{row.get('label') or 'Note'}]"
                code, system = (
                    f"MY-{str(row.get('err_code') or 0).zfill(6)}",
                    row.get("subsystem") or "Server",
                )
                yield from self._log.feed(
                    f"{where} [{code}] [{system}] {str(row['msg']).strip()}\n"
                )

    def finish(self) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        yield from self.feed("\n")


def is_json_sink(head: str) -> bool:
    """Whether a text begins with a line of MySQL's JSON sink."""
    first = next((line for line in head.split("\n") if line.strip()), "")
    row = _read(first) if first.lstrip().startswith("{") else None
    return row is not None and {"msg", "err_code", "err_symbol"} <= row.keys()


def rows_of(text: str) -> list[dict[str, object]]:
    """Rows as JSON, in lists or one in each line, the names of their columns in lower case."""
    try:
        rows = _documents(text)
    except ValueError:
        rows = [
            row
            for line in text.split("\n")
            if line.strip().startswith("{") and (row := _read(line)) is not None
        ]
    return [
        {str(key).lower(): value for key, value in row.items()}
        for row in rows
        if isinstance(row, dict)
    ]


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
