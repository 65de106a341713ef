"""The engine: the five ports in one."""

from __future__ import annotations

from collections.abc import Mapping

from catenum.engines.innodb.control import arguments_of
from catenum.engines.mariadb.data import MariadbData
from catenum.engines.mariadb.looking import MariadbLooking
from catenum.engines.mariadb.loops import MariadbLoops
from catenum.engines.mariadb.reports import MariadbReports
from catenum.engines.mariadb.sessions import MariadbSessions


class MariadbEngine(MariadbData, MariadbSessions, MariadbLooking, MariadbReports, MariadbLoops):
    """One server, one run. See ``engines.ports.Engine``."""


def connect(
    where: Mapping[str, object] | str, shown_url: str, *, private: bool = False, walled: bool = True
) -> MariadbEngine:
    """Connect to a server, by URL or by PyMySQL's own arguments. Raises TargetError where that fails."""
    arguments = arguments_of(where) if isinstance(where, str) else dict(where)
    return MariadbEngine(arguments, shown_url, private=private, walled=walled)
