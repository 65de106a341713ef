"""A transaction in a loop, in a process of its own."""

from __future__ import annotations

from catenum.core.servers import rules_of
from catenum.engines.innodb.loop import InnodbLoop


class MysqlLoop(InnodbLoop):
    """See ``engines.ports.Loop``."""

    rules = rules_of("mysql")


Loop = MysqlLoop
