"""PostgreSQL's lock modes, from its documentation: chapter 13.3, "Explicit Locking".

Row locks carry the names of the documentation (``FOR UPDATE``), also where an UPDATE took them; table locks those of
``pg_locks`` (``AccessShareLock``).
"""

from __future__ import annotations

from catenum.core.locks.modes import ModeTable, symmetric
from catenum.core.statements import Access

_ROW_MODES = ("FOR KEY SHARE", "FOR SHARE", "FOR NO KEY UPDATE", "FOR UPDATE")
ROW = ModeTable(
    title="row locks",
    source='PostgreSQL documentation, 13.3.2 "Row-Level Locks", table 13.3',
    modes=_ROW_MODES,
    conflicts=symmetric(
        _ROW_MODES,
        {
            "FOR KEY SHARE": (3,),
            "FOR SHARE": (2, 3),
            "FOR NO KEY UPDATE": (1, 2, 3),
            "FOR UPDATE": (0, 1, 2, 3),
        },
    ),
)

_TABLE_MODES = (
    "AccessShareLock",
    "RowShareLock",
    "RowExclusiveLock",
    "ShareUpdateExclusiveLock",
    "ShareLock",
    "ShareRowExclusiveLock",
    "ExclusiveLock",
    "AccessExclusiveLock",
)
TABLE = ModeTable(
    title="table locks",
    source='PostgreSQL documentation, 13.3.1 "Table-Level Locks", table 13.2',
    modes=_TABLE_MODES,
    conflicts=symmetric(
        _TABLE_MODES,
        {
            "AccessShareLock": (7,),
            "RowShareLock": (6, 7),
            "RowExclusiveLock": (4, 5, 6, 7),
            "ShareUpdateExclusiveLock": (3, 4, 5, 6, 7),
            "ShareLock": (2, 3, 5, 6, 7),
            "ShareRowExclusiveLock": (2, 3, 4, 5, 6, 7),
            "ExclusiveLock": (1, 2, 3, 4, 5, 6, 7),
            "AccessExclusiveLock": (0, 1, 2, 3, 4, 5, 6, 7),
        },
    ),
)
#: Where the conflicts of locks by a name of one's own are described.
NAMED_SOURCE = 'PostgreSQL documentation, 13.3.5 "Advisory Locks"'
TABLES = (ROW, TABLE)

#: A session about to lock a row takes a lock on its tuple first; that lock's mode tells the row lock it is after
#: (``tupleLockExtraInfo`` in PostgreSQL's heapam.c).
ROW_MODE_OF_TUPLE_LOCK = {
    "AccessShareLock": "FOR KEY SHARE",
    "RowShareLock": "FOR SHARE",
    "ExclusiveLock": "FOR NO KEY UPDATE",
    "AccessExclusiveLock": "FOR UPDATE",
}

#: What ``pgrowlocks`` and ``pg_get_multixact_members`` call the modes.
ROW_MODE_ALIASES = {
    "for key share": "FOR KEY SHARE",
    "for share": "FOR SHARE",
    "for no key update": "FOR NO KEY UPDATE",
    "no key update": "FOR NO KEY UPDATE",
    "for update": "FOR UPDATE",
    "update": "FOR UPDATE",
    "key share": "FOR KEY SHARE",
    "share": "FOR SHARE",
    "keysh": "FOR KEY SHARE",
    "sh": "FOR SHARE",
    "fornokeyupd": "FOR NO KEY UPDATE",
    "nokeyupd": "FOR NO KEY UPDATE",
    "forupd": "FOR UPDATE",
    "upd": "FOR UPDATE",
}

#: What a row that a transaction inserted amounts to for others, until it commits.
INSERTED_MODE = "FOR UPDATE"


def row_mode(access: Access, key_columns: frozenset[str]) -> str | None:
    """The row lock that ``access`` takes on the rows it touches (13.3.2).

    An UPDATE takes FOR UPDATE where it changes a column of a unique index that a foreign key could use
    (``key_columns``), otherwise FOR NO KEY UPDATE; a plain read takes none.
    """
    if access.verb == "lock" and access.strength:
        return "FOR " + access.strength.upper()
    if access.verb == "delete":
        return "FOR UPDATE"
    if access.verb == "update":
        return "FOR UPDATE" if key_columns.intersection(access.columns) else "FOR NO KEY UPDATE"
    return None


def table_mode(access: Access) -> str:
    """The table lock that ``access`` takes (13.3.1), by the commands the documentation lists for each mode."""
    if access.verb == "read":
        return "AccessShareLock"
    if access.verb == "lock":
        return "RowShareLock"
    if access.writes:
        return "RowExclusiveLock"
    if access.detail.startswith("lock "):
        wanted = access.detail.removeprefix("lock ").replace(" ", "") + "lock"
        return next((mode for mode in _TABLE_MODES if mode.lower() == wanted), "AccessExclusiveLock")
    if access.detail.startswith("create index"):
        return "ShareUpdateExclusiveLock" if "concurrently" in access.detail else "ShareLock"
    return "AccessExclusiveLock"
