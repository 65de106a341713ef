"""MySQL (8.0 and later) for runs: the five ports in one, and loops."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any

from catenum.core.record.recording import PathStep
from catenum.core.servers import rules_of
from catenum.engines.innodb.control import arguments_of
from catenum.engines.innodb.data import InnodbData
from catenum.engines.innodb.definitions import InnodbDefinitions
from catenum.engines.innodb.lock_views import InnodbLockViews
from catenum.engines.innodb.loop import InnodbLoop
from catenum.engines.innodb.loops import InnodbLoops
from catenum.engines.innodb.metadata_queue import waits_by_state
from catenum.engines.innodb.reports import InnodbReports
from catenum.engines.innodb.session import InnodbSession
from catenum.engines.innodb.sessions import InnodbSessions
from catenum.engines.mysql.control import MysqlControl
from catenum.engines.mysql.plans import steps_of

_STATES = """
select t.processlist_id, t.processlist_state, exists (select 1 from information_schema.innodb_trx x
  where x.trx_mysql_thread_id = t.processlist_id and x.trx_state = 'LOCK WAIT')
from performance_schema.threads t where t.processlist_id in ({})
"""


class MysqlEngine(
    InnodbData, InnodbSessions, InnodbLockViews, InnodbReports, InnodbLoops, MysqlControl
):
    """One server, one run. See ``engines.ports.Engine``."""

    libraries = (
        "select udf_name from performance_schema.user_defined_functions where udf_library is not"
        " null"
    )
    deadlocks_counted = (
        "select count from information_schema.innodb_metrics where name = 'lock_deadlocks'"
    )

    def open_session(self, name: str, often: Sequence[str] = ()) -> InnodbSession:
        """One whose thread in the performance schema is known."""
        session = super().open_session(name, often)
        with self._translated():
            self.reader.meet(session.thread_id)
        return session

    def steps(self, plan: Any) -> Iterator[PathStep]:
        """Every table in the plan, in either version of its form."""
        return steps_of(plan)

    def waiting_among(self, numbers: Collection[str]) -> set[str]:
        """By InnoDB's transactions, and by the sessions' states for what InnoDB does not know
        of.
        """
        listed = ", ".join(str(int(number)) for number in numbers) or "0"
        with self._translated():
            rows = self.query(_STATES.format(listed))
        return {str(row[0]) for row in rows if str(row[2]) == "1" or waits_by_state(row[1])}


class Loop(InnodbLoop):
    """A transaction in a loop, in a process of its own. See ``engines.ports.Loop``."""

    rules = rules_of("mysql")


class MysqlDefinitions(InnodbDefinitions):
    """Definitions of tables on a user's server. See ``engines.definitions.Definitions``."""

    settings = ("set session max_execution_time = 5000",)


def connect(
    where: Mapping[str, object] | str,
    shown_url: str,
    *,
    private: bool = False,
    sandboxed: bool = True,
) -> MysqlEngine:
    """Connect to a server, by URL or by PyMySQL's own arguments. Raises TargetError where that
    fails.
    """
    arguments = arguments_of(where) if isinstance(where, str) else dict(where)
    return MysqlEngine(arguments, shown_url, private=private, sandboxed=sandboxed)


def read_definitions(where: str, shown: str) -> MysqlDefinitions:
    """Connect to read definitions. Raises TargetError."""
    return MysqlDefinitions(where, shown)
