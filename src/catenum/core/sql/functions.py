"""Functions by name: which give another value each time, and which touch no table."""

from __future__ import annotations

from catenum.core.sql.named_locks import FUNCTIONS

#: Functions that give another value at each call or in each transaction.
BY_NATURE = frozenset(
    [
        "now",
        "current_timestamp",
        "currenttimestamp",
        "current_date",
        "currentdate",
        "current_time",
        "currenttime",
        "localtime",
        "localtimestamp",
        "clock_timestamp",
        "statement_timestamp",
        "transaction_timestamp",
        "timeofday",
        "sysdate",
        "utc_timestamp",
        "unix_timestamp",
        "curdate",
        "curtime",
        "random",
        "rand",
        "uuid",
        "gen_random_uuid",
        "uuid_generate_v4",
        "nextval",
        "currval",
        "lastval",
        "last_insert_id",
        "txid_current",
        "pg_current_xact_id",
        "connection_id",
        "pg_backend_pid",
    ]
)
#: Functions that the parser does not know by a name of its own, and that touch no table.
HARMLESS = (
    BY_NATURE
    | FUNCTIONS
    | frozenset(
        [
            "pg_sleep",
            "sleep",
            "version",
            "database",
            "current_setting",
            "to_json",
            "row_to_json",
            "md5",
        ]
    )
)
