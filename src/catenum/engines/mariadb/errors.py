"""MariaDB's errors translated once, at the edge: error numbers to Catenum's kinds, connection failures to sentences."""

from __future__ import annotations

import re
from typing import Literal

import pymysql

from catenum.core.errors import TargetError
from catenum.core.recording import ServerError

Kind = Literal["deadlock", "refused", "timeout", "limit", "lost", "rejected"]

#: MariaDB documentation, "MariaDB Error Code Reference".
KIND_OF_NUMBER: dict[int, Kind] = {
    1213: "deadlock",  # ER_LOCK_DEADLOCK
    1205: "timeout",  # ER_LOCK_WAIT_TIMEOUT: innodb_lock_wait_timeout, lock_wait_timeout, NOWAIT
    1020: "refused",  # ER_CHECKREAD: the record has changed since the snapshot (innodb_snapshot_isolation)
    1053: "lost",  # ER_SERVER_SHUTDOWN
    1927: "lost",  # ER_CONNECTION_KILLED
    2006: "lost",  # CR_SERVER_GONE_ERROR
    2013: "lost",  # CR_SERVER_LOST
    2055: "lost",  # CR_SERVER_LOST_EXTENDED
}


def server_error(error: BaseException, *, timeout_undoes: Literal["transaction", "statement"]) -> ServerError:
    """The error of an exception that PyMySQL raised.

    A deadlock ends the whole transaction, a lock timeout the statement only, unless ``innodb_rollback_on_timeout`` is
    on; any other error ends the statement (MariaDB documentation, "InnoDB Transactions and Errors").
    """
    number, message = number_and_text(error)
    lost = number == 0 or isinstance(error, pymysql.err.InterfaceError)
    kind: Kind = "lost" if lost else KIND_OF_NUMBER.get(number, "rejected")
    undone: Literal["transaction", "statement"] = "statement"
    if kind in ("deadlock", "lost"):
        undone = "transaction"
    elif kind == "timeout":
        undone = timeout_undoes
    return ServerError(code=str(number), kind=kind, message=message, undone=undone)


def number_and_text(error: BaseException) -> tuple[int, str]:
    """The error's number (0 where it has none) and its message."""
    args: tuple[object, ...] = tuple(getattr(error, "args", ()))
    if len(args) >= 2 and isinstance(args[0], int):
        return args[0], str(args[1])
    return 0, " ".join(str(error).split()) or "connection lost"


_ADVICE = (
    (r"Access denied for user", "Check user and password, and what the login was granted."),
    (r"Can't connect|refused|timed out|No such file", "Is the server running there?"),
    (r"Unknown database", "Name an existing database at the end of the URL, or none."),
    (r"Too many connections", "The server has no connection free; end some, or raise max_connections."),
)


def unreachable(error: BaseException, shown_url: str) -> TargetError:
    """A failed connection as a sentence, with what to do."""
    _, message = number_and_text(error)
    advice = next((advice for pattern, advice in _ADVICE if re.search(pattern, message)), None)
    return TargetError(f"cannot connect to {shown_url}: {message}", advice=advice)


def went_away(error: BaseException, shown_url: str) -> TargetError:
    """A connection that was there is no more."""
    _, message = number_and_text(error)
    return TargetError(
        f"the server went away: {shown_url}: {message}",
        advice="Look at the server's own log. Scratch space that it kept is cleared by the next run.",
    )
