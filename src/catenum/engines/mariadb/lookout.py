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
from catenum.core.moment.sample import Sample, SessionInfo, State
from catenum.core.record.modes import Mode
from catenum.core.record.recording import LockEntry, TargetInfo
from catenum.core.record.waits import Edge, Resource
from catenum.engines.clock import Clock
from catenum.engines.lookout import (
    APPLICATION,
    LOOK_MS,
    NO_ANSWER_MS,
    Check,
    DeadlockReport,
    LookTimedOut,
    StatementRate,
    access_to,
    named_row,
    no_answer,
)
from catenum.engines.mariadb import errors
from catenum.engines.mariadb.control import arguments_of
from catenum.engines.mariadb.metadata import ANY_STATE, NAMED_STATE, SOMEBODY
from catenum.engines.mariadb.session import AS_TEXT, text_of
from catenum.engines.mariadb.standing import standing_edges, waiting

_LISTED = """
select p.id, p.user, p.host, p.db, p.command, p.time_ms, p.state, p.info, t.trx_state,
       timestampdiff(microsecond, t.trx_started, now(6)) / 1000, t.trx_isolation_level, t.trx_rows_modified,
       timestampdiff(microsecond, t.trx_wait_started, now(6)) / 1000
from information_schema.processlist p left join information_schema.innodb_trx t on t.trx_mysql_thread_id = p.id
"""
_SESSIONS = (
    "where p.id <> connection_id() and "
    "(t.trx_id is not null or p.state like 'Waiting for%lock%' or p.state in ('User lock', 'Waiting for table flush'))"
)
#: Without the right PROCESS InnoDB's tables cannot be read, and the process list has the login's own sessions only.
_OWN_LISTED = """
select p.id, p.user, p.host, p.db, p.command, p.time_ms, p.state, p.info, null, null, null, null, null
from information_schema.processlist p
"""
_OWN_SESSIONS = "where p.id <> connection_id() and p.command <> 'Sleep'"
_WAITS = """
select r.trx_mysql_thread_id, b.trx_mysql_thread_id, rl.lock_mode, bl.lock_mode, rl.lock_table, rl.lock_index,
       rl.lock_type, rl.lock_data,
       b.trx_requested_lock_id = w.blocking_lock_id
from information_schema.innodb_lock_waits w
join information_schema.innodb_locks rl on rl.lock_id = w.requested_lock_id
join information_schema.innodb_locks bl on bl.lock_id = w.blocking_lock_id
join information_schema.innodb_trx r on r.trx_id = w.requesting_trx_id
join information_schema.innodb_trx b on b.trx_id = w.blocking_trx_id
"""
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
        options: dict[str, Any] = {
            **where,
            "autocommit": True,
            "charset": "utf8mb4",
            "conv": AS_TEXT,
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
        self._rows("set session transaction read only")
        self._rows(f"set session max_statement_time = {LOOK_MS / 1000}, lock_wait_timeout = 1")
        row = self._rows(
            "select version(), current_user(), (select count(*) from information_schema.plugins "
            "where plugin_name = 'METADATA_LOCK_INFO' and plugin_status = 'ACTIVE'), "
            "date_format(now() - interval (select variable_value from information_schema.global_status "
            "where variable_name = 'UPTIME') second, '%Y-%m-%d %H:%i')"
        )[0]
        version, self.login, metadata, self._server_start = (str(value) for value in row)
        if "mariadb" not in version.lower():
            raise TargetError(f"{self._shown}: {version} is not MariaDB")
        self._metadata = metadata != "0"
        grants = " ".join(str(row[0]) for row in self._rows("show grants"))
        self.sees_all = bool(re.search(r"\bPROCESS\b|ALL PRIVILEGES ON \*\.\*", grants))
        self._listed = _LISTED if self.sees_all else _OWN_LISTED
        self._ends = bool(re.search(r"\bCONNECTION ADMIN\b|\bSUPER\b|ALL PRIVILEGES ON \*\.\*", grants))
        level, statistics = self._rows("select @@global.tx_isolation, @@performance_schema")[0]
        self._tells_applications = statistics == "1" and self._may_read_attributes()
        self.info = TargetInfo(
            server="mariadb",
            version=version.partition("-")[0],
            url=self._shown,
            private=private,
            default_isolation=str(level).replace("-", " ").lower(),
        )

    def _may_read_attributes(self) -> bool:
        try:
            self._rows("select 1 from performance_schema.session_connect_attrs limit 1")
        except TargetError:
            return False
        return True

    def _rows(self, query: str, values: tuple[object, ...] = ()) -> list[tuple[Any, ...]]:
        try:
            cursor = self.connection.cursor()
            cursor.execute(query, values or None)
            return [tuple(text_of(value) for value in row) for row in cursor.fetchall()]
        except (pymysql.Error, OSError) as error:
            number, message = errors.number_and_text(error)
            if number in (1969, 1205, 1317):
                told = f"{self._shown}: the check took longer than {LOOK_MS / 1000:g} s and was abandoned"
                raise LookTimedOut(told) from error
            if isinstance(error.__context__, TimeoutError):  # the driver's own limit, in its own wording
                raise no_answer(self._shown) from error
            if errors.kind_of(number) == "lost" or number == 0:
                raise errors.went_away(error, self._shown) from error
            raise TargetError(f"{self._shown}: {message}") from error

    # -- looking -----------------------------------------------------------------------------------------------------

    def sample(self, *, locks: bool = False, at_least_ms: float = 0.0) -> Sample:
        """By the process list, the transactions and InnoDB's lock waits."""
        clock = Clock()
        rows = self._rows(self._listed + (_SESSIONS if self.sees_all else _OWN_SESSIONS))
        waited = {str(row[0]): float(row[12]) for row in rows if row[12] is not None}
        stuck = waiting(rows)
        longest = max([*waited.values(), *(float(row[5] or 0.0) for row in stuck)], default=0.0)
        asks = self.sees_all and longest >= at_least_ms
        waits = self._rows(_WAITS) if asks and waited else []
        read = len(waits) + len(rows)
        waits = _past_queues(waits)
        sessions = {session.id: session for session in self._sessions(rows)}
        edges = [_edge(row, sessions.get(str(row[0])), waited.get(str(row[0]), 0.0)) for row in waits]
        if stuck and asks:
            standing, more = standing_edges(self._rows, stuck, listed=self._metadata)
            edges, read = edges + standing, read + more
        for name in {edge.holder for edge in edges} - sessions.keys():
            found = self.session(name)
            if found is not None:
                sessions[name] = found
        counts = dict(self._rows("show global status where variable_name in ('Threads_connected', 'Innodb_deadlocks')"))
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
            notes=tuple(self._notes(any(edge.holder == SOMEBODY for edge in edges))),
            partial=not self.sees_all,
        )

    def _notes(self, unnamed: bool) -> Iterator[str]:
        if not self.sees_all:
            yield (
                f"the login {self.login} sees its own sessions only, and no lock waits; an administrator may allow it: "
                f"{self._grant('process')}"
            )
        if unnamed and not self._metadata:
            yield "the holder of the metadata lock is not reported: install soname 'metadata_lock_info';"

    def _grant(self, right: str) -> str:
        user, _, host = self.login.rpartition("@")
        return f"grant {right} on *.* to '{user}'@'{host}';"

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
        number, user, host, database, command, time_ms, state, info, trx_state, trx_ms, level, changed, _ = row
        background = command == "Daemon" or user == "system user"
        since = float(time_ms) if time_ms is not None else None
        return SessionInfo(
            id=str(number),
            started=f"server start {self._server_start}",
            user=user,
            application=self._applications.get(str(number)),
            host=(str(host).rpartition(":")[0] or host) if host else None,
            database=database,
            state=_state(command, state, trx_state),
            waits_on=state if state and command != "Sleep" and "lock" not in str(state).lower() else None,
            transaction_ms=float(trx_ms) if trx_ms is not None else None,
            statement_ms=since if command != "Sleep" else None,
            state_ms=since,
            isolation=str(level).lower().replace("-", " ") if level else "not reported",
            statement=info,
            rows_changed=int(changed) if changed is not None else None,
            background=background,
        )

    def session(self, number: str) -> SessionInfo | None:
        """One row of the process list."""
        if not number.isdigit():
            return None
        rows = self._rows(f"{self._listed} where p.id = {int(number)}")
        return self._sessions(rows)[0] if rows else None

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

    # -- ending ------------------------------------------------------------------------------------------------------

    def cancel(self, number: str) -> bool:
        """``KILL QUERY``."""
        self._rows(f"kill query {int(number)}")
        return True

    def end(self, number: str) -> bool:
        """``KILL CONNECTION``."""
        self._rows(f"kill connection {int(number)}")
        return True

    # -- what is on --------------------------------------------------------------------------------------------------

    def checks(self) -> Sequence[Check]:
        """Variables and rights (MariaDB documentation, "InnoDB System Variables", "Performance Schema")."""
        names = (
            "'innodb_print_all_deadlocks', 'innodb_status_output_locks', 'performance_schema', 'innodb_deadlock_detect'"
        )
        found = dict(self._rows(f"show global variables where variable_name in ({names})"))
        return [
            _variable("innodb_print_all_deadlocks", found, "every deadlock in the server's log, not the latest only"),
            _variable("innodb_deadlock_detect", found, "otherwise cycles end by timeout"),
            _variable("innodb_status_output_locks", found, "held locks in InnoDB's status", needed=False),
            Check(
                what="metadata_lock_info",
                state="on" if self._metadata else "missing",
                why="who holds up a schema change",
                turn_on=None if self._metadata else "install soname 'metadata_lock_info';",
                needed=False,
            ),
            Check(
                what="performance_schema",
                state="on" if found.get("performance_schema") == "ON" else "off",
                why="the application of each session; how often statements run, beside how long they wait",
                turn_on=None
                if found.get("performance_schema") == "ON"
                else "performance_schema=ON -- in the configuration, with a restart",
                needed=False,
            ),
            Check(
                what="login may see all sessions",
                state="on" if self.sees_all else "off",
                value=self.login,
                why="otherwise only its own, and no lock waits",
                turn_on=None if self.sees_all else self._grant("process"),
            ),
            Check(
                what="login may end sessions",
                state="on" if self._ends else "off",
                why="for release; its own it may end anyway",
                turn_on=None if self._ends else self._grant("connection admin"),
                needed=False,
            ),
        ]

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


def _state(command: str, state: str | None, trx_state: str | None) -> State:
    if trx_state == "LOCK WAIT" or state == NAMED_STATE:
        return "waits for a lock"
    if state and ANY_STATE.match(state):
        return "waits for a lock"
    if command == "Sleep":
        return "idle in a transaction" if trx_state else "idle"
    return "working"


def _past_queues(waits: list[tuple[Any, ...]]) -> list[tuple[Any, ...]]:
    """Without waits for those who stand ahead in the same queue, where somebody holds what is waited for.

    ``INNODB_LOCK_WAITS`` names everybody ahead, be it as holder or as waiter.
    """
    held_up = {row[0] for row in waits if row[8] != "1"}
    return [row for row in waits if row[8] != "1" or row[0] not in held_up]


def _edge(row: tuple[Any, ...], waiter: SessionInfo | None, waited_ms: float) -> Edge:
    number, holder, wanted, held, table, index, kind, data, queued = (str(value) for value in row)
    name = re.sub(r" /\*.*\*/$", "", table)  # behind it the partition, where it has some
    name = re.sub(r"[`\"]", "", name).partition(".")[2] or name
    if kind == "RECORD":
        resource = replace(_record(name, index, data, waiter.statement if waiter else None), index=index)
    else:
        resource = Resource(kind="table", text=name, table=name)
    return Edge(
        waiter=number,
        holder=holder,
        resource=resource,
        wanted=Mode("table", wanted),
        held=Mode("table", held),
        queued=queued == "1",
        since_ms=-waited_ms,
    )


def _record(table: str, index: str, data: str, statement: str | None) -> Resource:
    """By the statement that waits for it, where that names the row; else by what InnoDB tells of the index entry."""
    access = access_to(statement, table, errors.RULES)
    if access is not None and access.equals and access.verb != "insert":
        return named_row(access)
    if re.fullmatch(r"-?\d+|'[^',]*'", data):
        return Resource(kind="row", text=f"{table}({index}={data})", table=table, key=((index, data),))
    return Resource(kind="row", text=f"a record of {table}, index {index}", table=table)


def _variable(name: str, found: dict[str, str], why: str, *, needed: bool = True) -> Check:
    on = str(found.get(name, "")).upper() in ("ON", "1")
    turn_on = None if on else f"set global {name} = on;"
    return Check(
        what=name, state="on" if on else "off", value=str(found.get(name, "")), why=why, turn_on=turn_on, needed=needed
    )
