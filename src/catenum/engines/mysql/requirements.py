"""What a MySQL must have on to record waits and deadlocks, and what the login may do.

Each thing is tried where it can be tried; what is proposed can be run as it is, line by line, by an
administrator. MySQL Reference Manual: "InnoDB Startup Options and System Variables", "Performance
Schema Setup Tables", "GRANT".
"""

from __future__ import annotations

from catenum.engines.innodb.requirements import (
    KEPT,
    Query,
    consume,
    detects_deadlocks,
    for_runs,
    general_log,
    grant,
    instrument,
    metadata_locks,
    prints_deadlocks,
    rights,
    statement_history,
    works,
)
from catenum.engines.monitor import Check

#: What is asked of the performance schema, and whether this login may.
VIEWS = (
    "data_locks",
    "data_lock_waits",
    "metadata_locks",
    "threads",
    "events_transactions_current",
)
TRANSACTIONS = """
select (select count(*) from performance_schema.setup_instruments where name = 'transaction'
  and enabled = 'YES')
  + (select count(*) from performance_schema.setup_consumers where enabled = 'YES'
     and name in ('global_instrumentation', 'thread_instrumentation',
       'events_transactions_current')) = 4
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
    sees_transactions = works(query, "select 1 from information_schema.innodb_trx limit 1")
    sees_by = [] if sees_transactions else [grant("process", login)]
    sees_by += [] if reads else [grant("select", login, "performance_schema.*")]
    return [
        prints_deadlocks(found),
        _verbosity(found.get("log_error_verbosity", "")),
        detects_deadlocks(found),
        general_log(query),
        *(_schema(query) if reads else []),
        *rights(
            login,
            sees_all=sees_all,
            ends=ends,
            sees_by="\n".join(sees_by),
            ends_by="connection_admin",
        ),
        *for_runs(
            query,
            login,
            [("login reads the schema", reads, grant("select", login, "performance_schema.*"))],
        ),
    ]


def _verbosity(value: str) -> Check:
    enough = value.isdigit() and int(value) >= NOTES
    return Check(
        what="log_error_verbosity",
        state="on" if enough else "off",
        value=value,
        why=(
            "for watch with --log: below 3 the log has deadlocks without their headings, and they"
            " cannot be distinguished"
        ),
        turn_on=None if enough else f"set global log_error_verbosity = {NOTES};",
        then=None if enough else KEPT,
        needed=True,
        serves=("watch", "intake"),
    )


def _schema(query: Query) -> list[Check]:
    """What is instrumented; all of it is by default."""
    transactions = str(query(TRANSACTIONS)[0][0]) == "1"
    earlier = (
        "the earlier statements of a transaction that is still open, and which of them took the"
        " lock"
    )
    return [
        metadata_locks(query, needed=True),
        statement_history(query, earlier),
        Check(
            what="transaction events",
            state="on" if transactions else "off",
            why="which statements are of one transaction",
            turn_on=(
                None
                if transactions
                else f"{instrument('transaction')}\n{consume('events_transactions_current')}"
            ),
            needed=False,
        ),
    ]
