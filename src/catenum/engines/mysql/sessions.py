"""Sessions: opened, made new, ended."""

from __future__ import annotations

from catenum.engines.innodb.sessions import InnodbSessions
from catenum.engines.mysql.control import MysqlControl


class MysqlSessions(InnodbSessions, MysqlControl):
    """See ``engines.ports.sessions.Sessions`` for what each method promises."""
