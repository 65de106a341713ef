"""The statements that PostgreSQL's log tells of, with the values of their parameters in them.

They come by ``log_statement`` and ``log_min_duration_statement``, prepared ones with their values
in the details.
"""

from __future__ import annotations

import re

from catenum.core.logs import LogEntry
from catenum.core.logs.conflicts import same_statement
from catenum.core.logs.histories import Open

#: A message of ``log_statement``, of ``log_min_duration_statement``, and of a prepared statement's
#: execution.
_STATEMENT = re.compile(
    r"(?:(?P<duration>\D{2,30}?: ?[\d.,]+ \S{1,4})\s+)?"
    r"(?P<word>[^\W\d_][\w ]{0,25}?)(?: (?P<name>\S+?))? ?: +(?P<sql>.+)",
    re.DOTALL,
)
_VERB = re.compile(
    r"(?is)\s*(?:/\*.*?\*/\s*)*\(*\s*(?:select|insert|update|delete|merge|with|begin|start|commit|rollback|abort|end|"
    r"savepoint|release|lock|truncate|alter|create|drop|set|execute|prepare|deallocate|call|do|declare|fetch|close|"
    r"copy|values|table|reindex|cluster|refresh|vacuum|analyze|grant|revoke|reset|discard|listen|notify|show|explain|"
    r"move|comment|import|reassign)\b"
)
_PLACES = re.compile(r"'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"|\$(\d+)")
PARAMETER = re.compile(r"\$(\d+) = (NULL|'(?:[^']|'')*'(?:\.\.\.)?)", re.IGNORECASE)
_PREPARED = re.compile(r"(?is)\bprepare\s+\S+?\s*(?:\([^)]*\))?\s+as\s+(.*)")
_CALLED = re.compile(r"(?is)\s*execute\s+\S+?\s*\((.*)\)\s*;?\s*$")


def statement_of(entry: LogEntry) -> str | None:
    """The statement that a message tells of, with the values of its parameters in it."""
    found = _STATEMENT.match(entry.message)
    if found is None:
        return None
    word, sql = found["word"].lower(), found["sql"]
    if not _VERB.match(sql):
        return None
    if word in ("parse", "bind"):
        return None
    detail = entry.detail or ""
    prepared, called = _PREPARED.search(detail), _CALLED.match(sql)
    if prepared and called:
        values = [value.strip() for value in _arguments(called[1])]
        return with_values(prepared[1], dict(enumerate(values, 1)))
    reported = {int(number): value for number, value in PARAMETER.findall(detail)}
    return with_values(sql, reported) if reported else sql


def has_ended(entry: LogEntry) -> bool:
    """Whether a statement is told of with its duration, so that it had run."""
    found = _STATEMENT.match(entry.message)
    return found is not None and found["duration"] is not None


def with_values(sql: str, values: dict[int, str]) -> str:
    """A statement with values in the places for them; what stands in quotes is none."""
    return _PLACES.sub(
        lambda place: values.get(int(place[1]), place[0]) if place[1] else place[0], sql
    )


def _arguments(text: str) -> list[str]:
    found, depth, quoted, last = [], 0, False, 0
    for place, sign in enumerate(text):
        if sign == "'":
            quoted = not quoted
        elif not quoted and sign in "([":
            depth += 1
        elif not quoted and sign in ")]":
            depth -= 1
        elif sign == "," and not quoted and not depth:
            found.append(text[last:place])
            last = place + 1
    return [*found, text[last:]]


def history_of(opened: Open | None, statement: str | None) -> tuple[str, ...] | None:
    """What a transaction ran, with the statement of the report last; None where nothing of it is in
    the log.
    """
    if opened is None or not (opened.statements or opened.whole):
        return None
    history = list(opened.statements)
    if statement is not None:
        # One that is logged with its duration has ended: what waits now is another of the same
        # text.
        alike = [
            place
            for place, (sql, ended) in enumerate(zip(history, opened.ended, strict=True))
            if not ended and same_statement(sql, statement)
        ]
        if alike:
            history = history[: alike[-1] + 1]
        elif not (history and not opened.ended[-1] and _same_with_values(history[-1], statement)):
            history.append(statement)
    return tuple(history) or None


def _same_with_values(sql: str, statement: str) -> bool:
    """Whether a statement with its values in it is one with places for them."""
    pattern = re.escape(" ".join(statement.split()))
    pattern = re.sub(r"\\\$\d+", r"(?:NULL|'(?:[^']|'')*')", pattern)
    return "$" in statement and re.fullmatch(pattern, " ".join(sql.split())) is not None
