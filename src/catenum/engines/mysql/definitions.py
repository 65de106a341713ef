"""Definitions of tables on a user's MySQL."""

from __future__ import annotations

from catenum.engines.innodb.definitions import InnodbDefinitions


class MysqlDefinitions(InnodbDefinitions):
    """See ``Definitions`` for what each method promises."""

    settings = ("set session max_execution_time = 5000",)


def read_definitions(where: str, shown: str) -> MysqlDefinitions:
    """Connect. Raises TargetError."""
    return MysqlDefinitions(where, shown)
