"""Which lines of InnoDB's report of a deadlock are its headings, and which stand in a statement
that it quotes.

A statement may have lines in its texts that read like headings, even a whole report: applications
store such reports. A heading is one only where no quote of the statement is open.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import NamedTuple

#: Statements are cut at so many bytes in InnoDB's report of a deadlock
#: (``innobase_mysql_print_thd``).
MOST_STATEMENT = 3_000
_HEADING = re.compile(
    r"\s*\*\*\* (?:\((?P<member>\d+)\) TRANSACTION:|(?:\(\d+\) )?(?P<what>WAITING FOR THIS"
    r" LOCK|HOLDS THE LOCK|"
    r"CONFLICTING WITH:)|WE ROLL BACK TRANSACTION \((?P<victim>\d+)\))"
)
_STATEMENT_FOLLOWS = re.compile(r"(?:MariaDB|MySQL) thread id \d+, ")
#: What is whole in a statement: quoted names and texts, comments.
_CLOSED = re.compile(
    r"'(?:[^'\\]|\\.|'')*'|\"(?:[^\"\\]|\\.|\"\")*\"|`[^`]*`|/\*.*?\*/|(?:--\s|#)[^\n]*", re.DOTALL
)
_OPENS = re.compile(r"['\"`]|/\*")


class Heading(NamedTuple):
    """A heading of a report: of a member, of its locks (``what``), or the last line (``victim``,
    counted from 1).
    """

    member: int | None = None
    what: str | None = None
    victim: int | None = None


def heading_in(line: str) -> Heading | None:
    """The heading that a line reads like, whether or not it is one."""
    found = _HEADING.match(line)
    if found is None:
        return None
    member, what, victim = found["member"], found["what"], found["victim"]
    return Heading(int(member) if member else None, what, int(victim) if victim else None)


class ReportLines:
    """Takes a report's lines, one by one, and tells its headings. A new report begins at the first
    member's heading.
    """

    def __init__(self, *, quotes: bool = True) -> None:
        """``quotes``: False takes every line for a heading that reads like one."""
        self._quotes = quotes
        self._statement: list[str] | None = None  # the lines so far of the one that is being quoted

    def heading(self, line: str) -> Heading | None:
        found = heading_in(line)
        if self._statement is not None:
            if found is None or (self._quotes and self._goes_on()):
                self._statement.append(line)
                return None
            self._statement = None
        elif found is None and _STATEMENT_FOLLOWS.match(line):
            self._statement = []
        return found

    def _goes_on(self) -> bool:
        return goes_on(self._statement or (), MOST_STATEMENT)


def goes_on(statement: Sequence[str], most: int) -> bool:
    """Whether a quote is open behind these lines of a statement, which the server cuts at ``most``
    bytes.
    """
    text = "\n".join(statement)
    if _OPENS.search(_CLOSED.sub("", text)) is None:
        return False
    return len(text.encode()) < most - 3  # it cuts between characters


def headings(lines: Sequence[str]) -> list[tuple[int, Heading]]:
    """The headings of the report that begins with the first line, by number of line, up to its last
    one.

    A quote may be one that the server does not take for one (``sql_mode`` NO_BACKSLASH_ESCAPES):
    where no end of the report is found so, every line that reads like a heading is one.
    """
    found = _up_to_the_end(lines, ReportLines())
    return found if _is_whole(found) else _up_to_the_end(lines, ReportLines(quotes=False))


def _up_to_the_end(lines: Iterable[str], reader: ReportLines) -> list[tuple[int, Heading]]:
    found: list[tuple[int, Heading]] = []
    for number, line in enumerate(lines):
        heading = reader.heading(line)
        if heading is not None:
            found.append((number, heading))
            if heading.victim is not None:
                break
    return found


def _is_whole(found: Sequence[tuple[int, Heading]]) -> bool:
    return bool(found) and found[-1][1].victim is not None
