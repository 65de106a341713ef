"""A server's log that this machine can read, followed as it grows and as it is rotated."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path

from catenum.core.errors import InputError
from catenum.core.logs.conflicts import Conflict, ConflictReader
from catenum.core.logs.pieces import HEAD, LogPieces
from catenum.core.logs.servers import log_rules_of
from catenum.core.servers import rules_of

#: No more than so much of a log is read at a time, so that a flood of it does not stop the watch.
MOST_BYTES = 4_000_000
#: After so many characters without one message, a file is no log.
STRANGE = 2_000


class LogFile:
    """A log that grows. What stood in it before is not read.

    A new file of the same name is read from its start, and so are later files whose names differ in
    their digits only (``postgresql-2026-11-26_001641.csv``), as rotation makes them. Of a folder,
    the newest file is followed.
    """

    def __init__(self, path: Path, server: str | None = None) -> None:
        """Raises InputError where it cannot be read."""
        self._server: str | None = None
        self._pieces: LogPieces | None = None
        self._conflicts: ConflictReader | None = None
        self.path = path
        try:
            if path.is_dir():
                files = [one for one in path.iterdir() if one.is_file()]
                if not files:
                    raise InputError(f"--log {path}: there is no file in this folder")
                self.path = max(files, key=lambda one: (one.stat().st_mtime_ns, one.name))
            found = self.path.stat()
            self.path.open("rb").close()
        except OSError as error:
            raise InputError(f"--log {path}: cannot be read: {error.strerror}") from error
        shape = re.sub(r"\d+", "0", self.path.name)
        self._like = (
            re.compile(re.escape(shape).replace("0", r"\d+")) if shape != self.path.name else None
        )
        if path.is_dir():
            self._like = re.compile(rf".*{re.escape(self.path.suffix)}")
        self._whole_folder = path.is_dir()
        self._place, self._inode, self._born = found.st_size, found.st_ino, found.st_mtime_ns
        self.read = self._understood = 0
        self._head = b""  # what is read by here, as long as it is not known what it is
        if server is not None:
            self.of_server(server)

    def of_server(self, server: str) -> LogFile:
        """The same, once it is known what server writes it."""
        if server != self._server:
            self._server, self._conflicts = server, log_rules_of(server).conflict_reader()
        return self

    def conflicts(self) -> Iterator[Conflict]:
        """What was written since the last call."""
        if self._conflicts is None:
            return  # nobody knows whose log it is
        while data := self._fresh():
            yield from self._conflicts_in(data)
            if len(data) < MOST_BYTES // 2:
                return  # what is written last may not be whole yet
        if self._pieces is not None:
            yield from self._conflicts.read(self._pieces.pause())
        following = self._following()
        while following is not None:
            if self._pieces is not None:
                yield from self._conflicts.read(self._pieces.finish())
            self._renew()
            self._place, self._inode, self.path = 0, following.stat().st_ino, following
            while data := self._fresh():
                yield from self._conflicts_in(data)
            following = self._following()

    def _conflicts_in(self, data: bytes) -> Iterator[Conflict]:
        self.read += len(data)
        if self._pieces is None:
            self._head = (self._head + data)[-HEAD:]
            self._pieces = self._begun()
            data = self._head
        if self._pieces is not None and self._conflicts is not None:
            yield from self._conflicts.read(self._pieces.feed(data))

    def _begun(self) -> LogPieces | None:
        """How it is read, by what the file begins with, and where that says nothing, by what has
        come since.
        """
        rules = log_rules_of(str(self._server))
        for head in (self._beginning(), self._head):
            streams: list[str | None] = [*LogPieces(head, lambda text: None).streams]
            for only in streams or [None]:
                pieces = LogPieces(head, rules.reader_of, only)
                if pieces.reader is not None:
                    return pieces
        return None

    def _beginning(self) -> bytes:
        try:
            with self.path.open("rb") as stream:
                data = stream.read(HEAD)
        except OSError:
            return b""
        return data[: data.rfind(b"\n") + 1]

    def _renew(self) -> None:
        """Another file, or the same from its start."""
        self._understood = self.understood
        self._pieces, self._head = None, b""

    @property
    def understood(self) -> int:
        """Messages that were read."""
        return self._understood + (
            self._pieces.reader.seen if self._pieces and self._pieces.reader else 0
        )

    @property
    def trouble(self) -> str | None:
        """Why nothing is found in it, where that is not because nothing is there."""
        if (
            self._server is None
            or self.read < STRANGE
            or self.understood
            or self._pieces is not None
        ):
            return None
        return (
            f"--log {self.path}: nothing in it reads like a message of"
            f" {rules_of(self._server).title}'s log"
        )

    def _following(self) -> Path | None:
        """The next file of a rotated log: the oldest of the younger ones."""
        if self._like is None:
            return None
        try:
            mine = self.path.stat().st_mtime_ns if self.path.exists() else self._born
            like = [
                one
                for one in self.path.parent.iterdir()
                if self._like.fullmatch(one.name) and one != self.path
            ]
            younger = [(one.stat().st_mtime_ns, one.name, one) for one in like]
        except OSError:
            return None
        later = [
            found
            for found in younger
            if found[0] >= mine and (self._whole_folder or found[1] > self.path.name)
        ]
        return min(later)[2] if later else None

    def _fresh(self) -> bytes:
        """What is new, up to the last whole line."""
        try:
            with self.path.open("rb") as stream:
                found = os.fstat(stream.fileno())
                if found.st_ino != self._inode or found.st_size < self._place:
                    self._place, self._inode = 0, found.st_ino
                    self._renew()
                stream.seek(self._place)
                data = stream.read(MOST_BYTES)
                self._born = found.st_mtime_ns
        except OSError:
            return b""
        end = data.rfind(b"\n") + 1
        if not end and len(data) == MOST_BYTES:
            end = len(data)
        self._place += end
        return data[:end]
