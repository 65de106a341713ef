"""What was seen, in SQLite: written sample by sample, so that a crash loses the current one at
most.

Write-ahead logging, one writer (an advisory lock beside the file), any number of readers. Bounded
by age and by size. A damaged store is set aside and a new one begun.
"""

from __future__ import annotations

import contextlib
import fcntl
import getpass
import os
import socket
import sqlite3
import zlib
from collections.abc import Iterator, Sequence
from datetime import timedelta
from pathlib import Path
from typing import IO, Any

from catenum.core.errors import InputError, SaveError
from catenum.core.record.recording import Recording
from catenum.core.record.recording_file import from_json
from catenum.core.servers import rules_of
from catenum.core.snapshot.incidents import Incident
from catenum.core.snapshot.rates import Step
from catenum.core.snapshot.sample import Sample, SessionInfo
from catenum.core.snapshot.taker import holder_statement
from catenum.engines.clock import moment
from catenum.store.incident_rows import UNSEEN, Entries
from catenum.store.rows import insert

#: Two that open a new store at once both make it.
_SCHEMA = """
    create table if not exists server (
      id integer primary key, name text not null unique, kind text, version text, url text);
    create table if not exists incident (
      id integer primary key, server int not null references server, cycle int not null default 0,
      head text, user text, application text, host text, database text, statement text, shape text,
      object text,
      first_seen text not null, last_seen text not null, ended text,
      waiting int not null, chain int not null, wait_ms real not null, longest_ms real not null,
        recording blob,
      heads int not null default 1, held_ms real, held_exact int, typical_ms real,
      source text not null default 'watch');
    create index if not exists incident_time on incident (first_seen);
    create table if not exists head (
      incident int not null references incident on delete cascade, session text not null, user text,
        application text,
      host text, statement text, transaction_name text, first_seen text not null,
        last_seen text not null,
      held_ms real not null, exact int not null, waiting int not null);
    create index if not exists head_incident on head (incident);
    create table if not exists wait_pair (
      incident int not null references incident on delete cascade, waiter text not null,
        holder text not null,
      object text, wait_ms real not null);
    create index if not exists wait_pair_incident on wait_pair (incident);
    create table if not exists log_wait (
      incident int not null references incident on delete cascade, waiter text not null,
        application text, mode text,
      since text not null, until text, holders text, statement text);
    create index if not exists log_wait_incident on log_wait (incident);
    create table if not exists note (
      id integer primary key, incident int not null references incident on delete cascade,
      at text not null, text text not null);
    create table if not exists deadlock (
      id integer primary key, server int not null, at text not null, count int not null,
        report text,
      source text not null default 'watch');
    create table if not exists gap (
      id integer primary key, server int not null, since text not null, until text, why text,
      blind int not null default 0);
    create table if not exists minute (
      server int not null, minute text not null, shape text not null, waiting int not null,
        samples int not null,
      blind int not null default 0, primary key (server, minute, shape)) without rowid;
    create table if not exists release (
      id integer primary key, server int not null references server, at text not null,
      by text not null, way text not null, session text not null, user text, application text,
        host text,
      statement text, transaction_ms real, rows_changed int, waiting int not null,
        went_on int not null,
      outcome text not null);
    create index if not exists release_time on release (at);
    create table if not exists watched (server integer primary key references server,
      last_seen text not null);
    create table if not exists rate (
      server int not null references server, shape text not null, since text not null,
        until text not null,
      calls int not null, total_ms real not null, lock_ms real, primary key (server, shape,
        since)) without rowid;
"""
VERSION = 2
#: The looks themselves are counted under no statement.
LOOKS = ""
_ASIDE = "The next watch moves it aside and starts a new one."
LONGEST_KEEP_MS = 100 * 365 * 86_400_000.0


class StoreInUse(SaveError):
    """Another watch writes to the same store."""


class Store:
    """One store. Open it for writing with ``writer``, for reading with ``reader``."""

    def __init__(self, connection: sqlite3.Connection, path: Path, lock: IO[str] | None) -> None:
        self.connection, self.path, self._lock = connection, path, lock
        self.set_aside: Path | None = None
        self._servers: dict[str, int] = {}
        self._seen: set[int] = set()
        self._entries = Entries(connection)

    def close(self) -> None:
        """Close, and let another one write."""
        with contextlib.suppress(sqlite3.Error):
            self.connection.close()
        if self._lock is not None:
            self._lock.close()

    # -- writing -----------------------------------------------------------------------------------

    def server(self, name: str, sample: Sample | None = None) -> int:
        """The number of a server, which is entered when first seen."""
        if name not in self._servers:
            info = sample.target if sample is not None else None
            self.connection.execute(
                "insert into server (name, kind, version, url) values (?, ?, ?, ?) on conflict"
                " (name) do update set kind = coalesce(excluded.kind, kind), version ="
                " coalesce(excluded.version, version)",
                (name, info and info.server, info and info.version, info and info.url),
            )
            row = self.connection.execute(
                "select id from server where name = ?", (name,)
            ).fetchone()
            self._servers[name] = int(row[0])
        return self._servers[name]

    def write(
        self,
        name: str,
        sample: Sample,
        incidents: Sequence[Incident],
        deadlocks: int = 0,
        report: str | None = None,
    ) -> None:
        """All that one sample brought, in one transaction. Raises SaveError where it cannot be
        written.

        ``deadlocks``: how many are news; with none, ``report`` belongs to the latest one.
        """
        with self._written(incidents):
            server = self.server(name, sample)
            self._unwatched(server, sample.at)
            self._count(server, sample, incidents)
            for incident in incidents:
                self._entries.enter(server, incident)
            if deadlocks:
                row = {"server": server, "at": sample.at, "count": deadlocks, "report": report}
                insert(self.connection, "deadlock", row)
            elif report:  # of a deadlock that was reported before
                self.connection.execute(
                    "update deadlock set report = coalesce(report || char(10, 10), '') || ? "
                    "where id = (select max(id) from deadlock where server = ?)",
                    (report, server),
                )

    @contextlib.contextmanager
    def _written(self, incidents: Sequence[Incident] = ()) -> Iterator[None]:
        """All of it in one transaction, or nothing. Raises SaveError; then what was written down of
        ids is forgotten with the rows that had them.
        """
        before = [(incident, incident.number, incident.kept_at) for incident in incidents]
        seen = set(self._seen)
        try:
            with self.connection:
                yield
        except sqlite3.Error as error:
            self._servers.clear()
            self._seen = seen
            self._entries.forget(incident.number for incident in incidents)
            for incident, number, kept_at in before:
                incident.number, incident.kept_at = number, kept_at
            raise SaveError(f"cannot write to {self.path}: {error}") from error

    def _unwatched(self, server: int, at: str) -> None:
        """Between the last look of an earlier watch, however that ended, and the first of this one
        nobody looked.
        """
        if server not in self._seen:
            self._seen.add(server)
            self.connection.execute(
                "insert into gap (server, since, until, why) select server, last_seen, ?, 'no watch"
                " ran' from watched w where server = ? and last_seen < ? and not exists (select 1"
                " from gap g where g.server = w.server and (g.until is null or g.until >"
                " w.last_seen))",
                (at, server, at),
            )
            self.connection.execute(
                "update gap set until = ? where server = ? and until is null", (at, server)
            )
        self.connection.execute("insert or replace into watched values (?, ?)", (server, at))

    def write_end(self, name: str, incident: Incident) -> None:
        """That an incident is over, without another look. Raises SaveError."""
        with self._written([incident]):
            self._entries.enter(self.server(name), incident)

    def _count(self, server: int, sample: Sample, incidents: Sequence[Incident]) -> None:
        """Count the check, and who waits under which head statement, in steps of ten seconds."""
        counts: dict[str, int] = {LOOKS: 0}
        graph = sample.graph
        texts = {one.head.id: one.statements.get(one.head.id, ()) for one in incidents}
        for head in graph.heads() or [
            edge.waiter for cycle in graph.cycles() for edge in cycle[:1]
        ]:
            edge = next(edge for edge in sample.edges if edge.holder == head)
            statement = holder_statement(sample, edge, texts.get(head, ()))
            key = rules_of(sample.target.server).sql.shape(statement) if statement else UNSEEN
            counts[key] = counts.get(key, 0) + max(1, len(graph.held_up_by(head)))
        for key, waiting in counts.items():
            self.connection.execute(
                "insert into minute (server, minute, shape, waiting, samples, blind) values (?, ?,"
                " ?, ?, 1, ?) on conflict do update set waiting = waiting + excluded.waiting,"
                " samples = samples + 1, blind = blind + excluded.blind",
                (server, sample.at[:18] + "0", key, waiting, int(sample.partial)),
            )

    def rate(self, name: str, steps: Sequence[Step]) -> None:
        """How often statements ran between two moments. Raises SaveError."""
        with self._written():
            server = self.server(name)
            self.connection.executemany(
                "insert or replace into rate values (?, ?, ?, ?, ?, ?, ?)",
                [(server, *step) for step in steps],
            )

    def gap(self, name: str, since: str, until: str | None, why: str) -> None:
        """A time in which a server was not seen. Raises SaveError."""
        with self._written():
            server = self.server(name)
            if until is None:
                self.connection.execute(
                    "insert into gap (server, since, why) values (?, ?, ?)", (server, since, why)
                )
                return
            begun = self.connection.execute(
                "update gap set until = ? where server = ? and until is null", (until, server)
            )
            if not begun.rowcount:  # its beginning could not be stored
                values = (server, since, until, why)
                self.connection.execute(
                    "insert into gap (server, since, until, why) values (?, ?, ?, ?)", values
                )

    def missed(self, name: str, since: str, until: str, why: str) -> None:
        """A time that is over in which somebody looked and could not see. Raises SaveError.

        One that goes on with the last one, for the same reason, is made part of it.
        """
        with self._written():
            server = self.server(name)
            longer = self.connection.execute(
                "update gap set until = ? where server = ? and blind and why = ? and until = ?",
                (until, server, why, since),
            )
            if not longer.rowcount:
                values = (server, since, until, why)
                self.connection.execute(
                    "insert into gap (server, since, until, why, blind) values (?, ?, ?, ?, 1)",
                    values,
                )

    def release(
        self, name: str, session: SessionInfo, way: str, waiting: int, went_on: int, outcome: str
    ) -> None:
        """What a person did about a blocker: who, when, to whom, what was undone. Raises
        SaveError.
        """
        at = moment().isoformat(timespec="milliseconds").replace("+00:00", "Z")
        by = f"{getpass.getuser()}@{socket.gethostname()}"
        row = {
            "at": at,
            "by": by,
            "way": way,
            "session": session.id,
            "user": session.user,
            "application": session.application,
            "host": session.host,
            "statement": session.statement,
            "transaction_ms": session.transaction_ms,
            "rows_changed": session.rows_changed,
            "waiting": waiting,
            "went_on": went_on,
            "outcome": outcome,
        }
        with self._written():
            insert(self.connection, "release", {"server": self.server(name), **row})

    def note(self, incident: int, text: str) -> None:
        """Add a person's note. Raises InputError where there is no such incident."""
        if (
            self.connection.execute("select 1 from incident where id = ?", (incident,)).fetchone()
            is None
        ):
            raise InputError(f"there is no incident {incident}")
        with self.connection:
            at = moment().isoformat(timespec="seconds").replace("+00:00", "Z")
            self.connection.execute(
                "insert into note (incident, at, text) values (?, ?, ?)", (incident, at, text)
            )

    def trim(self, keep_ms: float, most_bytes: int) -> None:
        """Release what is older than ``keep_ms``, then of the oldest until the file is no larger
        than allowed.
        """
        limit = (moment() - timedelta(milliseconds=min(keep_ms, LONGEST_KEEP_MS))).isoformat(
            timespec="milliseconds"
        )
        limit = limit.replace("+00:00", "Z")
        with contextlib.suppress(sqlite3.Error):
            with self.connection:
                self._forget("first_seen < ?", (limit,))
                self.connection.execute("delete from minute where minute < ?", (limit[:16],))
                self.connection.execute("delete from deadlock where at < ?", (limit,))
                self.connection.execute("delete from gap where until < ?", (limit,))
                self.connection.execute("delete from release where at < ?", (limit,))
                self.connection.execute("delete from rate where until < ?", (limit,))
            for _ in range(20):
                pages, size = (
                    self.connection.execute(f"pragma {p}").fetchone()[0]
                    for p in ("page_count", "page_size")
                )
                free = self.connection.execute("pragma freelist_count").fetchone()[0]
                if (pages - free) * size <= most_bytes:
                    break
                with self.connection:
                    self._forget(
                        "id in (select id from incident order by first_seen "
                        "limit (select count(*) / 10 + 1 from incident))",
                        (),
                    )
            self.connection.execute("pragma incremental_vacuum")

    def _forget(self, where: str, values: tuple[object, ...]) -> None:
        within = f"incident in (select id from incident where {where})"
        self.connection.execute(
            f"delete from wait_pair where incident in (select id from incident where {where})",
            values,
        )
        self.connection.execute(f"delete from head where {within}", values)
        self.connection.execute(f"delete from log_wait where {within}", values)
        self.connection.execute(f"delete from note where {within}", values)
        self.connection.execute(f"delete from incident where {where}", values)

    # -- reading -----------------------------------------------------------------------------------

    def recording(self, incident: int) -> Recording:
        """The recording of an incident. Raises InputError where there is none."""
        row = next(
            iter(self.rows("select recording from incident where id = ?", (incident,))), None
        )
        if row is None:
            raise InputError(f"there is no incident {incident}")
        if row["recording"] is None:
            raise InputError(f"incident {incident} is from a log, which has no moment to record")
        try:
            return from_json(zlib.decompress(row["recording"]), f"incident {incident}")
        except zlib.error as error:
            raise InputError(f"incident {incident} in {self.path} is damaged: {error}") from error

    def kind_of(self, name: str) -> str | None:
        """Which server it is that is called so; None where that is not known."""
        return next(
            (row["kind"] for row in self.rows("select kind from server where name = ?", (name,))),
            None,
        )

    def rows(self, query: str, values: Sequence[object] = ()) -> list[dict[str, Any]]:
        try:
            cursor = self.connection.execute(query, values)
            names = [column[0] for column in cursor.description]
            return [dict(zip(names, row, strict=True)) for row in cursor]
        except sqlite3.DatabaseError as error:
            if not _is_damaged(error):
                raise SaveError(f"cannot read {self.path}: {error}") from error
            raise InputError(f"{self.path} is damaged: {error}", advice=_ASIDE) from error


def writer(path: Path) -> Store:
    """The store for a watch. Raises StoreInUse, SaveError."""
    try:
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        lock = os.fdopen(
            os.open(f"{path}.lock", os.O_CREAT | os.O_WRONLY, 0o600), "w", encoding="utf-8"
        )
    except OSError as error:
        raise SaveError(f"cannot write to {path}: {error.strerror}") from error
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as error:
        lock.close()
        raise StoreInUse(
            f"another watch writes to {path}", advice="Give each its own with --store."
        ) from error
    aside: Path | None = None
    try:
        connection = _checked(path)
    except InputError:
        lock.close()
        raise
    except sqlite3.DatabaseError as error:
        if not _is_damaged(error):  # a full disk is a full disk, and the store as good as it was
            lock.close()
            raise SaveError(f"cannot write to {path}: {error}") from error
        aside = path.with_name(f"{path.name}.damaged-{moment():%Y%m%dT%H%M%S}")
        for suffix in ("", "-wal", "-shm"):
            with contextlib.suppress(FileNotFoundError):
                os.replace(f"{path}{suffix}", f"{aside}{suffix}")
        connection = _open(path)
    store = Store(connection, path, lock)
    store.set_aside = aside
    return store


def reader(path: Path) -> Store:
    """The store for reading, and for notes. Raises InputError where there is none or it is
    damaged.
    """
    if not path.exists():
        raise InputError(
            f"nothing was stored in {path}", advice="'catenum watch' keeps what it sees."
        )
    try:
        return Store(_open(path), path, None)
    except sqlite3.DatabaseError as error:
        if not _is_damaged(error):
            raise SaveError(f"cannot read {path}: {error}") from error
        raise InputError(f"{path} is damaged: {error}", advice=_ASIDE) from error


def writer_beside(path: Path) -> Store:
    """The store for one entry, beside a watch that may be writing. Raises SaveError, InputError."""
    try:
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        return Store(_open(path), path, None)
    except OSError as error:
        raise SaveError(f"cannot write to {path}: {error.strerror}") from error
    except sqlite3.DatabaseError as error:
        raise SaveError(f"cannot write to {path}: {error}") from error


def _is_damaged(error: sqlite3.DatabaseError) -> bool:
    """Whether SQLite itself says so (result codes: SQLite documentation, "Result and Error
    Codes").
    """
    code = getattr(error, "sqlite_errorcode", None)
    return code is None or code & 0xFF in (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB)


def _checked(path: Path) -> sqlite3.Connection:
    """The store, looked through by SQLite itself: pages that were damaged at rest are met only when
    they are read.

    Raises sqlite3.DatabaseError, with the code of a damaged file where it is one.
    """
    connection = _open(path)
    try:
        (reported,) = connection.execute("pragma quick_check(1)").fetchone()
        if reported != "ok":
            error = sqlite3.DatabaseError(reported)
            error.sqlite_errorcode = sqlite3.SQLITE_CORRUPT
            raise error
        return connection
    except BaseException:
        connection.close()
        raise


def _open(path: Path) -> sqlite3.Connection:
    """SQLite gives the files beside a store the rights of the store; it is for its owner alone."""
    with contextlib.suppress(OSError):  # then SQLite says what is wrong
        os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))
    connection = sqlite3.connect(
        path, timeout=5.0, isolation_level="IMMEDIATE", check_same_thread=False
    )
    try:
        version = int(connection.execute("pragma user_version").fetchone()[0])
        if version not in (0, VERSION):
            raise InputError(
                f"the store {path} is of version {version}, this Catenum writes version {VERSION}",
                advice="Move it away, or name another with --store.",
            )
        connection.execute("pragma auto_vacuum = incremental")
        connection.execute("pragma journal_mode = wal")
        connection.execute("pragma synchronous = normal")
        connection.execute("pragma foreign_keys = on")
        connection.execute("select count(*) from sqlite_master").fetchone()
        if version == 0:
            connection.executescript(
                f"begin immediate; {_SCHEMA} pragma user_version = {VERSION}; commit;"
            )
        return connection
    except BaseException:
        connection.close()
        raise
