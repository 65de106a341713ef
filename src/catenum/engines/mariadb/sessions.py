"""Sessions: opened, made new, ended. As InnoDB has it."""

from __future__ import annotations

from catenum.engines.innodb.sessions import InnodbSessions
from catenum.engines.mariadb.control import MariadbControl


class MariadbSessions(InnodbSessions, MariadbControl):
    """See ``engines.ports.sessions.Sessions`` for what each method promises."""
