"""The servers, each by a module of its name: everything that a server's rules say, behind one
protocol.

There is no default: a name that stands for no server here is an error. A server's module is loaded
when its rules are first asked for.
"""

from __future__ import annotations

import importlib
from functools import cache

from catenum.core.errors import InputError
from catenum.core.servers.rules import STANDARD_LEVELS, Rules

__all__ = ["LEVELS", "NAMES", "SCHEMES", "STANDARD_LEVELS", "Rules", "rules_of"]

NAMES: tuple[str, ...] = ("postgresql", "mariadb", "mysql")
#: The first words of URLs, and the server that each leads to.
SCHEMES = {
    "postgresql": "postgresql",
    "postgres": "postgresql",
    "mariadb": "mariadb",
    "mysql": "mysql",
}
#: Every isolation level that some server has, those of the standard first.
LEVELS: tuple[str, ...] = STANDARD_LEVELS


@cache
def rules_of(server: str) -> Rules:
    """The rules of the server called ``server``. Raises InputError where there are none."""
    if server not in NAMES:
        raise InputError(f"unknown server {server!r}", advice=f"Known servers: {', '.join(NAMES)}.")
    module = importlib.import_module(f"catenum.core.servers.{server}")
    rules: Rules = module.RULES
    return rules
