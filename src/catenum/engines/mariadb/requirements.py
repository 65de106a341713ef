"""What a MariaDB must have on to record waits and deadlocks, and what the login may do.

Each thing is tried where it can be tried; what is proposed can be run as it is, line by line, by an
administrator. Documentation: "InnoDB System Variables", "Performance Schema Setup Consumers Table",
"GRANT".
"""

from __future__ import annotations

from catenum.engines.innodb.requirements import (
    Query,
    detects_deadlocks,
    for_runs,
    general_log,
    grant,
    metadata_locks,
    prints_deadlocks,
    rights,
    statement_history,
    works,
)
from catenum.engines.monitor import Check

_PLUGIN = (
    "select plugin_status from information_schema.all_plugins where plugin_name ="
    " 'METADATA_LOCK_INFO'"
)
_OTHERS = "select count(*) from performance_schema.session_connect_attrs"


def checks(query: Query, login: str, *, sees_all: bool, ends: bool) -> list[Check]:
    """Variables and rights, each with the statements that would change it."""
    names = "'innodb_print_all_deadlocks', 'performance_schema', 'innodb_deadlock_detect'"
    found: dict[str, str] = dict(query(f"show global variables where variable_name in ({names})"))
    sees_by = "" if sees_all else grant("process", login)
    return [
        prints_deadlocks(found),
        detects_deadlocks(found),
        general_log(query),
        *_schema(query, login, on=found.get("performance_schema") == "ON"),
        *rights(login, sees_all=sees_all, ends=ends, sees_by=sees_by, ends_by="connection admin"),
        *for_runs(query, login),
    ]


def _schema(query: Query, login: str, *, on: bool) -> list[Check]:
    """What the performance schema tells, and what the plugin tells in its place."""
    why = "the application of each session; how often statements run, beside how long they wait"
    name = "performance_schema"
    if not on:
        then = (
            "set performance_schema = ON under [mysqld] in the configuration, and restart the"
            " server"
        )
        return [_plugin(query), Check(what=name, state="off", why=why, then=then, needed=False)]
    if not works(query, _OTHERS):
        allow = grant("select", login, "performance_schema.*")
        shut = "on, but this login may not read it"
        return [
            _plugin(query),
            Check(what=name, state="off", value=shut, why=why, turn_on=allow, needed=False),
        ]
    metadata = metadata_locks(query, needed=False)
    return [
        Check(what=name, state="on", why=why, needed=False),
        metadata,
        statement_history(query, "the earlier statements of a transaction that is still open"),
        *([] if metadata.state == "on" else [_plugin(query)]),
    ]


def _plugin(query: Query) -> Check:
    reported = (
        query(_PLUGIN) if works(query, _PLUGIN) else []
    )  # the folder of libraries may not be there
    why = "who blocks a schema change, where the performance schema does not tell"
    if reported and reported[0][0] == "ACTIVE":
        return Check(what="metadata_lock_info", state="on", why=why, needed=False)
    if not reported:
        then = "the server has no such plugin to install"
        return Check(what="metadata_lock_info", state="missing", why=why, then=then, needed=False)
    turn_on = "install soname 'metadata_lock_info';"
    return Check(what="metadata_lock_info", state="missing", why=why, turn_on=turn_on, needed=False)
