"""Loops: where a looping process connects, and how many wait."""

from __future__ import annotations

from collections.abc import Collection

from catenum.engines.innodb.loops import InnodbLoops
from catenum.engines.innodb.metadata_queue import waits_by_state
from catenum.engines.mariadb.control import MariadbControl


class MariadbLoops(InnodbLoops, MariadbControl):
    """See ``engines.ports.loops.Loops`` for what each method promises."""

    def waiting_among(self, numbers: Collection[str]) -> set[str]:
        """By InnoDB's transactions, and by the process list for what InnoDB does not know of."""
        listed = ", ".join(str(int(number)) for number in numbers) or "0"
        query = (
            "select p.id, p.state, t.trx_state from information_schema.processlist p "
            f"left join information_schema.innodb_trx t on t.trx_mysql_thread_id = p.id where p.id in ({listed})"
        )
        with self._told():
            return {str(row[0]) for row in self.query(query) if row[2] == "LOCK WAIT" or waits_by_state(row[1])}
