"""A transaction in a loop, in a process of its own."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping
from typing import Any

import pymysql

from catenum.core.record.recording import Result, ServerError
from catenum.core.record.values import Binding
from catenum.core.servers import Rules
from catenum.engines.carrying import CarryingLoop
from catenum.engines.innodb.errors import server_error
from catenum.engines.innodb.session import AS_TEXT, result_of
from catenum.engines.ports import LoopPlan


class InnodbLoop:
    """See ``engines.ports.Loop``."""

    rules: Rules

    def __init__(
        self, plan: LoopPlan, name: str, *, where: Mapping[str, Any], schema: str, run: str
    ) -> None:
        """Connect. Raises pymysql.Error where that fails."""
        options: dict[str, Any] = {
            **where, "autocommit": True, "charset": "utf8mb4", "conv": AS_TEXT, "database": schema,
            "program_name": f"catenum {run} {name}", "connect_timeout": 5,
            "ssl_disabled": "unix_socket" in where,
        }  # fmt: skip
        self._connection = pymysql.connect(**options)
        self.id = str(self._connection.thread_id())  # type: ignore[no-untyped-call]
        self._cursor = self._connection.cursor()
        how = plan.beginning
        if how.isolation:
            self._connection.query(f"set session transaction isolation level {how.isolation}")
        seconds = -(-how.timeout_ms // 1000) if how.timeout_ms else 60
        self._connection.query(
            f"set session innodb_lock_wait_timeout = {seconds}, lock_wait_timeout = {seconds}"
        )
        for sql in plan.before:
            self._cursor.execute(sql)
        self._begin, self._end, self._statements = (
            f"start transaction {how.access or ''}",
            plan.ends,
            plan.texts,
        )

        names = tuple(self.rules.sql.value_names(sql) for sql in plan.texts)
        self._carrying = CarryingLoop(plan, names, seed=int(self.id))
        self._carries = self._carrying.needed

    def run(self, at: Callable[[int], None]) -> ServerError | None:
        query, cursor = self._connection.query, self._cursor
        try:
            query(self._begin)
            if self._carries:
                found = self._carrying.run(self._execute, at)
                query(found if isinstance(found, str) else "rollback")
                return found if isinstance(found, ServerError) else None
            for number, sql in enumerate(self._statements, 1):
                at(number)
                cursor.execute(sql)
                while cursor.nextset():
                    pass
            query(self._end)
            return None
        except (pymysql.Error, OSError) as error:
            found = server_error(error, self.rules, timeout_undoes="statement")
            if found.kind != "lost":
                with contextlib.suppress(pymysql.Error, OSError):
                    query("rollback")
            return found

    def _execute(
        self, number: int, bound: Binding
    ) -> tuple[int | None, Result | None, ServerError | None]:
        """Raises the driver's errors, which ``run`` takes."""
        sql, cursor = self._statements[number - 1], self._cursor
        if bound:
            cursor.execute(
                self.rules.sql.formatted(sql),
                [value.plain for value in self.rules.sql.values_by_place(sql, bound)],
            )
        else:
            cursor.execute(sql)
        rows = cursor.rowcount
        result = result_of(cursor, 1) if cursor.description is not None else None
        while cursor.nextset():
            pass
        return rows, result, None

    def close(self) -> None:
        with contextlib.suppress(pymysql.Error):
            self._connection.close()
