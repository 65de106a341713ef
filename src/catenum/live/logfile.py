"""Deadlock reports from a server's log file that this machine can read: PostgreSQL keeps them nowhere else."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path

from catenum.core.errors import InputError

#: No more than so much of a log is read at a time, so that a flood of it does not stop the watch.
MOST_BYTES = 4_000_000
_BEGINS = re.compile(r"ERROR:\s+deadlock detected")
_BELONGS = re.compile(r"^(\t|\s{2,})|\b(DETAIL|HINT|CONTEXT|STATEMENT):\s")


class LogFile:
    """A log that grows. What stood in it before is not read; a new file of the same name is read from its start."""

    def __init__(self, path: Path) -> None:
        """Raises InputError where it cannot be read."""
        self.path = path
        try:
            found = path.stat()
            path.open("rb").close()
        except OSError as error:
            raise InputError(f"--log {path}: cannot be read: {error.strerror}") from error
        self._place, self._inode = found.st_size, found.st_ino
        self._left = ""
        self._report: list[str] = []

    def deadlocks(self) -> Iterator[str]:
        """The reports that were written since the last call, each as it stands in the log."""
        lines = (self._left + self._fresh()).split("\n")
        self._left = lines.pop()
        for line in lines:
            if _BEGINS.search(line):
                yield from self._over()
                self._report = [line]
            elif self._report and _BELONGS.search(line):
                self._report.append(line)
            else:
                yield from self._over()
        if not lines:  # nothing more came: what was begun is whole
            yield from self._over()

    def _over(self) -> Iterator[str]:
        if self._report:
            yield "\n".join(self._report)
        self._report = []

    def _fresh(self) -> str:
        try:
            with self.path.open("rb") as stream:
                found = os.fstat(stream.fileno())
                if found.st_ino != self._inode or found.st_size < self._place:
                    self._place, self._inode = 0, found.st_ino
                stream.seek(self._place)
                data = stream.read(MOST_BYTES)
                self._place += len(data)
                return data.decode("utf-8", "replace")
        except OSError:
            return ""
