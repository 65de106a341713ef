"""Loops: where a looping process connects, and how many wait."""

from __future__ import annotations

from collections.abc import Collection

from catenum.engines.mariadb.control import MariadbControl
from catenum.engines.mariadb.metadata import waits_by_state


class MariadbLoops(MariadbControl):
    """See ``engines.ports.loops.Loops`` for what each method promises."""

    def loop_place(self) -> dict[str, object]:
        """PyMySQL's arguments and the database."""
        return {"where": self._theirs, "schema": self.schema, "run": self.run}

    def waiting_now(self) -> int | None:
        """The server counts waits itself."""
        return None

    def waiting_among(self, numbers: Collection[str]) -> set[str]:
        """By InnoDB's transactions, and by the process list for what InnoDB does not know of."""
        listed = ", ".join(str(int(number)) for number in numbers) or "0"
        query = (
            "select p.id, p.state, t.trx_state from information_schema.processlist p "
            f"left join information_schema.innodb_trx t on t.trx_mysql_thread_id = p.id where p.id in ({listed})"
        )
        with self._told():
            return {str(row[0]) for row in self.query(query) if row[2] == "LOCK WAIT" or waits_by_state(row[1])}

    def wait_count(self) -> int | None:
        """InnoDB's own counter of row lock waits."""
        with self._told():
            return int(self.query("show global status like 'Innodb_row_lock_waits'")[0][1])
