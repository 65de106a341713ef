"""What is asked about a server's logs, whichever server it is: how they are told apart, read, and
restaged.
"""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence

from catenum.core.logs import LogReader
from catenum.core.logs.conflicts import CapturedWait, Conflict, ConflictReader
from catenum.core.servers import Rules


class LogRules(ABC):
    """The rules of one server's logs. ``rules``: the server's own, for the SQL that stands in a
    log.
    """

    #: What a log of the server does not have, as it comes.
    log_limits: str
    #: Why a victim that a log names fell, as far as the server's rule tells.
    victim_reported: str
    #: What stands between the time of a stored report and the report, so that it reads as a log.
    report_begins: str = " "
    #: What stands in a statement of a log in the place of a value.
    place_of_value: re.Pattern[str] = re.compile(r"\$\d+")

    def __init__(self, rules: Rules) -> None:
        self.rules = rules

    @abstractmethod
    def log_reader(self) -> LogReader:
        """A reader of the server's own log."""

    @abstractmethod
    def writes_log(self, head: str) -> bool:
        """Whether the beginning of a log reads like this server's."""

    @abstractmethod
    def log_begins(self, head: str) -> int | None:
        """How many characters stand before the first line of a text that is one of this server's
        logs or reports.
        """

    def reader_of(self, head: str, prefix: str | None = None) -> LogReader | None:
        """A reader for a log, a report or a statement log that begins so; None where it is none of
        this server's.

        ``prefix``: what lines of a log begin with, where the server's setting is known.
        """
        return self.log_reader() if self.writes_log(head) else None

    @abstractmethod
    def conflict_reader(self) -> ConflictReader:
        """Finds conflicts in what such readers give."""

    def has_statements_only(self, form: str) -> bool:
        """Whether a reader of that name gives statements, and no conflicts."""
        return False

    def with_types(
        self, conflict: Conflict, columns: Callable[[str, str], Sequence[tuple[str, str]] | None]
    ) -> Conflict:
        """A conflict whose records' values are read by the types of an index's columns, where a
        report has records.
        """
        return conflict

    @abstractmethod
    def stand_in(self, wait: CapturedWait, statement: str, *, shared: bool) -> str | None:
        """A statement that takes the lock that ``wait`` ran into with ``statement``; None where
        nobody can tell.

        ``shared``: others have a lock on the same.
        """
