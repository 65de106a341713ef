"""What a PostgreSQL must have on to record waits and deadlocks, and what the login may do.

Documentation, 20.8, 20.9, 28.2.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from catenum.engines.lookout import Check

Query = Callable[..., list[tuple[Any, ...]]]


def checks(query: Query, login: str, *, sees_all: bool) -> list[Check]:
    """Settings and rights, each with the statement that would change it."""
    names = ["track_activities", "log_lock_waits", "deadlock_timeout", "track_activity_query_size"]
    found: dict[str, str] = dict(query("select name, setting from pg_settings where name = any(%s)", [names]))
    statements = bool(query("select 1 from pg_extension where extname = 'pg_stat_statements'"))
    ends = bool(query("select pg_has_role('pg_signal_backend', 'member')")[0][0])
    log = bool(query("select pg_has_role('pg_monitor', 'member')")[0][0])
    return [
        _setting("track_activities", found, "what each session does, and what it waits for"),
        _setting("log_lock_waits", found, "waits longer than deadlock_timeout in the server's log"),
        Check(
            what="deadlock_timeout",
            state="on",
            value=f"{found.get('deadlock_timeout')} ms",
            why="waits longer than this are checked for deadlocks, and logged",
            needed=False,
        ),
        _at_least("track_activity_query_size", found, 4096, "statements are stored up to this length (bytes)"),
        Check(
            what="pg_stat_statements",
            state="on" if statements else "missing",
            why="how often statements run, beside how long they wait",
            turn_on=None
            if statements
            else "alter system set shared_preload_libraries = 'pg_stat_statements'; -- restart, then: "
            "create extension pg_stat_statements;",
            needed=False,
        ),
        Check(
            what="login may see all sessions",
            state="on" if sees_all else "off",
            value=login,
            why="otherwise only its own",
            turn_on=None if sees_all else f'grant pg_read_all_stats to "{login}";',
        ),
        Check(
            what="login may end sessions",
            state="on" if ends else "off",
            why="for release; superusers' sessions only a superuser may end",
            turn_on=None if ends else f'grant pg_signal_backend to "{login}";',
            needed=False,
        ),
        Check(
            what="login may read the server's log",
            state="on" if log else "off",
            why="deadlock reports are there; or pass the file to watch with --log",
            turn_on=None if log else f'grant pg_monitor to "{login}";',
            needed=False,
        ),
    ]


def _setting(name: str, found: dict[str, str], why: str) -> Check:
    on = found.get(name) == "on"
    turn_on = None if on else f"alter system set {name} = on; select pg_reload_conf();"
    return Check(what=name, state="on" if on else "off", value=found.get(name, ""), why=why, turn_on=turn_on)


def _at_least(name: str, found: dict[str, str], least: int, why: str) -> Check:
    value = int(found.get(name) or 0)
    enough = value >= least
    turn_on = None if enough else f"alter system set {name} = {least}; -- takes effect with a restart"
    return Check(what=name, state="on" if enough else "off", value=str(value), why=why, turn_on=turn_on, needed=False)
