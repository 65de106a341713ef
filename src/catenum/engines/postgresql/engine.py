"""The engine: the five ports in one."""

from __future__ import annotations

from catenum.engines.postgresql.data import PostgresqlData
from catenum.engines.postgresql.looking import PostgresqlLooking
from catenum.engines.postgresql.loops import PostgresqlLoops
from catenum.engines.postgresql.reports import PostgresqlReports
from catenum.engines.postgresql.sessions import PostgresqlSessions


class PostgresqlEngine(PostgresqlData, PostgresqlSessions, PostgresqlLooking, PostgresqlReports, PostgresqlLoops):
    """One server, one run. See ``engines.ports.Engine``."""


def connect(conninfo: str, shown_url: str, *, private: bool = False, walled: bool = True) -> PostgresqlEngine:
    """Connect to a server. ``shown_url`` is the target without secrets. Raises TargetError where that fails."""
    return PostgresqlEngine(conninfo, shown_url, private=private, walled=walled)
