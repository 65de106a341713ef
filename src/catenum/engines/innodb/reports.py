"""Reports: what a deadlock's error and the server's own report say, and by which rule the victim
was chosen.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import ClassVar, cast

import pymysql

from catenum.core.record.modes import NO_MODE, Mode
from catenum.core.record.recording import ServerError
from catenum.core.record.waits import Edge
from catenum.core.sql.handlers import caught
from catenum.engines.carrying import numbered
from catenum.engines.innodb.control import InnodbControl
from catenum.engines.innodb.session import InnodbSession
from catenum.engines.ports import Patience, Session

#: Clients that stand in another database than this run's, and so are not its own.
_OTHERS = """
select count(*) from {} where id <> connection_id() and command not in ('Daemon', 'Binlog Dump')
and user not in ('system user', 'event_scheduler') and coalesce(db, '') not in ('{}')
"""
_BODIES = """
select routine_name, routine_definition from information_schema.routines where routine_schema = %s
union all select trigger_name, action_statement from information_schema.triggers
  where trigger_schema = %s
"""


class InnodbReports(InnodbControl):
    """See ``engines.ports.reports.Reports`` for what each method promises."""

    def edges_of(
        self,
        error: ServerError,
        victim: Session | None = None,
        names: Mapping[str, str] | None = None,
    ) -> tuple[Edge, ...]:
        """The cycle that InnoDB's report of the latest deadlock tells; or, where there is no new
        one, what the victim was after: the cycle was then one of metadata or named locks.
        """
        with self._translated():
            edges, report = self.reader.deadlock_edges(numbered(names) if names else self._threads)
            if report is None or (self._last_report and report.text == self._last_report.text):
                self._report = None
                if victim is None:
                    return ()
                return self.metadata.edges_of_victim(
                    cast(InnodbSession, victim), self._threads, self.reader.tables.keys()
                )
            self._report = self._last_report = report
            return edges

    def cycle_statements(self, names: Mapping[str, str]) -> dict[str, str]:
        """From InnoDB's report of that deadlock."""
        return (
            {names[str(m.thread)]: m.query for m in self._report.members if str(m.thread) in names}
            if self._report
            else {}
        )

    def cycle_victim(self, names: Mapping[str, str]) -> str | None:
        """Whom InnoDB's report names: it tells of the latest deadlock, whichever that was."""
        if self._report is None or self._report.victim is None:
            return None
        return names.get(str(self._report.members[self._report.victim].thread))

    #: The query for how many deadlocks InnoDB has counted.
    deadlocks_counted: ClassVar[str]

    def deadlock_count(self, sessions: Mapping[str, Session]) -> int | None:
        """InnoDB's own counter: cycles of metadata and named locks are not in it."""
        with self._translated():
            try:
                others = self.query(_OTHERS.format(self.process_list, self.schema))
                if others and str(others[0][0]) != "0":
                    return None
                rows = self.query(self.deadlocks_counted)
            except pymysql.Error:
                return None  # this login may not see it
        return int(rows[0][-1]) if rows else None

    def settings(self) -> dict[str, str]:
        """The global values."""
        names = self.rules.locks.settings
        listed = ", ".join("%s" for _ in names)
        with self._translated():
            rows = self.query(f"show global variables where variable_name in ({listed})", names)
        return {str(name): str(value) for name, value in rows}

    def handlers(self) -> list[tuple[str, tuple[str, ...]]]:
        """By the bodies of routines and triggers."""
        with self._translated():
            rows = self.query(_BODIES, (self.schema, self.schema))
        return [(str(name), found) for name, body in rows if (found := caught(str(body or "")))]

    def report_of(self, error: ServerError) -> str | None:
        """InnoDB's own report, kept when the cycle was read from it."""
        return self._report.text if self._report else None

    def verdict_ms(self, cycle: Sequence[Edge]) -> float:
        """InnoDB and the metadata locks look at once, each for cycles of its own kind only."""
        metadata = {edge.wanted.family == "metadata" for edge in cycle}
        seen = metadata == {True} or (metadata == {False} and self._detects)
        return 5_000.0 if seen else 500.0

    def victim_rule(
        self,
        patience: Patience | None,
        closed: bool | None,
        wanted: Mode = NO_MODE,
        *,
        reported: bool = True,
    ) -> str:
        """Why the victim fell (Deadlock::report in lock0lock.cc; enum_deadlock_weight in mdl.h)."""
        last = {
            True: "; here this is the one that closed the cycle",
            False: "; here it waited before the cycle was closed",
        }
        rule = (
            "InnoDB rolls back the transaction with the least weight (rows changed and lock"
            " structures held)"
        )
        if wanted.family == "metadata" or not reported:  # InnoDB tells of each one that it finds
            rule = (
                "the server's metadata locks, which InnoDB does not see, give up the session whose"
                " wait weighs least (for rows, then for a named lock, then for a schema change)"
            )
        return (
            f"{rule}, and among equals the one that closes the"
            f" cycle{last[closed] if closed is not None else ''}"
        )
