"""PostgreSQL's log in its three forms: plain text, ``csvlog`` and ``jsonlog`` (documentation,
20.8).
"""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Iterator, Mapping, Sequence
from functools import partial
from typing import Any, Literal, NamedTuple

from catenum.core.logs import LogEntry, LogReader
from catenum.core.logs.postgresql_prefix import TIME, Prefix, pattern_of
from catenum.core.logs.postgresql_words import ENGLISH

_PARTS = ("DETAIL", "HINT", "QUERY", "CONTEXT", "STATEMENT", "LOCATION")
#: With ``log_error_verbosity = verbose`` the message begins with its code.
_CODE = re.compile(r"([0-9A-Z]{5}): ")
#: A row of csvlog has at least so many columns ("Table 20.3" of the documentation; later versions
#: append some).
_FEWEST = 23
_JSON = {
    "at": "timestamp",
    "user": "user",
    "database": "dbname",
    "pid": "pid",
    "tag": "ps",
    "transaction": "vxid",
    "severity": "error_severity",
    "code": "state_code",
    "message": "message",
    "detail": "detail",
    "hint": "hint",
    "context": "context",
    "statement": "statement",
    "application": "application_name",
    "session": "session_id",
}
#: The first line of such a row, whose message may go over many, has at least so many commas.
_FEW_COMMAS = 10
#: A byte that is no UTF-8, as it was written when the log was decoded: no escape that JSON knows.
_BYTE = re.compile(r"(?<!\\)((?:\\\\)*)\\x(?=[0-9a-f]{2})")
#: A record of csvlog that is not whole after so many characters is none.
MOST_RECORD = 8_000_000
_DONE = "00000"


class PostgresqlLog:
    """A log of a form that is told by its first line."""

    def __init__(self, prefix: str | None = None) -> None:
        """``prefix``: the server's ``log_line_prefix``, where it is known; otherwise it is
        inferred.
        """
        self._reader: LogReader | None = None
        self._prefix = prefix

    @property
    def seen(self) -> int:
        """See ``LogReader``."""
        return self._reader.seen if self._reader is not None else 0

    def feed(self, text: str) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        if self._reader is None:
            if not text.strip():
                return
            self._reader, begins = self._reader_of(text)
            text = text[begins:]
        yield from self._reader.feed(text)

    def finish(self) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        if self._reader is not None:
            yield from self._reader.finish()

    def _reader_of(self, text: str) -> tuple[LogReader, int]:
        """By the first line that tells, and where that begins: a log may begin in the middle of a
        message.
        """
        pattern = pattern_of(self._prefix) if self._prefix else None
        begins = first_message(text)
        if begins is not None and begins.form != "plain":
            return _JsonLog() if begins.form == "json" else _CsvLog(), begins.place
        return _PlainLog(Prefix(pattern, _beginnings(text))), 0

    @property
    def unread(self) -> int:
        """Lines that belong to no message."""
        return getattr(self._reader, "unread", 0)

    @property
    def doubt(self) -> str | None:
        """What is not certain of how the log is read."""
        return self._reader.prefix.doubt if isinstance(self._reader, _PlainLog) else None


class FirstMessage(NamedTuple):
    """The first line of a text that begins a message: in which form, and how many characters stand
    before it.
    """

    form: Literal["json", "csv", "plain"]
    place: int


def first_message(text: str) -> FirstMessage | None:
    """Where the first message of a log is, in whichever form; None where there is none."""
    place = 0
    for line in text.split("\n"):
        if line.startswith("{") and '"error_severity"' in line:
            return FirstMessage("json", place)
        # A row of csvlog begins with a time, and has its columns behind commas.
        began = TIME.match(line)
        if began and line[began.end() :][:1] == "," and line.count(",") >= _FEW_COMMAS:
            return FirstMessage("csv", place)
        if not line.startswith("\t") and _head(line) is not None:
            return FirstMessage("plain", place)
        place += len(line) + 1
    return None


class _JsonLog:
    """One object a line."""

    def __init__(self) -> None:
        self.left, self.seen, self.unread = "", 0, 0

    def feed(self, text: str) -> Iterator[LogEntry]:
        lines = (self.left + text).split("\n")
        self.left = lines.pop()
        for line in lines:
            try:
                value = json.loads(
                    _BYTE.sub(r"\1\\\\x", line) if "\\x" in line else line, strict=False
                )
            except ValueError:
                self.unread += bool(line.strip())
                continue
            if isinstance(value, dict) and "error_severity" in value:
                self.seen += 1
                if value.get("state_code", _DONE) != _DONE or value.get("ps"):
                    yield _entry({name: value.get(key) for name, key in _JSON.items()})

    def finish(self) -> Iterator[LogEntry]:
        yield from ()


_make = partial(tuple.__new__, LogEntry)
csv.field_size_limit(MOST_RECORD)


class _CsvLog:
    """Rows that may go over several lines: a row is whole where its quotes are."""

    def __init__(self) -> None:
        self.left, self.seen, self.unread = "", 0, 0

    def feed(self, text: str) -> Iterator[LogEntry]:
        text = self.left + text
        end = text.rfind("\n") + 1
        quotes = text.count('"', 0, end)
        while end and quotes % 2:  # the last line break stands within a text
            before = text.rfind("\n", 0, end - 1) + 1
            quotes -= text.count('"', before, end)
            end = before
        if not end and len(text) > MOST_RECORD:
            end = text.find("\n") + 1
        self.left = text[end:]
        seen = 0
        for row in csv.reader(io.StringIO(text[:end], newline="")):
            if len(row) < _FEWEST or not (row[3].isdecimal() or not row[3]):
                self.unread += bool(row)  # cut off, and perhaps the next one with it
                continue
            seen += 1
            if row[12] != _DONE or row[7]:
                # A log has millions: this is the quickest way to make one.
                yield _make(
                    (
                        "",
                        row[0],
                        int(row[3]) if row[3] else None,
                        ENGLISH.get(row[11], row[11]),
                        row[12],
                        row[13],
                        row[14] or None,
                        row[15] or None,
                        row[18] or None,
                        row[19] or None,
                        row[1] or None,
                        row[2] or None,
                        row[22] or None,
                        row[9] or None,
                        row[7],
                        row[5] or None,
                    )
                )
        self.seen += seen

    def finish(self) -> Iterator[LogEntry]:
        yield from ()


class _PlainLog:
    """Lines with a prefix; the parts of a message follow it, and lines that go on begin with a
    tab.
    """

    def __init__(self, prefix: Prefix) -> None:
        self.left, self.seen, self.unread = "", 0, 0
        self.lines: list[tuple[str, _Head | None]] = []
        self.prefix = prefix

    def feed(self, text: str) -> Iterator[LogEntry]:
        lines = (self.left + text).split("\n")
        self.left = lines.pop()
        for line in lines:
            head = None if line.startswith("\t") else _head(line)
            if head is not None and head.kind not in _PARTS:
                yield from self.finish()
                self.lines = [(line, head)]
            elif self.lines:
                self.lines.append((line, head))
            else:
                self.unread += bool(line.strip())

    def finish(self) -> Iterator[LogEntry]:
        if self.lines:
            self.seen += 1
            yield self._whole(self.lines)
        self.lines = []

    def _whole(self, lines: Sequence[tuple[str, _Head | None]]) -> LogEntry:
        parts: dict[str, str] = {}
        prefix, kind, name = "", "", ""
        for line, head in lines:
            if head is None:
                parts[name] = f"{parts.get(name, '')}\n{line.removeprefix(chr(9))}"
                continue
            name = head.kind
            parts[name] = line[head.begins :]
            if name not in _PARTS:
                prefix, kind = line[: head.ends], name
        message = parts.get(kind, "")
        code = _CODE.match(message)
        reported = self.prefix.read(prefix, whole=kind != "LOG" or "Lock" in message)
        return LogEntry(
            raw=(
                "\n".join(line for line, _ in lines).rstrip("\n") if len(lines) > 1 else lines[0][0]
            ),
            at=reported.get("at"),
            pid=int(reported["pid"]) if reported.get("pid") else None,
            severity=kind,
            code=code[1] if code else reported.get("code") or None,
            message=message[code.end() :] if code else message,
            detail=parts.get("DETAIL"),
            hint=parts.get("HINT"),
            context=parts.get("CONTEXT"),
            statement=(parts.get("STATEMENT") or "").rstrip("\n") or None,
            user=reported.get("user"),
            database=reported.get("database"),
            application=reported.get("application"),
            transaction=reported.get("transaction"),
            session=reported.get("session"),
        )


class _Head(NamedTuple):
    """Where a line's prefix ends and its text begins, and what kind of part of a message it is."""

    kind: str
    ends: int
    begins: int


def _beginnings(text: str) -> Iterator[tuple[str, str]]:
    """Prefixes and messages of the first lines of a plain log."""
    for line in text.split("\n"):
        head = None if line.startswith("\t") else _head(line)
        if head is not None and head.kind not in _PARTS:
            yield line[: head.ends], line[head.begins :]


def _head(line: str) -> _Head | None:
    """A word of the server's with a colon and two spaces behind it, the first of its line."""
    at = line.find(":  ")
    while at >= 0:
        ends = at - 1 if line[at - 1 : at] in (" ", "\u00a0") else at  # as French writes a colon
        begins = ends
        while begins and (
            line[begins - 1].isalpha() or (begins == ends and line[begins - 1].isdigit())
        ):
            begins -= 1
        kind = ENGLISH.get(line[begins:ends].rstrip("12345"))
        if kind is not None:
            return _Head(kind, begins, at + 3)
        at = line.find(":  ", at + 1)
    return None


def _entry(reported: Mapping[str, Any]) -> LogEntry:
    """A message of which each field is a text, or nothing: whatever else stands there is left
    out.
    """
    number = str(reported["pid"])
    text = {name: value for name, value in reported.items() if value and isinstance(value, str)}
    severity = text.get("severity", "")
    return LogEntry(
        raw="",
        at=text.get("at"),
        pid=int(number) if number.isdecimal() else None,
        severity=ENGLISH.get(severity, severity),
        code=text.get("code"),
        message=text.get("message", ""),
        detail=text.get("detail"),
        hint=text.get("hint"),
        context=text.get("context"),
        statement=text.get("statement"),
        user=text.get("user"),
        database=text.get("database"),
        application=text.get("application"),
        transaction=text.get("transaction"),
        tag=text.get("tag"),
        session=text.get("session"),
    )
