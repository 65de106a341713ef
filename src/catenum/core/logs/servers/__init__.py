"""What each server's logs look like, and what they have: a module a server, loaded when its logs
are first read.
"""

from __future__ import annotations

import importlib
from functools import cache

from catenum.core.logs.servers.rules import LogRules
from catenum.core.servers import rules_of

__all__ = ["LogRules", "log_rules_of"]


@cache
def log_rules_of(server: str) -> LogRules:
    """The rules of the logs of the server called ``server``. Raises InputError where there is none
    of that name.
    """
    rules = rules_of(server)
    module = importlib.import_module(f"catenum.core.logs.servers.{server}")
    found: LogRules = getattr(module, f"{server.capitalize()}Logs")(rules)
    return found
