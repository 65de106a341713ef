"""The statements of each session's open transaction, rebuilt from a log that has them."""

from __future__ import annotations

import re
from collections import OrderedDict
from dataclasses import dataclass, field

from catenum.core.logs.conflicts import BEGINS, ENDS
from catenum.core.servers import Rules

_BEGINS, _ENDS = re.compile(BEGINS), re.compile(ENDS)
_LEVEL = re.compile(
    r"(?i)isolation\s+level\s+(read\s+uncommitted|read\s+committed|repeatable\s+read|serializable)"
)
_SETS = re.compile(
    r"(?i)\s*set\s+(?:local\s+|session\s+(?:characteristics\s+as\s+)?)?transaction\b"
)
_AUTOCOMMIT = re.compile(
    r"(?is)\s*set\s+(?:session\s+|local\s+|@@(?:session\.|local\.)?)?autocommit\s*:?=\s*(\w+)"
)
#: What sets a session up, or looks at it, before its transaction begins.
_OF_SESSION = re.compile(r"(?is)\s*(?:set|use|show|select\s+@@|select\s+version\()")
#: Sessions and statements of one transaction that are remembered.
MOST_SESSIONS, MOST_STATEMENTS = 20_000, 500


@dataclass(slots=True)
class Open:
    """What a session has run since its transaction began; ``whole``: whether its beginning was
    seen. ``ended``: of each statement whether it is known to have ended.
    """

    number: str | None = None
    statements: list[str] = field(default_factory=list)
    ended: list[bool] = field(default_factory=list)
    explicit: bool = False
    whole: bool = False
    isolation: str | None = None
    next_isolation: str | None = None
    chained: bool = (
        False  # the session begins transactions by itself: what it runs goes on until it commits
    )


class Histories:
    """Takes statements as a log has them, each before or after it ran."""

    def __init__(self, rules: Rules) -> None:
        """``texts``: how the server reads a text of several statements."""
        self._rules = rules
        self._open: OrderedDict[str, Open] = OrderedDict()
        self.any = False

    def ran(
        self, session: str, text: str, number: str | None = None, *, ended: bool = False
    ) -> None:
        """A session runs a text. ``number``: of its transaction, where the log tells it. ``ended``:
        it has run.
        """
        self.any = True
        found = self._open.get(session)
        if found is None:
            found = self._open[session] = Open()
            if len(self._open) > MOST_SESSIONS:
                self._open.popitem(last=False)
        self._open.move_to_end(session)
        if number is not None and number != found.number:
            level = found.next_isolation
            found = self._open[session] = Open(
                number=number, whole=True, isolation=level, chained=found.chained
            )
        pieces = (
            [text]
            if ";" not in text.rstrip().rstrip(";")
            else [piece for _, piece in self._rules.sql.split(text)]
        )
        for piece in pieces:
            self._one(found, piece.strip().rstrip(";"), ended)

    @staticmethod
    def _one(found: Open, sql: str, ended: bool) -> None:
        level = _LEVEL.search(sql)
        if _BEGINS.match(sql):
            found.statements, found.ended, found.explicit, found.whole = [], [], True, True
            found.isolation = _plain(level[1]) if level else found.next_isolation
        elif _ENDS.match(sql):
            found.statements, found.ended, found.explicit, found.whole = [], [], False, True
            found.isolation = None
        elif _SETS.match(sql):
            if level and found.explicit and "characteristics" not in sql.lower():
                found.isolation = _plain(level[1])
            elif level:
                found.next_isolation = _plain(level[1])
        elif _AUTOCOMMIT.match(sql):
            found.chained = _AUTOCOMMIT.match(sql)[1].lower() in ("0", "off", "false")  # type: ignore[index]
        elif sql:
            if not found.explicit and not found.statements and _OF_SESSION.match(sql):
                return
            if not found.explicit and found.number is None and found.whole and not found.chained:
                found.statements, found.ended = [], []  # each by itself
            if len(found.statements) < MOST_STATEMENTS:
                found.statements.append(sql)
                found.ended.append(ended)

    def open_transaction(self, session: str, number: str | None = None) -> Open | None:
        """The open transaction of a session; None where nothing of it is in the log."""
        found = self._open.get(session)
        if found is None or (
            number is not None and found.number is not None and number != found.number
        ):
            return None
        return found

    def connected(self, session: str) -> None:
        """A session begins: whatever it runs first begins its transaction."""
        self._open[session] = Open(whole=True)

    def gone(self, session: str) -> None:
        self._open.pop(session, None)


def _plain(level: str) -> str:
    return " ".join(level.lower().split())
