"""Looking: who waits for whom, every lock, and which values are the same. As InnoDB has it."""

from __future__ import annotations

from catenum.engines.innodb.looking import InnodbLooking
from catenum.engines.mariadb.control import MariadbControl


class MariadbLooking(InnodbLooking, MariadbControl):
    """See ``engines.ports.looking.Looking`` for what each method promises."""
