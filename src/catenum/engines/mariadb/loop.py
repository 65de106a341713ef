"""A transaction in a loop, in a process of its own."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping
from typing import Any

import pymysql

from catenum.core.recording import ServerError
from catenum.engines.mariadb.errors import server_error
from catenum.engines.protocol import LoopPlan


class MariadbLoop:
    """See ``engines.protocol.Loop``."""

    def __init__(self, plan: LoopPlan, name: str, *, where: Mapping[str, Any], schema: str, run: str) -> None:
        """Connect. Raises pymysql.Error where that fails."""
        options: dict[str, Any] = {
            **where, "autocommit": True, "charset": "utf8mb4", "conv": {}, "database": schema,
            "program_name": f"catenum {run} {name}", "connect_timeout": 5,
        }  # fmt: skip
        self._connection = pymysql.connect(**options)
        self.id = str(self._connection.thread_id())  # type: ignore[no-untyped-call]
        self._cursor = self._connection.cursor()
        how = plan.beginning
        if how.isolation:
            self._connection.query(f"set session transaction isolation level {how.isolation}")
        seconds = -(-how.timeout_ms // 1000) if how.timeout_ms else 60
        self._connection.query(f"set session innodb_lock_wait_timeout = {seconds}, lock_wait_timeout = {seconds}")
        self._begin, self._end, self._statements = f"start transaction {how.access or ''}", plan.ends, plan.statements

    def run(self, at: Callable[[int], None]) -> ServerError | None:
        """One iteration."""
        query, cursor = self._connection.query, self._cursor
        try:
            query(self._begin)
            for number, sql in enumerate(self._statements, 1):
                at(number)
                cursor.execute(sql)
                while cursor.nextset():
                    pass
            query(self._end)
            return None
        except (pymysql.Error, OSError) as error:
            found = server_error(error, timeout_undoes="statement")
            if found.kind != "lost":
                with contextlib.suppress(pymysql.Error, OSError):
                    query("rollback")
            return found

    def close(self) -> None:
        """Disconnect."""
        with contextlib.suppress(pymysql.Error):
            self._connection.close()


Loop = MariadbLoop
