"""The servers, each by a module of its name: everything that a server's rules say, behind one protocol.

There is no default: a name that stands for no server here is an error.
"""

from __future__ import annotations

from catenum.core.errors import InputError
from catenum.core.servers.mariadb import MariadbRules
from catenum.core.servers.mysql import MysqlRules
from catenum.core.servers.postgresql import PostgresqlRules
from catenum.core.servers.rules import STANDARD_LEVELS, Rules

__all__ = ["LEVELS", "NAMES", "STANDARD_LEVELS", "Rules", "rules_of"]

_ALL: dict[str, Rules] = {rules.name: rules for rules in (PostgresqlRules(), MariadbRules(), MysqlRules())}
NAMES: tuple[str, ...] = tuple(_ALL)
#: Every isolation level that some server has, those of the standard first.
LEVELS: tuple[str, ...] = tuple(dict.fromkeys([*STANDARD_LEVELS, *(lv for r in _ALL.values() for lv in r.levels)]))


def rules_of(server: str) -> Rules:
    """The rules of the server called ``server``. Raises InputError where there are none."""
    if server not in _ALL:
        raise InputError(f"unknown server {server!r}", advice=f"Known servers: {', '.join(NAMES)}.")
    return _ALL[server]
