"""Loops: where a looping process connects, and how many wait."""

from __future__ import annotations

from collections.abc import Collection

import psutil

from catenum.engines.postgresql.control import PostgresqlControl

#: deadlock_timeout of looping sessions (ms), where the login may set it: a second each time would
#: keep most loops waiting.
LOOP_CHECK_MS = 20


class PostgresqlLoops(PostgresqlControl):
    """See ``engines.ports.loops.Loops`` for what each method promises."""

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
        query = (
            "select count(*) from pg_stat_activity where application_name like %s and"
            " wait_event_type = 'Lock'"
        )
        with self._translated(self.info.url):
            row = self.connection.execute(query, [f"catenum {self.run} %"]).fetchone()
        return int(row[0]) if row else None

    def waiting_among(self, numbers: Collection[str]) -> set[str]:
        query = (
            "select pid::text from pg_stat_activity where pid = any(%s::int[]) and wait_event_type"
            " = 'Lock'"
        )
        with self._translated(self.info.url):
            return {
                row[0]
                for row in self.connection.execute(query, [[int(number) for number in numbers]])
            }

    def server_process(self) -> int | None:
        """The parent of a session's own process."""
        if not self.info.private:
            return None
        with self._translated(self.info.url):
            row = self.connection.execute("select pg_backend_pid()").fetchone()
        try:
            return psutil.Process(int(row[0])).ppid() if row else None
        except psutil.Error:
            return None

    def wait_count(self) -> int | None:
        """PostgreSQL does not count lock waits."""
        return None
