"""Reports of deadlocks, as InnoDB has them."""

from __future__ import annotations

from catenum.engines.innodb.reports import InnodbReports
from catenum.engines.mariadb.control import MariadbControl


class MariadbReports(InnodbReports, MariadbControl):
    """See ``engines.ports.reports.Reports`` for what each method promises."""

    deadlocks_counted = "show global status like 'Innodb_deadlocks'"
