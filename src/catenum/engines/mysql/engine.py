"""The engine: the five ports in one."""

from __future__ import annotations

from collections.abc import Mapping

from catenum.engines.innodb.control import arguments_of
from catenum.engines.mysql.data import MysqlData
from catenum.engines.mysql.looking import MysqlLooking
from catenum.engines.mysql.loops import MysqlLoops
from catenum.engines.mysql.reports import MysqlReports
from catenum.engines.mysql.sessions import MysqlSessions


class MysqlEngine(MysqlData, MysqlSessions, MysqlLooking, MysqlReports, MysqlLoops):
    """One server, one run. See ``engines.ports.Engine``."""


def connect(
    where: Mapping[str, object] | str, shown_url: str, *, private: bool = False, walled: bool = True
) -> MysqlEngine:
    """Connect to a server, by URL or by PyMySQL's own arguments. Raises TargetError where that fails."""
    arguments = arguments_of(where) if isinstance(where, str) else dict(where)
    return MysqlEngine(arguments, shown_url, private=private, walled=walled)
