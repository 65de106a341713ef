"""Looks at a running MySQL: transactions, lock waits, metadata locks and statements, by the
performance schema.

Connection ids count up and are not used again until the server restarts, so a session's start is
the server's own.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import replace

from pymysql.constants import CLIENT

from catenum.core.diagnose.holders import touches
from catenum.core.record.recording import TargetInfo
from catenum.core.record.waits import Edge, Resource
from catenum.core.servers import rules_of
from catenum.core.servers.metadata import metadata_mode
from catenum.core.snapshot.sample import SessionInfo
from catenum.engines.innodb import earlier_statements, metadata_queue
from catenum.engines.innodb.control import arguments_of
from catenum.engines.innodb.metadata_waits import SYSTEM_USERS, SessionRow
from catenum.engines.innodb.monitor import Counts, InnodbMonitor, RowWaits, Running, plain
from catenum.engines.innodb.prepared import xid
from catenum.engines.innodb.records import Records
from catenum.engines.innodb.requirements import grant, works
from catenum.engines.innodb.transactions import Transaction
from catenum.engines.monitor import CHECK_MS, SOMEBODY, Check
from catenum.engines.mysql import concat_rows, history, requirements, versions
from catenum.engines.mysql.rows import Connections, DataLock, Owners, resource_of
from catenum.engines.mysql.waits import EVENT, RowWait, by_event, transactions, waits

_TIMEOUTS = (
    "select t.processlist_id, v.variable_name, v.variable_value from performance_schema.threads t"
    " join performance_schema.variables_by_thread v on v.thread_id = t.thread_id where"
    " t.processlist_id in ({ids}) and v.variable_name in ('innodb_lock_wait_timeout',"
    " 'lock_wait_timeout')"
)
#: The number of a thread's latest statement, running or ended: lists of transactions are a tenth of
#: a second old.
_LATEST = (
    "(select max(e.event_id) from performance_schema.events_statements_current e "
    "where e.thread_id = t.thread_id and e.nesting_event_level = 0)"
)
_STATEMENT = f"select {_LATEST} from performance_schema.threads t where processlist_id = {{number}}"
_PROCESSES = ("id", "user", "host", "db", "command", "time", "state", "info")
#: The columns of an index, in order (MySQL Reference Manual, "The INFORMATION_SCHEMA INNODB_FIELDS
#: Table").
_INDEX_COLUMNS = """
select f.name from information_schema.innodb_tables t
join information_schema.innodb_indexes i on i.table_id = t.table_id
join information_schema.innodb_fields f on f.index_id = i.index_id
where (t.name = '{name}' or t.name like '{pattern}#p#%') and i.name = '{index}'
group by f.pos, f.name order by f.pos
"""
#: The counter of deadlocks is on unless somebody has switched it off; then those that were printed
#: are counted.
_COUNTS = (
    (
        "select variable_value, {} from performance_schema.global_status where variable_name ="
        " 'Threads_connected'"
    ),
    (
        "(select count from information_schema.innodb_metrics where name = 'lock_deadlocks' and"
        " status = 'enabled')"
    ),
)
_PRINTED = (
    "select count(*) from performance_schema.error_log where error_code = 'MY-012468' "
    "having @@global.innodb_print_all_deadlocks and @@global.log_error_verbosity >= 3"
)
_WAITING = "state like 'Waiting for%lock%' or state in ('User lock', 'Waiting for table flush')"
_NAMED = (
    "select processlist_id, substring_index(name, '/', -1) from performance_schema.threads "
    "where processlist_id in ({ids})"
)
_OWN_SESSIONS = "where id <> connection_id() and command <> 'Sleep'"
_MAY_CALL = re.compile(r"\(|^\s*(?:call|execute|do|handler)\b", re.IGNORECASE)


def open_monitor(
    where: Mapping[str, object] | str, shown_url: str, *, private: bool = False
) -> MysqlMonitor:
    """Connect for looking. Raises TargetError."""
    return MysqlMonitor(
        arguments_of(where) if isinstance(where, str) else dict(where), shown_url, private=private
    )


class MysqlMonitor(InnodbMonitor[DataLock]):
    """One watching connection. See ``engines.monitor.Monitor`` for what each method promises."""

    rules = rules_of("mysql")
    timed_out = (3024, 1205, 1317)
    named_mode = metadata_mode("MDL_EXCLUSIVE")
    _ends: bool
    _tells_statements: bool
    _tells_transactions: bool
    _records: Records
    _connections: Connections
    _owners: Owners
    text_bytes = 1_024  # COL_INFO_SIZE, pfs_column_types.h
    client_flag = (
        CLIENT.MULTI_STATEMENTS
    )  # the check before an order, and the order, are sent as one

    def learn(self, private: bool) -> None:
        """By variables, grants, and by trying what there is to see."""
        version = versions.checked(self.rows, self._shown, reads=False)
        self.rows("set session transaction read only")
        self.rows(
            f"set session max_execution_time = {CHECK_MS}, lock_wait_timeout = 1,"
            f" {concat_rows.WHOLE}"
        )
        level, self.login, self.server_start = self.rows(
            "select @@global.transaction_isolation, current_user(), date_format(now() - interval"
            " (select variable_value from performance_schema.global_status where variable_name ="
            " 'Uptime') second, '%Y-%m-%d %H:%i')"
        )[0]
        grants = " ".join(str(row[0]) for row in self.rows("show grants"))
        self.sees_all = self._may(
            "select 1 from information_schema.innodb_trx limit 1"
        ) and requirements.may_read(self.rows)
        self._ends = bool(
            re.search(r"\bCONNECTION_ADMIN\b|\bSUPER\b|ALL PRIVILEGES ON \*\.\*", grants)
        )
        self.tells_metadata = self.sees_all and self._is(metadata_queue.TELLS, "1")
        self._tells_statements = self.sees_all and self._is(
            earlier_statements.TELLS, str(earlier_statements.NEEDED)
        )
        self._tells_transactions = self.sees_all and self._is(requirements.TRANSACTIONS, "1")
        self.tells_applications = self._may(
            "select 1 from performance_schema.session_connect_attrs limit 1"
        )
        self._records = Records(self.rows, _INDEX_COLUMNS, self.called)
        self._connections = Connections(self.rows)
        self._owners = Owners(self.rows, self._connections)
        self.info = TargetInfo(
            server=self.rules.name,
            version=version,
            url=self._shown,
            private=private,
            default_isolation=str(level).replace("-", " ").lower(),
        )

    def _may(self, query: str) -> bool:
        return works(self.rows, query)

    def _is(self, query: str, value: str) -> bool:
        return self._may(query) and str(self.rows(query)[0][0]) == value

    # -- looking -----------------------------------------------------------------------------------

    def counts(self) -> Counts:
        """By status variables and InnoDB's counters; deadlocks else by those that were printed."""
        first, counted = _COUNTS
        connected, deadlocks = self.rows(first.format(counted if self.sees_all else "null"))[0]
        if deadlocks is None and self.sees_all:
            printed = self.rows(_PRINTED)
            deadlocks = printed[0][0] if printed else None
        return Counts(int(connected) - 1, int(deadlocks) if deadlocks is not None else None)

    def running(self, blocked: int) -> Running:
        """By InnoDB's table."""
        return Running(transactions(self.rows) if self.sees_all else {})

    def row_waits(
        self, running: Mapping[str, Transaction], waited_ms: Callable[[str], float]
    ) -> RowWaits[DataLock]:
        """By the performance schema's pairs of locks."""
        found = waits(self.rows, running, self._owners)
        held: dict[str, list[DataLock]] = {}
        for wait in found:
            if wait.held.granted:
                held.setdefault(wait.holder, []).append(wait.held)
        return RowWaits(
            [self._edge(wait, waited_ms(wait.waiter)) for wait in found], held=held, read=len(found)
        )

    def listed(
        self, running: Mapping[str, Transaction], *, everybody: bool = False
    ) -> list[SessionRow]:
        """By the process list, each with its statement."""
        if not self.sees_all:
            return [_row(row, None, None) for row in self._processes(_OWN_SESSIONS)]
        names = [name for name in running if name.isdigit()]
        ids = f"id in ({', '.join(names)}) or " if names else ""
        which = "true" if everybody else f"{ids}{_WAITING}"
        return self._with_events(
            self._processes(f"where id <> connection_id() and ({which})"), running
        )

    def _processes(self, which: str) -> list[list[str | None]]:
        return concat_rows.together(
            self.rows, _PROCESSES, f"from performance_schema.processlist {which}"
        )

    def sessions(self, rows: Sequence[SessionRow]) -> list[SessionInfo]:
        """Threads of the server itself by their names: an event and a replication applier are
        listed alike.
        """
        own = [row.id for row in rows if row.user in SYSTEM_USERS]
        if own and self.sees_all:
            names = dict(self.rows(_NAMED.format(ids=", ".join(own))))
            rows = [row._replace(thread=names.get(row.id)) for row in rows]
        return super().sessions(rows)

    def _with_events(
        self, found: Sequence[Sequence[str | None]], running: Mapping[str, Transaction]
    ) -> list[SessionRow]:
        numbers = [str(row[0]) for row in found]
        statements = history.running(self.rows, numbers) if self._tells_statements else {}
        return [
            _row(row, running.get(number), statements.get(number))
            for number, row in zip(numbers, found, strict=True)
        ]

    def with_history(
        self, heads: Sequence[SessionInfo], waits: RowWaits[DataLock]
    ) -> dict[str, SessionInfo]:
        """By the performance schema's events; also the statement that took what others wait for."""
        if not self._tells_statements or not heads:
            return {}
        names = [session.id for session in heads if session.id.isdigit()]
        kept = history.kept(self.rows, names)
        opened = history.open_transactions(self.rows, names) if self._tells_transactions else {}
        found = {}
        for session in heads:
            ran, trx = kept.get(session.id, []), opened.get(session.id)
            if trx is not None:
                texts, whole = history.of_transaction(ran, trx)
                age = min(session.transaction_ms or trx.ms, trx.ms)
                level = trx.isolation.lower()
                session = replace(
                    session,
                    earlier=texts,
                    earlier_cut=not whole,
                    transaction_ms=age,
                    isolation=level,
                )
                if session.id in waits.held:
                    session = replace(
                        session, took=self._took(ran, session.id, waits.held[session.id], trx)
                    )
            found[session.id] = session
        return found

    def _took(
        self, ran: Sequence[history.Ran], holder: str, held: Sequence[DataLock], trx: history.Open
    ) -> str | None:
        """The statement that took what others wait for: told where it can be no other.

        That is the only one of the transaction that can have locked the row by its text. The number
        in a lock is that of the statement by which its page was first locked, or written down anew
        because records were moved, which takes a statement that names the table. Where that one
        does not name it (a foreign key's, say), it is that one, unless one after it may be.
        """
        own, whole = history.ran_in(ran, trx)
        found = set()
        for lock in held:
            resource = self._resource(lock)
            able = [one for one in own if self._can_lock(one.text, resource)]
            by_itself = str(self._connections.connection_of(lock.thread)) == holder
            by = history.taker(own, lock.event) if by_itself else None
            certain = able[0] if len(able) == 1 else None
            if by is not None and not self._names(by.text, lock.table):
                others = (one in able or self._writes(one.text) for one in own[own.index(by) + 1 :])
                certain = None if any(others) else by
            found.add(certain.text if certain and whole else None)
        return found.pop() if len(found) == 1 else None

    def _names(self, sql: str, table: str) -> bool:
        footprint = self.rules.sql.footprint(sql)
        return not footprint.understood or bool(list(footprint.on(table)))

    def _writes(self, sql: str) -> bool:
        """Whether it may lock rows of tables that it does not name, as by a foreign key."""
        footprint = self.rules.sql.footprint(sql)
        return not footprint.understood or any(access.writes for access in footprint.accesses)

    def _can_lock(self, sql: str, resource: Resource) -> bool:
        footprint = self.rules.sql.footprint(sql)
        if not footprint.understood:
            # one that names no table and calls nothing, such as a look at a variable, locks no row
            # either
            return (
                bool(footprint.accesses)
                or not footprint.parsed
                or _MAY_CALL.search(sql) is not None
            )
        locking = (access for access in footprint.on(resource.table or "") if access.verb != "read")
        return any(touches(access, resource) for access in locking)

    def _resource(self, lock: DataLock) -> Resource:
        own = lock.schema if self.says_itself(lock.schema) else ""
        return resource_of(
            lock, self._records.columns(lock.schema, lock.table, lock.index or ""), own
        )

    def _edge(self, wait: RowWait, waited_ms: float) -> Edge:
        lock = wait.wanted
        return Edge(
            waiter=wait.waiter,
            holder=wait.holder,
            resource=self._resource(lock),
            wanted=lock.mode,
            held=wait.held.mode,
            queued=wait.queued,
            since_ms=-waited_ms,
        )

    def notes(self, edges: Sequence[Edge]) -> Iterator[str]:
        """Rights and settings."""
        if not self.sees_all:
            allow = (
                f"{grant('process', self.login)}"
                f" {grant('select', self.login, 'performance_schema.*')}"
            )
            yield (
                f"the login {self.login} sees its own sessions only, and no lock waits; an"
                f" administrator may allow it: {allow}"
            )
        elif any(edge.holder == SOMEBODY for edge in edges) and not self.tells_metadata:
            yield (
                "the holder of the metadata lock is not reported: update"
                " performance_schema.setup_instruments set enabled = 'YES' where name ="
                " 'wait/lock/metadata/sql/mdl';"
            )

    def prepared(self) -> str:
        """By ``XA RECOVER``."""
        if not self._may("xa recover"):
            allow = grant("xa_recover_admin", self.login)
            return (
                "which is prepared (xa recover) is not visible to this login; an administrator may"
                f" allow it: {allow}"
            )
        reported = self.rows("xa recover convert xid")
        xids = [
            xid(str(data), int(first), int(second), str(form))
            for form, first, second, data in reported
        ]
        return (
            "prepared (xa recover):"
            f" {', '.join(f'xa rollback {xid};' for xid in xids) or 'none is listed'}"
        )

    def session(self, number: str) -> SessionInfo | None:
        if not number.isdigit():
            return None
        running = transactions(self.rows, int(number)) if self.sees_all else {}
        rows = self._processes(f"where id = {int(number)}")
        latest = (
            self.rows(_STATEMENT.format(number=int(number)))
            if rows and self._tells_statements
            else []
        )
        found = self.sessions(self._with_events(rows, running))
        return replace(found[0], statement_id=latest[0][0] if latest else None) if found else None

    def own_timeouts(self, ids: Collection[str]) -> dict[tuple[str, str], str]:
        """From the performance schema."""
        if not self.sees_all:
            return {}
        rows = self.rows(_TIMEOUTS.format(ids=", ".join(ids)))
        return {(str(number), str(name)): str(value) for number, name, value in rows}

    def logs_deadlocks(self) -> bool:
        """With ``innodb_print_all_deadlocks``, and their headings, which are notes."""
        row = self.rows("select @@global.innodb_print_all_deadlocks, @@global.log_error_verbosity")[
            0
        ]
        return str(row[0]) == "1" and int(row[1]) >= requirements.NOTES

    # -- ending ------------------------------------------------------------------------------------

    def kill(self, what: str, session: SessionInfo) -> bool:
        """The check and the order are sent as one, so that nothing but the server comes between."""
        number = int(session.id)
        at = f" and {_LATEST} = {int(session.statement_id)}" if session.statement_id else ""
        here = (
            "exists (select 1 from performance_schema.threads t where processlist_id ="
            f" {number}{at})"
        )
        same = here
        if self.sees_all:
            trx = f"from information_schema.innodb_trx where trx_mysql_thread_id = {number}"
            began = session.transaction
            if began is None:
                same = f"{here} and not exists (select 1 {trx})"
            elif began.startswith(EVENT):
                same = f"{here} and exists (select 1 {by_event(number, began)})"
            else:
                same = f"{here} and exists (select 1 {trx} and trx_started = '{plain(began)}')"
        self.rows(
            f"set @catenum_order = if({same}, 'kill {what} {number}', 'do 0'); prepare"
            " catenum_order from @catenum_order; execute catenum_order; deallocate prepare"
            " catenum_order"
        )
        return str(self.rows("select @catenum_order like 'kill%'")[0][0]) == "1"

    # -- what is on --------------------------------------------------------------------------------

    def checks(self) -> Sequence[Check]:
        """Variables, what is instrumented, and rights."""
        return requirements.checks(self.rows, self.login, sees_all=self.sees_all, ends=self._ends)


def _row(
    row: Sequence[str | None], trx: Transaction | None, statement: history.Ran | None
) -> SessionRow:
    number, user, host, database, command, seconds, state, text = row
    time_ms = float(seconds or 0.0) * 1000
    if statement is not None and statement.running and command != "Sleep":
        time_ms = statement.ms
    if text is None and statement is not None and trx is not None:
        text = statement.text or None
    return SessionRow(
        id=str(number),
        user=user or "",
        host=host,
        db=database,
        command=command or "",
        time_ms=time_ms,
        state=str(state or ""),
        statement=text,
        trx_state=trx.state if trx else None,
        trx_ms=trx.age_ms if trx else None,
        isolation=trx.isolation if trx else None,
        changed=trx.changed if trx else None,
        transaction=trx.started if trx else None,
    )
