"""Looks at a running MariaDB: transactions, the process list, and the lock waits that InnoDB lists.

``INNODB_LOCKS`` holds only locks that somebody waits for or that stand in the way, so the cheap check stays cheap;
it is
cached by the server for a tenth of a second (MariaDB documentation, "Information Schema INNODB_LOCK_WAITS Table").
Connection ids count up and are not used again until the server restarts, so a session's start is the server's own.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from hashlib import sha1
from typing import Any

import pymysql

from catenum.core.errors import TargetError
from catenum.core.moment.incidents import PILE
from catenum.core.moment.sample import Sample, SessionInfo, State, Suspect
from catenum.core.record.modes import Mode
from catenum.core.record.recording import LockEntry, TargetInfo
from catenum.core.record.waits import Edge, Resource
from catenum.core.servers import rules_of
from catenum.core.words import duration
from catenum.engines.clock import Clock
from catenum.engines.innodb import earlier, errors, pending
from catenum.engines.innodb.control import arguments_of
from catenum.engines.innodb.pending import ANY_STATE, NAMED_STATE
from catenum.engines.innodb.records import Records, table_name
from catenum.engines.innodb.session import AS_TEXT
from catenum.engines.lookout import (
    APPLICATION,
    LOOK_MS,
    NO_ANSWER_MS,
    SOMEBODY,
    Check,
    DeadlockReport,
    LookTimedOut,
    StatementRate,
    no_answer,
)
from catenum.engines.mariadb import capture, rowlocks, unnumbered
from catenum.engines.mariadb.crowd import CROWD
from catenum.engines.mariadb.crowd import look as look_at_crowd
from catenum.engines.mariadb.standing import standing_edges, waiting

RULES = rules_of("mariadb")
_PROCESSES = "select id, user, host, db, command, time_ms, state, info from information_schema.processlist "
#: The columns of an index, in order (MariaDB documentation, "Information Schema INNODB_SYS_FIELDS Table"). Names of
#: tables are as the file system has them there, so that only plain ones are asked for.
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
#: Without the right PROCESS InnoDB's tables cannot be read, and the process list has the login's own sessions only.
_OWN_SESSIONS = "where id <> connection_id() and command <> 'Sleep'"
_APPLICATIONS = """
select processlist_id, attr_value from performance_schema.session_connect_attrs
where attr_name = 'program_name' and processlist_id in ({ids})
"""


def look_at(where: Mapping[str, object] | str, shown_url: str, *, private: bool = False) -> MariadbLookout:
    """Connect for looking. Raises TargetError."""
    return MariadbLookout(arguments_of(where) if isinstance(where, str) else dict(where), shown_url, private=private)


class MariadbLookout:
    """One watching connection. See ``engines.lookout.Lookout`` for what each method promises."""

    def __init__(self, where: dict[str, object], shown_url: str, *, private: bool) -> None:
        self._shown = shown_url
        self._applications: dict[str, str | None] = {}
        self._records = Records(self._rows, INDEX_COLUMNS)
        options: dict[str, Any] = {
            **where,
            "autocommit": True,
            "charset": "utf8mb4",
            "conv": AS_TEXT,
            "use_unicode": False,  # a statement is in its client's encoding, whatever that is
            "connect_timeout": 5,
            "read_timeout": NO_ANSWER_MS // 1000,
            "program_name": APPLICATION,
            "ssl_disabled": "unix_socket" in where,
        }
        options.pop("database", None)
        try:
            self.connection = pymysql.connect(**options)
        except (pymysql.Error, OSError) as error:
            raise errors.unreachable(error, shown_url) from error
        try:
            self._learn(private)
        except BaseException:
            self.connection.close()
            raise

    def _learn(self, private: bool) -> None:
        version = str(self._rows("select version()")[0][0])
        if "mariadb" not in version.lower():
            raise TargetError(
                f"{self._shown}: {version} is not MariaDB",
                advice="MySQL is not supported yet; MariaDB 10.6 or later is.",
            )
        self._rows("set session transaction read only")
        self._rows(f"set session max_statement_time = {LOOK_MS / 1000}, lock_wait_timeout = 1")
        row = self._rows(
            "select version(), current_user(), (select count(*) from information_schema.plugins "
            "where plugin_name = 'METADATA_LOCK_INFO' and plugin_status = 'ACTIVE'), "
            "date_format(now() - interval (select variable_value from information_schema.global_status "
            "where variable_name = 'UPTIME') second, '%Y-%m-%d %H:%i')"
        )[0]
        version, self.login, metadata, self._server_start = (str(value) for value in row)
        self._metadata = metadata != "0"
        grants = " ".join(str(row[0]) for row in self._rows("show grants"))
        self.sees_all = self._may("select 1 from information_schema.innodb_trx limit 1")
        self._ends = bool(re.search(r"\bCONNECTION ADMIN\b|\bSUPER\b|ALL PRIVILEGES ON \*\.\*", grants))
        level, statistics = self._rows("select @@global.tx_isolation, @@performance_schema")[0]
        self._tells_metadata = statistics == "1" and self._may("select count(*) from performance_schema.metadata_locks")
        if self._tells_metadata:
            self._tells_metadata = self._rows(pending.TELLS)[0][0] != "0"
        self._tells_earlier = statistics == "1" and self._may(earlier.TELLS)
        if self._tells_earlier:
            self._tells_earlier = self._rows(earlier.TELLS)[0][0] == str(earlier.NEEDED)
        self._tells_applications = statistics == "1" and self._may(
            "select 1 from performance_schema.session_connect_attrs limit 1"
        )
        self.info = TargetInfo(
            server="mariadb",
            version=version.partition("-")[0],
            url=self._shown,
            private=private,
            default_isolation=str(level).replace("-", " ").lower(),
        )

    def _may(self, query: str) -> bool:
        return capture.works(self._rows, query)

    def _rows(self, query: str, values: tuple[object, ...] = ()) -> list[tuple[Any, ...]]:
        try:
            cursor = self.connection.cursor()
            cursor.execute(query, values or None)
            return [tuple(_any_text(value) for value in row) for row in cursor.fetchall()]
        except (pymysql.Error, OSError) as error:
            number, message = errors.number_and_text(error)
            if number in (1969, 1205, 1317):
                told = f"{self._shown}: the check took longer than {LOOK_MS / 1000:g} s and was abandoned"
                raise LookTimedOut(told) from error
            if isinstance(error.__context__, TimeoutError):  # the driver's own limit, in its own wording
                raise no_answer(self._shown) from error
            if errors.kind_of(number, RULES) == "lost" or number == 0:
                raise errors.went_away(error, self._shown) from error
            raise TargetError(f"{self._shown}: {message}") from error

    # -- looking -----------------------------------------------------------------------------------------------------

    def sample(self, *, locks: bool = False, at_least_ms: float = 0.0) -> Sample:
        """By the process list, the transactions and InnoDB's lock waits."""
        clock = Clock()
        counts = dict(self._rows(_COUNTS))
        crowd = None
        if self.sees_all and int(counts.get("Innodb_row_lock_current_waits") or 0) >= CROWD:
            crowd = look_at_crowd(self._rows, self._records)
        transactions = crowd.transactions if crowd else rowlocks.transactions(self._rows) if self.sees_all else {}
        rows = self._listed(transactions)
        waited = {name: trx.waited_ms for name, trx in transactions.items() if trx.waited_ms is not None}
        stuck = waiting(rows)
        longest = max([*waited.values(), *(float(row[5] or 0.0) for row in stuck)], default=0.0)
        asks = self.sees_all and (longest >= at_least_ms or len(waited) + len(stuck) >= PILE)
        listed = rowlocks.locks(self._rows) if asks and waited and crowd is None else []
        read = len(listed) + len(rows) + len(transactions) + (crowd.read if crowd else 0)
        sessions = {session.id: session for session in self._sessions(rows)}
        told = unnumbered.waits(self._rows, transactions, listed) if crowd is None else unnumbered.Waits(())
        edges = [
            _edge(wait, _most_waited(waited.get(wait.waiter), sessions.get(wait.waiter)), self._records)
            for wait in told.waits
        ]
        edges = [*edges, *(crowd.edges if crowd and asks else ())]
        suspects: tuple[Suspect, ...] = told.suspects
        if stuck and asks:
            standing = standing_edges(self._rows, rows, listed=self._metadata, told=self._tells_metadata)
            edges, read = [*edges, *standing.edges], read + standing.read
            suspects = (*suspects, *standing.suspects)
        for name in ({edge.holder for edge in edges} | {suspect.session for suspect in suspects}) - sessions.keys():
            found = self.session(name)
            if found is not None:
                sessions[name] = found
        if self._tells_earlier and edges:
            heads = {edge.holder for edge in edges} - {edge.waiter for edge in edges}
            ages = {name: sessions[name].transaction_ms or 0.0 for name in heads if name in sessions}
            for name, texts in earlier.earlier(self._rows, ages).items():
                sessions[name] = replace(sessions[name], earlier=texts)
        entries = [
            LockEntry(transaction=edge.waiter, resource=edge.resource, mode=edge.wanted, granted=False)
            for edge in edges
        ] + [LockEntry(transaction=e.holder, resource=e.resource, mode=e.held, granted=True) for e in edges if e.held]
        return Sample(
            at=clock.wall(),
            target=self.info,
            sessions=tuple(sessions.values()),
            edges=tuple(edges),
            connected=int(counts.get("Threads_connected") or 0) - 1,
            deadlocks=int(counts["Innodb_deadlocks"]) if counts.get("Innodb_deadlocks") else None,
            cost_ms=round(clock.now_ms(), 2),
            rows_read=read,
            locks=tuple(dict.fromkeys(entries)) if locks else (),
            notes=(
                *self._notes({edge.resource.kind for edge in edges if edge.holder == SOMEBODY}),
                *self._prepared({edge.holder for edge in edges}, transactions),
            ),
            partial=not self.sees_all,
            suspects=suspects,
            inexact=frozenset(waited) if crowd is None else frozenset(),
        )

    def _listed(self, transactions: Mapping[str, rowlocks.Transaction]) -> list[tuple[Any, ...]]:
        """The sessions that wait, or stand in a transaction: rows of the process list, each with its transaction's
        state, age (ms), isolation level and changed rows. The views are read apart and put together here: the server
        joins them row by row.
        """
        if not self.sees_all:
            return [(*row, *(None,) * 5) for row in self._rows(_PROCESSES + _OWN_SESSIONS)]
        threads = [name for name in transactions if name.isdigit()]
        ids = f"id in ({', '.join(threads)}) or " if threads else ""
        found = self._rows(f"{_PROCESSES} where id <> connection_id() and ({ids}{_WAITING})")
        return [self._with_transaction(row, transactions) for row in found]

    @staticmethod
    def _with_transaction(row: tuple[Any, ...], transactions: Mapping[str, rowlocks.Transaction]) -> tuple[Any, ...]:
        trx = transactions.get(str(row[0]))
        told = (trx.state, trx.age_ms, trx.isolation, trx.changed, trx.started) if trx else (None,) * 5
        return (*row, *told)

    def _notes(self, unnamed: set[str]) -> Iterator[str]:
        """``unnamed``: the kinds of things of which the holder is not named."""
        if not self.sees_all:
            yield (
                f"the login {self.login} sees its own sessions only, and no lock waits; an administrator may allow it: "
                f"{capture.grant('process', self.login)}"
            )
        if unnamed & {"row", "gap"}:
            yield "who has only read and shares a row is not told apart: set global innodb_status_output_locks = on;"
        if unnamed - {"row", "gap"} and not (self._metadata or self._tells_metadata):
            yield "the holder of the metadata lock is not reported: install soname 'metadata_lock_info';"

    def _prepared(self, holders: set[str], transactions: Mapping[str, rowlocks.Transaction]) -> Iterator[str]:
        """Prepared transactions in the way, and how they are undone: no session is to be ended for that."""
        detached = sorted(name for name in holders if name.startswith(rowlocks.DETACHED))
        for name in detached:
            age = transactions[name].age_ms
            opened = f", open for {duration(age)}" if age is not None else ""
            yield f"{name}{opened}, holds locks: it ends by 'xa commit' or 'xa rollback'"
        if detached:
            told = [str(row[3]) for row in self._rows("xa recover format = 'SQL'")]
            yield f"prepared (xa recover): {', '.join(f'xa rollback {xid};' for xid in told) or 'none is listed'}"

    def _sessions(self, rows: list[tuple[Any, ...]]) -> list[SessionInfo]:
        """As they are listed, each with the application that its client told when it connected."""
        fresh = [str(row[0]) for row in rows if str(row[0]) not in self._applications]
        if fresh and self._tells_applications:
            told = dict(self._rows(_APPLICATIONS.format(ids=", ".join(fresh))))
            self._applications = {
                str(row[0]): self._applications.get(str(row[0])) for row in rows
            }  # no more than those
            self._applications.update((name, told.get(name)) for name in fresh)
        return [self._session(row) for row in rows]

    def _session(self, row: tuple[Any, ...]) -> SessionInfo:
        number, user, host, database, command, time_ms, state, info, trx_state, trx_ms, level, changed, trx = row
        background = command in ("Daemon", "Binlog Dump", "Slave_IO", "Slave_SQL", "Slave_worker") or user in SYSTEM
        since = float(time_ms) if time_ms is not None else None
        return SessionInfo(
            id=str(number),
            started=f"server start {self._server_start}",
            user=user,
            application=self._applications.get(str(number)),
            host=(str(host).rpartition(":")[0] or host) if host else None,
            port=int(port) if (port := str(host or "").rpartition(":")[2]).isdigit() and ":" in str(host) else None,
            database=database,
            state=_state(command, state, trx_state),
            waits_on=state if state and command != "Sleep" and "lock" not in str(state).lower() else None,
            transaction=trx,
            transaction_ms=float(trx_ms) if trx_ms is not None else None,
            statement_ms=since if command != "Sleep" else None,
            state_ms=since,
            isolation=str(level).lower().replace("-", " ") if level else "not reported",
            statement=info,
            rows_changed=int(changed) if changed is not None else None,
            background=background,
            kind=_kind(user, command) if background else None,
            undoing=trx_state == "ROLLING BACK",
            killed=command == "Killed",
        )

    def session(self, number: str) -> SessionInfo | None:
        """One row of the process list."""
        if not number.isdigit():
            return None
        transactions = rowlocks.transactions(self._rows, int(number)) if self.sees_all else {}
        rows = self._rows(f"{_PROCESSES} where id = {int(number)}")
        return self._sessions([self._with_transaction(rows[0], transactions)])[0] if rows else None

    def deadlock_report(self) -> DeadlockReport | None:
        """The section LATEST DETECTED DEADLOCK of InnoDB's status."""
        if not self.sees_all:
            return None
        text = str(self._rows("show engine innodb status")[0][2])
        found = re.search(r"LATEST DETECTED DEADLOCK\n-+\n(.*?)\n-{6,}\n[A-Z]", text, re.DOTALL)
        if found is None:
            return None
        report = found[1].strip()
        return DeadlockReport(key=sha1(report.encode(), usedforsecurity=False).hexdigest(), text=report)

    def logs_deadlocks(self) -> bool:
        """With ``innodb_print_all_deadlocks``."""
        return str(self._rows("select @@global.innodb_print_all_deadlocks")[0][0]) == "1"

    # -- ending ------------------------------------------------------------------------------------------------------

    def cancel(self, session: SessionInfo) -> bool:
        """``KILL QUERY``."""
        return self._kill("query", session)

    def end(self, session: SessionInfo) -> bool:
        """``KILL CONNECTION``."""
        return self._kill("connection", session)

    def _kill(self, what: str, session: SessionInfo) -> bool:
        """The look and the order in one statement, so that nothing comes between: the server ends the session only if
        it is still in the transaction that was shown, or in none where none was.
        """
        number = int(session.id)
        same = f"exists (select 1 from information_schema.processlist where id = {number})"
        if self.sees_all:
            trx = f"from information_schema.innodb_trx where trx_mysql_thread_id = {number}"
            if session.transaction is None:
                same = f"{same} and not exists (select 1 {trx})"
            else:
                same = f"exists (select 1 {trx} and trx_started = '{_plain(session.transaction)}')"
        self._rows(
            f"begin not atomic set @catenum_done = 0; "
            f"if {same} then kill {what} {number}; set @catenum_done = 1; end if; end"
        )
        return str(self._rows("select @catenum_done")[0][0]) == "1"

    # -- what is on --------------------------------------------------------------------------------------------------

    def checks(self) -> Sequence[Check]:
        """Variables and rights (MariaDB documentation, "InnoDB System Variables", "Performance Schema")."""
        return capture.checks(self._rows, self.login, sees_all=self.sees_all, ends=self._ends)

    def rates(self) -> list[StatementRate] | None:
        """From the performance schema's digests, where it is on."""
        query = (
            "select digest_text, sum(count_star), sum(sum_timer_wait) / 1000000000 "
            "from performance_schema.events_statements_summary_by_digest where digest_text is not null "
            "group by 1 order by 2 desc limit 500"
        )
        try:
            rows = self._rows(query)
        except TargetError:
            return None
        found = [StatementRate(text=str(r[0]), calls=int(float(r[1])), total_ms=float(r[2])) for r in rows]
        return found or None

    def close(self) -> None:
        """Disconnect."""
        with contextlib.suppress(pymysql.Error, OSError):
            self.connection.close()


#: Users of the server's own threads.
SYSTEM = ("system user", "event_scheduler")


def _kind(user: str, command: str) -> str:
    """What a thread of the server is (MariaDB documentation, "Thread Command Values", "Slave SQL Thread States")."""
    if user == "event_scheduler":
        return "event scheduler"
    if command.startswith("Slave"):
        return {"Slave_IO": "replication receiver"}.get(command, "replication applier")
    return "replication sender" if command == "Binlog Dump" else "system thread"


def _state(command: str, state: str | None, trx_state: str | None) -> State:
    if trx_state == "LOCK WAIT" or state == NAMED_STATE:
        return "waits for a lock"
    if state and ANY_STATE.match(state):
        return "waits for a lock"
    if command == "Sleep":
        return "idle in a transaction" if trx_state else "idle"
    return "working"


def _most_waited(told_ms: float | None, session: SessionInfo | None) -> float:
    """The most that a wait can have lasted: InnoDB tells its beginning in whole seconds, rounded down, and a statement
    waits no longer than it runs.
    """
    runs_ms = session.statement_ms if session is not None else None
    return min((bound for bound in (told_ms, runs_ms) if bound is not None), default=0.0)


def _edge(wait: rowlocks.LockWait, waited_ms: float, records: Records) -> Edge:
    lock = wait.wanted
    _, name = table_name(lock.table)
    if lock.kind == "RECORD":
        resource = records.resource(lock.table, lock.index, lock.data, lock.mode)
    else:
        resource = Resource(kind="table", text=name, table=name)
    return Edge(
        waiter=wait.waiter,
        holder=wait.holder,
        resource=resource,
        wanted=Mode("table", lock.mode),
        held=Mode("table", wait.held) if wait.held else None,
        queued=wait.queued,
        since_ms=-waited_ms,
    )


def _any_text(value: object) -> str | None:
    """A value as text; what is no UTF-8 keeps its bytes in sight, as ``\\xe9``."""
    if value is None:
        return None
    return value.decode("utf-8", "backslashreplace") if isinstance(value, bytes) else str(value)


def _plain(moment: str) -> str:
    """A time as the server told it, as it can stand in a statement."""
    if not re.fullmatch(r"[0-9 :.T-]+", moment):
        raise TargetError(f"the server told a time that is none: {moment!r}")
    return moment
