"""One transaction's connection, driven through libpq's non-blocking calls (``psycopg.pq``): sent,
then polled.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable, Sequence
from dataclasses import replace

import psycopg
from psycopg import pq
from psycopg.pq.abc import PGconn, PGresult

from catenum.core.record.recording import Result, ServerError, digest_of
from catenum.core.record.values import NOTHING, Binding, ValueKind
from catenum.core.servers import rules_of
from catenum.core.sql.beginning import access_in, level_in
from catenum.engines.fetching import Fetched, too_large
from catenum.engines.ports import Beginning, Begun, Patience, Reply
from catenum.engines.postgresql import errors
from catenum.engines.postgresql.calls import ask

RULES = rules_of("postgresql")
#: The statements of a transaction so far, with the values that were bound to them.
Trail = tuple[tuple[str, Binding], ...]
#: Types by their numbers in ``pg_type``: bool; int8, int2, int4, oid, float4, float8, numeric.
_KINDS: dict[int, ValueKind] = {
    16: "boolean",
    **dict.fromkeys((20, 21, 23, 26, 700, 701, 1700), "number"),
}
#: deadlock_timeout by patience (ms). Each session checks once per wait, this long after the wait
#: began, so the first to check with the cycle closed becomes the victim. FIRST leaves time for
#: Catenum to see the cycle before the server does.
CHECK_AFTER_MS = {Patience.FIRST: 40, Patience.CHOSEN: 500, Patience.LAST: 3000}
#: Two whose waits begin at once, when a third ends, would check at once, and either could become
#: the victim: each session waits so much longer (ms) than the one that was opened before it.
APART_MS, MOST_APART = 150, 20
KEPT_ROWS = 50
#: Autocommit sets lock_timeout for the session; what the session had set before is stored in a
#: setting of its own (documentation, "Customized Options").
_SAVE_LIMIT, _RESTORE_LIMIT = (
    f"select pg_catalog.set_config('{to}', pg_catalog.current_setting('{source}'), false)"
    for source, to in (
        ("lock_timeout", "catenum.lock_timeout"),
        ("catenum.lock_timeout", "lock_timeout"),
    )
)
#: Documentation, appendix A "PostgreSQL Error Codes".
SYNTAX_ERROR = "42601"
_GOES_BACK = re.compile(r"\s*rollback\s+(?:work\s+|transaction\s+)?to\b", re.IGNORECASE)
#: Words that stand for a moment, taken when the statement is parsed (documentation, 8.5.1.4).
_TELLS_TIME = re.compile(r"'\s*(now|today|tomorrow|yesterday)\b", re.IGNORECASE)


class PostgresqlSession:
    """A connection with one transaction of the scenario on it."""

    def __init__(
        self,
        name: str,
        conninfo: str,
        settings: str,
        *,
        steers_victim: bool,
        first_check_ms: int,
        place: int,
        end: Callable[[int], None],
        often: Sequence[str] = (),
    ) -> None:
        """Connect and apply ``settings``. Raises psycopg.Error where the server does not let us.

        ``first_check_ms``: the deadlock_timeout of the session that is to check first; ``place``:
        how many sessions of other names the run opened before this one. ``often``: statements to
        plan once; ``end`` ends a process of the server.
        """
        self._end = end
        last_ms = CHECK_AFTER_MS[Patience.LAST] + APART_MS * min(place, MOST_APART)
        self._check_ms = {**CHECK_AFTER_MS, Patience.FIRST: first_check_ms, Patience.LAST: last_ms}
        self.name = name
        self._pg: PGconn = pq.PGconn.connect(conninfo.encode())
        if self._pg.status != pq.ConnStatus.OK:
            raise psycopg.OperationalError(self._pg.get_error_message())
        self._pg.notice_handler = None
        self._steers = steers_victim
        self._patience: Patience | None = Patience.LAST
        self._each = False  # whether each statement is a transaction of its own
        self._limit_saved = False  # whether lock_timeout as the session has set it is saved
        self._results: list[PGresult] = []
        self._fetched: Fetched | None = None
        self._shape: tuple[tuple[str, ...], tuple[ValueKind, ...]] = ((), ())
        self._too_large = False
        self._begun: Begun | None = None
        self.sql = ""
        self.sent = 0  # counts statements, so that what was seen of one is not taken for the next
        self.values: Binding = NOTHING
        self.trail: Trail = ()  # the statements of this transaction so far
        if steers_victim:
            settings += f"; set deadlock_timeout = {last_ms}"
        self._settings, self._often = settings, often
        self._prepared: dict[str, bytes] = {}
        self._set_up(settings)
        self.pid = self._pg.backend_pid

    @property
    def id(self) -> str:
        """The server's process number for this session."""
        return str(self.pid)

    @property
    def in_transaction(self) -> bool:
        """Whether the connection stands in a transaction, or a statement is under way."""
        return (
            self._pg.status == pq.ConnStatus.OK
            and self._pg.transaction_status != pq.TransactionStatus.IDLE
        )

    def fileno(self) -> int:
        """The connection's socket."""
        return self._pg.socket

    def renew(self) -> None:
        """As if just connected (documentation, "DISCARD"). Raises psycopg.Error where the server
        went away.
        """
        if ask(self._pg, b"discard all", self._end).status == pq.ExecStatus.FATAL_ERROR:
            raise psycopg.OperationalError(self._pg.get_error_message())
        self._each = self._limit_saved = False
        self._patience = Patience.LAST
        self._set_up(self._settings)

    def hand_in_counts(self) -> None:
        """Have what was counted here stand in the server's statistics. Not where a statement is
        under way.
        """
        if not self.in_transaction and self._pg.status == pq.ConnStatus.OK:
            self._pg.exec_(b"select pg_catalog.pg_stat_force_next_flush()")

    def _set_up(self, settings: str) -> None:
        result = ask(self._pg, settings.encode(), self._end)
        if result.status == pq.ExecStatus.FATAL_ERROR:
            raise psycopg.OperationalError(errors.from_result(result).message)
        self._prepared.clear()
        for number, sql in enumerate(dict.fromkeys(self._often)):
            name = f"statement {number}".encode()
            # What cannot be prepared now is sent as text each time, and so is what would freeze the
            # time of planning.
            if (
                not _TELLS_TIME.search(sql)
                and not RULES.sql.value_names(sql)
                and self._pg.prepare(name, sql.encode()).status == pq.ExecStatus.COMMAND_OK
            ):
                self._prepared[sql] = name

    def begin(self, how: Beginning) -> None:
        """Begin a transaction and ask what the server made of it, in one round trip."""
        if how.autocommit:
            self._begin_each(how)
            return
        words = [how.text or "begin"]
        if how.text is not None and how.isolation and level_in(how.text) is None:
            words.append(f"isolation level {how.isolation}")
        if self._each:  # what was set for the statements before it on this connection
            words.insert(
                0, "reset default_transaction_isolation; reset default_transaction_read_only;"
            )
        if how.isolation and how.text is None:
            words.append(f"isolation level {how.isolation}")
        if how.access and (how.text is None or access_in(how.text) is None):
            words.append(how.access)
        limit = f"set local lock_timeout = {how.timeout_ms or 0}"
        if how.limits_itself and how.timeout_ms is None:
            limit = self._own_limit()
        parts = [" ".join(words), limit]
        parts += ["show transaction_isolation", "show transaction_read_only"]
        self._begin(parts, each=False)

    def _begin_each(self, how: Beginning) -> None:
        """Each statement is to be a transaction of its own: what is said applies to the session."""
        level = "reset default_transaction_isolation"
        if how.isolation:
            level = f"set default_transaction_isolation = '{how.isolation}'"
        limit = f"set lock_timeout = {how.timeout_ms or 0}"
        if how.limits_itself and how.timeout_ms is None:
            limit = self._own_limit()
        elif how.limits_itself and not self._limit_saved:
            limit = f"{_SAVE_LIMIT}; {limit}"
            self._limit_saved = True
        access = "on" if how.access == "read only" else "off"
        parts = [level, f"set default_transaction_read_only = {access}", limit]
        parts += ["show default_transaction_isolation", "show default_transaction_read_only"]
        self._begin(parts, each=True)

    def _own_limit(self) -> str:
        """A statement with which lock_timeout is what the session has set itself."""
        if not self._limit_saved:
            return "show lock_timeout"  # nothing else has set it
        return _RESTORE_LIMIT

    def _begin(self, parts: Sequence[str], *, each: bool) -> None:
        # A statement in autocommit sets deadlock_timeout for its session, not for itself.
        self._patience = None if self._each else Patience.LAST
        self._each = each
        self._begun = None
        self.trail = ()
        with contextlib.suppress(psycopg.OperationalError):  # the next poll reports the loss
            self._pg.send_query("; ".join(parts).encode())  # it waits for nobody

    def begun(self) -> Begun:
        """What the server reported after ``begin``. Raises RuntimeError before its reply was
        polled.
        """
        if self._begun is None:
            raise RuntimeError("not begun")
        return self._begun

    def send(self, sql: str, patience: Patience | None = None, values: Binding = NOTHING) -> None:
        """Send one statement. A string of several is refused by the server: the extended protocol
        takes one.

        Values go without a type: the server infers it from where they stand, as for a quoted
        literal.
        """
        self.sql, self.values, self.sent = sql, values, self.sent + 1
        self.trail = (*self.trail, (sql, values))
        adjust = None
        aborted = self._pg.transaction_status == pq.TransactionStatus.INERROR
        if self._steers and patience not in (None, self._patience) and not aborted:
            self._patience = patience
            reach = "" if self._each else "local "
            adjust = f"set {reach}deadlock_timeout = {self._check_ms[patience]}"
        if _GOES_BACK.match(sql):
            self._patience = None  # it may undo what was set since the savepoint
        self._fetched, self._too_large = None, False
        try:
            if sql in ("commit", "rollback"):
                self._pg.send_query(f"{adjust}; {sql}".encode() if adjust else sql.encode())
                return
            if adjust:
                ask(self._pg, adjust.encode(), self._end)
            name = self._prepared.get(sql)
            if values:
                bound = [
                    value.text.encode() if value.text is not None else None for _, value in values
                ]
                self._pg.send_query_params(RULES.sql.numbered(sql).encode(), bound)
            elif name is not None:
                self._pg.send_query_prepared(name, None)
            else:
                self._pg.send_query_params(sql.encode(), None)
            self._pg.set_single_row_mode()
        except psycopg.OperationalError:
            # the loss is reported by the next poll, as for any statement under way
            self._results.clear()

    def read(self, sql: str) -> ServerError | None:
        """By preparing it: the server parses it and looks its names up (documentation,
        "PREPARE").
        """
        numbered = RULES.sql.numbered(sql)
        result = self._pg.prepare(b"", numbered.encode())
        if result.status != pq.ExecStatus.FATAL_ERROR:
            return None
        error = errors.from_result(result)
        same = numbered == sql
        return replace(
            error, syntax=error.code == SYNTAX_ERROR, position=error.position if same else None
        )

    def poll(self) -> Reply | None:
        """The reply, once the server is ready for the next statement."""
        try:
            if self._pg.status != pq.ConnStatus.OK:
                return Reply(error=errors.lost(self._pg.get_error_message()))
            self._pg.consume_input()
            while not self._pg.is_busy():
                result = self._pg.get_result()
                if result is None:
                    return self._reply()
                if result.status == pq.ExecStatus.SINGLE_TUPLE:
                    self._take(result)
                    continue
                self._results.append(result)
                if result.status in (pq.ExecStatus.COPY_IN, pq.ExecStatus.COPY_BOTH):
                    self._pg.put_copy_end(b"COPY has no data in a scenario")
                elif result.status == pq.ExecStatus.COPY_OUT:
                    while self._pg.get_copy_data(0)[0] > 0:
                        pass
        except psycopg.OperationalError as error:
            return Reply(error=self._error_so_far() or errors.lost(str(error)))
        return None

    def _take(self, result: PGresult) -> None:
        if self._fetched is None:
            self._fetched, self._shape = Fetched(KEPT_ROWS), _shape(result)
        if not self._too_large and not self._fetched.add(
            tuple(_cell(result, 0, i) for i in range(result.nfields))
        ):
            self._too_large = True
            self.cancel()

    def cancel(self) -> None:
        """Ask the server to end the statement under way."""
        with contextlib.suppress(psycopg.Error):
            self._pg.get_cancel().cancel()

    def kill(self) -> None:
        """End the server's process: code can go on after a cancellation, not after this."""
        with contextlib.suppress(psycopg.Error):
            self._end(self.pid)

    def close(self) -> None:
        """Close the connection; the server rolls an open transaction back."""
        self._pg.finish()

    def _error_so_far(self) -> ServerError | None:
        failed = [r for r in self._results if r.status == pq.ExecStatus.FATAL_ERROR]
        return errors.from_result(failed[0]) if failed else None

    def _reply(self) -> Reply:
        results, self._results = self._results, []
        if self._too_large:
            return Reply(error=too_large())
        if not results:
            return Reply(error=errors.lost(self._pg.get_error_message()))
        for result in results:
            if result.status in (pq.ExecStatus.FATAL_ERROR, pq.ExecStatus.NONFATAL_ERROR):
                return Reply(error=errors.from_result(result))
        last = results[-1]
        if self._begun is None and len(results) >= 4:
            self._begun = Begun(
                isolation=_cell(results[-2], 0, 0) or "", read_only=_cell(last, 0, 0) == "on"
            )
            return Reply()
        fetched, (columns, kinds) = self._fetched, self._shape
        if last.status == pq.ExecStatus.TUPLES_OK and fetched is not None:
            reported = Result(
                columns=columns,
                kinds=kinds,
                rows=tuple(fetched.rows),
                cut=fetched.cut,
                digest=fetched.digest,
            )
            return Reply(rows=fetched.count, result=reported)
        if last.status == pq.ExecStatus.TUPLES_OK:
            return Reply(rows=last.ntuples, result=text_rows(last, KEPT_ROWS))
        return Reply(
            rows=last.command_tuples,
            in_transaction=self._pg.transaction_status != pq.TransactionStatus.IDLE,
            rolled_back=self.sql == "commit" and last.command_status == b"ROLLBACK",
        )


def text_rows(result: PGresult, limit: int) -> Result:
    """The rows of a result as the server's text."""
    kept = min(result.ntuples, limit)
    every = range(result.nfields)
    cut = kept < result.ntuples
    whole = (
        (tuple(_cell(result, row, i) for i in every) for row in range(result.ntuples))
        if cut
        else ()
    )
    columns, kinds = _shape(result)
    return Result(
        columns=columns,
        kinds=kinds,
        rows=tuple(tuple(_cell(result, row, i) for i in every) for row in range(kept)),
        cut=cut,
        digest=digest_of(whole) if cut else None,
    )


def _shape(result: PGresult) -> tuple[tuple[str, ...], tuple[ValueKind, ...]]:
    """A result's columns, and what kind of value each has."""
    every = range(result.nfields)
    names = tuple((result.fname(i) or b"?").decode() for i in every)
    return names, tuple(_KINDS.get(result.ftype(i), "text") for i in every)


def _cell(result: PGresult, row: int, column: int) -> str | None:
    value = result.get_value(row, column)
    return value.decode("utf-8", "replace") if value is not None else None
