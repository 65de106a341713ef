"""What stands around a server's log where somebody else has written it down: taken off, line by
line.

Container runtimes, the journal, syslog, cloud exports and the commands that show logs of several
containers each put something before a line, or put it into a field. Under all of that stands the
log as the server wrote it.
"""

from __future__ import annotations

import json
import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

#: A log may be wrapped more than once: the journal's lines in a container's file in an export.
MOST_LAYERS = 3
#: So much of a text's lines must have the form of a wrapping.
_MOST = 0.8
#: Lines of its beginning by which that is told.
_LINES = 200
#: Where exports have the text of a line, the first of these that is there; a dot leads into an
#: object.
_TEXT_FIELDS = (
    *(
        "log",
        "MESSAGE",
        "textPayload",
        "message",
        "@message",
        "jsonPayload.message",
        "body",
        "line",
        "msg",
        "text",
    ),
    *("event.original", "_raw"),
)
#: Where they have a list of lines.
_LIST_FIELDS = ("events", "entries", "logs", "items", "data", "results")
#: PostgreSQL's own numbers for the parts of a message in syslog: which message, which part (elog.c,
#: ``write_syslog``).
_PART = re.compile(r"\[(\d+)-(\d+)\] ")
#: A tab as syslog daemons write it.
_TAB = "#011"
_MONTH = r"(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)"
_ISO = r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)"
#: Lines with something before them: what is called so, and where its text begins. ``more``: the
#: text goes on in the next line of the same source.
_LINES_OF: Mapping[str, re.Pattern[str]] = {
    "lines of a container runtime (CRI)": re.compile(
        rf"{_ISO} (?:stdout|stderr) (?P<more>[FP])(?::\S*)? ?"
    ),
    "syslog (RFC 5424)": re.compile(
        rf"<\d{{1,3}}>1 (?:{_ISO}|-) \S+ (?P<who>\S+ (?P<pid>\S+)) \S+ "
        r'(?:-|(?:\[(?:[^\]"]|"(?:[^"\\]|\\.)*")*\])+) ?(?:\ufeff)?'
    ),
    "syslog (RFC 3164), or the journal": re.compile(
        rf"(?:<\d{{1,3}}>)?(?:{_MONTH} [ \d]\d \d\d:\d\d:\d\d(?:\.\d+)?|{_ISO}) \S+ "
        r"(?P<who>[\w./@-]+(?P<pid>\[\d+\])?): "
    ),
    "lines with the name of a service": re.compile(r"(?P<who>[A-Za-z][\w.-]*) +\| ?"),
    "lines with the name of a pod": re.compile(r"\[(?P<who>pod/[\w.-]+/[\w.-]+)\] ?"),
    "lines with a time before each": re.compile(rf"{_ISO} (?!\d+ \[\w+\] \[MY-)"),
}


class Layer(ABC):
    """Takes lines in, and gives those that stand in them. ``unread``: lines that have not the form
    of the others.
    """

    unread = 0

    @abstractmethod
    def feed(self, text: str) -> str:
        """The next piece, of whole lines."""

    def finish(self) -> str:
        """Nothing more comes."""
        return ""


@dataclass
class _Prefixed(Layer):
    """Lines with something before them. ``only``: those of one service or program, where several
    write here.
    """

    pattern: re.Pattern[str]
    only: str | None = None
    _parts: dict[str, str] = field(default_factory=dict)  # lines that go on, by whom they are from
    _messages: dict[str, tuple[str, list[str]]] = field(
        default_factory=dict
    )  # PostgreSQL's number, and its lines

    def feed(self, text: str) -> str:
        lines = [part for line in text.splitlines(keepends=True) for part in self._line(line)]
        return "".join(lines) + self._messages_over()

    def _line(self, line: str) -> Iterator[str]:
        found = self.pattern.match(line)
        if found is None:
            self.unread += bool(line.strip())
            return
        reported = found.groupdict()
        who, body = reported.get("who") or "", line[found.end() :]
        if "pid" in reported:
            body = body.replace(_TAB, "\t")
        if self.only is not None and _stream(who) != self.only:
            return
        if reported.get("more") == "P":
            self._parts[who] = self._parts.get(who, "") + body.rstrip("\n")
            return
        numbered = _PART.match(body)
        if numbered is None:
            yield self._parts.pop(who, "") + body
            return
        yield from self._numbered(who, numbered[1], body[numbered.end() :].rstrip("\n"))

    def _numbered(self, who: str, message: str, body: str) -> Iterator[str]:
        """A part of a message of PostgreSQL's: a line of it, or more of a line that was too long.
        Those of several processes may stand between each other.
        """
        number, lines = self._messages.get(who, ("", []))
        if number != message:
            yield from _ended(lines)
            self._messages[who] = (message, [body])
        elif body.startswith("\t") or _BEGINS.search(body):
            lines.append(body)
        else:
            lines[-1:] = ["".join([*lines[-1:], body])]

    def _messages_over(self) -> str:
        """What was begun, as far as it is there: nobody knows when its process writes again."""
        found = [line for _, lines in self._messages.values() for line in _ended(lines)]
        self._messages = {who: (number, []) for who, (number, _) in self._messages.items()}
        return "".join(found)

    def finish(self) -> str:
        parts, self._parts = self._parts, {}
        return "".join(f"{part}\n" for part in parts.values()) + self._messages_over()

    def streams(self, head: str) -> list[str]:
        """The services or programs that write lines here."""
        found = (self.pattern.match(line) for line in head.split("\n"))
        return list(
            dict.fromkeys(
                _stream(one.groupdict().get("who") or "") for one in found if one is not None
            )
        )


def _stream(who: str) -> str:
    """Whose lines they are: a program's, whichever of its processes wrote them."""
    return re.sub(r"\[\d+\]$| \S+$", "", who)


def _ended(lines: list[str]) -> Iterator[str]:
    return (f"{line}\n" for line in lines)


#: How the parts of a message begin that are lines of their own: a word and a colon with two spaces
#: behind a prefix.
_BEGINS = re.compile(r":  ")


@dataclass
class _Json(Layer):
    """Objects with the text in a field, one a line."""

    name: str
    _left: str = ""

    def feed(self, text: str) -> str:
        return "".join(part for line in text.split("\n") for part in self._line(line))

    def _line(self, line: str) -> Iterator[str]:
        if not line.strip():
            return
        value = _object(line.rstrip().rstrip(","))
        body = _text_of(value, self.name) if value is not None else None
        if body is None:
            self.unread += line.strip() not in ("[", "]", "{", "}")
            return
        if (
            self.name == "log"
        ):  # a container runtime's: a text that does not end a line goes on in the next one
            self._left += body
            if not self._left.endswith("\n"):
                return
            body, self._left = self._left, ""
        yield body if body.endswith("\n") else f"{body}\n"

    def finish(self) -> str:
        left, self._left = self._left, ""
        return f"{left}\n" if left else ""


#: Where a list of lines begins in a JSON value: at its start, or under a name.
_LIST = re.compile(
    rf'\s*\[(?=\s*[{{"])|(?s:\s*\{{.{{0,2000}}?"(?:{"|".join(_LIST_FIELDS)})"\s*:\s*\[)'
)
_BETWEEN = re.compile(r"[\s,]*")


@dataclass
class _Document(Layer):
    """One JSON value with a list of such objects, each read when it is whole."""

    _left: str = ""
    _begun: bool = False
    _over: bool = False

    def feed(self, text: str) -> str:
        if self._over:
            return ""
        self._left += text
        if not self._begun:
            begins = _LIST.match(self._left)
            if begins is None:
                return ""
            self._begun, self._left = True, self._left[begins.end() :]
        found, place, decoder = [], 0, json.JSONDecoder(strict=False)
        while True:
            place = _between(self._left, place)
            if self._left.startswith("]", place):
                self._over = True
                break
            try:
                row, place = decoder.raw_decode(self._left, place)
            except ValueError:
                break  # it is not whole so far
            name = _field_of(row)
            body = _text_of(row, name) if name else row if isinstance(row, str) else None
            self.unread += body is None
            found.append("" if body is None else body if body.endswith("\n") else f"{body}\n")
        self._left = self._left[place:]
        return "".join(found)

    def finish(self) -> str:
        self.unread += not self._over and bool(self._left.strip())
        return ""


def _between(text: str, place: int) -> int:
    """Where the next value of a list begins."""
    found = _BETWEEN.match(text, place)
    return found.end() if found is not None else place


class Wrapping(NamedTuple):
    """What is around the lines of a text, and how it is taken off them."""

    name: str
    take_off: Callable[[], Layer]


def wrapping_of(head: str) -> Wrapping | None:
    """What is around the lines that a text begins with; None: nothing that is known."""
    lines = [line for line in head.split("\n")[:_LINES] if line.strip()]
    if not lines:
        return None
    begins = head.lstrip()
    if begins[0] in "[{" and (found := _json_of(begins, lines)) is not None:
        return found
    for name, pattern in _LINES_OF.items():
        # Of a line that goes on, not every form repeats what stands before it.
        if sum(pattern.match(line) is not None for line in lines) >= _MOST * len(lines):
            return Wrapping(name, lambda pattern=pattern: _Prefixed(pattern))  # type: ignore[misc]
    return None


def _json_of(begins: str, lines: list[str]) -> Wrapping | None:
    values = [value for line in lines if (value := _object(line.rstrip().rstrip(","))) is not None]
    named = [name for value in values if (name := _field_of(value))]
    if named and len(named) >= _MOST * len(values):
        name = max(set(named), key=named.count)
        what = "a container runtime's JSON" if name == "log" else f"JSON with the text in {name!r}"
        return Wrapping("the journal as JSON" if name == "MESSAGE" else what, lambda: _Json(name))
    if not named and _is_list(begins):
        return Wrapping("a JSON list of lines", _Document)
    return None


def _is_list(begins: str) -> bool:
    """Whether a JSON value that goes over many lines has a list of texts in it, as far as its
    beginning shows.
    """
    names = "|".join(re.escape(name.rpartition(".")[2]) for name in _TEXT_FIELDS)
    texts = (
        re.search(rf'"(?:{names})"\s*:\s*"', begins) is not None
        or re.match(r'\[\s*"', begins) is not None
    )
    return texts and _LIST.match(begins) is not None


def _object(line: str) -> dict[str, Any] | None:
    if not line.lstrip().startswith("{"):
        return None
    try:
        value = json.loads(line)
    except ValueError:
        return None
    return value if isinstance(value, dict) else None


def _field_of(value: object) -> str | None:
    """The field that has the text; None for a row that is itself a server's (jsonlog, the
    performance schema).
    """
    if not isinstance(value, dict) or "error_severity" in value or "err_code" in value:
        return None
    lower = {str(key).lower() for key in value}
    if {"data", "error_code"} <= lower or "sql_text" in lower:
        return None
    return next((name for name in _TEXT_FIELDS if _text_of(value, name) is not None), None)


def _text_of(value: object, name: str) -> str | None:
    """The text in a field. The journal has one that is no UTF-8 as a list of bytes."""
    for part in [name] if isinstance(value, dict) and name in value else name.split("."):
        value = value.get(part) if isinstance(value, dict) else None
    if (
        isinstance(value, list)
        and value
        and all(isinstance(one, int) and 0 <= one < 256 for one in value)
    ):
        return bytes(value).decode("utf-8", "backslashreplace")
    return value if isinstance(value, str) else None


class Unwrapper:
    """A text in pieces, without what is around its lines."""

    def __init__(self, head: str, only: str | None = None) -> None:
        """``head``: what the text begins with, by which its wrappings are told. ``only``: one of
        its ``streams``.
        """
        self.names: list[str] = []
        self._layers: list[Layer] = []
        self._left = ""
        self.streams: list[str] = []  # of whom there are lines, where that is more than one
        head = _whole_lines(head)
        while len(self._layers) < MOST_LAYERS and (found := wrapping_of(head)) is not None:
            self.names.append(found.name)
            layer, again = found.take_off(), found.take_off()
            if isinstance(layer, _Prefixed) and isinstance(again, _Prefixed):
                streams = layer.streams(head)
                self.streams = self.streams or (streams if len(streams) > 1 else [])
                one = only if only in streams else streams[0] if len(streams) == 1 else None
                layer.only = again.only = one  # others may write here later
            self._layers.append(layer)
            head = again.feed(head) + again.finish()
        self.head = head  # without what was around it

    @property
    def unread(self) -> int:
        """Lines that had not the form of the others."""
        return sum(layer.unread for layer in self._layers)

    def feed(self, text: str) -> str:
        """The next piece."""
        if not self._layers:
            return text
        text = self._left + text
        end = text.rfind("\n") + 1
        self._left, text = text[end:], text[:end]
        for layer in self._layers:
            text = layer.feed(text)
        return text

    def finish(self) -> str:
        """Nothing more comes."""
        text, self._left = self._left, ""
        for layer in self._layers:
            text = layer.feed(text) + layer.finish()
        return text


def _whole_lines(head: str) -> str:
    """Without a last line that may be cut."""
    end = head.rfind("\n") + 1
    return head[:end] if end else head
