"""Looking: who waits for whom, and every lock."""

from __future__ import annotations

from collections.abc import Mapping
from typing import cast

from catenum.core.record.recording import LockEntry
from catenum.core.record.waits import Edge
from catenum.engines.mariadb.control import MariadbControl
from catenum.engines.mariadb.session import MariadbSession
from catenum.engines.ports import Session


class MariadbLooking(MariadbControl):
    """See ``engines.ports.looking.Looking`` for what each method promises."""

    def look(self, sessions: Mapping[str, Session], now_ms: float) -> list[Edge]:
        """Who among ``sessions`` waits for whom."""
        with self._told():
            return self.reader.look(cast(Mapping[str, MariadbSession], sessions), self._threads, now_ms)

    def picture(self, sessions: Mapping[str, Session]) -> tuple[list[LockEntry], str | None]:
        """Every lock of ``sessions``."""
        with self._told():
            return self.reader.picture({int(session.id): name for name, session in sessions.items()})
