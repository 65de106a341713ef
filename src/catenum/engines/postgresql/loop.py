"""A transaction in a loop, in a process of its own:

prepared once, then run over libpq's calls with little in between.
"""

from __future__ import annotations

from collections.abc import Callable

import psycopg
from psycopg import pq
from psycopg.conninfo import make_conninfo
from psycopg.pq.abc import PGconn, PGresult

from catenum.core.record.recording import Result, ServerError
from catenum.core.record.values import Binding
from catenum.engines.carrying import CarryingLoop
from catenum.engines.ports import LoopPlan
from catenum.engines.postgresql import errors
from catenum.engines.postgresql.session import RULES, text_rows


class Loop:
    """See ``engines.ports.Loop``."""

    def __init__(
        self,
        plan: LoopPlan,
        name: str,
        *,
        conninfo: str,
        schema: str,
        run: str,
        check_ms: int | None,
    ) -> None:
        """Connect and prepare. Raises psycopg.Error where that fails."""
        self._pg: PGconn = pq.PGconn.connect(
            make_conninfo(conninfo, application_name=f"catenum {run} {name}").encode()
        )
        if self._pg.status != pq.ConnStatus.OK:
            raise psycopg.OperationalError(self._pg.get_error_message())
        self._pg.notice_handler = None
        self.id = str(self._pg.backend_pid)
        how = plan.beginning
        words = [
            "begin",
            f"isolation level {how.isolation}" if how.isolation else "",
            how.access or "",
        ]
        settings = [f"set search_path = {schema}", f"set lock_timeout = {how.timeout_ms or 0}"]
        if check_ms is not None:
            settings.append(f"set deadlock_timeout = {check_ms}")
        self._pg.exec_("; ".join(settings).encode())
        for sql in plan.before:
            result = self._pg.exec_(sql.encode())
            if result.status == pq.ExecStatus.FATAL_ERROR:
                raise psycopg.ProgrammingError(errors.from_result(result).message)
        self._begin, self._end = " ".join(words).encode(), plan.ends.encode()
        for number, sql in enumerate(plan.texts):
            result = self._pg.prepare(f"s{number}".encode(), RULES.sql.numbered(sql).encode())
            if result.status == pq.ExecStatus.FATAL_ERROR:
                raise psycopg.ProgrammingError(errors.from_result(result).message)
        self._names = [
            (number + 1, f"s{number}".encode()) for number in range(len(plan.statements))
        ]
        names = tuple(RULES.sql.value_names(sql) for sql in plan.texts)
        self._carrying = CarryingLoop(plan, names, seed=self._pg.backend_pid)
        self._carries = self._carrying.needed

    def run(self, at: Callable[[int], None]) -> ServerError | None:
        pg, failed = self._pg, pq.ExecStatus.FATAL_ERROR
        try:
            pg.exec_(self._begin)
            if self._carries:
                return self._run_carrying(at)
            for number, name in self._names:
                at(number)
                result = pg.exec_prepared(name, None)
                if result.status == failed:
                    return self._failed(result)
            result = pg.exec_(self._end)
            return self._failed(result) if result.status == failed else None
        except psycopg.OperationalError as error:
            return errors.lost(str(error))

    def _run_carrying(self, at: Callable[[int], None]) -> ServerError | None:
        """The rest of an iteration whose statements carry values."""
        found = self._carrying.run(self._execute, at)
        if isinstance(found, ServerError):
            if self._pg.transaction_status != pq.TransactionStatus.IDLE:
                self._pg.exec_(b"rollback")
            return found
        result = self._pg.exec_(found.encode())
        return self._failed(result) if result.status == pq.ExecStatus.FATAL_ERROR else None

    def _execute(
        self, number: int, bound: Binding
    ) -> tuple[int | None, Result | None, ServerError | None]:
        values = [value.text.encode() if value.text is not None else None for _, value in bound]
        result = self._pg.exec_prepared(self._names[number - 1][1], values)  # type: ignore[arg-type] # None is NULL
        if result.status == pq.ExecStatus.FATAL_ERROR:
            return None, None, self._failed(result)
        if result.status == pq.ExecStatus.TUPLES_OK:
            return result.ntuples, text_rows(result, 1), None
        return result.command_tuples, None, None

    def _failed(self, result: PGresult) -> ServerError:
        error = errors.from_result(result)
        if self._pg.status != pq.ConnStatus.OK:
            return errors.lost(error.message)
        self._pg.exec_(b"rollback")
        return error

    def close(self) -> None:
        self._pg.finish()
