"""What a line of PostgreSQL's plain log begins with: by ``log_line_prefix`` where that is known,
else by what it shows.

Which number of a prefix is the process is not guessed where the log shows it: ``%c`` has the
process in it, a label says so, and a message about a wait for a lock names its own process. Where
nothing does, and several would fit, that is said.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from catenum.core.logs.postgresql_details import MODE, NUMBERS

TIME = re.compile(
    r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d(?:\.\d+)?(?: [A-Z][A-Za-z0-9_/+-]*| [+-]\d\d(?::?\d\d)?)?"
)
#: Seconds since 1970 with ms, as the prefix has them by ``%n``.
_EPOCH = re.compile(r"(?<![\d.])(1\d{9}\.\d{3})(?!\d)")
_VIRTUAL = re.compile(r"(?<![\d/])(\d+/\d+)(?![\d/])")
#: Of a session: when it began and its process, in hex (documentation, 20.8.3).
_SESSION = re.compile(r"\b[0-9a-f]{8}\.([0-9a-f]{1,8})\b")
#: Numbers that can be a process: with a word that says so, in brackets by itself, or alone.
_NUMBER = re.compile(
    r"(?i:(?P<label>\b(?:pid|process|proc|backend)\b\s*[=:#]?\s*))(?P<labelled>\d{1,7})(?!\w)"
    r"|\[(?P<bracketed>\d{1,7})\]|(?<![\w.:/-])(?P<bare>\d{1,7})(?![\w.:/-])"
)
#: Processes of which it is remembered who they are.
_MOST_KNOWN = 50_000


class _Number(NamedTuple):
    kind: str
    text: str


def _numbers(prefix: str) -> list[_Number]:
    rest = _SESSION.sub(" ", _VIRTUAL.sub(" ", TIME.sub(" ", _EPOCH.sub(" ", prefix))))
    return [
        _Number(str(found.lastgroup), str(found[str(found.lastgroup)]))
        for found in _NUMBER.finditer(rest)
    ]


class Prefix:
    """Reads prefixes of one log. ``doubt``: what is to be said of how they are read."""

    def __init__(
        self, pattern: re.Pattern[str] | None, head: Iterable[tuple[str, str]] = ()
    ) -> None:
        """``pattern``: of the ``log_line_prefix``, where it is known. ``head``: prefixes and
        messages of the log's beginning, by which it is told which number is the process.
        """
        self.pattern, self.doubt = pattern, None if pattern is not None else ""
        self._who: dict[str, dict[str, str]] = {}
        self._place: int | None = None
        if pattern is None:
            self.doubt = self._settle(list(head))

    def _settle(self, head: Sequence[tuple[str, str]]) -> str | None:
        """Find which number is the process. Returns what is to be said, where that is not
        certain.
        """
        shown = [(numbers, message) for prefix, message in head if (numbers := _numbers(prefix))]
        if not shown or any(_SESSION.search(prefix) for prefix, _ in head):
            return None
        votes: dict[int, int] = {}
        for numbers, message in shown:
            named = NUMBERS.findall(message) if MODE.search(message) else []
            for place, number in enumerate(numbers):
                if named and number.text in named:
                    votes[place] = votes.get(place, 0) + 1
        if votes:
            self._place = max(votes, key=lambda place: votes[place])
            return None
        first = shown[0][0]
        for kind in ("labelled", "bracketed", "bare"):
            fits = [place for place, number in enumerate(first) if number.kind == kind]
            if fits:
                self._place = fits[0]
                if kind == "labelled" or len(first) == 1:
                    return None
                others = ", ".join(
                    number.text for place, number in enumerate(first) if place != fits[0]
                )
                return (
                    "which number of a line's prefix is the process is not certain:"
                    f" {first[fits[0]].text} is taken, {others} would fit as well; --prefix tells"
                    " the server's log_line_prefix"
                )
        return None

    def read(self, prefix: str, *, whole: bool) -> dict[str, str]:
        """What a prefix tells. ``whole``: with the time; who a process is does not change, and is
        found out once.
        """
        if self.pattern is not None:
            found = self.pattern.match(prefix)
            return (
                {k: v for k, v in found.groupdict().items() if v and v != "[unknown]"}
                if found
                else {}
            )
        virtual = _VIRTUAL.search(prefix) if "/" in prefix else None
        session = _SESSION.search(prefix) if "." in prefix else None
        number = str(int(session[1], 16)) if session else self._process(prefix)
        if number not in self._who:
            self._who[number] = _identity(prefix)
            if len(self._who) > _MOST_KNOWN:
                self._who.clear()
        reported = {**self._who.get(number, {}), "pid": number}
        if virtual:
            reported["transaction"] = virtual[1]
        if session:
            reported["session"] = session[0]
        if whole:
            at, epoch = TIME.search(prefix), _EPOCH.search(prefix)
            reported |= {"at": at[0]} if at else {"at": epoch[1]} if epoch else {}
        return reported

    def _process(self, prefix: str) -> str:
        numbers = _numbers(prefix)
        labelled = next((number.text for number in numbers if number.kind == "labelled"), None)
        if labelled is not None:
            return labelled
        place = self._place
        if place is None:  # lines that came first had no number
            place = next((n for n, number in enumerate(numbers) if number.kind == "bracketed"), 0)
        return numbers[place].text if place < len(numbers) else ""


def _identity(prefix: str) -> dict[str, str]:
    """User, database and application of a session, as far as a prefix names them."""
    named = dict(re.findall(r"\b(user|db|app)=([^,\s\]]+)", prefix))
    names = {"user": "user", "db": "database", "app": "application"}
    reported = {names[key]: value for key, value in named.items() if value != "[unknown]"}
    both = re.search(r"(?<!\S)([^\s@\[\]=,]+)@([^\s@\[\]=,]+)", TIME.sub(" ", prefix))
    if both and not named:
        reported |= {"user": both[1], "database": both[2]}
    return reported


#: What stands behind a per cent sign of ``log_line_prefix`` (documentation, 20.8.3), and what it
#: matches.
_ESCAPES = {
    "t": rf"(?P<at>{TIME.pattern})",
    "m": rf"(?P<at>{TIME.pattern})",
    "n": r"(?P<at>\d+\.\d+)",
    "p": r"(?P<pid>\d+)",
    "u": r"(?P<user>\S*?)",
    "d": r"(?P<database>\S*?)",
    "a": r"(?P<application>.*?)",
    "v": r"(?P<transaction>[\d/]*)",
    "e": r"(?P<code>[0-9A-Z]{5})",
    "c": r"(?P<session>\b[0-9a-f]{8}\.[0-9a-f]{1,8}\b)",
    "%": "%",
}


def pattern_of(prefix: str) -> re.Pattern[str]:
    """What lines begin with under a ``log_line_prefix``. ``%q`` and what follows it may be
    missing.
    """
    found, at, seen, optional = "", 0, set[str](), False
    for escape in re.finditer(r"%(-?\d*)([a-zA-Z%])", prefix):
        found += re.escape(prefix[at : escape.start()])
        at, letter = escape.end(), escape[2]
        if letter == "q":
            found, optional = found + "(?:", True
        else:
            part = _ESCAPES.get(letter, r".*?") if letter not in seen else r".*?"
            found += rf"\s*{part}\s*" if escape[1] else part
            seen.add(letter)
    found = f"{found}{re.escape(prefix[at:])}".removesuffix("\\ ").rstrip()
    return re.compile(rf"{found}{')?' if optional else ''}\s*$")
