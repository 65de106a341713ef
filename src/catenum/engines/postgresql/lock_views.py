"""Looking: who waits for whom, every lock, and which values are the same."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import cast

from catenum.core.record.recording import LockEntry
from catenum.core.record.waits import Edge
from catenum.core.space.equal_values import steady
from catenum.engines.ports import Session
from catenum.engines.postgresql.control import PostgresqlControl
from catenum.engines.postgresql.session import PostgresqlSession


class PostgresqlLockViews(PostgresqlControl):
    """See ``engines.ports.looking.LockViews`` for what each method promises."""

    def poll_waits(self, sessions: Mapping[str, Session], now_ms: float) -> list[Edge]:
        """Who among ``sessions`` waits for whom."""
        with self._translated(self.info.url):
            mine = cast(Mapping[str, PostgresqlSession], sessions)
            if self.reader.remembered is not None:
                self.reader.trails = {pid: session.trail for pid, session in self._sessions.items()}
            return self.reader.poll_waits(mine, self._pids, now_ms)

    def picture(self, sessions: Mapping[str, Session]) -> tuple[list[LockEntry], str | None]:
        """Every lock of ``sessions``."""
        with self._translated(self.info.url):
            pids = {int(session.id): name for name, session in sessions.items()}
            return self.reader.picture(pids)

    def classes(
        self, table: str, column: str, written: Sequence[tuple[bool, str]]
    ) -> dict[tuple[bool, str], int]:
        """By the column's own type, with and without its length or precision: inserting rounds,
        comparing does not.
        """
        with self._translated(self.info.url):
            return self.scratch.classes(table, column, steady(written))
