"""PostgreSQL (13 and later) for runs: the five ports in one, and loops."""

from __future__ import annotations

from catenum.engines.postgresql.data import PostgresqlData
from catenum.engines.postgresql.definitions import read_definitions
from catenum.engines.postgresql.lock_views import PostgresqlLockViews
from catenum.engines.postgresql.loop import Loop
from catenum.engines.postgresql.loops import PostgresqlLoops
from catenum.engines.postgresql.reports import PostgresqlReports
from catenum.engines.postgresql.sessions import PostgresqlSessions

__all__ = ["Loop", "PostgresqlEngine", "connect", "read_definitions"]


class PostgresqlEngine(
    PostgresqlData, PostgresqlSessions, PostgresqlLockViews, PostgresqlReports, PostgresqlLoops
):
    """One server, one run. See ``engines.ports.Engine``."""


def connect(
    conninfo: str, shown_url: str, *, private: bool = False, sandboxed: bool = True
) -> PostgresqlEngine:
    """Connect to a server. ``shown_url`` is the target without secrets. Raises TargetError where
    that fails.
    """
    return PostgresqlEngine(conninfo, shown_url, private=private, sandboxed=sandboxed)
