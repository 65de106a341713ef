"""PostgreSQL's log in its three forms: plain text, ``csvlog`` and ``jsonlog`` (documentation, 20.8)."""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

from catenum.core.serverlog import LogEntry, LogReader

_MESSAGES = ("DEBUG", "LOG", "INFO", "NOTICE", "WARNING", "ERROR", "FATAL", "PANIC")
_PARTS = ("DETAIL", "HINT", "QUERY", "CONTEXT", "STATEMENT", "LOCATION")
_LINE = re.compile(rf"(?P<prefix>.*?)\b(?P<kind>{'|'.join((*_MESSAGES, *_PARTS))})\d?:\s{{1,2}}(?P<rest>.*)", re.DOTALL)
_TIME = re.compile(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d(?:\.\d+)?(?: [A-Z][A-Za-z0-9_/+-]*| [+-]\d\d(?::?\d\d)?)?")
_PID = re.compile(r"\[(\d+)\]")
#: With ``log_error_verbosity = verbose`` the message begins with its code.
_CODE = re.compile(r"([0-9A-Z]{5}): ")
#: Columns of csvlog that are read, by their place ("Table 20.3" of the documentation; later versions append).
_CSV = {"at": 0, "user": 1, "database": 2, "pid": 3, "severity": 11, "code": 12, "message": 13, "detail": 14,
        "hint": 15, "context": 18, "statement": 19, "application": 22}  # fmt: skip
_JSON = {"at": "timestamp", "user": "user", "database": "dbname", "pid": "pid", "severity": "error_severity",
         "code": "state_code", "message": "message", "detail": "detail", "hint": "hint", "context": "context",
         "statement": "statement", "application": "application_name"}  # fmt: skip
#: A record of csvlog that is not whole after so many characters is none.
MOST_RECORD = 8_000_000


class PostgresqlLog:
    """A log of a form that is told by its first line."""

    def __init__(self) -> None:
        self._reader: LogReader | None = None

    def feed(self, text: str) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        if self._reader is None:
            if not text.strip():
                return
            self._reader = _reader_of(text.lstrip("\n"))
        yield from self._reader.feed(text)

    def finish(self) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        if self._reader is not None:
            yield from self._reader.finish()


def _reader_of(text: str) -> LogReader:
    first = text.split("\n", 1)[0]
    if first.startswith("{"):
        return _JsonLog()
    # A row of csvlog begins with a time, and has its columns behind commas.
    began = _TIME.match(first)
    return _CsvLog() if began and first[began.end() :][:1] == "," else _PlainLog()


@dataclass
class _JsonLog:
    """One object a line."""

    left: str = ""

    def feed(self, text: str) -> Iterator[LogEntry]:
        lines = (self.left + text).split("\n")
        self.left = lines.pop()
        for line in lines:
            try:
                value = json.loads(line)
            except ValueError:
                continue
            if isinstance(value, dict):
                yield _entry({name: value.get(key) for name, key in _JSON.items()})

    def finish(self) -> Iterator[LogEntry]:
        yield from ()


@dataclass
class _CsvLog:
    """Rows that may go over several lines: a row is whole where its quotes are."""

    left: str = ""
    begun: str = ""

    def feed(self, text: str) -> Iterator[LogEntry]:
        lines = (self.left + text).split("\n")
        self.left = lines.pop()
        for line in lines:
            self.begun += line + "\n"
            if self.begun.count('"') % 2 and len(self.begun) < MOST_RECORD:
                continue
            row = next(csv.reader(io.StringIO(self.begun)), [])
            self.begun = ""
            if len(row) > _CSV["statement"]:
                yield _entry({name: row[place] if place < len(row) else None for name, place in _CSV.items()})

    def finish(self) -> Iterator[LogEntry]:
        yield from ()


@dataclass
class _PlainLog:
    """Lines with a prefix; the parts of a message follow it, and lines that go on begin with a tab."""

    left: str = ""
    lines: tuple[str, ...] = ()

    def feed(self, text: str) -> Iterator[LogEntry]:
        lines = (self.left + text).split("\n")
        self.left = lines.pop()
        for line in lines:
            kind = self._kind(line)
            if kind in _MESSAGES:
                yield from self.finish()
                self.lines = (line,)
            elif self.lines:
                self.lines = (*self.lines, line)

    @staticmethod
    def _kind(line: str) -> str | None:
        found = None if line.startswith("\t") else _LINE.match(line)
        return found["kind"] if found else None

    def finish(self) -> Iterator[LogEntry]:
        if self.lines:
            yield _plain_entry(self.lines)
        self.lines = ()


def _plain_entry(lines: tuple[str, ...]) -> LogEntry:
    parts: dict[str, str] = {}
    prefix, kind, name = "", "", ""
    for line in lines:
        found = None if line.startswith("\t") else _LINE.match(line)
        if found is None:
            parts[name] = f"{parts.get(name, '')}\n{line.removeprefix(chr(9))}"
            continue
        name = found["kind"]
        parts[name] = found["rest"]
        if name in _MESSAGES:
            prefix, kind = found["prefix"], name
    message = parts.get(kind, "")
    code = _CODE.match(message)
    at, pid = _TIME.search(prefix), _PID.search(prefix)
    return LogEntry(
        text="\n".join(lines).rstrip("\n"),
        at=at[0] if at else None,
        pid=int(pid[1]) if pid else None,
        severity=kind,
        code=code[1] if code else None,
        message=message[code.end() :] if code else message,
        detail=parts.get("DETAIL"),
        context=parts.get("CONTEXT"),
        statement=parts.get("STATEMENT"),
    )


def _entry(told: dict[str, Any]) -> LogEntry:
    def text(name: str) -> str | None:
        return str(told[name]) if told.get(name) not in (None, "") else None

    number = text("pid")
    entry = LogEntry(
        text="",
        at=text("at"),
        pid=int(number) if number and number.isdigit() else None,
        severity=text("severity") or "",
        code=text("code"),
        message=text("message") or "",
        detail=text("detail"),
        context=text("context"),
        statement=text("statement"),
        user=text("user"),
        database=text("database"),
        application=text("application"),
    )
    parts = [(name.upper(), text(name)) for name in ("detail", "hint", "context", "statement")]
    lines = [f"{entry.severity}:  {entry.message}"]
    lines += [f"{name}:  {value}".replace("\n", "\n\t") for name, value in parts if value]
    return replace(entry, text="\n".join(lines))
