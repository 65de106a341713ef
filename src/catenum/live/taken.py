"""What a server's own log tells of the time before a watch came: taken into the store, and marked as from the log."""

from __future__ import annotations

import gzip
import sqlite3
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta, tzinfo
from pathlib import Path

from catenum.core.errors import InputError, SaveError
from catenum.core.serverlog import LogEntry, LogReader
from catenum.core.serverlog.waits import LogPile, NoZone, log_waits, piles, utc
from catenum.core.servers import NAMES, rules_of
from catenum.live.coverage import seen_intervals
from catenum.live.entries import NOT_TOLD
from catenum.live.store import Store

CHUNK = 1_000_000
#: A deadlock that a watch counted, and the log's report of it, are no further apart.
SAME = timedelta(seconds=3)


@dataclass
class Taken:
    """How many were taken in, and how many a watch had seen, or an earlier call had taken."""

    incidents: int = 0
    deadlocks: int = 0
    known: int = 0


def take(
    store: Store, name: str, kind: str, files: Sequence[Path], *, zone: tzinfo | None = None, mask: bool = False
) -> Taken:
    """Take logs in. Raises InputError where one cannot be read, or its times cannot be told; SaveError."""
    entries: list[LogEntry] = []
    seen_messages = 0
    for path in files:
        reader = rules_of(kind).log_reader()
        entries += _entries(path, reader)
        seen_messages += reader.seen
    if not seen_messages:
        raise InputError(f"nothing in {', '.join(map(str, files))} reads like a message of {kind}'s log")
    try:
        found = piles(log_waits(entries, zone))
        deadlocks = [(utc(entry.at, zone), entry) for entry in entries if entry.is_deadlock and entry.at]
    except NoZone as error:
        advice = "Name the zone of its times with --zone, such as --zone UTC or --zone Europe/Amsterdam."
        raise InputError(f"{files[0]}: {error}", advice=advice) from error
    taken, seen = Taken(), seen_intervals(store, name)
    try:
        with store.connection:
            server = store.server(name)
            store.connection.execute("update server set kind = coalesce(kind, ?) where id = ?", (kind, server))
            for pile in found:
                if _within(pile.since, seen) or _is_known(store, server, pile):
                    taken.known += 1
                    continue
                _enter(store, server, kind, pile, mask=mask)
                taken.incidents += 1
            known = _KnownDeadlocks(store, server)
            for at, entry in deadlocks:
                text = rules_of(kind).masked_report(entry.text) if mask else entry.text
                if known.has(at, entry):
                    taken.known += 1
                    continue
                store.connection.execute(
                    "insert into deadlock (server, at, count, report, source) values (?, ?, 1, ?, 'log')",
                    (server, _text(at), text),
                )
                taken.deadlocks += 1
    except sqlite3.Error as error:
        raise SaveError(f"cannot write to {store.path}: {error}") from error
    return taken


def kind_of_log(path: Path) -> str:
    """Which server writes a log, by its first part. Raises InputError where it cannot be read."""
    try:
        opened = gzip.open if path.suffix == ".gz" else open
        with opened(path, "rt", encoding="utf-8", errors="backslashreplace") as stream:
            head = str(stream.read(CHUNK))
    except (OSError, EOFError) as error:
        raise InputError(f"{path}: cannot be read: {getattr(error, 'strerror', None) or error}") from error
    found = next((name for name in NAMES if rules_of(name).writes_log(head)), None)
    if found is None:
        raise InputError(f"{path}: this does not read like a log of {' or '.join(rules_of(n).title for n in NAMES)}")
    return found


def _entries(path: Path, reader: LogReader) -> Iterator[LogEntry]:
    try:
        opened = gzip.open if path.suffix == ".gz" else open
        with opened(path, "rt", encoding="utf-8", errors="backslashreplace", newline="\n") as stream:
            while text := stream.read(CHUNK):
                yield from reader.feed(str(text))
        yield from reader.feed("\n")
        yield from reader.finish()
    except (OSError, EOFError) as error:
        raise InputError(f"{path}: cannot be read: {getattr(error, 'strerror', None) or error}") from error


def _text(at: datetime) -> str:
    return at.isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _within(at: datetime, intervals: Sequence[tuple[datetime, datetime]]) -> bool:
    return any(since <= at <= until for since, until in intervals)


def _is_known(store: Store, server: int, pile: LogPile) -> bool:
    query = "select 1 from incident where server = ? and source = 'log' and first_seen = ? and object = ?"
    return bool(store.rows(query, (server, _text(pile.since), pile.waits[0].over)))


class _KnownDeadlocks:
    """The deadlocks that the store has: those of a log by their time, those of a watch by their report, or where it
    has none, by their number at about that time.
    """

    def __init__(self, store: Store, server: int) -> None:
        rows = store.rows("select at, count, report, source from deadlock where server = ?", (server,))
        self._logged = {row["at"] for row in rows if row["source"] == "log"}
        self._watched = [(datetime.fromisoformat(row["at"]), row) for row in rows if row["source"] != "log"]

    def has(self, at: datetime, entry: LogEntry) -> bool:
        """Whether this one is there; each that a watch only counted stands for one."""
        if _text(at) in self._logged:
            return True
        members = (entry.detail or entry.text).splitlines()[0]
        for when, row in self._watched:
            if abs(when - at) > SAME:
                continue
            if row["report"] is not None and members in row["report"]:
                return True
            if row["report"] is None and row["count"] > 0:
                row["count"] -= 1
                return True
        return False


def _enter(store: Store, server: int, kind: str, pile: LogPile, *, mask: bool) -> None:
    """One pile as an incident: who held the lock has a number, and no statement, in the log."""
    rules = rules_of(kind)
    first = pile.waits[0]
    cursor = store.connection.execute(
        "insert into incident (server, first_seen, last_seen, ended, waiting, chain, wait_ms, longest_ms, head, shape, "
        "object, source) values (?, ?, ?, ?, ?, 1, ?, ?, ?, ?, ?, 'log')",
        (
            *(server, _text(pile.since), _text(pile.until), _text(pile.until) if pile.over_yet else None),
            *(pile.at_once, round(sum(w.waited_ms for w in pile.waits), 1)),
            *(round(max(w.waited_ms for w in pile.waits), 1), str(pile.head) if pile.head else None),
            *(NOT_TOLD, first.over),
        ),
    )
    for wait in pile.waits:
        statement = wait.statement or NOT_TOLD
        shape = rules.shape(statement) if wait.statement else NOT_TOLD
        store.connection.execute(
            "insert into meeting values (?, ?, ?, ?, ?)",
            (cursor.lastrowid, shape, NOT_TOLD, wait.over, round(wait.waited_ms, 1)),
        )
        store.connection.execute(
            "insert into log_wait values (?, ?, ?, ?, ?, ?, ?, ?)",
            (
                *(cursor.lastrowid, str(wait.waiter), wait.application, wait.mode, _text(wait.since)),
                *(_text(wait.until) if wait.until else None, ", ".join(map(str, wait.holders))),
                rules.masked(statement) if mask and wait.statement else statement,
            ),
        )
