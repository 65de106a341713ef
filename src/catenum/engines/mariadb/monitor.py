"""Looks at a running MariaDB: transactions, the process list, and the lock waits that InnoDB lists.

``INNODB_LOCKS`` holds only locks that somebody waits for or that stand in the way, so the cheap
check stays cheap; it is cached by the server for a tenth of a second (MariaDB documentation,
"Information Schema INNODB_LOCK_WAITS Table"). Connection ids count up and are not used again until
the server restarts, so a session's start is the server's own.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

from catenum.core.errors import TargetError
from catenum.core.record.modes import Mode
from catenum.core.record.recording import TargetInfo
from catenum.core.record.waits import Edge, Resource
from catenum.core.servers import rules_of
from catenum.core.snapshot.sample import SessionInfo
from catenum.engines.innodb import earlier_statements, metadata_queue
from catenum.engines.innodb.control import arguments_of
from catenum.engines.innodb.metadata_waits import SessionRow
from catenum.engines.innodb.monitor import Counts, InnodbMonitor, RowWaits, Running, plain
from catenum.engines.innodb.records import Records, table_name
from catenum.engines.innodb.requirements import grant, works
from catenum.engines.innodb.transactions import Transaction
from catenum.engines.mariadb import readonly_transactions, requirements, rowlocks
from catenum.engines.mariadb.many_waiters import MANY, ManyWaiters, read_status
from catenum.engines.mariadb.metadata import NAMED_MODE
from catenum.engines.monitor import CHECK_MS, SOMEBODY, Check

#: What the plugin METADATA_LOCK_INFO lists.
_PLUGIN = (
    "select thread_id, lock_mode, lock_type, table_schema, table_name from"
    " information_schema.metadata_lock_info"
)
_PROCESSES = (
    "select id, user, host, db, command, time_ms, state, info, query_id from"
    " information_schema.processlist "
)
#: The columns of an index, in order (MariaDB documentation, "Information Schema INNODB_SYS_FIELDS
#: Table"). Names of tables are as the file system has them there, so that only plain ones are asked
#: for.
INDEX_COLUMNS = """
select f.name from information_schema.innodb_sys_tables t
join information_schema.innodb_sys_indexes i on i.table_id = t.table_id
join information_schema.innodb_sys_fields f on f.index_id = i.index_id
where (t.name = '{name}' or t.name like '{pattern}#P#%') and i.name = '{index}'
group by f.pos, f.name order by f.pos
"""
_COUNTS = (
    "show global status where variable_name in ('Threads_connected', 'Innodb_deadlocks', "
    "'Innodb_row_lock_current_waits')"
)
_WAITING = "state like 'Waiting for%lock%' or state in ('User lock', 'Waiting for table flush')"
#: Without the right PROCESS InnoDB's tables cannot be read, and the process list has the login's
#: own sessions only.
_OWN_SESSIONS = "where id <> connection_id() and command <> 'Sleep'"


def open_monitor(
    where: Mapping[str, object] | str, shown_url: str, *, private: bool = False
) -> MariadbMonitor:
    """Connect for looking. Raises TargetError."""
    return MariadbMonitor(
        arguments_of(where) if isinstance(where, str) else dict(where), shown_url, private=private
    )


class MariadbMonitor(InnodbMonitor[rowlocks.Lock]):
    """One watching connection. See ``engines.monitor.Monitor`` for what each method promises."""

    rules = rules_of("mariadb")
    timed_out = (1969, 1205, 1317)
    named_mode = NAMED_MODE
    _ends: bool
    _tells_earlier: bool
    _records: Records
    text_bytes = 65_535  # PROCESS_LIST_INFO_WIDTH, sql_show.cc
    _many_wait_for: Transaction | None = None

    def learn(self, private: bool) -> None:
        """By variables, grants, and by trying what there is to see."""
        self._records = Records(self.rows, INDEX_COLUMNS, self.called)
        version = str(self.rows("select version()")[0][0])
        if "mariadb" not in version.lower():
            raise TargetError(f"{self._shown}: {version} is not MariaDB")
        self.rows("set session transaction read only")
        self.rows(f"set session max_statement_time = {CHECK_MS / 1000}, lock_wait_timeout = 1")
        row = self.rows(
            "select version(), current_user(), (select count(*) from information_schema.plugins"
            " where plugin_name = 'METADATA_LOCK_INFO' and plugin_status = 'ACTIVE'),"
            " date_format(now() - interval (select variable_value from"
            " information_schema.global_status where variable_name = 'UPTIME') second, '%Y-%m-%d"
            " %H:%i')"
        )[0]
        version, self.login, metadata, self.server_start = (str(value) for value in row)
        self.metadata_plugin = _PLUGIN if metadata != "0" else None
        grants = " ".join(str(row[0]) for row in self.rows("show grants"))
        self.sees_all = self._may("select 1 from information_schema.innodb_trx limit 1")
        self._ends = bool(
            re.search(r"\bCONNECTION ADMIN\b|\bSUPER\b|ALL PRIVILEGES ON \*\.\*", grants)
        )
        level, statistics = self.rows("select @@global.tx_isolation, @@performance_schema")[0]
        self.tells_metadata = statistics == "1" and self._may(
            "select count(*) from performance_schema.metadata_locks"
        )
        if self.tells_metadata:
            self.tells_metadata = self.rows(metadata_queue.TELLS)[0][0] != "0"
        self._tells_earlier = statistics == "1" and self._may(earlier_statements.TELLS)
        if self._tells_earlier:
            self._tells_earlier = self.rows(earlier_statements.TELLS)[0][0] == str(
                earlier_statements.NEEDED
            )
        self.tells_applications = statistics == "1" and self._may(
            "select 1 from performance_schema.session_connect_attrs limit 1"
        )
        self.info = TargetInfo(
            server=self.rules.name,
            version=version.partition("-")[0],
            url=self._shown,
            private=private,
            default_isolation=str(level).replace("-", " ").lower(),
        )

    def _may(self, query: str) -> bool:
        return works(self.rows, query)

    # -- looking -----------------------------------------------------------------------------------

    def counts(self) -> Counts:
        """By status variables."""
        found = dict(self.rows(_COUNTS))
        deadlocks = found.get("Innodb_deadlocks")
        return Counts(
            connected=int(found.get("Threads_connected") or 0) - 1,
            deadlocks=int(deadlocks) if deadlocks else None,
            blocked=int(found.get("Innodb_row_lock_current_waits") or 0),
        )

    def running(self, blocked: int) -> Running:
        """By InnoDB's table, or its status where many wait."""
        many = None
        if self.sees_all and blocked >= MANY:
            many = read_status(self.rows, self._records)
        if many is None:
            return Running(rowlocks.transactions(self.rows) if self.sees_all else {})
        many = self._as_the_tables_name_it(many)
        return Running(many.transactions, many.edges, many.read)

    def row_waits(
        self, running: Mapping[str, Transaction], waited_ms: Callable[[str], float]
    ) -> RowWaits[rowlocks.Lock]:
        """By the locks that InnoDB lists, and its status where transactions without a number take
        part.
        """
        listed = rowlocks.locks(self.rows)
        found = readonly_transactions.waits(self.rows, running, listed)
        edges = [_edge(wait, waited_ms(wait.waiter), self._records) for wait in found.waits]
        return RowWaits(edges, found.suspects, read=len(listed))

    def with_history(
        self, heads: Sequence[SessionInfo], waits: RowWaits[rowlocks.Lock]
    ) -> dict[str, SessionInfo]:
        """By the performance schema, where it retains statements."""
        if not self._tells_earlier or not heads:
            return {}
        known = {session.id: session for session in heads}
        ages = {session.id: session.transaction_ms or 0.0 for session in heads}
        found = earlier_statements.earlier(self.rows, ages)
        return {name: replace(known[name], earlier=texts) for name, texts in found.items()}

    def _as_the_tables_name_it(self, many: ManyWaiters) -> ManyWaiters:
        """The holder of a crowd with the begin of its transaction, as without a crowd: it is asked
        for once.
        """
        name = many.holder
        holder = many.transactions.get(name)
        if holder is None:
            return many
        known = self._many_wait_for
        begun_since = known is not None and (holder.age_ms or 0.0) < (known.age_ms or 0.0)
        if known is None or begun_since or (known.name, known.number) != (name, holder.number):
            known = rowlocks.transactions(self.rows, int(name)).get(name, holder)
            known = replace(known, number=holder.number, age_ms=holder.age_ms)
        self._many_wait_for = known
        return replace(
            many, transactions={**many.transactions, name: replace(holder, started=known.started)}
        )

    def listed(
        self, running: Mapping[str, Transaction], *, everybody: bool = False
    ) -> list[SessionRow]:
        if not self.sees_all:
            return [_listed(row, None) for row in self.rows(_PROCESSES + _OWN_SESSIONS)]
        threads = [name for name in running if name.isdigit()]
        ids = f"id in ({', '.join(threads)}) or " if threads else ""
        which = "true" if everybody else f"{ids}{_WAITING}"
        found = self.rows(f"{_PROCESSES} where id <> connection_id() and ({which})")
        return [_listed(row, running.get(str(row[0]))) for row in found]

    def notes(self, edges: Sequence[Edge]) -> Iterator[str]:
        """Rights and settings."""
        unnamed = {edge.resource.kind for edge in edges if edge.holder == SOMEBODY}
        if not self.sees_all:
            yield (
                f"the login {self.login} sees its own sessions only, and no lock waits; an"
                f" administrator may allow it: {grant('process', self.login)}"
            )
        if unnamed & {"row", "gap"}:
            yield (
                "sessions that only read and share a row cannot be distinguished: set global"
                " innodb_status_output_locks = on;"
            )
        if unnamed - {"row", "gap"} and not (self.metadata_plugin or self.tells_metadata):
            yield (
                "the holder of the metadata lock is not reported: install soname"
                " 'metadata_lock_info';"
            )

    def prepared(self) -> str:
        """By ``XA RECOVER``."""
        reported = [str(row[3]) for row in self.rows("xa recover format = 'SQL'")]
        return (
            "prepared (xa recover):"
            f" {', '.join(f'xa rollback {xid};' for xid in reported) or 'none is listed'}"
        )

    def session(self, number: str) -> SessionInfo | None:
        """One row of the process list."""
        if not number.isdigit():
            return None
        transactions = rowlocks.transactions(self.rows, int(number)) if self.sees_all else {}
        rows = self.rows(f"{_PROCESSES} where id = {int(number)}")
        return self.sessions([_listed(rows[0], transactions.get(number))])[0] if rows else None

    def logs_deadlocks(self) -> bool:
        """With ``innodb_print_all_deadlocks``."""
        return str(self.rows("select @@global.innodb_print_all_deadlocks")[0][0]) == "1"

    # -- ending ------------------------------------------------------------------------------------

    def kill(self, what: str, session: SessionInfo) -> bool:
        """The check and the order in one statement, so that nothing comes between. InnoDB's list of
        transactions is a tenth of a second old, and in whole seconds: the statement's number tells
        exactly.
        """
        number = int(session.id)
        at = f" and query_id = {int(session.statement_id)}" if session.statement_id else ""
        here = f"exists (select 1 from information_schema.processlist where id = {number}{at})"
        same = here
        if self.sees_all:
            trx = f"from information_schema.innodb_trx where trx_mysql_thread_id = {number}"
            if session.transaction is None:
                same = f"{here} and not exists (select 1 {trx})"
            else:
                same = (
                    f"{here} and exists (select 1 {trx} and trx_started ="
                    f" '{plain(session.transaction)}')"
                )
        self.rows(
            "begin not atomic set @catenum_done = 0; "
            f"if {same} then kill {what} {number}; set @catenum_done = 1; end if; end"
        )
        return str(self.rows("select @catenum_done")[0][0]) == "1"

    # -- what is on --------------------------------------------------------------------------------

    def checks(self) -> Sequence[Check]:
        """Variables and rights (MariaDB documentation, "InnoDB System Variables", "Performance
        Schema").
        """
        return requirements.checks(self.rows, self.login, sees_all=self.sees_all, ends=self._ends)


def _listed(row: tuple[Any, ...], trx: Transaction | None) -> SessionRow:
    number, user, host, database, command, time_ms, state, text, statement = row
    return SessionRow(
        id=str(number),
        user=user,
        host=host,
        db=database,
        command=command,
        time_ms=float(time_ms or 0.0),
        state=str(state or ""),
        statement=text,
        trx_state=trx.state if trx else None,
        trx_ms=trx.age_ms if trx else None,
        isolation=trx.isolation if trx else None,
        changed=trx.changed if trx else None,
        transaction=trx.started if trx else None,
        statement_id=str(statement),
    )


def _edge(wait: rowlocks.LockWait, waited_ms: float, records: Records) -> Edge:
    lock = wait.wanted
    schema, name = table_name(lock.table)
    if lock.kind == "RECORD":
        resource = records.resource(lock.table, lock.index, lock.data, lock.mode)
    else:
        resource = Resource(
            kind="table", text=records.called(schema, name), database=schema or None, table=name
        )
    return Edge(
        waiter=wait.waiter,
        holder=wait.holder,
        resource=resource,
        wanted=Mode("table", lock.mode),
        held=Mode("table", wait.held) if wait.held else None,
        queued=wait.queued,
        since_ms=-waited_ms,
    )
