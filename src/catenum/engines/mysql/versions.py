"""Whether a server is a MySQL as Catenum knows it: by what it has, not by how it calls itself."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import pymysql

from catenum.core.errors import TargetError
from catenum.engines.innodb.errors import number_and_text

#: The first with a list of sessions in the performance schema.
OLDEST = (8, 0, 22)
#: A view by which locks are told, in 8.0 and later.
_NEEDED = "performance_schema.data_locks"
NO_SUCH_TABLE, TABLE_DENIED = 1146, 1142


def checked(query: Callable[..., list[tuple[Any, ...]]], shown_url: str, *, reads: bool) -> str:
    """The server's version. ``reads``: the login must be allowed to read who locks what.

    Raises TargetError where it is another server, too old, or tells nothing of locks.
    """
    version, comment = (str(value) for value in query("select version(), @@version_comment")[0])
    numbers = tuple(int(part) for part in re.findall(r"\d+", version)[:3])
    reported = f"{shown_url}: {version} ({comment.strip('()')})"
    if "mariadb" in version.lower() or numbers < OLDEST:
        raise TargetError(f"{reported} is not MySQL {'.'.join(map(str, OLDEST))} or later")
    on = query("show global variables like 'performance_schema'")
    if on and str(on[0][1]).upper() == "OFF":
        raise TargetError(
            f"{reported} has its performance schema off, and nothing else reports who waits for"
            " whom",
            advice=(
                "Set performance_schema = ON under [mysqld] in the configuration, and restart the"
                " server."
            ),
        )
    try:
        query(f"select 1 from {_NEEDED} limit 1")
    except (pymysql.Error, TargetError) as error:
        number, message = number_and_text(
            error.__cause__ if isinstance(error, TargetError) else error
        )
        if number == NO_SUCH_TABLE:
            raise TargetError(
                f"{reported} has no {_NEEDED}, so it is none of the servers that Catenum knows"
            ) from error
        if number != TABLE_DENIED:
            raise
        if reads:
            raise TargetError(
                f"{reported}: the login may not read who locks what: {message}",
                advice=(
                    "An administrator may allow it: grant select on performance_schema.* to the"
                    " login;"
                ),
            ) from error
    return ".".join(map(str, numbers))
