"""Reports: what a deadlock's error and the server's own report say, and by which rule the victim
was chosen.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import cast

from catenum.core.record.modes import NO_MODE, Mode
from catenum.core.record.recording import ServerError, TableKeys
from catenum.core.record.waits import Edge, Resource
from catenum.core.servers import rules_of
from catenum.core.sql.handlers import caught
from catenum.engines.carrying import numbered
from catenum.engines.ports import Patience, Session
from catenum.engines.postgresql.control import PostgresqlControl
from catenum.engines.postgresql.lock_table import RULES
from catenum.engines.postgresql.session import CHECK_AFTER_MS, PostgresqlSession

#: Deadlocks counted, and whether other clients than this run's are connected to the database.
_DEADLOCKS = """
select d.deadlocks, exists (select from pg_stat_activity a where a.datname = d.datname
  and a.backend_type =
  'client backend' and a.pid <> pg_backend_pid() and not starts_with(a.application_name, %s))
from pg_stat_database d where d.datname = current_database()
"""
_SETTINGS = """
select name, reset_val || case when reset_val <> '0' then coalesce(' ' || unit, '') else '' end
  from pg_catalog.pg_settings where name = any(%s) order by name
"""
_BODIES = """
select p.proname, p.prosrc from pg_proc p join pg_namespace n on n.oid = p.pronamespace
where n.nspname = %s and p.prokind in ('f', 'p') order by 1
"""


class PostgresqlReports(PostgresqlControl):
    """See ``engines.ports.reports.Reports`` for what each method promises."""

    def edges_of(
        self,
        error: ServerError,
        victim: Session | None = None,
        names: Mapping[str, str] | None = None,
    ) -> tuple[Edge, ...]:
        """The waits that a deadlock error's own detail reports.

        The victim, whose process found the cycle, comes first (``DeadLockReport`` in deadlock.c).
        The row that it waited for is told by its context; of the others the server tells the
        transaction that they wait for, no more.
        """
        pattern = r"Process (\d+) waits for (\w+) on ([^;]+); blocked by process (\d+)"
        found = re.findall(pattern, error.detail or "")
        known = numbered(names) if names else self._pids
        return tuple(
            Edge(
                waiter=known.get(int(waiter), f"session {waiter}"),
                holder=known.get(int(holder), f"session {holder}"),
                resource=self._waited_for(what, self._context_row(error) if number == 0 else None),
                wanted=self._row_mode_of(int(waiter)) or Mode("table", mode),
                held=None,
                queued=what.startswith(
                    "tuple "
                ),  # the lock on a row's place is the first in its queue's
            )
            for number, (waiter, mode, what, holder) in enumerate(found)
        )

    def _waited_for(self, what: str, row: Resource | None) -> Resource:
        """What the error's detail names: a row's place, a table, or only a transaction."""
        place = re.match(r"(?:tuple \((\d+),(\d+)\) of )?relation (\d+) of database", what)
        table = self.reader.table.table_named_by(int(place[3])) if place else None
        if place is None or table is None:
            return row or Resource(kind="other", text=what)
        if place[1] is None:
            return Resource(kind="table", text=table, table=table)
        return self.reader.rows.at(table, int(place[1]), int(place[2]))[0]

    def _context_row(self, error: ServerError) -> Resource | None:
        match = re.search(r'tuple \((\d+),(\d+)\) in relation "(.+)"', error.context or "")
        if match is None:
            return None
        return self.reader.rows.at(match[3], int(match[1]), int(match[2]))[0]

    def _row_mode_of(self, pid: int) -> Mode | None:
        """The row lock that the session's statement is after, derived from its text."""
        session = self._sessions.get(pid)
        for access in (
            RULES.sql.footprint(session.sql, dict(session.values)).accesses if session else ()
        ):
            mode = RULES.locks.row_mode(
                access, self.reader.rows.tables.get(access.table, TableKeys(primary=())).columns
            )
            if mode is not None:
                return mode
        return None

    def cycle_statements(self, names: Mapping[str, str]) -> dict[str, str]:
        """The statements stand in the server's log only."""
        return {}

    def cycle_victim(self, names: Mapping[str, str]) -> str | None:
        """The error came with its cycle: no other deadlock's can be mistaken for it."""
        return None

    def deadlock_count(self, sessions: Mapping[str, Session]) -> int | None:
        """By the statistics of the database; a session hands its counts in when asked to (15 and
        later).
        """
        if self.connection.info.server_version < 150000:
            return None
        with self._translated(self.info.url):
            for session in cast(Mapping[str, PostgresqlSession], sessions).values():
                session.hand_in_counts()
            row = self.connection.execute(_DEADLOCKS, [f"catenum {self.run}"]).fetchone()
        return int(row[0]) if row is not None and not row[1] else None

    def settings(self) -> dict[str, str]:
        """What a session without settings of its own begins with."""
        names = list(rules_of(self.info.server).locks.settings)
        with self._translated(self.info.url):
            rows = self.connection.execute(_SETTINGS, [names]).fetchall()
        return {str(name): str(value) for name, value in rows}

    def handlers(self) -> list[tuple[str, tuple[str, ...]]]:
        """By the source of what is not SQL alone."""
        with self._translated(self.info.url):
            rows = self.connection.execute(_BODIES, [self.schema]).fetchall()
        return [(str(name), found) for name, body in rows if (found := caught(str(body)))]

    def report_of(self, error: ServerError) -> str | None:
        """The error's own texts; the rest stands in the server's log."""
        parts = (error.message, error.detail, error.hint, error.context)
        return "\n".join(part for part in parts if part)

    def verdict_ms(self, cycle: Sequence[Edge]) -> float:
        """Every session looks for cycles once its deadlock_timeout is over."""
        return float(self._verdict_ms)

    def victim_rule(
        self,
        patience: Patience | None,
        closed: bool | None,
        wanted: Mode = NO_MODE,
        *,
        reported: bool = True,
    ) -> str:
        """Why the victim fell (documentation, 20.12).

        Each session checks once, deadlock_timeout after its wait began.
        """
        base = (
            "PostgreSQL rolls back the transaction whose own deadlock check is the first to find"
            " the closed cycle"
        )
        if not self.capabilities.steers_victim:
            return (
                f"{base}, {self._deadlock_timeout} after its wait began: a matter of timing here, "
                f"since {self.capabilities.steers_victim_why}"
            )
        if closed is None:
            return f"{base}: in loops a matter of timing"
        soon, later = CHECK_AFTER_MS[Patience.FIRST], CHECK_AFTER_MS[Patience.LAST]
        if patience is Patience.CHOSEN:
            return (
                f"{base}; this one was chosen as the victim, so it checked after "
                f"{CHECK_AFTER_MS[Patience.CHOSEN]} ms, the others after {later} ms or more"
            )
        if closed and patience is Patience.FIRST:
            return (
                f"{base}; the one that closed it checks first here (after {soon} ms, the others"
                f" after {later} ms or more)"
            )
        return f"{base}; it was the first to check, {later} ms or more after its wait began"
