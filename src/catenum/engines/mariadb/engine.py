"""MariaDB (10.6 and later) for runs: the five ports in one, and loops."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
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
from catenum.engines.innodb.plans import steps_of
from catenum.engines.innodb.reports import InnodbReports
from catenum.engines.innodb.sessions import InnodbSessions
from catenum.engines.mariadb.control import MariadbControl


class MariadbEngine(
    InnodbData, InnodbSessions, InnodbLockViews, InnodbReports, InnodbLoops, MariadbControl
):
    """One server, one run. See ``engines.ports.Engine``."""

    libraries = (
        "select plugin_name from information_schema.plugins "
        "where plugin_type = 'FUNCTION' and plugin_library is not null"
    )
    deadlocks_counted = "show global status like 'Innodb_deadlocks'"

    def steps(self, plan: Any) -> Iterator[PathStep]:
        """Every table in the plan."""
        return steps_of(plan)

    def waiting_among(self, numbers: Collection[str]) -> set[str]:
        """By InnoDB's transactions, and by the process list for what InnoDB does not know of."""
        listed = ", ".join(str(int(number)) for number in numbers) or "0"
        query = (
            "select p.id, p.state, t.trx_state from information_schema.processlist p left join"
            " information_schema.innodb_trx t on t.trx_mysql_thread_id = p.id where p.id in"
            f" ({listed})"
        )
        with self._translated():
            return {
                str(row[0])
                for row in self.query(query)
                if row[2] == "LOCK WAIT" or waits_by_state(row[1])
            }


class Loop(InnodbLoop):
    """A transaction in a loop, in a process of its own. See ``engines.ports.Loop``."""

    rules = rules_of("mariadb")


class MariadbDefinitions(InnodbDefinitions):
    """Definitions of tables on a user's server. See ``engines.definitions.Definitions``."""

    settings = ("set session max_statement_time = 5",)


def connect(
    where: Mapping[str, object] | str,
    shown_url: str,
    *,
    private: bool = False,
    sandboxed: bool = True,
) -> MariadbEngine:
    """Connect to a server, by URL or by PyMySQL's own arguments. Raises TargetError where that
    fails.
    """
    arguments = arguments_of(where) if isinstance(where, str) else dict(where)
    return MariadbEngine(arguments, shown_url, private=private, sandboxed=sandboxed)


def read_definitions(where: str, shown: str) -> MariadbDefinitions:
    """Connect to read definitions. Raises TargetError."""
    return MariadbDefinitions(where, shown)
