"""Rows as JSON that tell what sessions of a server with InnoDB ran: statements, and the
transactions around them.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from catenum.core.logs import LogEntry
from catenum.core.logs.innodb import rows_of

Row = Mapping[str, object]


class StatementRows:
    """Rows of ``mysql.general_log``, or of the performance schema's history of statements and of
    transactions with the connection's number (``threads.processlist_id``) beside them. They are
    read when all are there.
    """

    def __init__(self) -> None:
        self.left, self.seen = "", 0

    def feed(self, text: str) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        self.left += text
        yield from ()

    def finish(self) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        rows = [row for row in rows_of(self.left) if _session(row) is not None]
        self.left = ""
        self.seen += len(rows)
        reported = [one for row in rows for one in _described(row)]
        yield from (entry for _, entry in sorted(reported, key=lambda one: one[0]))


Placed = tuple[tuple[str, float], LogEntry]


def _described(row: Row) -> Iterator[Placed]:
    return _of_transaction(row) if "isolation_level" in row else _of_statement(row)


def _of_statement(row: Row) -> Iterator[Placed]:
    sql = row.get("sql_text") or row.get("argument")
    command = str(row.get("command_type") or "Query")
    yield _placed(
        row,
        _number(row, "event_id") or 0.0,
        str(sql) if sql and command in ("Query", "Execute") else None,
        command,
    )


def _of_transaction(row: Row) -> Iterator[Placed]:
    """Where it began and ended, with its level, as statements would say it.

    A transaction's event lies within that of the statement that begins it (MySQL Reference Manual,
    29.12.7 "Performance Schema Transaction Tables"): that one belongs to it.
    """
    within = row.get("nesting_event_type") == "STATEMENT"
    began = _number(row, "nesting_event_id" if within else "event_id")
    if began is None:
        return
    access = "read only" if str(row.get("access_mode")).upper() == "READ ONLY" else "read write"
    yield _placed(row, began - 0.3, "commit")
    yield _placed(
        row,
        began - 0.2,
        f"set session transaction isolation level {str(row['isolation_level']).lower()}",
    )
    yield _placed(row, began - 0.1, f"start transaction {access}")
    ended = _number(row, "end_event_id")
    if ended is not None:
        yield _placed(row, ended + 0.1, "commit")


def _placed(row: Row, place: float, sql: str | None, command: str = "Query") -> Placed:
    at = str(row["event_time"]) if row.get("event_time") else None
    return (at or "", place), LogEntry(
        at=at, pid=_session(row), severity="GENERAL", message=command, statement=sql
    )


def _session(row: Row) -> int | None:
    number = str(row.get("processlist_id") or row.get("thread_id") or "")
    return int(number) if number.isdigit() else None


def _number(row: Row, name: str) -> float | None:
    text = str(row.get(name) or "")
    return float(text) if text.isdigit() else None


def has_statements(head: str) -> bool:
    """Whether a text begins like such rows."""
    lower = head[:4_000].lower()
    named = ('"sql_text"', '"command_type"', '"isolation_level"')
    return head.lstrip()[:1] in ("[", "{") and any(name in lower for name in named)
