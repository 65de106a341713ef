"""A log as it comes, in pieces of bytes: decoded, unwrapped, and read as the messages of one
server.

The one way from a file to messages, whether the file is read once, taken into a store, or followed
as it grows.
"""

from __future__ import annotations

import codecs
from collections.abc import Callable, Iterator

from catenum.core.logs import LogEntry, LogReader
from catenum.core.logs.wrapping import Unwrapper

#: By so much of its beginning (bytes) it is told what a log is.
HEAD = 400_000
_MARKS = (
    (codecs.BOM_UTF8, "utf-8-sig"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)


def encoding_of(head: bytes) -> str:
    """By the mark at its beginning, or by the empty halves of its letters; otherwise UTF-8."""
    for mark, name in _MARKS:
        if head.startswith(mark):
            return name
    some = head[:400]
    if len(some) > 8:
        for name, empty in (("utf-16-le", some[1::2]), ("utf-16-be", some[0::2])):
            if empty.count(0) > 0.9 * len(empty):
                return name
    return "utf-8"


class LogPieces:
    """Messages of one log. What is no text in its encoding is written as escapes."""

    def __init__(
        self, head: bytes, reader_of: Callable[[str], LogReader | None], only: str | None = None
    ) -> None:
        """``head``: the log's beginning; ``reader_of``: a reader for a log that begins so, or None;
        ``only``: whose lines are meant, where several programs write into one log.
        """
        self._encoding = encoding_of(head)
        self._decoder = self._make_decoder()
        text = self._make_decoder().decode(head)
        self._unwrapper = Unwrapper(text, only)
        self.head = self._unwrapper.head
        self.reader = reader_of(self.head)

    def _make_decoder(self) -> codecs.IncrementalDecoder:
        return codecs.getincrementaldecoder(self._encoding)(errors="backslashreplace")

    @property
    def layers(self) -> list[str]:
        """What is around the log, the outermost first."""
        marked = [] if self._encoding == "utf-8" else [self._encoding.upper().removesuffix("-SIG")]
        return [*marked, *self._unwrapper.names]

    @property
    def streams(self) -> list[str]:
        """The programs whose lines stand here, where there are several."""
        return self._unwrapper.streams

    @property
    def unread(self) -> int:
        """Lines that could not be read."""
        return self._unwrapper.unread + getattr(self.reader, "unread", 0)

    @property
    def doubt(self) -> str | None:
        """What is not certain of how the log is read."""
        return getattr(self.reader, "doubt", None)

    def feed(self, data: bytes) -> Iterator[LogEntry]:
        """The messages that are whole with the next piece."""
        if self.reader is not None and (text := self._unwrapper.feed(self._decoder.decode(data))):
            yield from self.reader.feed(text)

    def finish(self) -> Iterator[LogEntry]:
        """Nothing more comes: what was begun is whole, where it can be."""
        yield from self.rest()
        if self.reader is not None:
            yield from self.reader.finish()

    def pause(self) -> Iterator[LogEntry]:
        """Nothing has come for a while: what was begun is taken for whole. More may come."""
        if self.reader is not None:
            yield from self.reader.feed(self._unwrapper.finish())
            yield from self.reader.finish()

    def rest(self) -> Iterator[LogEntry]:
        """The end of this file; the log may go on in another."""
        if self.reader is not None:
            text = (
                self._unwrapper.feed(self._decoder.decode(b"", final=True))
                + self._unwrapper.finish()
            )
            yield from self.reader.feed(text if text.endswith("\n") else f"{text}\n")
