"""Looking: who waits for whom, every lock, and which values are the same."""

from __future__ import annotations

from catenum.engines.innodb.looking import InnodbLooking
from catenum.engines.mysql.control import MysqlControl


class MysqlLooking(InnodbLooking, MysqlControl):
    """See ``engines.ports.looking.Looking`` for what each method promises."""
