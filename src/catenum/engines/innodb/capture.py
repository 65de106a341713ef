"""What a server must have on to record waits and deadlocks: what both servers with InnoDB are asked alike.

Each thing is tried where it can be tried; what is proposed can be run as it is, line by line, by an administrator.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from catenum.core.errors import TargetError
from catenum.engines.lookout import Check

Query = Callable[..., list[tuple[Any, ...]]]
KEPT = "the same in the configuration, for the next start"


def grant(right: str, login: str, on: str = "*.*") -> str:
    """The statement that gives a right to a login, told as ``user@host``."""
    user, _, host = login.rpartition("@")
    return f"grant {right} on {on} to '{_text(user)}'@'{_text(host)}';"


def _text(value: str) -> str:
    return value.replace("\\", "\\\\").replace("'", "''")


def works(query: Query, text: str) -> bool:
    """Whether the server lets this login ask."""
    try:
        query(text)
    except TargetError:
        return False
    return True


def variable(name: str, found: dict[str, str], why: str, needed: bool) -> Check:
    """A switch, and the statement that turns it on."""
    on = str(found.get(name, "")).upper() in ("ON", "1")
    return Check(
        what=name,
        state="on" if on else "off",
        value=str(found.get(name, "")),
        why=why,
        turn_on=None if on else f"set global {name} = on;",
        then=None if on else KEPT,
        needed=needed,
    )
