"""Whether a server is a MySQL as Catenum knows it: by what it has, not by how it calls itself."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from catenum.core.errors import TargetError

OLDEST = (8, 0)
#: The views by which waits and locks are told, all of them in 8.0 and later.
_NEEDED = ("data_locks", "data_lock_waits", "metadata_locks", "threads", "events_transactions_current")
_FOUND = """
select count(*) from information_schema.tables where table_schema = 'performance_schema' and table_name in ({})
"""


def checked(query: Callable[..., list[tuple[Any, ...]]], shown_url: str) -> str:
    """The server's version. Raises TargetError where it is another server, too old, or tells nothing of locks."""
    version, comment = (str(value) for value in query("select version(), @@version_comment")[0])
    numbers = tuple(int(part) for part in re.findall(r"\d+", version)[:3])
    told = f"{shown_url}: {version} ({comment.strip('()')})"
    if "mariadb" in version.lower() or numbers < OLDEST:
        raise TargetError(f"{told} is not MySQL 8.0 or later")
    on = query("show global variables like 'performance_schema'")
    if on and str(on[0][1]).upper() == "OFF":
        raise TargetError(
            f"{told} has its performance schema off, and nothing else tells who waits for whom",
            advice="Set performance_schema = ON under [mysqld] in the configuration, and restart the server.",
        )
    names = ", ".join(f"'{name}'" for name in _NEEDED)
    if int(str(query(_FOUND.format(names))[0][0])) < len(_NEEDED):
        raise TargetError(
            f"{told} has no performance_schema.data_locks, or this login may not see it",
            advice="MySQL 8.0 and later have it. An administrator may allow it: grant select on performance_schema.* "
            "to the login;",
        )
    return ".".join(map(str, numbers))
