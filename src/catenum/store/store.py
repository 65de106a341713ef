"""What was seen, in a database: written sample by sample, so that a crash loses the current one at
most.

A file by SQLite for one watch, or a schema in PostgreSQL for many (``engines.ports.database``).
Bounded by age and by size. A damaged file is set aside and a new one begun.
"""

from __future__ import annotations

import contextlib
import getpass
import os
import socket
import zlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path
from typing import IO, Any

from catenum.core.errors import InputError, SaveError, TargetError
from catenum.core.record.recording import Recording, TargetInfo
from catenum.core.record.recording_file import from_json
from catenum.core.servers import rules_of
from catenum.core.snapshot.incidents import Incident
from catenum.core.snapshot.rates import Step
from catenum.core.snapshot.sample import Sample, SessionInfo
from catenum.core.snapshot.taker import holder_statement
from catenum.engines.clock import moment
from catenum.engines.ports.database import Database, DatabaseFault
from catenum.store.incident_rows import UNSEEN, Entries
from catenum.store.places import StorePlace, shared_database
from catenum.store.schema import VERSION, migrate
from catenum.store.sqlite import SqliteDatabase, locked

#: The looks themselves are counted under no statement.
LOOKS = ""
_ASIDE = "The next watch moves it aside and starts a new one."
LONGEST_KEEP_MS = 100 * 365 * 86_400_000.0


class StoreInUse(SaveError):
    """Another watch writes to the same store."""


@dataclass(frozen=True)
class Look:
    """What is counted of one sample: ``counts``: who waits, by the head's kind of statement."""

    at: str
    target: TargetInfo
    counts: dict[str, int]
    partial: bool


def look_of(sample: Sample, incidents: Sequence[Incident]) -> Look:
    """Counted; ``incidents``: those that the sample is part of."""
    counts: dict[str, int] = {LOOKS: 0}
    graph = sample.graph
    texts = {one.head.id: one.statements.get(one.head.id, ()) for one in incidents}
    for head in graph.heads() or [edge.waiter for cycle in graph.cycles() for edge in cycle[:1]]:
        edge = next(edge for edge in sample.edges if edge.holder == head)
        statement = holder_statement(sample, edge, texts.get(head, ()))
        key = rules_of(sample.target.server).sql.shape(statement) if statement else UNSEEN
        counts[key] = counts.get(key, 0) + max(1, len(graph.held_up_by(head)))
    return Look(sample.at, sample.target, counts, bool(sample.partial))


class Store:
    """One store. Open it for writing with ``writer``, for reading with ``reader``."""

    def __init__(self, database: Database) -> None:
        self.database = database
        self.set_aside: Path | None = None
        self._servers: dict[str, int] = {}
        self._seen: set[int] = set()
        self._entries = Entries(database)

    @property
    def shown(self) -> str:
        """Where it is, without secrets."""
        return self.database.shown

    @property
    def trouble(self) -> str | None:
        """What cannot be written is told by who writes it."""
        return None

    @property
    def lost(self) -> int:
        """What is not taken is told by who writes it."""
        return 0

    def close(self) -> int:
        """Close, and let another one write; gives how many things could not be written."""
        self.database.close()
        return 0

    # -- writing -----------------------------------------------------------------------------------

    def server(self, name: str, info: TargetInfo | None = None) -> int:
        """The number of a server, which is entered when first seen."""
        if name not in self._servers:
            self.database.execute(
                "insert into server (name, kind, version, url) values (?, ?, ?, ?) on conflict"
                " (name) do update set kind = coalesce(excluded.kind, server.kind), version ="
                " coalesce(excluded.version, server.version)",
                (name, info and info.server, info and info.version, info and info.url),
            )
            (row,) = self.database.rows("select id from server where name = ?", (name,))
            self._servers[name] = int(row["id"])
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
        self.write_look(name, look_of(sample, incidents), incidents, deadlocks, report)

    def write_look(
        self,
        name: str,
        look: Look,
        incidents: Sequence[Incident],
        deadlocks: int = 0,
        report: str | None = None,
    ) -> None:
        """The same of a look that was counted already."""
        self.claim(name)
        with self._written(incidents):
            server = self.server(name, look.target)
            self._unwatched(server, look.at)
            self._count(server, look)
            for incident in incidents:
                self._entries.enter(server, incident)
            if deadlocks:
                row = {"server": server, "at": look.at, "count": deadlocks, "report": report}
                self.database.insert("deadlock", row)
            elif report:  # of a deadlock that was reported before
                self.database.execute(
                    "update deadlock set report = coalesce(report || ?, '') || ? "
                    "where id = (select max(id) from deadlock where server = ?)",
                    ("\n\n", report, server),
                )

    def claim(self, name: str) -> None:
        """Of one server only one watch writes what it sees: two would count each look twice.
        Raises StoreInUse, SaveError.
        """
        try:
            alone = self.database.claim(name)
        except DatabaseFault as error:
            raise self._failed(error) from error
        if not alone:
            raise StoreInUse(
                f"another watch writes what it sees of {name} to {self.shown}",
                advice="End one of the two, or give it a store of its own with --store.",
            )

    def _failed(self, error: DatabaseFault) -> SaveError:
        failed = SaveError(f"cannot write to {self.shown}: {error}")
        failed.refused = error.refused
        return failed

    @contextlib.contextmanager
    def _written(self, incidents: Sequence[Incident] = ()) -> Iterator[None]:
        """All of it in one transaction, or nothing. Raises SaveError; then what was written down of
        ids is forgotten with the rows that had them.
        """
        before = [(incident, incident.number, incident.kept_at) for incident in incidents]
        seen = set(self._seen)
        try:
            with self.database.transaction():
                yield
        except DatabaseFault as error:
            self._servers.clear()
            self._seen = seen
            self._entries.forget(incident.number for incident in incidents)
            for incident, number, kept_at in before:
                incident.number, incident.kept_at = number, kept_at
            raise self._failed(error) from error

    def _unwatched(self, server: int, at: str) -> None:
        """Between the last look of an earlier watch, however that ended, and the first of this one
        nobody looked.
        """
        if server not in self._seen:
            self._seen.add(server)
            self.database.execute(
                "insert into gap (server, since, until, why) select server, last_seen,"
                " cast(? as text), 'no watch ran' from watched w where server = ? and last_seen < ?"
                " and not exists (select 1 from gap g where g.server = w.server and (g.until is"
                " null or g.until > w.last_seen))",
                (at, server, at),
            )
            self.database.execute(
                "update gap set until = ? where server = ? and until is null", (at, server)
            )
        self.database.execute(
            "insert into watched (server, last_seen) values (?, ?)"
            " on conflict (server) do update set last_seen = excluded.last_seen",
            (server, at),
        )

    def write_end(self, name: str, incident: Incident) -> None:
        """That an incident is over, without another look. Raises SaveError."""
        with self._written([incident]):
            self._entries.enter(self.server(name), incident)

    def _count(self, server: int, look: Look) -> None:
        """Count the look, and who waits under which head statement, in steps of ten seconds."""
        for key, waiting in sorted(look.counts.items()):  # in one order, whoever else writes
            self.database.execute(
                "insert into minute (server, minute, shape, waiting, samples, blind) values (?, ?,"
                " ?, ?, 1, ?) on conflict (server, minute, shape) do update set"
                " waiting = minute.waiting + excluded.waiting, samples = minute.samples + 1,"
                " blind = minute.blind + excluded.blind",
                (server, look.at[:18] + "0", key, waiting, int(look.partial)),
            )
        self.database.execute(
            "insert into hour (server, hour, looks, blind) values (?, ?, ?, ?) on conflict (server,"
            " hour) do update set looks = hour.looks + excluded.looks, blind = hour.blind +"
            " excluded.blind",
            (server, look.at[:13], int(not look.partial), int(look.partial)),
        )

    def rate(self, name: str, steps: Sequence[Step]) -> None:
        """How often statements ran between two moments. Raises SaveError."""
        with self._written():
            server = self.server(name)
            self.database.many(
                "insert into rate (server, shape, since, until, calls, total_ms, lock_ms)"
                " values (?, ?, ?, ?, ?, ?, ?) on conflict (server, shape, since) do update set"
                " until = excluded.until, calls = excluded.calls, total_ms = excluded.total_ms,"
                " lock_ms = excluded.lock_ms",
                [(server, *step) for step in steps],
            )

    def gap(self, name: str, since: str, until: str | None, why: str) -> None:
        """A time in which a server was not seen. Raises SaveError."""
        with self._written():
            server = self.server(name)
            if until is None:
                self.database.execute(
                    "insert into gap (server, since, why) values (?, ?, ?)", (server, since, why)
                )
                return
            begun = self.database.execute(
                "update gap set until = ? where server = ? and until is null", (until, server)
            )
            if not begun:  # its beginning could not be stored
                values = (server, since, until, why)
                self.database.execute(
                    "insert into gap (server, since, until, why) values (?, ?, ?, ?)", values
                )

    def missed(self, name: str, since: str, until: str, why: str) -> None:
        """A time that is over in which somebody looked and could not see. Raises SaveError.

        One that goes on with the last one, for the same reason, is made part of it.
        """
        with self._written():
            server = self.server(name)
            longer = self.database.execute(
                "update gap set until = ? where server = ? and blind = 1 and why = ? and until = ?",
                (until, server, why, since),
            )
            if not longer:
                values = (server, since, until, why)
                self.database.execute(
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
            self.database.insert("release", {"server": self.server(name), **row})

    def note(self, incident: int, text: str) -> None:
        """Add a person's note. Raises InputError where there is no such incident."""
        if not self.rows("select 1 from incident where id = ?", (incident,)):
            raise InputError(f"there is no incident {incident}")
        at = moment().isoformat(timespec="seconds").replace("+00:00", "Z")
        with self._written():
            self.database.execute(
                "insert into note (incident, at, text) values (?, ?, ?)", (incident, at, text)
            )

    def trim(self, keep_ms: float, most_bytes: int) -> None:
        """Release what is older than ``keep_ms``, of a shared store only of the servers that this
        one has written of; then of the oldest incidents until no more is stored than allowed.
        """
        limit = (moment() - timedelta(milliseconds=min(keep_ms, LONGEST_KEEP_MS))).isoformat(
            timespec="milliseconds"
        )
        with contextlib.suppress(DatabaseFault):
            self._forget_older(limit.replace("+00:00", "Z"))
            for _ in range(20):
                if self.database.size() <= most_bytes:
                    break
                with self.database.transaction():
                    self._forget(
                        "id in (select id from incident order by first_seen "
                        "limit (select count(*) / 10 + 1 from incident))",
                        (),
                    )
            self.database.tidy()

    def _forget_older(self, limit: str) -> None:
        mine = "1 = 1"
        values: tuple[int, ...] = ()
        if self.database.shared:
            mine = f"server in ({', '.join(['?'] * len(self._servers)) or 'null'})"
            values = tuple(sorted(self._servers.values()))
        with self.database.transaction():
            self._forget(f"first_seen < ? and {mine}", (limit, *values))
            for table, column, until in (
                ("minute", "minute", limit[:16]),
                ("hour", "hour", limit[:13]),
                ("deadlock", "at", limit),
                ("gap", "until", limit),
                ("release", "at", limit),
                ("rate", "until", limit),
            ):
                self.database.execute(
                    f"delete from {table} where {column} < ? and {mine}", (until, *values)
                )

    def _forget(self, where: str, values: tuple[object, ...]) -> None:
        within = f"incident in (select id from incident where {where})"
        for table in ("wait_pair", "head", "log_wait", "note"):
            self.database.execute(f"delete from {table} where {within}", values)
        self.database.execute(f"delete from incident where {where}", values)

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
            raise InputError(f"incident {incident} in {self.shown} is damaged: {error}") from error

    def kind_of(self, name: str) -> str | None:
        """Which server it is that is called so; None where that is not known."""
        return next(
            (row["kind"] for row in self.rows("select kind from server where name = ?", (name,))),
            None,
        )

    def rows(self, query: str, values: Sequence[object] = ()) -> list[dict[str, Any]]:
        """What a query gives. Raises InputError where the store is damaged, SaveError."""
        try:
            return self.database.rows(query, values)
        except DatabaseFault as error:
            if not error.damaged:
                raise SaveError(f"cannot read {self.shown}: {error}") from error
            raise InputError(f"{self.shown} is damaged: {error}", advice=_ASIDE) from error


def writer(place: StorePlace) -> Store:
    """The store for a watch. Raises StoreInUse, SaveError, InputError."""
    if isinstance(place, str):
        return _shared(place, writes=True)
    try:
        lock = locked(place)
    except OSError as error:
        raise SaveError(f"cannot write to {place}: {error.strerror}") from error
    if lock is None:
        raise StoreInUse(
            f"another watch writes to {place}", advice="Give each its own with --store."
        )
    aside: Path | None = None
    try:
        database = _whole(place, lock)
    except InputError:
        lock.close()
        raise
    except DatabaseFault as error:
        if not error.damaged:  # a full disk is a full disk, and the store as good as it was
            lock.close()
            raise SaveError(f"cannot write to {place}: {error}") from error
        aside = place.with_name(f"{place.name}.damaged-{moment():%Y%m%dT%H%M%S}")
        for suffix in ("", "-wal", "-shm"):
            with contextlib.suppress(FileNotFoundError):
                os.replace(f"{place}{suffix}", f"{aside}{suffix}")
        database = SqliteDatabase(place, lock)
    store = Store(database)
    store.set_aside = aside
    return store


def _whole(place: Path, lock: IO[str]) -> SqliteDatabase:
    """The file, looked through. Raises DatabaseFault, InputError."""
    database = SqliteDatabase(place, lock)
    try:
        database.check()
    except BaseException:
        database.connection.close()
        raise
    return database


def reader(place: StorePlace) -> Store:
    """The store for reading, and for notes. Raises InputError where there is none or it is
    damaged; SaveError.
    """
    if isinstance(place, str):
        return _shared(place, writes=False)
    if not place.exists():
        raise InputError(
            f"nothing was stored in {place}", advice="'catenum watch' keeps what it sees."
        )
    try:
        return Store(SqliteDatabase(place))
    except DatabaseFault as error:
        if not error.damaged:
            raise SaveError(f"cannot read {place}: {error}") from error
        raise InputError(f"{place} is damaged: {error}", advice=_ASIDE) from error


def writer_beside(place: StorePlace) -> Store:
    """The store for one entry, beside a watch that may be writing. Raises SaveError, InputError."""
    if isinstance(place, str):
        return _shared(place, writes=True)
    try:
        place.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        return Store(SqliteDatabase(place))
    except OSError as error:
        raise SaveError(f"cannot write to {place}: {error.strerror}") from error
    except DatabaseFault as error:
        raise SaveError(f"cannot write to {place}: {error}") from error


def _shared(url: str, *, writes: bool) -> Store:
    """A store in a server of the user's; its tables are made by the first who writes. Raises
    TargetError where the server cannot be had.
    """
    database = shared_database(url, writes=writes)
    try:
        version = database.version()
        if version > VERSION:
            raise InputError(
                f"the store {database.shown} is of version {version}, and this Catenum knows"
                f" versions up to {VERSION}",
                advice="Use a later Catenum.",
            )
        if version < VERSION and not writes:
            if version == 0:
                raise InputError(
                    f"nothing was stored in {database.shown}",
                    advice="'catenum watch --store' keeps what it sees there.",
                )
            raise InputError(
                f"the store {database.shown} is of version {version}, this Catenum reads version"
                f" {VERSION}",
                advice="The next watch that writes to it takes it to this version.",
            )
        if version < VERSION:
            with database.changing() as version:
                if version < VERSION:
                    migrate(database, version)
                    database.noted(VERSION)
    except DatabaseFault as error:
        database.close()
        rights = (
            "The login must be able to create the schema catenum_history, or have rights on it."
        )
        away = "A password is taken from PGPASSWORD or ~/.pgpass; the host and port from the URL."
        raise TargetError(
            f"cannot use the store {database.shown}: {error}",
            advice=rights if error.denied else away,
        ) from error
    except BaseException:
        database.close()
        raise
    return Store(database)
