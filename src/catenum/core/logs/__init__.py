"""Servers' own logs, read as they grow: text in, messages out, among them reports of deadlocks and
of waits.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple, Protocol


class LogEntry(NamedTuple):
    """One message of a log, with its details. ``at``: as it stands there; ``raw``: the whole, where
    it is a text.

    ``transaction``: the server's virtual transaction number; ``tag``: what the session was at
    (``UPDATE waiting``); ``session``: a number that no other session of the server has at any time.
    """

    raw: str = ""
    at: str | None = None
    pid: int | None = None
    severity: str = ""
    code: str | None = None
    message: str = ""
    detail: str | None = None
    hint: str | None = None
    context: str | None = None
    statement: str | None = None
    user: str | None = None
    database: str | None = None
    application: str | None = None
    transaction: str | None = None
    tag: str | None = None
    session: str | None = None

    @property
    def is_deadlock(self) -> bool:
        """Whether it is the report of a deadlock (SQLSTATE 40P01; where no code is given, by its
        words).
        """
        return self.code == "40P01" or (
            self.code is None and self.message.startswith("deadlock detected")
        )

    @property
    def text(self) -> str:
        """The whole message as a person reads it."""
        if self.raw:
            return self.raw
        parts = (
            ("DETAIL", self.detail),
            ("HINT", self.hint),
            ("CONTEXT", self.context),
            ("STATEMENT", self.statement),
        )
        lines = [f"{self.severity}:  {self.message}"]
        return "\n".join(
            [*lines, *(f"{name}:  {value}".replace("\n", "\n\t") for name, value in parts if value)]
        )


class LogReader(Protocol):
    """Takes a log in pieces and gives its messages, each when it is whole.

    ``seen`` counts all messages: those that nobody asks for here are not given.
    """

    @property
    def seen(self) -> int: ...

    def feed(self, text: str) -> Iterator[LogEntry]:
        """Take the next piece; what it leaves unfinished waits for the next one."""

    def finish(self) -> Iterator[LogEntry]:
        """Nothing more comes for now: what was begun is whole, where it can be."""
