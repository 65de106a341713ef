"""Sessions: opened, made new, ended."""

from __future__ import annotations

from collections.abc import Sequence

from catenum.engines.innodb.session import InnodbSession
from catenum.engines.innodb.sessions import InnodbSessions
from catenum.engines.mysql.control import MysqlControl


class MysqlSessions(InnodbSessions, MysqlControl):
    """See ``engines.ports.sessions.Sessions`` for what each method promises."""

    def open_session(self, name: str, often: Sequence[str] = ()) -> InnodbSession:
        """One whose thread in the performance schema is known."""
        session = super().open_session(name, often)
        with self._told():
            self.reader.meet(session.thread_id)
        return session
