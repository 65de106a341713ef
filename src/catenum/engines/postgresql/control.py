"""The engine: a control connection, the scratch space of one run, and what the rest of the program asks of a server."""

from __future__ import annotations

import contextlib
import re
import secrets
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import Any, LiteralString, cast

import psycopg
from psycopg import pq, sql
from psycopg.conninfo import make_conninfo

from catenum.core.errors import TargetError
from catenum.core.locks.postgresql import row_mode
from catenum.core.recording import LockEntry, PathStep, ServerError, TableKeys, TableRows, TargetInfo
from catenum.core.statements import footprint
from catenum.core.waits import Edge, Resource
from catenum.engines.postgresql import errors
from catenum.engines.postgresql.kept import Keeper
from catenum.engines.postgresql.locks import LockReader
from catenum.engines.postgresql.plans import steps_of
from catenum.engines.postgresql.scratch import Scratch
from catenum.engines.postgresql.session import CHECK_AFTER_MS, PostgresqlSession, text_rows
from catenum.engines.protocol import Capabilities, DataError, Patience, Session

#: deadlock_timeout of looping sessions (ms), where the login may set it: a second each time would keep most loops
#: waiting.
LOOP_CHECK_MS = 20
_OLDEST = 130000


def connect(conninfo: str, shown_url: str, *, private: bool = False) -> PostgresqlEngine:
    """Connect to a server. ``shown_url`` is the target without secrets. Raises TargetError where that fails."""
    return PostgresqlEngine(conninfo, shown_url, private=private)


class PostgresqlEngine:
    """One server, one run. See ``engines.protocol.Engine`` for what each method promises."""

    def __init__(self, conninfo: str, shown_url: str, *, private: bool) -> None:
        self.run = secrets.token_hex(4)
        self.schema = f"catenum_{self.run}"
        self._base = make_conninfo(conninfo, connect_timeout=5, keepalives_idle=30)
        self._connected = False
        self._first_check_ms = CHECK_AFTER_MS[Patience.FIRST]
        self._pids: dict[int, str] = {}
        self._sessions: dict[int, PostgresqlSession] = {}
        with self._told(shown_url):
            name = f"catenum {self.run} control"
            self.connection = psycopg.connect(
                make_conninfo(self._base, application_name=name), autocommit=True, prepare_threshold=1
            )
        self._connected = True
        try:
            with self._told(shown_url):
                self._prepare(shown_url, private)
        except BaseException:
            self.connection.close()
            raise

    @contextlib.contextmanager
    def _told(self, shown_url: str) -> Iterator[None]:
        """Turn a driver's error into one sentence about the target."""
        try:
            yield
        except psycopg.errors.InsufficientPrivilege as error:
            raise TargetError(
                f"{shown_url}: the login may not do what a run needs: {error.diag.message_primary}",
                advice=_grant_for(error.diag.message_primary or "", self._login()),
            ) from error
        except psycopg.OperationalError as error:
            if self._connected:
                raise errors.went_away(error, shown_url) from error
            raise errors.unreachable(error, shown_url) from error
        except psycopg.Error as error:
            raise TargetError(f"{shown_url}: {error}") from error

    def _login(self) -> tuple[str, str]:
        info = self.connection.info
        return info.user, info.dbname

    def _prepare(self, shown_url: str, private: bool) -> None:
        version = self.connection.info.server_version
        if version < _OLDEST:
            raise TargetError(f"{shown_url}: PostgreSQL {version // 10000} is too old; 13 is the oldest supported")
        # The same few looks again and again: planning them each time costs more than running them.
        settings = "set lock_timeout = '200ms'; set statement_timeout = '60s'; set plan_cache_mode = force_generic_plan"
        self.connection.execute(settings, prepare=False)
        row = self._one(
            "select current_setting('server_version'), current_setting('default_transaction_isolation'), "
            "current_setting('deadlock_timeout'), (select n.nspname from pg_extension e join pg_namespace n "
            "on n.oid = e.extnamespace where e.extname = 'pgrowlocks'), "
            "extract(epoch from current_setting('deadlock_timeout')::interval)::float8 * 1000"
        )
        self.info = TargetInfo(
            server="postgresql",
            version=str(row[0]).split()[0],
            url=shown_url,
            private=private,
            default_isolation=row[1],
        )
        steers, why = self._may_steer()
        self.reader = LockReader(self.connection, self.schema, self._usable_rowlocks(row[3]))
        kept = f"{self.schema}_kept"
        self.scratch = Scratch(self.connection, self.run, self.schema, kept)
        self.keeper = Keeper(self.connection, self.schema, kept, self.scratch.create_marked)
        self.capabilities = Capabilities(
            steers_victim=steers,
            steers_victim_why=why,
            row_locks_by="pgrowlocks" if self.reader.rows.rowlocks_schema else "xmax",
            levels=("read committed", "repeatable read", "serializable"),
            check_ms=CHECK_AFTER_MS[Patience.FIRST] if steers else 0.0,
        )
        self._deadlock_timeout = str(row[2])
        self._verdict_ms = row[4] + CHECK_AFTER_MS[Patience.LAST] + 10_000.0
        self.reader.warm()  # tells at once whether this login may ask who blocks whom

    def _usable_rowlocks(self, schema: str | None) -> str | None:
        """The schema of pgrowlocks, where this login may call it."""
        if schema is None:
            return None
        query = "select has_function_privilege(to_regprocedure(quote_ident(%s) || '.pgrowlocks(text)'), 'execute')"
        row = self.connection.execute(query, [schema]).fetchone()
        return schema if row and row[0] else None

    def _may_steer(self) -> tuple[bool, str]:
        try:
            self.connection.execute("set deadlock_timeout = '3s'")
        except psycopg.errors.InsufficientPrivilege:
            return False, "this login may not set deadlock_timeout"
        return True, ""

    def _one(self, query: LiteralString) -> tuple[Any, ...]:
        row = self.connection.execute(query).fetchone()
        if row is None:
            raise TargetError("the server answered a question of one row with none")
        return row

    # -- scratch space -----------------------------------------------------------------------------------------------

    def make_scratch(self) -> list[str]:
        """Clear what a killed run left, then make a schema of our own, marked and with a sign of life."""
        with self._told(self.info.url):
            return self.scratch.make()

    def load(self, script: str) -> None:
        """Empty the scratch space and run ``script`` in it."""
        with self._told(self.info.url):
            self.scratch.empty()
        self.reader.forget()
        self.add(script or ";")
        self.scratch.enter()

    def add(self, script: str) -> None:
        """Run set-up SQL as it stands."""
        result = self.connection.pgconn.exec_(script.encode())
        if result.status == pq.ExecStatus.FATAL_ERROR:
            error = errors.from_result(result)
            if error.kind == "lost" or not self.alive():
                raise TargetError(f"the server went away: {self.info.url}: while the data was loaded")
            raise DataError(error, script)
        if self.connection.pgconn.transaction_status != pq.TransactionStatus.IDLE:
            self.connection.pgconn.exec_(b"commit")  # the script began a transaction of its own
        self.reader.rows.tables = self.tables()

    def fill(self, table: str, columns: Sequence[str], rows: Iterable[tuple[str | int | None, ...]]) -> None:
        """Rows by COPY."""
        query = sql.SQL("copy {} ({}) from stdin").format(
            sql.Identifier(self.schema, table), sql.SQL(", ").join(map(sql.Identifier, columns))
        )
        try:
            with self.connection.cursor() as cursor, cursor.copy(query) as copy:
                for row in rows:
                    copy.write_row(row)
        except psycopg.OperationalError as error:
            raise errors.went_away(error, self.info.url) from error
        except psycopg.Error as error:
            raise DataError(errors.from_exception(error), f"fill {table}") from error

    def analyze(self) -> None:
        """ANALYZE each table of the scratch space."""
        with self._told(self.info.url):
            for table in self.reader.rows.tables:
                query = sql.SQL("analyze {}").format(sql.Identifier(self.schema, table))
                self.connection.execute(query, prepare=False)

    def keep_data(self, ignored: Mapping[str, Sequence[str]], *, shape: bool) -> None:
        """In a schema beside the scratch space."""
        with self._told(self.info.url):
            self.keeper.keep(ignored, shape=shape)

    def data_state(self) -> str:
        """Fingerprints of the tables' rows."""
        with self._told(self.info.url):
            return self.keeper.fingerprint()

    def restore_data(self) -> None:
        """Refill the tables that changed. Addresses may mean other rows then: the server uses their places again."""
        with self._told(self.info.url):
            self.keeper.restore()
        self.reader.rows.forget()

    def hurry(self) -> float:
        """A closer of rings checks after a millisecond; what it would have been seen to wait for, its error tells."""
        self._first_check_ms = 1
        self.reader.remembered = {}
        return float(self._first_check_ms) if self.capabilities.steers_victim else 0.0

    def calm(self) -> None:
        """Whoever is to check first leaves time for a look again."""
        self._first_check_ms = CHECK_AFTER_MS[Patience.FIRST]
        self.reader.remembered = None

    def tables(self) -> dict[str, TableKeys]:
        """The scratch space's tables, with their primary and unique keys."""
        with self._told(self.info.url):
            return self.scratch.tables()

    # -- sessions and looks ------------------------------------------------------------------------------------------

    def notes(self) -> list[str]:
        """Nothing: all tables have row locks."""
        return []

    def plan(self, sql_text: str) -> tuple[PathStep, ...]:
        """By EXPLAIN, which executes nothing; a statement that cannot be explained has no path."""
        try:
            row = self.connection.execute(f"explain (format json) {sql_text}".encode(), prepare=False).fetchone()
        except psycopg.OperationalError as error:
            if not self.alive():
                raise errors.went_away(error, self.info.url) from error
            return ()
        except psycopg.Error:
            return ()
        return tuple(steps_of(row[0][0]["Plan"])) if row else ()

    def open_session(self, name: str, often: Sequence[str] = ()) -> PostgresqlSession:
        """A connection that names itself and that the server ends by itself, should Catenum be killed."""
        settings = [
            f"set search_path = {self.schema}",
            "set idle_in_transaction_session_timeout = '1h'",
            "set statement_timeout = '1h'",
        ]
        if self.connection.info.server_version >= 140000:
            settings.append("set client_connection_check_interval = '1s'")
        with self._told(self.info.url):
            conninfo = make_conninfo(self._base, application_name=f"catenum {self.run} {name}"[:63])
            session = PostgresqlSession(
                name,
                conninfo,
                "; ".join(settings),
                steers_victim=self.capabilities.steers_victim,
                first_check_ms=self._first_check_ms,
                often=often,
            )
        self._pids[session.pid] = name
        self._sessions[session.pid] = session
        return session

    def renew(self, sessions: Mapping[str, Session]) -> Mapping[str, Session]:
        """The same ones, by DISCARD ALL."""
        with self._told(self.info.url):
            for session in cast(Mapping[str, PostgresqlSession], sessions).values():
                session.renew()
        return sessions

    def look(self, sessions: Mapping[str, Session], now_ms: float) -> list[Edge]:
        """Who among ``sessions`` waits for whom."""
        with self._told(self.info.url):
            mine = cast(Mapping[str, PostgresqlSession], sessions)
            if self.reader.remembered is not None:
                self.reader.trails = {pid: session.trail for pid, session in self._sessions.items()}
            return self.reader.look(mine, self._pids, now_ms)

    def picture(self, sessions: Mapping[str, Session]) -> tuple[list[LockEntry], str | None]:
        """Every lock of ``sessions``."""
        with self._told(self.info.url):
            pids = {int(session.id): name for name, session in sessions.items()}
            return self.reader.picture(pids)

    def edges_of(
        self, error: ServerError, victim: Session | None = None, names: Mapping[int, str] | None = None
    ) -> tuple[Edge, ...]:
        """The waits that a deadlock error's own detail reports.

        What they are over is told only for the victim, by its context; the others were seen waiting before.
        """
        pattern = r"Process (\d+) waits for (\w+) on ([^;]+); blocked by process (\d+)"
        found = re.findall(pattern, error.detail or "")
        known = names or self._pids
        return tuple(
            Edge(
                waiter=known.get(int(waiter), f"session {waiter}"),
                holder=known.get(int(holder), f"session {holder}"),
                resource=self._context_row(error) or Resource(kind="other", text=what),
                wanted=self._row_mode_of(int(waiter)) or mode,
                held=None,
            )
            for waiter, mode, what, holder in found
        )

    def _context_row(self, error: ServerError) -> Resource | None:
        match = re.search(r'tuple \((\d+),(\d+)\) in relation "([^"]+)"', error.context or "")
        if match is None:
            return None
        return self.reader.rows.at(match[3], int(match[1]), int(match[2]))[0]

    def _row_mode_of(self, pid: int) -> str | None:
        """The row lock that the session's statement is after, as its text tells."""
        session = self._sessions.get(pid)
        for access in footprint(session.sql).accesses if session else ():
            mode = row_mode(access, self.reader.rows.tables.get(access.table, TableKeys(primary=())).columns)
            if mode is not None:
                return mode
        return None

    def ring_statements(self, names: Mapping[int, str]) -> dict[str, str]:
        """The statements stand in the server's log only."""
        return {}

    def report_of(self, error: ServerError) -> str | None:
        """The error's own texts; the rest stands in the server's log."""
        parts = (error.message, error.detail, error.hint, error.context)
        return "\n".join(part for part in parts if part)

    def rows(self, limit: int) -> dict[str, TableRows]:
        """The first ``limit`` rows of each table, ordered by its key."""
        found = {}
        for table, keys in self.tables().items():
            order = sql.SQL(", ").join(sql.Identifier(c) for c in keys.primary) if keys.primary else sql.SQL("1")
            whole = sql.Identifier(self.schema, table)
            with self._told(self.info.url):
                query = sql.SQL("select * from {} order by {} limit {}").format(whole, order, limit)
                result = self.connection.pgconn.exec_(query.as_bytes(self.connection))
                count = self.connection.execute(sql.SQL("select count(*) from {}").format(whole)).fetchone()
            kept = text_rows(result, limit)
            found[table] = TableRows(columns=kept.columns, rows=kept.rows, total=int(count[0]) if count else 0)
        return found

    def truth(self, query: str) -> bool:
        """Whether ``query`` gives one row with one value that is true."""
        self.connection.pgconn.exec_(b"begin read only")
        try:
            result = self.connection.pgconn.exec_params(query.encode(), None)
            if result.status == pq.ExecStatus.FATAL_ERROR:
                error = errors.from_result(result)
                if error.kind == "lost" or self.connection.pgconn.status != pq.ConnStatus.OK:
                    raise TargetError(f"the server went away: {self.info.url}: while a rule was checked")
                raise DataError(error, query)
            value = result.get_value(0, 0) if (result.ntuples, result.nfields) == (1, 1) else None
            if value not in (b"t", b"f"):
                got = f"{result.ntuples} rows of {result.nfields} columns" if value is None else repr(value.decode())
                message = f"it must return one row with true or false; it returned {got}"
                raise DataError(ServerError(code="", kind="rejected", message=message), query)
            return value == b"t"
        finally:
            self.connection.pgconn.exec_(b"rollback")

    def verdict_ms(self, ring: Sequence[Edge]) -> float:
        """Every session looks for rings once its deadlock_timeout is over."""
        return float(self._verdict_ms)

    def victim_rule(self, patience: Patience | None, closed: bool | None, wanted: str = "") -> str:
        """Why the victim fell (documentation, 20.12).

        Each session checks once, deadlock_timeout after its wait began.
        """
        base = "PostgreSQL gives up the transaction whose own deadlock check first finds the ring closed"
        if not self.capabilities.steers_victim:
            return (
                f"{base}, {self._deadlock_timeout} after its wait began: a matter of timing here, "
                f"since {self.capabilities.steers_victim_why}"
            )
        if closed is None:
            return f"{base}: in loops a matter of timing"
        soon, later = CHECK_AFTER_MS[Patience.FIRST], CHECK_AFTER_MS[Patience.LAST]
        if patience is Patience.CHOSEN:
            return (
                f"{base}; this one was chosen as the victim, so it checked after "
                f"{CHECK_AFTER_MS[Patience.CHOSEN]} ms, the others after {later} ms"
            )
        if closed and patience is Patience.FIRST:
            return f"{base}; the one that closed it checks first here (after {soon} ms, the others after {later} ms)"
        return f"{base}; it was the first to check, {later} ms after its wait began"

    def alive(self) -> bool:
        """Whether the control connection still answers."""
        try:
            self.connection.execute("select 1")
        except psycopg.Error:
            return False
        return True

    def end(self, sessions: Sequence[Session]) -> None:
        """End the sessions; where one was in a transaction, wait until the server has undone it."""
        left_open = False
        for session in cast(Sequence[PostgresqlSession], sessions):
            if session.in_transaction:
                left_open = True
                session.cancel()
            session.close()
            self._pids.pop(session.pid, None)
            self._sessions.pop(session.pid, None)
        if left_open:
            with contextlib.suppress(psycopg.Error):
                self.scratch.end_sessions(f"catenum {self.run} %")

    def loop_place(self) -> dict[str, object]:
        """The connection string and the schema."""
        return {
            "conninfo": self._base,
            "schema": self.schema,
            "run": self.run,
            "check_ms": LOOP_CHECK_MS if self.capabilities.steers_victim else None,
        }

    def waiting_now(self) -> int | None:
        """Sessions of this run whose wait event is a lock."""
        query = "select count(*) from pg_stat_activity where application_name like %s and wait_event_type = 'Lock'"
        with self._told(self.info.url):
            row = self.connection.execute(query, [f"catenum {self.run} %"]).fetchone()
        return int(row[0]) if row else None

    def waiting_among(self, numbers: Collection[str]) -> set[str]:
        """By their wait event."""
        query = "select pid::text from pg_stat_activity where pid = any(%s::int[]) and wait_event_type = 'Lock'"
        with self._told(self.info.url):
            return {row[0] for row in self.connection.execute(query, [[int(number) for number in numbers]])}

    def wait_count(self) -> int | None:
        """PostgreSQL does not count lock waits."""
        return None

    def close(self) -> None:
        """Drop the scratch space, disconnect. Whatever fails here, the next run clears."""
        with contextlib.suppress(psycopg.Error):
            self.scratch.drop()
        self.connection.close()


def _grant_for(message: str, login: tuple[str, str]) -> str | None:
    user, database = login
    if "database" in message:
        return f'An administrator may allow it: grant create on database "{database}" to "{user}";'
    function = re.search(r"for function (\w+)", message)
    if function:
        return f'An administrator may allow it: grant execute on function {function[1]} to "{user}";'
    return None
