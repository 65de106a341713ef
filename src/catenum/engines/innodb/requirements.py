"""What a server must have on to record waits and deadlocks: what both servers with InnoDB are asked
alike.

Each thing is tried where it can be tried; what is proposed can be run as it is, line by line, by an
administrator.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

from catenum.core.errors import TargetError
from catenum.engines.innodb import earlier_statements, metadata_queue
from catenum.engines.innodb.errors import is_no_text
from catenum.engines.monitor import Check

Query = Callable[..., list[tuple[Any, ...]]]
KEPT = "the same in the configuration, for the next start"


def grant(right: str, login: str, on: str = "*.*") -> str:
    """The statement that gives a right to a login, told as ``user@host``."""
    user, _, host = login.rpartition("@")
    return f"grant {right} on {on} to '{_text(user)}'@'{_text(host)}';"


def _text(value: str) -> str:
    return value.replace("\\", "\\\\").replace("'", "''")


def works(query: Query, text: str) -> bool:
    """Whether the server lets this login ask. What hinders everybody is not the login's fault."""
    try:
        query(text)
    except TargetError as error:
        return is_no_text(error)
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


def prints_deadlocks(found: dict[str, str]) -> Check:
    """Whether the log has every deadlock."""
    why = (
        "every deadlock in the log, for intake and watch --log: otherwise the latest only, in"
        " InnoDB's status"
    )
    return replace(
        variable("innodb_print_all_deadlocks", found, why, needed=True), serves=("watch", "intake")
    )


def general_log(query: Query) -> Check:
    """Whether every statement is written down."""
    on = str(query("select @@global.general_log")[0][0]) == "1"
    return Check(
        what="general log",
        state="on" if on else "off",
        why="the earlier statements of a deadlock's members: intake reads it beside the error log",
        turn_on=None if on else "set global general_log = on;",
        cost="every statement of every session is written: for hours rather than for weeks",
        needed=False,
        serves=("intake",),
    )


def detects_deadlocks(found: dict[str, str]) -> Check:
    """Whether the server looks for cycles."""
    return variable("innodb_deadlock_detect", found, "otherwise cycles end by timeout", needed=True)


def rights(login: str, *, sees_all: bool, ends: bool, sees_by: str, ends_by: str) -> list[Check]:
    """What the login may do. ``sees_by``: statements that let it see all, if needed; ``ends_by``:
    the right to end.
    """
    return [
        Check(
            what="login may see all sessions",
            state="on" if sees_all else "off",
            value=login,
            why="otherwise only its own, and no lock waits",
            turn_on=sees_by or None,
        ),
        Check(
            what="login may end sessions",
            state="on" if ends else "off",
            why="for release; its own it may end anyway",
            turn_on=None if ends else grant(ends_by, login),
            needed=False,
        ),
    ]


def for_runs(query: Query, login: str, more: Sequence[tuple[str, bool, str]] = ()) -> list[Check]:
    """What a run on this server needs of the login: on a private one it has all of it. ``more``:
    what a server needs besides: what it is for, whether the login has it, the statement that gives
    it.
    """
    grants = [str(row[0]) for row in query("show grants")]
    everything = any(re.match(r"(?i)grant all privileges on \*\.\*", line) for line in grants)
    makes = everything or any(
        "catenum" in line and "ALL PRIVILEGES" in line.upper() for line in grants
    )
    may_grant = everything and any("GRANT OPTION" in line.upper() for line in grants)
    sees = works(query, "select 1 from information_schema.innodb_trx limit 1")
    wanted = [
        (
            "login may make databases",
            makes,
            "the scratch space of a run",
            grant("all", login, r"`catenum\_%`.*"),
        ),
        ("login sees transactions", sees, "who waits for whom", grant("process", login)),
        *((what, has, "who waits for whom", turn_on) for what, has, turn_on in more),
    ]
    found = [
        Check(
            what=what,
            state="on" if has else "off",
            why=why,
            turn_on=None if has else turn_on,
            serves=("run",),
        )
        for what, has, why, turn_on in wanted
    ]
    wall = Check(
        what="a login for scenarios",
        state="on" if may_grant else "off",
        why=(
            "what a scenario brings is run with rights on the scratch space alone; otherwise with"
            " the login's own, and statements that may reach beyond are refused"
        ),
        turn_on=None if may_grant else f"{grant('create user', login)}\n{_with_option(login)}",
        needed=False,
        serves=("run",),
    )
    return [*found, wall]


def _with_option(login: str) -> str:
    return grant("all", login, r"`catenum\_%`.*").replace(";", " with grant option;")


def metadata_locks(query: Query, *, needed: bool) -> Check:
    """Whether the performance schema has the metadata locks."""
    on = str(query(metadata_queue.TELLS)[0][0]) != "0"
    return Check(
        what="metadata locks",
        state="on" if on else "off",
        why="who blocks a schema change",
        turn_on=None if on else instrument("wait/lock/metadata/sql/mdl"),
        then=None if on else "locks that were taken before that are not listed",
        needed=needed,
    )


def statement_history(query: Query, why: str) -> Check:
    """Whether the performance schema keeps the statements of each session."""
    on = str(query(earlier_statements.TELLS)[0][0]) == str(earlier_statements.NEEDED)
    kept = consume("events_statements_current", "events_statements_history")
    return Check(
        what="statement history",
        state="on" if on else "off",
        why=why,
        turn_on=None if on else kept,
        needed=False,
    )


def instrument(name: str) -> str:
    """The statement by which the performance schema begins to collect something."""
    return (
        "update performance_schema.setup_instruments set enabled = 'YES', timed = 'YES' where name"
        f" = '{name}';"
    )


def consume(*names: str) -> str:
    """The statement by which the performance schema keeps events, and all that this depends on."""
    listed = ", ".join(
        f"'{name}'" for name in ("global_instrumentation", "thread_instrumentation", *names)
    )
    return (
        f"update performance_schema.setup_consumers set enabled = 'YES' where name in ({listed});"
    )
