"""The control connection of one run: what the parts of the engine share.

Each port of ``engines.ports`` has a file of its name beside this one.
"""

from __future__ import annotations

import contextlib
import re
import secrets
from collections.abc import Iterator
from dataclasses import replace
from typing import Any, LiteralString

import psycopg
from psycopg import sql
from psycopg.conninfo import conninfo_to_dict, make_conninfo

from catenum.core.errors import ScenarioFault, TargetError
from catenum.core.record.recording import TargetInfo
from catenum.engines.ports import Capabilities, Patience
from catenum.engines.postgresql import errors
from catenum.engines.postgresql.calls import Overdue
from catenum.engines.postgresql.locks import LockReader
from catenum.engines.postgresql.restore import DataRestorer
from catenum.engines.postgresql.scratch import Scratch
from catenum.engines.postgresql.session import CHECK_AFTER_MS, PostgresqlSession

_OLDEST = 130000
# The same few queries again and again: planning or compiling them costs more than running them.
_SETTINGS = (
    "set lock_timeout = '200ms'; set statement_timeout = '60s'; set jit = off;"
    " set plan_cache_mode = force_generic_plan"
)
#: Each run makes scratch space and drops it; without vacuuming, looking up a column takes half a
#: second after some thousand runs. Not again at once where an open transaction still sees the rows.
_GROWN = """
pg_stat_get_dead_tuples('pg_attribute'::regclass) > 20000
and coalesce(pg_stat_get_last_vacuum_time('pg_attribute'::regclass), '-infinity')
  < now() - interval '10 s'
"""


class PostgresqlControl:
    """One server, one run."""

    info: TargetInfo
    capabilities: Capabilities
    reader: LockReader
    scratch: Scratch
    restorer: DataRestorer
    _deadlock_timeout: str
    _verdict_ms: float

    def __init__(
        self, conninfo: str, shown_url: str, *, private: bool, sandboxed: bool = True
    ) -> None:
        """``sandboxed``: what a scenario brings is run by a role with rights on the scratch space
        alone, where we may make one: on a private server, and on any other as a superuser.
        """
        self.run = secrets.token_hex(4)
        self.schema = f"catenum_{self.run}"
        self.role: str | None = None
        self._private, self._wished = private, sandboxed
        self._base = errors.readable(conninfo, shown_url, connect_timeout=5, keepalives_idle=30)
        self._connected = False
        self.loads = 0
        self._first_check_ms = CHECK_AFTER_MS[Patience.FIRST]
        self._pids: dict[int, str] = {}
        self._places: dict[str, int] = {}  # of the sessions' names, as they were first opened
        self._steers_not = ""  # why no session is given a deadlock_timeout, though it could
        self._sessions: dict[int, PostgresqlSession] = {}
        self._control_info = make_conninfo(
            self._base, application_name=f"catenum {self.run} control"
        )
        with self._translated(shown_url):
            self.connection = self._control()
        self._connected = True
        self.writer = self.connection  # runs all that a scenario brings: data, rules, plans
        self.viewer = self._restoring = self.connection  # reads all rows, and puts them back
        self._sees_all: psycopg.Connection[Any] | None = None
        try:
            with self._translated(shown_url):
                self._prepare(shown_url, private)
        except BaseException:
            self.connection.close()
            raise

    def _control(self) -> psycopg.Connection[Any]:
        found: psycopg.Connection[Any] = psycopg.connect(
            self._control_info, autocommit=True, prepare_threshold=1
        )
        return found

    def end_process(self, number: int) -> None:
        """End one of the run's own connections that does not stop working. On a connection of its
        own: the run's may be the one that is to be ended.
        """
        with self._control() as connection:
            connection.execute("select pg_catalog.pg_terminate_backend(%s)", [number])

    @property
    def sandboxed(self) -> bool:
        """Whether a scenario's SQL has no rights outside the scratch space."""
        return self.role is not None

    def _as(self, role: str) -> str:
        """How to connect so that statements have a role's rights: as that login on a private
        server, which asks for no password; elsewhere as ourselves, with the role set from the start
        (RESET ROLE goes back to it).
        """
        if self._private:
            return make_conninfo(self._base, user=role)
        options = str(conninfo_to_dict(self._base).get("options") or "")
        return make_conninfo(self._base, options=f"{options} -c role={role}".strip())

    def _connect_as(self, role: str, what: str) -> psycopg.Connection[Any]:
        where = make_conninfo(self._as(role), application_name=f"catenum {self.run} {what}")
        connection = psycopg.connect(where, autocommit=True, prepare_threshold=1)
        connection.execute(_SETTINGS, prepare=False)
        return connection

    def _enter_sandbox(self) -> None:
        """From now on the scenario's SQL is run as the run's own roles, never on the control
        connection.
        """
        if self.role is None:
            return
        # What reads rows and puts them back may have code of the scenario's evaluated, by a check,
        # or when a query is planned: it is the scenario's login.
        self.viewer = self._restoring = self._connect_as(self.role, "restorer")
        self._restoring.execute(self._path(), prepare=False)
        self.writer = self._connect_as(self.role, "data")
        self._base = self._as(self.role)
        self.connection.execute(
            "set search_path = pg_catalog", prepare=False
        )  # no name may mean something of theirs
        self.scratch.writer, self.scratch.ours = self.writer, [self.writer, self.viewer]
        self.restorer.connection = self.reader.rows.connection = self.viewer
        steers, why = self._may_steer(self.writer)
        self.capabilities = replace(
            self.capabilities,
            steers_victim=steers,
            steers_victim_why=why,
            check_ms=CHECK_AFTER_MS[Patience.FIRST] if steers else 0.0,
            keeps_plans=True,
        )

    def see_all_rows(self) -> None:
        """Have rows read by a login that policies do not hide them from, where there is one that
        holds for a table's owner, too. Such a table's rows are never put back, but loaded again.
        """
        hidden = self.role is not None and self.scratch.hides_rows()
        if hidden and self._sees_all is None:
            self._sees_all = self._connect_as(self.scratch.kept, "viewer")
            self._sees_all.execute(self._path(), prepare=False)
            self.scratch.ours.append(self._sees_all)
        self.viewer = self._sees_all if hidden and self._sees_all is not None else self._restoring
        self.restorer.connection, self.restorer.hidden = self.viewer, hidden
        self.reader.rows.connection = self.viewer

    def _path(self) -> sql.Composed:
        """An index on a function that calls another finds that one; the server's own names come
        first all the same.
        """
        return sql.SQL("set search_path = pg_catalog, {}").format(sql.Identifier(self.schema))

    @contextlib.contextmanager
    def _translated(self, shown_url: str) -> Iterator[None]:
        """Turn a driver's error into one sentence about the target."""
        try:
            yield
        except psycopg.errors.InsufficientPrivilege as error:
            if error.diag.context:  # a function of the scenario's says so
                raise _fault(shown_url, error) from error
            raise TargetError(
                f"{shown_url}: the login may not do what a run needs: {error.diag.message_primary}",
                advice=_grant_for(error.diag.message_primary or "", self._login()),
            ) from error
        except Overdue as error:
            raise TargetError(f"{shown_url}: {error}") from error
        except psycopg.OperationalError as error:
            if self._connected:
                raise errors.went_away(error, shown_url) from error
            raise errors.unreachable(error, shown_url) from error
        except psycopg.Error as error:
            raise _fault(shown_url, error) from error

    def _login(self) -> tuple[str, str]:
        info = self.connection.info
        return info.user, info.dbname

    def _prepare(self, shown_url: str, private: bool) -> None:
        version = self.connection.info.server_version
        if version < _OLDEST:
            raise TargetError(
                f"{shown_url}: PostgreSQL {version // 10000} is too old; 13 is the oldest supported"
            )
        self.connection.execute(_SETTINGS, prepare=False)
        row = self._one(
            "select current_setting('server_version'),"
            " current_setting('default_transaction_isolation'),"
            " current_setting('deadlock_timeout'), (select n.nspname from pg_extension e join"
            " pg_namespace n on n.oid = e.extnamespace where e.extname = 'pgrowlocks'),"
            " extract(epoch from current_setting('deadlock_timeout')::interval)::float8 * 1000,"
            " (select rolsuper from pg_roles where rolname = current_user),"
            f" {_GROWN}"
        )
        if private and row[6]:
            self._vacuum_catalogue()
        if self._wished and (private or row[5]):
            self.role = self.schema
        self.info = TargetInfo(
            server="postgresql",
            version=str(row[0]).split()[0],
            url=shown_url,
            private=private,
            default_isolation=row[1],
        )
        steers, why = self._may_steer(self.connection)
        self.reader = LockReader(self.connection, self.schema, self._usable_rowlocks(row[3]))
        kept = f"{self.schema}_kept"
        self.scratch = Scratch(
            self.connection, self.run, self.schema, kept, self.end_process, self.role
        )
        self.restorer = DataRestorer(
            self.connection, self.schema, kept, self.scratch.create_marked, self.end_process
        )
        self.capabilities = Capabilities(
            steers_victim=steers,
            steers_victim_why=why,
            row_locks_by="pgrowlocks" if self.reader.rows.rowlocks_schema else "xmax",
            levels=("read committed", "repeatable read", "serializable"),
            check_ms=CHECK_AFTER_MS[Patience.FIRST] if steers else 0.0,
            keeps_plans=True,
        )
        self._deadlock_timeout = str(row[2])
        self._verdict_ms = row[4] + CHECK_AFTER_MS[Patience.LAST] + 10_000.0
        self.reader.warm()  # tells at once whether this login may ask who blocks whom

    def _vacuum_catalogue(self) -> None:
        """On a private server nobody else does it. Nothing is cut off the tables: that would lock
        them, and other runs would wait.
        """
        grown = self.connection.execute(
            "select relid::regclass::text from pg_stat_sys_tables where n_dead_tup > 1000"
        ).fetchall()
        for (table,) in grown:
            self.connection.execute(
                f"vacuum (skip_locked, truncate off) {table}".encode(), prepare=False
            )

    def _usable_rowlocks(self, schema: str | None) -> str | None:
        """The schema of pgrowlocks, where this login may call it."""
        if schema is None:
            return None
        query = (
            "select has_function_privilege(to_regprocedure(quote_ident(%s) || '.pgrowlocks(text)'),"
            " 'execute')"
        )
        row = self.connection.execute(query, [schema]).fetchone()
        return schema if row and row[0] else None

    def _may_steer(self, connection: psycopg.Connection[Any]) -> tuple[bool, str]:
        if self._steers_not:
            return False, self._steers_not
        try:
            connection.execute("set deadlock_timeout = '3s'")
        except psycopg.errors.InsufficientPrivilege:
            return False, "this login may not set deadlock_timeout"
        return True, ""

    def _one(self, query: LiteralString) -> tuple[Any, ...]:
        row: tuple[Any, ...] | None = self.connection.execute(query).fetchone()
        if row is None:
            raise TargetError("the server answered a question of one row with none")
        return row

    def alive(self) -> bool:
        """Whether the control connection still answers."""
        try:
            self.connection.execute("select 1")
        except psycopg.Error:
            return False
        return True


def _grant_for(message: str, login: tuple[str, str]) -> str | None:
    user, database = login
    if "database" in message:
        return f'An administrator may allow it: grant create on database "{database}" to "{user}";'
    function = re.search(r"for function (\w+)", message)
    if function:
        return (
            f'An administrator may allow it: grant execute on function {function[1]} to "{user}";'
        )
    return None


def _fault(shown_url: str, error: psycopg.Error) -> ScenarioFault:
    reported = " ".join(str(error).split())
    return ScenarioFault(
        f"{shown_url}: what the scenario's data define made the server reject a query: {reported}"
    )
