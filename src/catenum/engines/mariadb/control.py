"""The engine:

a control connection, the scratch database of one run, and what the rest of the program asks of a server.
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import secrets
import socket
import struct
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from itertools import islice
from typing import Any, Literal, cast
from urllib.parse import parse_qsl, unquote, urlsplit

import pymysql
from pymysql.constants import CLIENT

from catenum.core.errors import InputError, TargetError
from catenum.core.recording import LockEntry, PathStep, ServerError, TableKeys, TableRows, TargetInfo
from catenum.core.scenario_file import suggestion
from catenum.core.scripts import split_script
from catenum.core.waits import Edge
from catenum.engines.mariadb import errors
from catenum.engines.mariadb.kept import Keeper
from catenum.engines.mariadb.locks import LockReader
from catenum.engines.mariadb.metadata import MetadataReader, waits_by_state
from catenum.engines.mariadb.plans import steps_of
from catenum.engines.mariadb.session import MariadbSession, text_of
from catenum.engines.mariadb.status import latest_deadlock
from catenum.engines.protocol import Capabilities, DataError, Patience, Session

MARK = "catenum scratch space"
_OLDEST = (10, 6)
_NO_LIMIT_S = 3600  # a lock wait of a run that lost its client ends by itself after this
_LEFT_BEHIND = """
select schema_name from information_schema.schemata where schema_name like 'catenum\\_%%' and schema_comment like %s
"""


def connect(where: Mapping[str, object] | str, shown_url: str, *, private: bool = False) -> MariadbEngine:
    """Connect to a server, by URL or by PyMySQL's own arguments. Raises TargetError where that fails."""
    return MariadbEngine(arguments_of(where) if isinstance(where, str) else dict(where), shown_url, private=private)


#: What may stand behind the question mark of a URL, by PyMySQL's names: a local socket, and the server's certificate.
URL_PARAMETERS = ["unix_socket", "ssl_ca"]


def arguments_of(url: str) -> dict[str, object]:
    """PyMySQL's arguments for a URL. Raises InputError for a parameter that it does not know."""
    parts = urlsplit(url)
    found: dict[str, object] = {"host": parts.hostname or "127.0.0.1", "port": parts.port or 3306}
    for name, value in parse_qsl(parts.query):
        if name not in URL_PARAMETERS:
            raise InputError(f"{name}= in the target's URL", advice=suggestion(name, URL_PARAMETERS))
        found[name] = value
    if parts.username:
        found["user"] = unquote(parts.username)
    password = unquote(parts.password) if parts.password else os.environ.get("MYSQL_PWD")
    if password:
        found["password"] = password
    return found


class MariadbEngine:
    """One server, one run. See ``engines.protocol.Engine`` for what each method promises."""

    def __init__(self, where: dict[str, object], shown_url: str, *, private: bool) -> None:
        self.run = secrets.token_hex(4)
        self.schema = f"catenum_{self.run}"
        self._where, self._shown = where, shown_url
        self._made = self._connected = self._cut_short = False
        self._threads: dict[int, str] = {}
        self._report: str | None = None  # of the latest deadlock, where InnoDB told of it
        self._last_report: str | None = None
        with self._told():
            self.connection = self._connect("control")
        self._connected = True
        try:
            with self._told():
                self._prepare(private)
        except BaseException:
            self.connection.close()
            raise

    def _connect(self, name: str) -> pymysql.Connection[Any]:
        options: dict[str, Any] = {
            **self._where,
            "autocommit": True,
            "charset": "utf8mb4",
            "conv": {},  # values stay the server's text
            "connect_timeout": 5,
            "program_name": f"catenum {self.run} {name}",
            # rows found rather than rows changed, as other servers count
            "client_flag": CLIENT.MULTI_RESULTS | CLIENT.FOUND_ROWS,
        }
        return pymysql.connect(**options)

    @contextlib.contextmanager
    def _told(self) -> Iterator[None]:
        """Turn a driver's error into one sentence about the target."""
        try:
            yield
        except (pymysql.Error, OSError) as error:
            number, message = errors.number_and_text(error)
            if not self._connected:
                raise errors.unreachable(error, self._shown) from error
            if number in (1044, 1142, 1143, 1227, 1370):
                raise TargetError(
                    f"{self._shown}: the login may not do what a run needs: {message}",
                    advice=_grant_for(message),
                ) from error
            if errors.KIND_OF_NUMBER.get(number) == "lost" or number == 0:
                raise errors.went_away(error, self._shown) from error
            raise TargetError(f"{self._shown}: {message}") from error

    def query(self, sql: str, values: tuple[object, ...] = ()) -> list[tuple[Any, ...]]:
        """Rows of one query on the control connection; after an interrupt in the midst of one, on a new connection."""
        if self._cut_short:
            self._reconnect()
        try:
            cursor = self.connection.cursor()
            cursor.execute(sql, values or None)
            return list(cursor.fetchall())
        except pymysql.Error:
            raise
        except BaseException:
            self._cut_short = True  # half an answer is still on its way: this connection cannot be used again
            raise

    def _reconnect(self) -> None:
        with contextlib.suppress(Exception):
            self.connection.close()
        self.connection = self._connect("control")
        self._cut_short = False
        self.query("set session lock_wait_timeout = 1, max_statement_time = 60")
        if self._made:
            self.query("select get_lock(%s, 5)", (self.schema,))
            self.connection.select_db(self.schema)

    def _prepare(self, private: bool) -> None:
        version = str(self.query("select version()")[0][0])
        numbers = tuple(int(part) for part in re.findall(r"\d+", version)[:2])
        if "mariadb" not in version.lower() or numbers < _OLDEST:
            raise TargetError(f"{self._shown}: {version} is not MariaDB 10.6 or later")
        self._level = "@@transaction_isolation" if numbers >= (11, 1) else "@@tx_isolation"
        row = self.query(
            f"select {self._level}, @@innodb_deadlock_detect, @@innodb_rollback_on_timeout, "
            "@@innodb_status_output_locks, (select count(*) from information_schema.plugins "
            "where plugin_name = 'METADATA_LOCK_INFO' and plugin_status = 'ACTIVE')"
        )[0]
        level, detects, whole, lists_held, metadata = (str(value) for value in row)
        self._timeout_undoes: Literal["transaction", "statement"] = "transaction" if whole == "1" else "statement"
        self._detects = detects == "1"
        self.info = TargetInfo(
            server="mariadb",
            version=version.partition("-")[0],
            url=self._shown,
            private=private,
            default_isolation=level.replace("-", " ").lower(),
        )
        self.capabilities = Capabilities(
            steers_victim=False,
            steers_victim_why="InnoDB chooses by weight alone",
            row_locks_by="innodb status" if lists_held == "1" else "innodb_lock_waits",
            timeout_step_ms=1000,
        )
        self.query("set session lock_wait_timeout = 1, max_statement_time = 60")
        self.metadata = MetadataReader(self.query, self.schema, listed=metadata != "0")
        self.reader = LockReader(self.query, self.schema, lists_held=lists_held == "1", metadata=self.metadata)
        self.keeper = Keeper(self.query, self.schema)
        self.reader.status()  # tells at once whether this login may ask who waits for whom

    # -- scratch space -----------------------------------------------------------------------------------------------

    def make_scratch(self) -> list[str]:
        """Clear what a killed run left, then make a database of our own, marked and with a sign of life."""
        with self._told():
            cleared = [name for name in self._left_behind() if self._clear(name)]
            self.query("select get_lock(%s, 0)", (self.schema,))
            self._create()
        return cleared

    def _create(self) -> None:
        self.query(f"create database `{self.schema}` character set utf8mb4 comment %s", (self._mark(),))
        self._made = True
        self.connection.select_db(self.schema)

    def _mark(self) -> str:
        return f"{MARK}; run {self.run}; host {socket.gethostname()}; process {os.getpid()}"

    def _left_behind(self) -> list[str]:
        """Databases that carry both Catenum's name and its mark, whoever's run made them."""
        return [str(row[0]) for row in self.query(_LEFT_BEHIND, (MARK + "%",))]

    def _clear(self, schema: str) -> bool:
        """Drop it if its run is dead: a live one holds the lock of its name for as long as it is connected."""
        if str(self.query("select get_lock(%s, 0)", (schema,))[0][0]) != "1":
            return False
        try:
            for (thread,) in self.query("select id from information_schema.processlist where db = %s", (schema,)):
                self._kill(int(thread), True)
            self.query(f"drop database `{schema}`")
            return True
        except pymysql.Error:
            return False
        finally:
            self.query("select release_lock(%s)", (schema,))

    def load(self, script: str) -> None:
        """Empty the scratch space and run ``script`` in it."""
        with self._told():
            if self.query("select 1 from information_schema.tables where table_schema = %s limit 1", (self.schema,)):
                self.query(f"drop database `{self.schema}`")
                self._create()
        self.add(script)

    def add(self, script: str) -> None:
        """Run set-up SQL, statement by statement."""
        for offset, sql in split_script(script, "mariadb"):
            try:
                cursor = self.connection.cursor()
                cursor.execute(sql)
                while cursor.nextset():
                    pass
            except (pymysql.Error, OSError) as error:
                found = errors.server_error(error, timeout_undoes=self._timeout_undoes)
                if found.kind == "lost" and not self.alive():
                    raise errors.went_away(error, self._shown) from error
                raise DataError(
                    ServerError(code=found.code, kind=found.kind, message=found.message, position=offset + 1), script
                ) from error
        with self._told():
            self.connection.select_db(self.schema)
            self.query("commit")
            self.reader.learn()

    def fill(self, table: str, columns: Sequence[str], rows: Iterable[tuple[str | int | None, ...]]) -> None:
        """Rows by INSERTs of many rows, in one transaction."""
        names = ", ".join(map(_quoted, columns))
        query = f"insert into {_quoted(table)} ({names}) values ({', '.join(['%s'] * len(columns))})"
        try:
            cursor = self.connection.cursor()
            cursor.execute("start transaction")
            left = iter(rows)
            while batch := list(islice(left, 2000)):
                cursor.executemany(query, [tuple(str(v) if v is not None else None for v in row) for row in batch])
            cursor.execute("commit")
        except pymysql.Error as error:
            raise DataError(errors.server_error(error, timeout_undoes=self._timeout_undoes), f"fill {table}") from error

    def analyze(self) -> None:
        """ANALYZE each table of the scratch space."""
        with self._told():
            for table in self.reader.tables:
                self.query(f"analyze table {_quoted(table)}")

    def keep_data(self, ignored: Mapping[str, Sequence[str]], *, shape: bool) -> None:
        """In a database beside the scratch one."""
        with self._told():
            self.query("select get_lock(%s, 0)", (self.keeper.kept,))
            self.keeper.keep(ignored, shape=shape, comment=self._mark())

    def data_state(self) -> str:
        """Fingerprints of the tables' rows."""
        with self._told():
            return self.keeper.fingerprint()

    def restore_data(self) -> None:
        """Refill the tables that changed."""
        with self._told():
            self.keeper.restore()

    def hurry(self) -> float:
        """InnoDB checks for rings at once anyway."""
        return 0.0

    def calm(self) -> None:
        """Nothing to undo."""

    def tables(self) -> dict[str, TableKeys]:
        """The scratch space's tables, with their primary and unique keys."""
        with self._told():
            self.reader.learn()
        return self.reader.tables

    # -- sessions and looks ------------------------------------------------------------------------------------------

    def notes(self) -> list[str]:
        """Tables of another storage engine."""
        return self.reader.engine_notes()

    def plan(self, sql: str) -> tuple[PathStep, ...]:
        """By EXPLAIN, which executes nothing; a statement that cannot be explained has no path."""
        try:
            rows = self.query(f"explain format=json {sql}")
        except pymysql.Error as error:
            if errors.KIND_OF_NUMBER.get(errors.number_and_text(error)[0]) == "lost":
                raise errors.went_away(error, self._shown) from error
            return ()
        return tuple(steps_of(json.loads(str(rows[0][0])))) if rows else ()

    def open_session(self, name: str, often: Sequence[str] = ()) -> MariadbSession:
        """A connection whose waits end by themselves in the end, should Catenum be killed."""
        with self._told():
            connection = self._connect(name)
            cursor = connection.cursor()
            cursor.execute(
                f"set session innodb_lock_wait_timeout = {_NO_LIMIT_S}, lock_wait_timeout = {_NO_LIMIT_S}, "
                f"max_statement_time = {_NO_LIMIT_S}, idle_transaction_timeout = {_NO_LIMIT_S}"
            )
            connection.select_db(self.schema)
        session = MariadbSession(
            name, connection, self._kill, timeout_undoes=self._timeout_undoes, level_variable=self._level
        )
        self._threads[session.thread_id] = name
        self.metadata.sessions[session.thread_id] = session
        return session

    def _kill(self, thread: int, whole: bool) -> None:
        with contextlib.suppress(pymysql.Error, OSError):
            self.query(f"kill {'connection' if whole else 'query'} {thread}")

    def renew(self, sessions: Mapping[str, Session]) -> dict[str, Session]:
        """Others in their place: the driver has no public way to reset a connection."""
        self.end(list(sessions.values()))
        return {name: cast(Session, self.open_session(name)) for name in sessions}

    def look(self, sessions: Mapping[str, Session], now_ms: float) -> list[Edge]:
        """Who among ``sessions`` waits for whom."""
        with self._told():
            return self.reader.look(cast(Mapping[str, MariadbSession], sessions), self._threads, now_ms)

    def picture(self, sessions: Mapping[str, Session]) -> tuple[list[LockEntry], str | None]:
        """Every lock of ``sessions``."""
        with self._told():
            return self.reader.picture({int(session.id): name for name, session in sessions.items()})

    def edges_of(
        self, error: ServerError, victim: Session | None = None, names: Mapping[int, str] | None = None
    ) -> tuple[Edge, ...]:
        """The ring that InnoDB's report of the latest deadlock tells; or, where there is no new one, what the victim
        was after: the ring was then one of metadata or named locks.
        """
        with self._told():
            edges, report = self.reader.deadlock_edges(names or self._threads)
            if victim is not None and report in (None, self._last_report):
                self._report = None
                return self.metadata.given_up(cast(MariadbSession, victim), self._threads, self.reader.tables.keys())
            self._report = self._last_report = report
            return edges

    def ring_statements(self, names: Mapping[int, str]) -> dict[str, str]:
        """From InnoDB's report of the latest deadlock."""
        with self._told():
            latest = latest_deadlock(self.reader.status())
        return {names[m.thread]: m.query for m in latest.members if m.thread in names} if latest else {}

    def report_of(self, error: ServerError) -> str | None:
        """InnoDB's own report, kept when the ring was read from it."""
        return self._report

    def rows(self, limit: int) -> dict[str, TableRows]:
        """The first ``limit`` rows of each table, ordered by its key."""
        found = {}
        for table, keys in self.tables().items():
            order = ", ".join(_quoted(column) for column in keys.primary) or "1"
            with self._told():
                cursor = self.connection.cursor()
                cursor.execute(f"select * from {_quoted(table)} order by {order} limit {int(limit)}")
                columns = tuple(str(column[0]) for column in cursor.description or ())
                rows = tuple(tuple(text_of(value) for value in row) for row in cursor.fetchall())
                total = int(self.query(f"select count(*) from {_quoted(table)}")[0][0])
            found[table] = TableRows(columns=columns, rows=rows, total=total)
        return found

    def truth(self, query: str) -> bool:
        """Whether ``query`` gives one row with one value that is true (1)."""
        try:
            cursor = self.connection.cursor()
            cursor.execute("start transaction read only")
            cursor.execute(query)
            rows = cursor.fetchall()
        except pymysql.Error as error:
            found = errors.server_error(error, timeout_undoes=self._timeout_undoes)
            if found.kind == "lost" or not self.alive():
                raise errors.went_away(error, self._shown) from error
            raise DataError(found, query) from error
        finally:
            with contextlib.suppress(pymysql.Error):
                self.connection.rollback()
        value = text_of(rows[0][0]) if len(rows) == 1 and len(rows[0]) == 1 else None
        if value not in ("0", "1"):
            got = f"{len(rows)} rows" if value is None else repr(value)
            message = f"it must return one row with true or false; it returned {got}"
            raise DataError(ServerError(code="", kind="rejected", message=message), query)
        return value == "1"

    def verdict_ms(self, ring: Sequence[Edge]) -> float:
        """InnoDB and the metadata locks look at once, each for rings of its own kind only."""
        metadata = {edge.wanted.startswith("MDL_") for edge in ring}
        seen = metadata == {True} or (metadata == {False} and self._detects)
        return 5_000.0 if seen else 500.0

    def victim_rule(self, patience: Patience | None, closed: bool | None, wanted: str = "") -> str:
        """Why the victim fell (Deadlock::report in lock0lock.cc; enum_deadlock_weight in mdl.h)."""
        last = {True: "; here it is the one that closed the ring", False: "; here it waited before the ring closed"}
        rule = "InnoDB gives up the transaction with the least weight (rows changed and locks taken)"
        if wanted.startswith("MDL_"):
            rule = (
                "the server's metadata locks, which InnoDB does not know of, give up the session whose wait weighs "
                "least (for rows, then for a named lock, then for a schema change)"
            )
        return f"{rule}, among equals the one that closes the ring{last[closed] if closed is not None else ''}"

    def alive(self) -> bool:
        """Whether the control connection still answers."""
        try:
            self.query("select 1")
        except (pymysql.Error, OSError):
            return False
        return True

    def end(self, sessions: Sequence[Session]) -> None:
        """End the sessions and wait until the server has undone what they had begun and let go of named locks."""
        for session in cast(Sequence[MariadbSession], sessions):
            session.close()
            self._threads.pop(session.thread_id, None)
            self.metadata.sessions.pop(session.thread_id, None)
        listed = ", ".join(session.id for session in sessions)
        with contextlib.suppress(pymysql.Error, OSError):
            for _ in range(5000 if sessions else 0):
                if not self.query(f"select 1 from information_schema.processlist where id in ({listed}) limit 1"):
                    return
                self.query("select sleep(0.001)")

    def loop_place(self) -> dict[str, object]:
        """PyMySQL's arguments and the database."""
        return {"where": self._where, "schema": self.schema, "run": self.run}

    def waiting_now(self) -> int | None:
        """The server counts waits itself."""
        return None

    def waiting_among(self, numbers: Collection[str]) -> set[str]:
        """By InnoDB's transactions, and by the process list for what InnoDB does not know of."""
        listed = ", ".join(str(int(number)) for number in numbers) or "0"
        query = (
            "select p.id, p.state, t.trx_state from information_schema.processlist p "
            f"left join information_schema.innodb_trx t on t.trx_mysql_thread_id = p.id where p.id in ({listed})"
        )
        with self._told():
            return {str(row[0]) for row in self.query(query) if row[2] == "LOCK WAIT" or waits_by_state(row[1])}

    def wait_count(self) -> int | None:
        """InnoDB's own counter of row lock waits."""
        with self._told():
            return int(self.query("show global status like 'Innodb_row_lock_waits'")[0][1])

    def close(self) -> None:
        """Drop the scratch space, disconnect. Whatever fails here, the next run clears."""
        with contextlib.suppress(pymysql.Error, OSError):
            if self._made:
                try:
                    self._drop()
                except (pymysql.Error, OSError, struct.error):
                    self._reconnect()  # the connection may have been cut short in the midst of an answer
                    self._drop()
        with contextlib.suppress(pymysql.Error, OSError):
            self.connection.close()

    def _drop(self) -> None:
        self.query("set session lock_wait_timeout = 5")
        self.query(f"drop database if exists `{self.schema}`")
        self.keeper.drop()


def _quoted(name: str) -> str:
    return "`" + name.replace("`", "``") + "`"


def _grant_for(message: str) -> str | None:
    if "PROCESS" in message:
        return "An administrator may allow it: grant process on *.* to the login;"
    if "to database" in message:
        return "An administrator may allow it: grant all on `catenum\\_%`.* to the login;"
    return None
