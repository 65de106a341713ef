"""Sessions: opened, made new, ended."""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace
from typing import Literal, cast

import psycopg
from psycopg.conninfo import make_conninfo

from catenum.core.errors import TargetError
from catenum.engines.ports import Patience, Session
from catenum.engines.postgresql.control import PostgresqlControl
from catenum.engines.postgresql.session import CHECK_AFTER_MS, PostgresqlSession

#: How often it is asked, a millisecond apart, whether a session is gone.
MOST_CHECKS = 10_000


#: What no value means for a setting.
ZERO = {
    "client_connection_check_interval": "off",
    "idle_in_transaction_session_timeout": "off",
    "tcp_keepalives_idle": "as the system has it",
    "transaction_timeout": "off",
}


class PostgresqlSessions(PostgresqlControl):
    """See ``engines.ports.sessions.Sessions`` for what each method promises."""

    def use_short_deadlock_timeout(self) -> float:
        """A closer of cycles checks after a millisecond; what it would have been seen to wait for,
        its error tells.
        """
        self._first_check_ms = 1
        self.reader.remembered = {}
        return float(self._first_check_ms) if self.capabilities.steers_victim else 0.0

    def use_long_deadlock_timeout(self) -> None:
        """The session that checks first leaves time to see the closed cycle again."""
        self._first_check_ms = CHECK_AFTER_MS[Patience.FIRST]
        self.reader.remembered = None

    def leave_alone(self, settings: Collection[str]) -> None:
        """Where deadlock_timeout is given, every session has that."""
        if "deadlock_timeout" in settings:
            self._steers_not = "the scenario gives the server its deadlock_timeout"
            self.capabilities = replace(
                self.capabilities,
                steers_victim=False,
                steers_victim_why=self._steers_not,
                check_ms=0.0,
            )

    def open_session(self, name: str, often: Sequence[str] = ()) -> PostgresqlSession:
        """A connection that names itself and that the server ends by itself, should Catenum be
        killed.
        """
        settings = [
            f"set search_path = {self.schema}",
            "set idle_in_transaction_session_timeout = '1h'",
            "set statement_timeout = '1h'",
        ]
        if self.role is not None and not self._private:
            settings.insert(0, f"set role {self.role}")  # DISCARD ALL goes back to the login itself
        if self.connection.info.server_version >= 140000:
            settings.append("set client_connection_check_interval = '1s'")
        with self._translated(self.info.url):
            conninfo = make_conninfo(self._base, application_name=f"catenum {self.run} {name}"[:63])
            session = PostgresqlSession(
                name,
                conninfo,
                "; ".join(settings),
                steers_victim=self.capabilities.steers_victim,
                first_check_ms=self._first_check_ms,
                place=self._places.setdefault(name, len(self._places)),
                often=often,
                end=self.end_process,
            )
        self._pids[session.pid] = name
        self._sessions[session.pid] = session
        return session

    def idle_limits(self) -> tuple[str, ...]:
        """Documentation, 20.3 "Connections and Authentication", 20.11 "Client Connection
        Defaults".
        """
        query = (
            "select name, reset_val, coalesce(unit, '') from pg_catalog.pg_settings where name in"
            " ('client_connection_check_interval', 'idle_in_transaction_session_timeout',"
            " 'tcp_keepalives_idle', 'transaction_timeout') order by 1"
        )
        with self._translated(self.info.url):
            rows = self.connection.execute(query).fetchall()
        return tuple(
            f"{name} = {value} {unit}".rstrip() if value != "0" else f"{name} = 0 ({ZERO[name]})"
            for name, value, unit in rows
        )

    def lose(self, session: Session, how: Literal["killed", "closed"]) -> None:
        """Its process is there until its transaction is undone (``ShutdownPostgres`` in
        postinit.c).
        """
        if how == "closed":
            session.close()
        else:
            session.kill()
        query = "select 1 from pg_catalog.pg_stat_activity where pid = %s"
        with self._translated(self.info.url):
            for _ in range(MOST_CHECKS):
                if self.connection.execute(query, [int(session.id)]).fetchone() is None:
                    self._pids.pop(int(session.id), None)
                    self._sessions.pop(int(session.id), None)
                    return
                self.connection.execute("select pg_catalog.pg_sleep(0.001)")
        raise TargetError(f"the server did not end {session.name}'s session in 10 s")

    def renew(self, sessions: Mapping[str, Session]) -> Mapping[str, Session]:
        """The same ones, by DISCARD ALL."""
        with self._translated(self.info.url):
            for session in cast(Mapping[str, PostgresqlSession], sessions).values():
                session.renew()
        return sessions

    def keeps_numbers(self) -> bool:
        """Sequences with CACHE give a session several at a time (documentation, "CREATE
        SEQUENCE").
        """
        query = (
            "select exists (select from pg_catalog.pg_sequence q join pg_catalog.pg_class c on"
            " c.oid = q.seqrelid where c.relnamespace = %s::regnamespace and q.seqcache > 1)"
        )
        with self._translated(self.info.url):
            row = self.connection.execute(query, [self.schema]).fetchone()
        return bool(row and row[0])

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
