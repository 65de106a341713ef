"""What the parts of an engine by profile share: two connections, one that looks and one that does
what a scenario brings.
"""

from __future__ import annotations

import contextlib
import os
import secrets
from collections.abc import Collection, Iterator, Sequence
from typing import Any

from catenum.core.errors import TargetError
from catenum.core.record.recording import TargetInfo
from catenum.core.record.values import Value
from catenum.core.servers.profile import Profile
from catenum.engines.by_profile.deadline import LOOK_S, WORK_S, Caller
from catenum.engines.by_profile.driver import Database, Place, text_of, without
from catenum.engines.by_profile.session import ProfileSession
from catenum.engines.ports import Capabilities

Rows = list[tuple[Any, ...]]


class ProfileControl:
    """One server, one run."""

    def __init__(self, place: Place, profile: Profile, shown: str, *, private: bool) -> None:
        """Connect. Raises TargetError."""
        self.profile, self._place, self._shown = profile, place, shown
        self.database = Database(profile, shown)
        self.rules = self.database.rules
        self.run = secrets.token_hex(4)
        #: With the number of this process, by which others know whether the run is alive.
        self.schema = f"catenum_{self.run}_{os.getpid()}"
        self.loads = 0
        self._made = False
        self._caller = Caller("catenum looks")
        self._numbers = 0
        self._running: dict[str, ProfileSession] = {}
        self._looker = self.database.connect(place, autocommit=True)
        self._writer: Any = None
        self.info = TargetInfo(
            server=profile.name,
            version=self._version(),
            url=shown,
            private=private,
            default_isolation=profile.levels.default,
        )
        self.capabilities = Capabilities(
            steers_victim=False,
            steers_victim_why=f"{profile.title}'s profile knows no way",
            row_locks_by="",
            timeout_step_ms=profile.session.lock_timeout_step_ms,
            levels=tuple(profile.levels.set),
        )

    @property
    def sandboxed(self) -> bool:
        """Whether the sessions have a login of their own, with no rights elsewhere."""
        return self._place.login is not None

    @property
    def unknown(self) -> list[tuple[str, str]]:
        """What the profile leaves out, and what that costs."""
        return self.profile.unknown

    def _version(self) -> str:
        if self.profile.version is None:
            return "of a version that its profile does not ask for"
        rows = self.look(self.profile.version)
        return (text_of(rows[0][0]) or "") if rows else ""

    # -- asking ------------------------------------------------------------------------------------

    @contextlib.contextmanager
    def _translated(self) -> Iterator[None]:
        try:
            yield
        except (TargetError, AssertionError):
            raise
        except Exception as error:
            found = self.database.error_of(error)
            said = without(" ".join(found.message.split()), self._place.password)
            if found.kind == "lost":
                raise TargetError(f"the server went away: {self._shown}: {said}") from error
            raise TargetError(
                f"{self._shown}: {said}",
                advice=f"A query of {self.profile.title}'s profile may not fit this server: catenum"
                " preflight --profile tests each.",
            ) from error

    def look(self, sql: str) -> Rows:
        """A query on the connection that looks, which takes part in no transaction. Raises
        TargetError.
        """
        with self._translated():
            return self._on_looker(sql)[0]

    def look_in_space(self, sql: str) -> Rows:
        """The same of a query that asks for what is in the scratch space. Its name is bound, so
        that servers plan such a query once. Raises TargetError.
        """
        space = (("space", Value.from_python(self._as_stored(self.schema))),)
        with self._translated():
            text, bound = self.database.bound(sql.replace("'{space}'", ":space"), space)
            return self._on_looker(text, bound)[0]

    def _on_looker(self, sql: str, bound: Any = None) -> tuple[Rows, list[str]]:
        return self._caller.call(lambda: self._rows(self._looker, sql, bound), LOOK_S, self._shown)

    def looked(self, sql: str) -> list[dict[str, Any]]:
        """The same, rows by the names of their columns, in lower case."""
        with self._translated():
            rows, names = self._on_looker(sql)
        return [dict(zip(names, row, strict=True)) for row in rows]

    def columns(self, sql: str) -> list[str]:
        """What a query's columns are called. Raises TargetError."""
        with self._translated():
            return self._on_looker(sql)[1]

    def _rows(self, connection: Any, sql: str, bound: Any = None) -> tuple[Rows, list[str]]:
        cursor = connection.cursor()
        try:
            cursor.execute(*((sql, bound) if bound else (sql,)))
            if not cursor.description:
                return [], []
            names = [str(column[0]).lower() for column in cursor.description]
            return [tuple(row) for row in cursor.fetchall()], names
        finally:
            cursor.close()

    @property
    def writer(self) -> Any:
        """The connection that runs what the scenario brings: as its sessions' login."""
        if self._writer is None:
            self._writer = self.connect_into()
        return self._writer

    def connect_into(self) -> Any:
        """A connection that stands in the scratch space. Raises TargetError."""
        connection = self.database.connect(self._place.theirs)
        with self._translated(), contextlib.ExitStack() as undo:
            undo.callback(connection.close)
            for sql in (*self.profile.session.begins_with, *self.profile.scratch.enter):
                self._rows(connection, self._in_space(sql))
            connection.commit()
            undo.pop_all()
        return connection

    def write(self, sql: str) -> Rows:
        """A statement on that connection. Raises the driver's errors."""
        writer = self.writer
        return self._caller.call(lambda: self._rows(writer, sql)[0], WORK_S, self._shown)

    def _in_space(self, sql: str) -> str:
        login = self._place.theirs.user
        return sql.replace("{space}", self.schema).replace("{login}", login)

    def _as_stored(self, space: str) -> str:
        return space.upper() if self.profile.sql.fold == "upper" else space

    def quoted(self, name: str) -> str:
        """A name as it stands in SQL: one that the server folds needs no quotes."""
        fold = self.profile.sql.fold
        plain = name.isidentifier() and name.isascii() and name == name.lower()
        if fold != "as written" and plain:
            return name
        quote = self.profile.sql.quote
        return f"{quote}{name.replace(quote, quote * 2)}{quote}"

    def alive(self) -> bool:
        """Whether the server still answers."""
        try:
            self.look(self.profile.version or self.profile.waits.query)
        except TargetError:
            return False
        return True

    def leave_alone(self, settings: Collection[str]) -> None:
        """Sessions set nothing that a server's setting says."""

    def end_by(self, sql: str, number: str) -> None:
        """Have the server end a statement or a session."""
        with contextlib.suppress(TargetError):
            self.look(sql.replace("{session}", number))

    def forget(self, sessions: Sequence[ProfileSession]) -> None:
        """They are gone."""
        for session in sessions:
            if self._running.get(session.name) is session:
                del self._running[session.name]
