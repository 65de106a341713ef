"""Loops: where a looping process connects, and how many wait."""

from __future__ import annotations

from collections.abc import Collection

from catenum.engines.innodb.loops import InnodbLoops
from catenum.engines.innodb.metadata_queue import waits_by_state
from catenum.engines.mysql.control import MysqlControl

_STATES = """
select t.processlist_id, t.processlist_state, exists (select 1 from information_schema.innodb_trx x
  where x.trx_mysql_thread_id = t.processlist_id and x.trx_state = 'LOCK WAIT')
from performance_schema.threads t where t.processlist_id in ({})
"""


class MysqlLoops(InnodbLoops, MysqlControl):
    """See ``engines.ports.loops.Loops`` for what each method promises."""

    def waiting_among(self, numbers: Collection[str]) -> set[str]:
        """By InnoDB's transactions, and by the sessions' states for what InnoDB does not know of."""
        listed = ", ".join(str(int(number)) for number in numbers) or "0"
        with self._told():
            rows = self.query(_STATES.format(listed))
        return {str(row[0]) for row in rows if str(row[2]) == "1" or waits_by_state(row[1])}
