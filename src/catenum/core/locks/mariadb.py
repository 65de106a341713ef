"""InnoDB's and MariaDB's lock modes, and which has to wait for which.

Record locks are told as a mode and what it covers: ``X record`` (the row alone), ``X gap`` (the space before it), ``X
next-key`` (both), ``X insert intention`` (a wish to insert into the gap). Sources: MariaDB documentation, "InnoDB
Lock Modes"; for records and gaps the rules of ``lock_rec_has_to_wait`` in InnoDB's lock0lock.cc; for metadata locks
MariaDB's mdl.cc.
"""

from __future__ import annotations

from catenum.core.locks.modes import ModeTable, symmetric
from catenum.core.statements import Access

_TABLE_MODES = ("IS", "IX", "AUTO-INC", "S", "X")
TABLE = ModeTable(
    title="InnoDB table locks",
    source='MariaDB documentation, "InnoDB Lock Modes"',
    modes=_TABLE_MODES,
    conflicts=symmetric(
        _TABLE_MODES, {"IS": (4,), "IX": (3, 4), "AUTO-INC": (2, 3, 4), "S": (1, 2, 4), "X": (0, 1, 2, 3, 4)}
    ),
)

RECORD_KINDS = ("gap", "insert intention", "record", "next-key")
_RECORD_MODES = tuple(f"{mode} {kind}" for mode in ("S", "X") for kind in RECORD_KINDS)


def _has_to_wait(wanted: str, held: str) -> bool:
    """``lock_rec_has_to_wait`` (lock0lock.cc).

    Whether a request on a record waits for a lock that another has on it.
    """
    (mode, _, kind), (held_mode, _, held_kind) = wanted.partition(" "), held.partition(" ")
    if mode == "S" == held_mode:
        return False
    if held_kind == "insert intention":
        return False  # nobody waits for a wish to insert
    if kind == "insert intention":
        return held_kind in ("gap", "next-key")
    if kind == "gap":
        return False  # a gap lock only keeps inserts out
    return held_kind != "gap"


RECORD = ModeTable(
    title="InnoDB record and gap locks",
    source='MariaDB documentation, "InnoDB Lock Modes" (gap locks), and lock_rec_has_to_wait in lock0lock.cc',
    modes=_RECORD_MODES,
    conflicts=frozenset((a, b) for a in _RECORD_MODES for b in _RECORD_MODES if _has_to_wait(a, b)),
)

_METADATA_MODES = (
    "MDL_SHARED",
    "MDL_SHARED_HIGH_PRIO",
    "MDL_SHARED_READ",
    "MDL_SHARED_WRITE",
    "MDL_SHARED_UPGRADABLE",
    "MDL_SHARED_READ_ONLY",
    "MDL_SHARED_NO_WRITE",
    "MDL_SHARED_NO_READ_WRITE",
    "MDL_EXCLUSIVE",
)
METADATA = ModeTable(
    title="metadata locks",
    source='MariaDB documentation, "Metadata Locking", and the compatibility table in mdl.cc',
    modes=_METADATA_MODES,
    conflicts=symmetric(
        _METADATA_MODES,
        {
            "MDL_SHARED": (8,),
            "MDL_SHARED_HIGH_PRIO": (8,),
            "MDL_SHARED_READ": (7, 8),
            "MDL_SHARED_WRITE": (5, 6, 7, 8),
            "MDL_SHARED_UPGRADABLE": (6, 7, 8),
            "MDL_SHARED_READ_ONLY": (3, 7, 8),
            "MDL_SHARED_NO_WRITE": (3, 4, 6, 7, 8),
            "MDL_SHARED_NO_READ_WRITE": (2, 3, 4, 5, 6, 7, 8),
            "MDL_EXCLUSIVE": (0, 1, 2, 3, 4, 5, 6, 7, 8),
        },
    ),
)
#: Where the conflicts of locks by a name of one's own are described.
NAMED_SOURCE = 'MariaDB documentation, "GET_LOCK"'
TABLES = (TABLE, RECORD, METADATA)

#: What a row that a transaction inserted amounts to for others, until it commits (an implicit lock).
INSERTED_MODE = "X record"


def row_mode(access: Access, key_columns: frozenset[str]) -> str | None:
    """The lock that ``access`` takes on index records it comes to, at its strictest (MariaDB documentation, "InnoDB
    Lock Modes").

    Whether the gap is locked too depends on the isolation level and the index; for what conflicts the strictest serves.
    """
    if access.verb == "lock":
        return "S next-key" if access.strength in ("share", "key share") else "X next-key"
    return "X next-key" if access.verb in ("update", "delete") else None


def table_mode(access: Access) -> str:
    """The metadata lock that ``access`` takes on the table."""
    if access.verb in ("read", "lock"):
        return "MDL_SHARED_READ" if access.verb == "read" else "MDL_SHARED_WRITE"
    if access.detail in ("lock read", "lock write"):
        return "MDL_SHARED_READ_ONLY" if access.detail == "lock read" else "MDL_SHARED_NO_READ_WRITE"
    return "MDL_SHARED_WRITE" if access.writes else "MDL_EXCLUSIVE"
