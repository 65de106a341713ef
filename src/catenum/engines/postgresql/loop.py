"""A transaction in a loop, in a process of its own:

prepared once, then run over libpq's calls with little in between.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import psycopg
from psycopg import pq
from psycopg.conninfo import make_conninfo
from psycopg.pq.abc import PGconn, PGresult

from catenum.core.record.recording import Result, ServerError
from catenum.core.record.values import Binding
from catenum.engines.carrying import CarryingLoop
from catenum.engines.ports import LoopPlan, Rejected, Waiting
from catenum.engines.postgresql import errors
from catenum.engines.postgresql.session import RULES, text_rows


class _Prepared:
    """A plan on one connection: the names of its prepared statements, and what they carry."""

    def __init__(self, plan: LoopPlan, number: int, seed: int) -> None:
        how = plan.beginning
        self.level, self.access = how.isolation, how.access or ""
        self.timeout_ms = how.timeout_ms or 0
        self.ends = f"{plan.ends}".encode()  # the name of a prepared statement, as its text
        self.begins = b""
        self.thinks = bool(plan.thinks)
        self.names = [f"s{number}_{n}".encode() for n in range(len(plan.statements))]
        self.texts = [RULES.sql.numbered(sql).encode() for sql in plan.texts]
        values = tuple(RULES.sql.value_names(sql) for sql in plan.texts)
        self.carrying = CarryingLoop(plan, values, seed=seed)
        self.carries = self.carrying.needed

    @property
    def begin(self) -> bytes:
        """What it begins with."""
        level = f"isolation level {self.level}" if self.level else ""
        return " ".join(["begin", level, self.access]).strip().encode()


class Loop:
    """See ``engines.ports.Loop``."""

    def __init__(
        self,
        plans: Sequence[LoopPlan],
        name: str,
        *,
        conninfo: str,
        schema: str,
        run: str,
        check_ms: int | None,
        waiting: Waiting | None = None,
    ) -> None:
        """Connect and prepare. ``waiting``: what waits for an answer, where libpq itself must not.
        Raises Rejected, psycopg.Error.
        """
        self._pg: PGconn = pq.PGconn.connect(
            make_conninfo(conninfo, application_name=f"catenum {run} {name}").encode()
        )
        if self._pg.status != pq.ConnStatus.OK:
            raise psycopg.OperationalError(self._pg.get_error_message())
        self._pg.notice_handler = None
        self.id = str(self._pg.backend_pid)
        self._plans = [
            _Prepared(plan, number, self._pg.backend_pid) for number, plan in enumerate(plans)
        ]
        self._plan = self._plans[0]
        self._wait: Callable[[], None] | None = None
        self._timeout_ms = self._plan.timeout_ms
        settings = [f"set search_path = {schema}", f"set lock_timeout = {self._timeout_ms}"]
        if check_ms is not None:
            settings.append(f"set deadlock_timeout = {check_ms}")
        self._pg.exec_("; ".join(settings).encode())
        for sql in dict.fromkeys(sql for plan in plans for sql in plan.before):
            self._check(self._pg.exec_(sql.encode()))
        self._prepared: set[bytes] = set()
        for known in self._plans:
            for statement, text in zip(known.names, known.texts, strict=True):
                self._check(self._pg.prepare(statement, text))
            self._prepare_ends(known)
        self._wait = waiting(self._pg.socket) if waiting is not None else None

    @staticmethod
    def _check(result: PGresult) -> None:
        if result.status == pq.ExecStatus.FATAL_ERROR:
            found = errors.from_result(result)
            if not found.code:  # the server has said nothing: it is gone
                raise psycopg.OperationalError(found.message)
            raise Rejected(found.message)

    def use_level(self, level: str) -> None:
        for plan in self._plans:
            plan.level = level
            self._prepare_ends(plan)

    def _prepare_ends(self, plan: _Prepared) -> None:
        """Begin and end are planned once, too: each has its text as its name."""
        plan.begins = plan.begin
        for sql in (plan.begins, plan.ends, b"commit", b"rollback"):
            if sql not in self._prepared:
                self._prepared.add(sql)
                if self._wait is None:
                    self._check(self._pg.prepare(sql, sql))
                else:
                    self._pg.send_prepare(sql, sql)
                    self._check(self._answer(self._wait))

    def run(
        self, at: Callable[[int], None], which: int = 0, *, again: bool = False
    ) -> ServerError | None:
        failed = pq.ExecStatus.FATAL_ERROR
        plan = self._plans[which]
        try:
            if plan is not self._plan:
                self._use(plan)
            result = self._exec_prepared(plan.begins, None)
            if result.status == failed:
                return self._failed(result)
            if plan.carries:
                return self._run_carrying(at, again=again)
            for number, name in enumerate(plan.names, 1):
                at(number)
                result = self._exec_prepared(name, None)
                if result.status == failed:
                    return self._failed(result)
            if plan.thinks:
                at(len(plan.names) + 1)
            result = self._exec_prepared(plan.ends, None)
            return self._failed(result) if result.status == failed else None
        except psycopg.OperationalError as error:
            return errors.lost(str(error))

    def _use(self, plan: _Prepared) -> None:
        """The next iterations are of ``plan``."""
        self._plan = plan
        if plan.timeout_ms != self._timeout_ms:
            self._timeout_ms = plan.timeout_ms
            self._exec(f"set lock_timeout = {plan.timeout_ms}".encode())

    def _run_carrying(self, at: Callable[[int], None], *, again: bool) -> ServerError | None:
        """The rest of an iteration whose statements carry values."""
        found = self._plan.carrying.run(self._execute, at, again=again)
        if isinstance(found, ServerError):
            if self._pg.transaction_status != pq.TransactionStatus.IDLE:
                self._exec(b"rollback")
            return found
        result = self._exec_prepared(found.encode(), None)
        return self._failed(result) if result.status == pq.ExecStatus.FATAL_ERROR else None

    def _execute(
        self, number: int, bound: Binding
    ) -> tuple[int | None, Result | None, ServerError | None]:
        values = [value.text.encode() if value.text is not None else None for _, value in bound]
        result = self._exec_prepared(self._plan.names[number - 1], values)
        if result.status == pq.ExecStatus.FATAL_ERROR:
            return None, None, self._failed(result)
        if result.status == pq.ExecStatus.TUPLES_OK:
            return result.ntuples, text_rows(result, 1), None
        return result.command_tuples, None, None

    def _exec(self, sql: bytes) -> PGresult:
        if self._wait is None:
            return self._pg.exec_(sql)
        self._pg.send_query(sql)
        return self._answer(self._wait)

    def _exec_prepared(self, name: bytes, values: list[bytes | None] | None) -> PGresult:
        if self._wait is None:
            return self._pg.exec_prepared(name, values)  # type: ignore[arg-type] # None is NULL
        self._pg.send_query_prepared(name, values)
        return self._answer(self._wait)

    def _answer(self, wait: Callable[[], None]) -> PGresult:
        """The answer to what was sent, waited for by whoever shares this process. To send waits for
        nobody but the network: libpq does that itself.
        """
        pg = self._pg
        wait()
        pg.consume_input()
        while pg.is_busy():
            wait()
            pg.consume_input()
        found: PGresult | None = None
        while (result := pg.get_result()) is not None:
            found = result
        if found is None:
            raise psycopg.OperationalError(pg.get_error_message())
        return found

    def _failed(self, result: PGresult) -> ServerError:
        error = errors.from_result(result)
        if self._pg.status != pq.ConnStatus.OK:
            return errors.lost(error.message)
        self._exec(b"rollback")
        return error

    def close(self) -> None:
        self._pg.finish()
