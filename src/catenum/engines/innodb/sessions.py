"""Sessions: opened, made new, ended."""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Mapping, Sequence
from typing import Literal, cast

import pymysql

from catenum.core.errors import TargetError
from catenum.engines.innodb.control import InnodbControl
from catenum.engines.innodb.session import InnodbSession
from catenum.engines.ports import Session

_NO_LIMIT_S = 3600  # a lock wait of a run that lost its client ends by itself after this


class InnodbSessions(InnodbControl):
    """See ``engines.ports.sessions.Sessions`` for what each method promises."""

    def use_short_deadlock_timeout(self) -> float:
        """InnoDB checks for cycles at once anyway."""
        return 0.0

    def use_long_deadlock_timeout(self) -> None:
        """Nothing to undo."""

    def leave_alone(self, settings: Collection[str]) -> None:
        """Sessions set again what Catenum sets for them otherwise: see ``ServerSetting``."""

    def open_session(self, name: str, often: Sequence[str] = ()) -> InnodbSession:
        """A connection whose waits end by themselves in the end, should Catenum be killed."""
        with self._translated():
            connection = self._connect(name, self._theirs)
            cursor = connection.cursor()
            cursor.execute(self.session_limits(_NO_LIMIT_S))
            connection.select_db(self.schema)
        session = InnodbSession(
            name,
            connection,
            self._kill,
            rules=self.rules,
            timeout_undoes=self._timeout_undoes,
            level_variable=self._level,
            usual_level=self.info.default_isolation,
            limit_s=_NO_LIMIT_S,
        )
        self._threads[session.thread_id] = name
        self._learned = False
        self.metadata.sessions[session.thread_id] = session
        return session

    def idle_limits(self) -> tuple[str, ...]:
        """MariaDB documentation, "Server System Variables", "Transaction Timeouts"; MySQL Reference
        Manual, "Server System Variables".
        """
        rows = self.query(
            "show global variables where variable_name in ('wait_timeout',"
            " 'idle_transaction_timeout', 'idle_write_transaction_timeout')"
        )
        return tuple(
            f"{name} = {value} s" if str(value) != "0" else f"{name} = 0 (off)"
            for name, value in rows
        )

    def lose(self, session: Session, how: Literal["killed", "closed"]) -> None:
        """It is listed until its transaction is undone (``THD::release_resources``,
        ``unlink_thd``).
        """
        if how == "closed":
            session.close()
        else:
            session.kill()
        self._threads.pop(int(session.id), None)
        self.metadata.sessions.pop(int(session.id), None)
        if not self._are_gone([session]):
            raise TargetError(f"the server did not end {session.name}'s session in 5 s")

    def renew(self, sessions: Mapping[str, Session]) -> dict[str, Session]:
        """Others in their place: the driver has no public way to reset a connection."""
        self.end(list(sessions.values()))
        return {name: cast(Session, self.open_session(name)) for name in sessions}

    def keeps_numbers(self) -> bool:
        """Caches of sequences and of automatic numbers belong to the table."""
        return False

    def end(self, sessions: Sequence[Session]) -> None:
        """End the sessions and wait until the server has undone what they had begun and released
        named locks.
        """
        for session in cast(Sequence[InnodbSession], sessions):
            session.close()
            self._threads.pop(session.thread_id, None)
            self.metadata.sessions.pop(session.thread_id, None)
        with contextlib.suppress(pymysql.Error, OSError):
            self._are_gone(sessions)

    def _are_gone(self, sessions: Sequence[Session]) -> bool:
        """Whether the server has none of them any more, waiting for that."""
        listed = ", ".join(session.id for session in sessions)
        for _ in range(5000 if sessions else 0):
            if not self.query(f"select 1 from {self.process_list} where id in ({listed}) limit 1"):
                return True
            self.query("select sleep(0.001)")
        return not sessions
