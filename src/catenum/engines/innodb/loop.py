"""A transaction in a loop, in a process of its own."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import pymysql

from catenum.core.record.recording import Result, ServerError
from catenum.core.record.values import Binding
from catenum.core.servers import Rules
from catenum.engines.carrying import CarryingLoop
from catenum.engines.innodb.errors import server_error
from catenum.engines.innodb.session import AS_TEXT, result_of
from catenum.engines.ports import LoopPlan, Waiting


class _Planned:
    """A plan on one connection."""

    def __init__(self, plan: LoopPlan, rules: Rules, seed: int) -> None:
        how = plan.beginning
        self.level = how.isolation
        self.begin = f"start transaction {how.access or ''}".strip()
        self.timeout_s = -(-how.timeout_ms // 1000) if how.timeout_ms else 60
        self.ends, self.statements = plan.ends, plan.texts
        self.thinks = bool(plan.thinks)
        names = tuple(rules.sql.value_names(sql) for sql in plan.texts)
        self.carrying = CarryingLoop(plan, names, seed=seed)
        self.carries = self.carrying.needed


class InnodbLoop:
    """See ``engines.ports.Loop``. Where many share a process, its sockets are made cooperative
    there: PyMySQL itself waits as ever.
    """

    rules: Rules

    def __init__(
        self,
        plans: Sequence[LoopPlan],
        name: str,
        *,
        where: Mapping[str, Any],
        schema: str,
        run: str,
        waiting: Waiting | None = None,
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
        self._plans = [_Planned(plan, self.rules, int(self.id)) for plan in plans]
        self._plan = self._plans[0]
        self._level: str | None = None
        self._timeout_s = 0
        for sql in dict.fromkeys(sql for plan in plans for sql in plan.before):
            self._cursor.execute(sql)
        self._use(self._plan)

    def use_level(self, level: str) -> None:
        for plan in self._plans:
            plan.level = level
        self._use(self._plan)

    def _use(self, plan: _Planned) -> None:
        """The next iterations are of ``plan``: its session's settings, where they differ."""
        self._plan = plan
        if plan.level is not None and plan.level != self._level:
            self._level = plan.level
            self._connection.query(f"set session transaction isolation level {plan.level}")
        if plan.timeout_s != self._timeout_s:
            self._timeout_s = plan.timeout_s
            self._connection.query(
                f"set session innodb_lock_wait_timeout = {plan.timeout_s},"
                f" lock_wait_timeout = {plan.timeout_s}"
            )

    def run(
        self, at: Callable[[int], None], which: int = 0, *, again: bool = False
    ) -> ServerError | None:
        query, cursor, plan = self._connection.query, self._cursor, self._plans[which]
        try:
            if plan is not self._plan:
                self._use(plan)
            query(plan.begin)
            if plan.carries:
                found = plan.carrying.run(self._execute, at, again=again)
                query(found if isinstance(found, str) else "rollback")
                return found if isinstance(found, ServerError) else None
            for number, sql in enumerate(plan.statements, 1):
                at(number)
                cursor.execute(sql)
                while cursor.nextset():
                    pass
            if plan.thinks:
                at(len(plan.statements) + 1)
            query(plan.ends)
            return None
        except (pymysql.Error, OSError) as error:
            failed = server_error(error, self.rules, timeout_undoes="statement")
            if failed.kind != "lost":
                with contextlib.suppress(pymysql.Error, OSError):
                    query("rollback")
            return failed

    def _execute(
        self, number: int, bound: Binding
    ) -> tuple[int | None, Result | None, ServerError | None]:
        """Raises the driver's errors, which ``run`` takes."""
        sql, cursor = self._plan.statements[number - 1], self._cursor
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
