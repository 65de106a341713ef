"""Definitions of tables on a user's MariaDB."""

from __future__ import annotations

from catenum.engines.innodb.definitions import InnodbDefinitions


class MariadbDefinitions(InnodbDefinitions):
    """See ``Definitions`` for what each method promises."""

    settings = ("set session max_statement_time = 5",)


def read_definitions(where: str, shown: str) -> MariadbDefinitions:
    """Connect. Raises TargetError."""
    return MariadbDefinitions(where, shown)
