"""The reports of deadlocks that a watch stored, as the text of a log."""

from __future__ import annotations

import re
import sqlite3
from pathlib import Path

from catenum.core.errors import InputError
from catenum.core.logs.servers import log_rules_of

#: How a store's file begins (SQLite documentation, "Database File Format").
MAGIC = b"SQLite format 3\x00"
_REPORTS = """
select coalesce(server.kind, '') kind, deadlock.at at, deadlock.report report from deadlock
join server on server.id = deadlock.server where deadlock.report is not null order by deadlock.at,
  deadlock.id
"""


def is_store(path: str) -> bool:
    """Whether a file is a database."""
    try:
        with Path(path).open("rb") as stream:
            return stream.read(len(MAGIC)) == MAGIC
    except OSError:
        return False


def stored_reports(path: str) -> tuple[str, bytes]:
    """The server's name, and its reports one after another. Raises InputError where there is
    none.
    """
    try:
        with sqlite3.connect(f"file:{path}?mode=ro", uri=True) as connection:
            rows = connection.execute(_REPORTS).fetchall()
    except sqlite3.Error as error:
        raise InputError(f"{path}: this is no store of a watch: {error}") from error
    kinds = sorted({str(kind) for kind, _, _ in rows if kind})
    if not rows:
        raise InputError(
            f"{path}: no report of a deadlock is stored in it",
            advice="'catenum history list' shows what is.",
        )
    if len(kinds) != 1:
        raise InputError(f"{path}: it has reports of several servers: {', '.join(kinds)}")
    begins = log_rules_of(kinds[0]).report_begins
    parts = [f"{_time(str(at))}{begins}{str(report).strip()}\n" for _, at, report in rows]
    return kinds[0], "".join(parts).encode()


def _time(at: str) -> str:
    return re.sub(r"(?<=\d)T(?=\d)", " ", at).replace("Z", " UTC")
