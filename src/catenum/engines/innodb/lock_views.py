"""Looking: who waits for whom, every lock, and which values are the same."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import cast

from catenum.core.record.recording import LockEntry
from catenum.core.record.waits import Edge
from catenum.core.space.equal_values import steady
from catenum.engines.innodb.control import InnodbControl
from catenum.engines.innodb.session import InnodbSession
from catenum.engines.ports import Session


class InnodbLockViews(InnodbControl):
    """See ``engines.ports.looking.LockViews`` for what each method promises."""

    def poll_waits(self, sessions: Mapping[str, Session], now_ms: float) -> list[Edge]:
        """Who among ``sessions`` waits for whom."""
        with self._translated():
            return self.reader.poll_waits(
                cast(Mapping[str, InnodbSession], sessions), self._threads, now_ms
            )

    def picture(self, sessions: Mapping[str, Session]) -> tuple[list[LockEntry], str | None]:
        """Every lock of ``sessions``."""
        with self._translated():
            return self.reader.picture(
                {int(session.id): name for name, session in sessions.items()}
            )

    def classes(
        self, table: str, column: str, written: Sequence[tuple[bool, str]]
    ) -> dict[tuple[bool, str], int]:
        """By casts to the column's type, with its precision and the finest: inserting rounds,
        comparing does not.
        """
        with self._translated():
            return self.reader.classes(table, column, steady(written))
