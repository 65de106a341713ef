"""Servers' own logs, read as they grow: text in, messages out, among them reports of deadlocks and of waits."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol


@dataclass(frozen=True, slots=True, kw_only=True)
class LogEntry:
    """One message of a log, with its details. ``at``: as it stands there; ``text``: the whole, as a person reads it."""

    text: str
    at: str | None = None
    pid: int | None = None
    severity: str = ""
    code: str | None = None
    message: str = ""
    detail: str | None = None
    context: str | None = None
    statement: str | None = None
    user: str | None = None
    database: str | None = None
    application: str | None = None

    @property
    def is_deadlock(self) -> bool:
        """Whether it is the report of a deadlock (SQLSTATE 40P01; where no code is given, by its words)."""
        return self.code == "40P01" or (self.code is None and self.message == "deadlock detected")


class LogReader(Protocol):
    """Takes a log in pieces and gives its messages, each when it is whole."""

    def feed(self, text: str) -> Iterator[LogEntry]:
        """Take the next piece; what it leaves unfinished waits for the next one."""

    def finish(self) -> Iterator[LogEntry]:
        """Nothing more comes for now: what was begun is whole, where it can be."""
