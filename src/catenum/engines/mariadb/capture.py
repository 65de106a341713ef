"""What a MariaDB must have on to record waits and deadlocks, and what the login may do.

Each thing is tried where it can be tried; what is proposed can be run as it is, line by line, by an administrator.
Documentation: "InnoDB System Variables", "Performance Schema Setup Consumers Table", "GRANT".
"""

from __future__ import annotations

from catenum.engines.innodb import earlier, pending
from catenum.engines.innodb.capture import Query, grant, variable, works
from catenum.engines.lookout import Check

_PLUGIN = "select plugin_status from information_schema.all_plugins where plugin_name = 'METADATA_LOCK_INFO'"
_OTHERS = "select count(*) from performance_schema.session_connect_attrs"


def checks(query: Query, login: str, *, sees_all: bool, ends: bool) -> list[Check]:
    """Variables and rights, each with the statements that would change it."""
    names = "'innodb_print_all_deadlocks', 'performance_schema', 'innodb_deadlock_detect'"
    found: dict[str, str] = dict(query(f"show global variables where variable_name in ({names})"))
    return [
        variable(
            "innodb_print_all_deadlocks", found, "for watch with --log: every deadlock, not the latest only", False
        ),
        variable("innodb_deadlock_detect", found, "otherwise cycles end by timeout", True),
        *_schema(query, login, on=found.get("performance_schema") == "ON"),
        Check(
            what="login may see all sessions",
            state="on" if sees_all else "off",
            value=login,
            why="otherwise only its own, and no lock waits",
            turn_on=None if sees_all else grant("process", login),
        ),
        Check(
            what="login may end sessions",
            state="on" if ends else "off",
            why="for release; its own it may end anyway",
            turn_on=None if ends else grant("connection admin", login),
            needed=False,
        ),
    ]


def _schema(query: Query, login: str, *, on: bool) -> list[Check]:
    """What the performance schema tells, and what the plugin tells in its place."""
    why = "the application of each session; how often statements run, beside how long they wait"
    name = "performance_schema"
    if not on:
        then = "set performance_schema = ON under [mysqld] in the configuration, and restart the server"
        return [_plugin(query), Check(what=name, state="off", why=why, then=then, needed=False)]
    if not works(query, _OTHERS):
        allow = grant("select", login, "performance_schema.*")
        shut = "on, but this login may not read it"
        return [_plugin(query), Check(what=name, state="off", value=shut, why=why, turn_on=allow, needed=False)]
    schema = Check(what=name, state="on", why=why, needed=False)
    metadata = query(pending.TELLS)[0][0] != "0"
    history = str(query(earlier.TELLS)[0][0]) == str(earlier.NEEDED)
    return [
        schema,
        Check(
            what="metadata locks",
            state="on" if metadata else "off",
            why="who holds up a schema change",
            turn_on=None
            if metadata
            else "update performance_schema.setup_instruments set enabled = 'YES' "
            "where name = 'wait/lock/metadata/sql/mdl';",
            then=None if metadata else "locks that were taken before that are not listed",
            needed=False,
        ),
        Check(
            what="statement history",
            state="on" if history else "off",
            why="the earlier statements of a transaction that is still open",
            turn_on=None
            if history
            else "update performance_schema.setup_consumers set enabled = 'YES' where name in "
            "('global_instrumentation', 'thread_instrumentation', 'events_statements_current', "
            "'events_statements_history');",
            needed=False,
        ),
        *([] if metadata else [_plugin(query)]),
    ]


def _plugin(query: Query) -> Check:
    told = query(_PLUGIN) if works(query, _PLUGIN) else []  # the folder of libraries may not be there
    why = "who holds up a schema change, where the performance schema does not tell"
    if told and told[0][0] == "ACTIVE":
        return Check(what="metadata_lock_info", state="on", why=why, needed=False)
    if not told:
        then = "the server has no such plugin to install"
        return Check(what="metadata_lock_info", state="missing", why=why, then=then, needed=False)
    turn_on = "install soname 'metadata_lock_info';"
    return Check(what="metadata_lock_info", state="missing", why=why, turn_on=turn_on, needed=False)
