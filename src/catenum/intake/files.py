"""Logs as files: folders, rotated sets, packed ones, standard input; read in pieces, so that memory
stays flat.
"""

from __future__ import annotations

import contextlib
import gzip
import io
import lzma
import sys
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import IO, Any

from catenum.core.errors import InputError
from catenum.core.logs import LogEntry, LogReader
from catenum.core.logs.pieces import HEAD, LogPieces
from catenum.core.logs.servers import log_rules_of
from catenum.core.logs.span import Span, span_of
from catenum.core.servers import NATIVE, rules_of
from catenum.store.reports import is_store, stored_reports

CHUNK, ENDS = 4_000_000, 64_000
#: The name for standard input.
STDIN = "-"
_GZIP, _XZ, _ZSTD, _BZIP2 = b"\x1f\x8b", b"\xfd7zXZ\x00", b"\x28\xb5\x2f\xfd", b"BZh"


@dataclass(frozen=True)
class Source:
    """One log and what it is: whose, and how it is read. ``only``: of a file into which several
    programs write, the one whose log this is.
    """

    path: str
    server: str
    reader_of: Callable[[str], LogReader | None]
    size: int
    head: bytes
    data: bytes | None = None
    only: str | None = None

    @property
    def name(self) -> str:
        """The file, with the program where several write into it."""
        return f"{self.path} ({self.only})" if self.only else self.path

    @cached_property
    def _like(self) -> LogPieces:
        return LogPieces(self.head, self.reader_of, self.only)

    @property
    def layers(self) -> list[str]:
        """What is around the log."""
        packing = _packing(self.path, self.data)
        return [*([packing] if packing else []), *self._like.layers]

    @property
    def form(self) -> str:
        """The kind of its reader."""
        return type(self._like.reader).__name__

    def reader(self) -> LogReader:
        """A new one, for this log and others of its form."""
        found = self.reader_of(self._like.head)
        assert found is not None  # the same text gave one
        return found

    def span(self) -> Span | None:
        """From when to when it goes; None where that does not show, as in a packed file."""
        if self.layers:
            return None
        try:
            with _raw(self.path, self.data) as raw:
                raw.seek(max(0, self.size - ENDS))
                tail = raw.read(ENDS)
        except OSError:
            return None
        return span_of(self.head[:ENDS].decode("utf-8", "replace"), tail.decode("utf-8", "replace"))

    def entries(
        self,
        progress: Callable[[int], None] = lambda size: None,
        more: LogReader | None = None,
        unread: Callable[[int], None] = lambda lines: None,
        doubt: Callable[[str], None] = lambda text: None,
    ) -> Iterator[LogEntry]:
        """Its messages. ``progress`` is told the bytes read so far, ``unread`` at the end how many
        lines were none of a log, ``doubt`` what is not certain of how it is read. Raises InputError
        where it cannot be read.

        ``more``: a reader that other files have been given to, and that is not to finish with this
        one.
        """
        pieces = LogPieces(self.head, self.reader_of, self.only)
        if more is not None:
            pieces.reader = more
        try:
            with _opened(self.path, self.data) as (stream, place):
                while data := stream.read(CHUNK):
                    yield from pieces.feed(data)
                    progress(place())
                yield from pieces.rest() if more is not None else pieces.finish()
        except Exception as error:
            raise _unreadable(self.path, error) from error
        unread(pieces.unread)
        if pieces.doubt is not None:
            doubt(pieces.doubt)


class Empty(InputError):
    """A file without a byte: a log that the server has just begun, beside others, is no fault."""


def _unreadable(path: str, error: Exception) -> Exception:
    """What a packing raises for a file that is cut or damaged, as a sentence; any other error as it
    is.
    """
    packed = type(error).__name__ in ("LZMAError", "ZstdError", "BadGzipFile")
    if not packed and not isinstance(error, OSError | EOFError):
        return error
    why = getattr(error, "strerror", None) or error
    return InputError(f"{path}: cannot be read: {why}", advice="A file may have been cut.")


def _raw(path: str, data: bytes | None) -> IO[bytes]:
    return io.BytesIO(data) if data is not None else Path(path).open("rb")


def _packing(path: str, data: bytes | None) -> str | None:
    """How a file is packed, by its first bytes, whatever its name says."""
    with contextlib.suppress(OSError), _raw(path, data) as raw:
        begins = raw.read(6)
        known = {_GZIP: "gzip", _XZ: "xz", _ZSTD: "zstd", _BZIP2: "bzip2"}
        return next((name for mark, name in known.items() if begins.startswith(mark)), None)
    return None


@contextlib.contextmanager
def _opened(path: str, data: bytes | None) -> Iterator[tuple[Any, Callable[[], int]]]:
    """A file's bytes unpacked; with the place in it, as it stands there."""
    packing = _packing(path, data)
    with _raw(path, data) as raw:
        if packing == "gzip":
            yield gzip.GzipFile(fileobj=raw), raw.tell
        elif packing == "xz":
            yield (lzma.LZMAFile(raw), raw.tell)  # noqa: SIM115 - closes nothing: the file is closed here
        elif packing == "bzip2":
            import bz2

            yield bz2.BZ2File(raw), raw.tell
        elif packing == "zstd":
            import zstandard

            yield zstandard.ZstdDecompressor().stream_reader(raw, read_across_frames=True), raw.tell
        else:
            yield raw, raw.tell


def sources(words: Sequence[str], prefix: str | None = None) -> list[Source]:
    """The logs that are meant, the oldest first. Raises InputError for what is no log."""
    found: list[Source] = []
    for word in words:
        if word == STDIN:
            found += _sources(STDIN, sys.stdin.buffer.read(), prefix)
            continue
        path = Path(word)
        if is_store(word):
            server, data = stored_reports(word)
            found.append(_of_server(word, server, data))
            continue
        try:
            inside = (
                sorted((one for one in path.iterdir() if one.is_file()), key=_age)
                if path.is_dir()
                else None
            )
        except OSError as error:
            raise InputError(f"{word}: cannot be read: {error.strerror}") from error
        if inside is None:
            try:
                found += _sources(word, None, prefix)
            except Empty:
                if len(words) == 1:
                    raise
            continue
        logs = []
        for one in inside:
            with contextlib.suppress(InputError):
                logs += _sources(str(one), None, prefix)
        if not logs:
            raise InputError(f"{word}: no file in this folder reads like a server's log")
        found += logs
    if not found:
        raise Empty(f"{', '.join(words)}: there is nothing in these files")
    servers = {source.server for source in found if not _of_any(source)} or {
        source.server for source in found
    }
    if len(servers) > 1:
        named = ", ".join(f"{source.name} ({rules_of(source.server).title})" for source in found)
        raise InputError(
            f"these are logs of different servers: {named}",
            advice="Give one server's files at a time.",
        )
    (server,) = servers
    return [replace(source, server=server) for source in found]


def _of_any(source: Source) -> bool:
    """A statement log reads the same from several servers."""
    return log_rules_of(source.server).has_statements_only(source.form)


def _age(path: Path) -> tuple[float, str]:
    return path.stat().st_mtime, path.name


def _of_server(path: str, server: str, data: bytes) -> Source:
    rules = log_rules_of(server)
    return Source(
        path,
        server,
        lambda head: rules.reader_of(head) or rules.log_reader(),
        len(data),
        data[:HEAD],
        data,
    )


def _sources(path: str, data: bytes | None, prefix: str | None) -> list[Source]:
    """One log, or one for each program that writes a server's log into the file. Raises
    InputError.
    """
    try:
        with _opened(path, data) as (stream, _):
            head = _read(stream, HEAD)
        size = len(data) if data is not None else Path(path).stat().st_size
    except FileNotFoundError as error:
        raise InputError(f"{path}: no such file") from error
    except Exception as error:
        raise _unreadable(path, error) from error
    streams: list[str | None] = [*LogPieces(head, lambda text: None).streams] or [None]
    found = []
    for only in streams:
        text = LogPieces(head, lambda text: None, only).head
        fits = [name for name in NATIVE if log_rules_of(name).reader_of(text, prefix) is not None]
        if fits:
            # A statement in one server's log may quote lines of another's.
            name = min(fits, key=lambda name: _before(name, text)) if len(fits) > 1 else fits[0]

            def reader_of(text: str, name: str = name) -> LogReader | None:
                return log_rules_of(name).reader_of(text, prefix)

            found.append(Source(path, name, reader_of, size, head, data, only))
    if found:
        return found
    if not size:
        raise Empty(f"{path}: there is nothing in this file")
    titles = " or ".join(rules_of(name).title for name in NATIVE)
    raise InputError(
        f"{path}: this does not read like a log or a deadlock report of {titles}",
        advice=(
            "--prefix tells the server's log_line_prefix, where it is an unusual one."
            if head.strip()
            else None
        ),
    )


def _before(server: str, text: str) -> int:
    begins = log_rules_of(server).log_begins(text)
    return begins if begins is not None else len(text)


def _read(stream: Any, size: int) -> bytes:
    """So many bytes, or all that there are: what unpacks gives less at a time."""
    parts, left = [], size
    while left and (part := stream.read(left)):
        parts.append(part)
        left -= len(part)
    return b"".join(parts)
