"""Errors of the protocol that both servers speak, translated once: numbers to kinds, failures to
sentences.
"""

from __future__ import annotations

import re
from typing import Literal

import pymysql

from catenum.core.errors import TargetError
from catenum.core.record.recording import ErrorKind, ServerError
from catenum.core.servers import Rules


def kind_of(number: int, rules: Rules) -> ErrorKind:
    """What an error number means to a run."""
    return rules.errors.kind_of(str(number))


def server_error(
    error: BaseException, rules: Rules, *, timeout_undoes: Literal["transaction", "statement"]
) -> ServerError:
    """The error of an exception that PyMySQL raised.

    A deadlock ends the whole transaction, a lock timeout the statement only, unless
    ``innodb_rollback_on_timeout`` is on; any other error ends the statement (MariaDB documentation,
    "InnoDB Transactions and Errors").
    """
    number, message = number_and_text(error)
    lost = number == 0 or isinstance(error, pymysql.err.InterfaceError)
    kind: ErrorKind = "lost" if lost else kind_of(number, rules)
    message = message or "the connection is closed"
    undone: Literal["transaction", "statement"] = "statement"
    if kind == "lost" or (kind == "deadlock" and str(number) not in rules.errors.undoes_statement):
        undone = "transaction"
    elif kind == "timeout":
        undone = timeout_undoes
    check: Literal["row version"] | None = "row version" if kind == "refused" else None
    return ServerError(code=str(number), kind=kind, message=message, undone=undone, check=check)


def number_and_text(error: BaseException | None) -> tuple[int, str]:
    """The error's number (0 where it has none) and its message."""
    args: tuple[object, ...] = tuple(getattr(error, "args", ()))
    if len(args) >= 2 and isinstance(args[0], int):
        return args[0], str(args[1])
    return 0, " ".join(str(error).split()) or "connection lost"


#: A statement that is no text in the server's encoding runs, and MySQL's view that would show it
#: cannot be read meanwhile, whatever is asked of it (MySQL Error Reference,
#: ER_CANNOT_CONVERT_STRING).
_NO_TEXT = 3854


def is_no_text(error: Exception) -> bool:
    """Whether a view could not be read for what somebody's statement contains."""
    return getattr(error, "number", None) == _NO_TEXT or number_and_text(error)[0] == _NO_TEXT


_ADVICE = (
    (r"Access denied for user", "Check user and password, and what the login was granted."),
    (r"Can't connect|refused|timed out|No such file", "Is the server running there?"),
    (r"Unknown database", "Name an existing database at the end of the URL, or none."),
    (
        r"Too many connections",
        "The server has no connection free; end some, or raise max_connections.",
    ),
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
        advice="Check the server's own log. The next run drops scratch space that was left.",
    )
