"""What a MySQL must have on to record waits and deadlocks, and what the login may do.

Each thing is tried where it can be tried; what is proposed can be run as it is, line by line, by an administrator.
MySQL Reference Manual: "InnoDB Startup Options and System Variables", "Performance Schema Setup Tables", "GRANT".
"""

from __future__ import annotations

from catenum.engines.innodb import earlier, pending
from catenum.engines.innodb.capture import KEPT, Query, grant, variable, works
from catenum.engines.lookout import Check

#: What is asked of the performance schema, and whether this login may.
VIEWS = ("data_locks", "data_lock_waits", "metadata_locks", "threads", "events_transactions_current")
TRANSACTIONS = """
select (select count(*) from performance_schema.setup_instruments where name = 'transaction' and enabled = 'YES')
  + (select count(*) from performance_schema.setup_consumers where enabled = 'YES'
     and name in ('global_instrumentation', 'thread_instrumentation', 'events_transactions_current')) = 4
"""
#: Of a report in the error log the headings are notes: without them nothing tells where it begins.
NOTES = 3


def may_read(query: Query) -> bool:
    """Whether the login may read of the performance schema what a look needs."""
    return all(works(query, f"select 1 from performance_schema.{view} limit 1") for view in VIEWS)


def checks(query: Query, login: str, *, sees_all: bool, ends: bool) -> list[Check]:
    """Variables and rights, each with the statements that would change it."""
    names = "'innodb_print_all_deadlocks', 'innodb_deadlock_detect', 'log_error_verbosity'"
    found: dict[str, str] = dict(query(f"show global variables where variable_name in ({names})"))
    reads = may_read(query)
    rights = ([] if works(query, "select 1 from information_schema.innodb_trx limit 1") else ["process on *.*"]) + (
        [] if reads else ["select on performance_schema.*"]
    )
    turn_on = "\n".join(grant(right.partition(" on ")[0], login, right.partition(" on ")[2]) for right in rights)
    return [
        variable(
            "innodb_print_all_deadlocks", found, "for watch with --log: every deadlock, not the latest only", False
        ),
        _verbosity(found.get("log_error_verbosity", "")),
        variable("innodb_deadlock_detect", found, "otherwise cycles end by timeout", True),
        *(_schema(query) if reads else []),
        Check(
            what="login may see all sessions",
            state="on" if sees_all else "off",
            value=login,
            why="otherwise only its own, and no lock waits",
            turn_on=turn_on or None,
        ),
        Check(
            what="login may end sessions",
            state="on" if ends else "off",
            why="for release; its own it may end anyway",
            turn_on=None if ends else grant("connection_admin", login),
            needed=False,
        ),
    ]


def _verbosity(value: str) -> Check:
    enough = value.isdigit() and int(value) >= NOTES
    return Check(
        what="log_error_verbosity",
        state="on" if enough else "off",
        value=value,
        why="for watch with --log: below 3 the log has deadlocks without their headings, and they cannot be told apart",
        turn_on=None if enough else f"set global log_error_verbosity = {NOTES};",
        then=None if enough else KEPT,
        needed=False,
    )


def _schema(query: Query) -> list[Check]:
    """What is instrumented; all of it is by default."""
    metadata = str(query(pending.TELLS)[0][0]) != "0"
    history = str(query(earlier.TELLS)[0][0]) == str(earlier.NEEDED)
    transactions = str(query(TRANSACTIONS)[0][0]) == "1"
    return [
        Check(
            what="metadata locks",
            state="on" if metadata else "off",
            why="who holds up a schema change",
            turn_on=None
            if metadata
            else "update performance_schema.setup_instruments set enabled = 'YES', timed = 'YES' "
            "where name = 'wait/lock/metadata/sql/mdl';",
            then=None if metadata else "locks that were taken before that are not listed",
        ),
        Check(
            what="statement history",
            state="on" if history else "off",
            why="the earlier statements of a transaction that is still open, and which of them took the lock",
            turn_on=None
            if history
            else "update performance_schema.setup_consumers set enabled = 'YES' where name in "
            "('global_instrumentation', 'thread_instrumentation', 'events_statements_current', "
            "'events_statements_history');",
            needed=False,
        ),
        Check(
            what="transaction events",
            state="on" if transactions else "off",
            why="which statements are of one transaction",
            turn_on=None
            if transactions
            else "update performance_schema.setup_instruments set enabled = 'YES', timed = 'YES' "
            "where name = 'transaction';\nupdate performance_schema.setup_consumers set enabled = 'YES' where name in "
            "('global_instrumentation', 'thread_instrumentation', 'events_transactions_current');",
            needed=False,
        ),
    ]
