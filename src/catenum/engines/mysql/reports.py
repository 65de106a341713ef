"""Reports of deadlocks, as InnoDB has them."""

from __future__ import annotations

from catenum.engines.innodb.reports import InnodbReports
from catenum.engines.mysql.control import MysqlControl


class MysqlReports(InnodbReports, MysqlControl):
    """See ``engines.ports.reports.Reports`` for what each method promises."""

    deadlocks_counted = "select count from information_schema.innodb_metrics where name = 'lock_deadlocks'"
