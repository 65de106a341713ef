"""Logs as files: folders, rotated sets, packed ones, standard input; read in pieces, so that memory stays flat."""

from __future__ import annotations

import contextlib
import gzip
import io
import sys
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import IO

from catenum.core.errors import InputError
from catenum.core.serverlog import LogEntry, LogReader
from catenum.core.serverlog.span import Span, span_of
from catenum.core.servers import NAMES, rules_of
from catenum.intake.store import is_store, stored_reports

CHUNK, HEAD, ENDS = 4_000_000, 400_000, 64_000
#: The name for standard input.
STDIN = "-"


@dataclass(frozen=True, slots=True)
class Source:
    """One file and what it is: whose, and how it is read."""

    path: str
    server: str
    make_reader: Callable[[], LogReader]
    size: int
    data: bytes | None = None

    def span(self) -> Span | None:
        """From when to when it goes; None where that does not show, as in a packed file."""
        try:
            with io.BytesIO(self.data) if self.data is not None else Path(self.path).open("rb") as raw:
                head = raw.read(ENDS)
                raw.seek(max(0, self.size - ENDS))
                tail = raw.read(ENDS)
        except OSError:
            return None
        return span_of(head.decode("utf-8", "replace"), tail.decode("utf-8", "replace"))

    @property
    def form(self) -> str:
        """The kind of its reader."""
        return type(self.make_reader()).__name__

    def entries(
        self, progress: Callable[[int], None] = lambda size: None, more: LogReader | None = None
    ) -> Iterator[LogEntry]:
        """Its messages. ``progress`` is told the bytes read so far. Raises InputError where it cannot be read.

        ``more``: a reader that other files have been given to, and that is not to finish with this one.
        """
        reader = more if more is not None else self.make_reader()
        try:
            with _opened(self.path, self.data) as (stream, place):
                while text := stream.read(CHUNK):
                    yield from reader.feed(text)
                    progress(place())
                yield from reader.feed("\n")
                if more is None:
                    yield from reader.finish()
        except (OSError, EOFError) as error:
            why = getattr(error, "strerror", None) or error
            raise InputError(f"{self.path}: cannot be read: {why}", advice="A file may have been cut.") from error


@contextlib.contextmanager
def _opened(path: str, data: bytes | None) -> Iterator[tuple[IO[str], Callable[[], int]]]:
    """As text, values that are no UTF-8 written as escapes; with the place in the file, in bytes as it stands there."""
    with io.BytesIO(data) if data is not None else Path(path).open("rb") as raw:
        packed = raw.read(2) == b"\x1f\x8b"
        raw.seek(0)
        binary: IO[bytes] = gzip.GzipFile(fileobj=raw) if packed else raw  # type: ignore[assignment]
        yield io.TextIOWrapper(binary, encoding="utf-8", errors="backslashreplace", newline="\n"), raw.tell


def sources(words: Sequence[str], prefix: str | None = None) -> list[Source]:
    """The files that are meant, the oldest first. Raises InputError for what is no log."""
    found: list[Source] = []
    for word in words:
        if word == STDIN:
            found.append(_source(STDIN, sys.stdin.buffer.read(), prefix))
            continue
        path = Path(word)
        if is_store(word):
            server, data = stored_reports(word)
            found.append(_of_server(word, server, data))
            continue
        try:
            inside = sorted((one for one in path.iterdir() if one.is_file()), key=_age) if path.is_dir() else None
        except OSError as error:
            raise InputError(f"{word}: cannot be read: {error.strerror}") from error
        if inside is None:
            found.append(_source(word, None, prefix))
            continue
        logs = []
        for one in inside:
            with contextlib.suppress(InputError):
                logs.append(_source(str(one), None, prefix))
        if not logs:
            raise InputError(f"{word}: no file in this folder reads like a server's log")
        found += logs
    servers = {source.server for source in found if not _of_any(source)} or {source.server for source in found}
    if len(servers) > 1:
        named = ", ".join(f"{source.path} ({rules_of(source.server).title})" for source in found)
        raise InputError(f"these are logs of different servers: {named}", advice="Give one server's files at a time.")
    (server,) = servers
    return [replace(source, server=server) for source in found]


def _of_any(source: Source) -> bool:
    """A statement log reads the same from several servers."""
    return rules_of(source.server).has_statements_only(source.form)


def _age(path: Path) -> tuple[float, str]:
    return path.stat().st_mtime, path.name


def _of_server(path: str, server: str, data: bytes) -> Source:
    rules, head = rules_of(server), data[:HEAD].decode("utf-8", "backslashreplace")

    def make() -> LogReader:
        return rules.reader_of(head) or rules.log_reader()

    return Source(path, server, make, len(data), data)


def _source(path: str, data: bytes | None, prefix: str | None) -> Source:
    try:
        with _opened(path, data) as (stream, _):
            head = stream.read(HEAD)
        size = len(data) if data is not None else Path(path).stat().st_size
    except FileNotFoundError as error:
        raise InputError(f"{path}: no such file") from error
    except (OSError, EOFError) as error:
        why = getattr(error, "strerror", None) or error
        raise InputError(f"{path}: cannot be read: {why}") from error
    for name in NAMES:
        rules = rules_of(name)
        if rules.reader_of(head, prefix) is not None:

            def make(head: str = head, name: str = name) -> LogReader:
                reader = rules_of(name).reader_of(head, prefix)
                assert reader is not None  # the same text gave one
                return reader

            return Source(path, name, make, size, data)
    titles = " or ".join(rules_of(name).title for name in NAMES)
    raise InputError(
        f"{path}: this does not read like a log or a deadlock report of {titles}",
        advice="--prefix tells the server's log_line_prefix, where it is an unusual one." if head.strip() else None,
    )
