"""Metadata locks: what MariaDB and MySQL lock of a table's definition, and other things than rows.

Source: the compatibility matrix of granted locks in mdl.cc of either server, where it reads the
same.
"""

from __future__ import annotations

from catenum.core.record.modes import Mode
from catenum.core.servers.modes import ModeTable, symmetric

_METADATA_MODES = tuple(
    Mode("metadata", name)
    for name in (
        "MDL_SHARED",
        "MDL_SHARED_HIGH_PRIO",
        "MDL_SHARED_READ",
        "MDL_SHARED_WRITE",
        "MDL_SHARED_WRITE_LOW_PRIO",
        "MDL_SHARED_UPGRADABLE",
        "MDL_SHARED_READ_ONLY",
        "MDL_SHARED_NO_WRITE",
        "MDL_SHARED_NO_READ_WRITE",
        "MDL_EXCLUSIVE",
    )
)
_CONFLICTS = symmetric(
    _METADATA_MODES,
    {
        "MDL_SHARED": (9,),
        "MDL_SHARED_HIGH_PRIO": (9,),
        "MDL_SHARED_READ": (8, 9),
        "MDL_SHARED_WRITE": (6, 7, 8, 9),
        "MDL_SHARED_WRITE_LOW_PRIO": (6, 7, 8, 9),
        "MDL_SHARED_UPGRADABLE": (5, 7, 8, 9),
        "MDL_SHARED_READ_ONLY": (3, 4, 8, 9),
        "MDL_SHARED_NO_WRITE": (3, 4, 5, 7, 8, 9),
        "MDL_SHARED_NO_READ_WRITE": (2, 3, 4, 5, 6, 7, 8, 9),
        "MDL_EXCLUSIVE": (0, 1, 2, 3, 4, 5, 6, 7, 8, 9),
    },
)


def metadata_locks(source: str) -> ModeTable:
    """The table, with where a server's documentation describes it."""
    where = f"{source}, and the compatibility table in mdl.cc"
    return ModeTable(
        title="metadata locks", source=where, modes=_METADATA_MODES, conflicts=_CONFLICTS
    )


def conflict(wanted: Mode, held: Mode) -> bool | None:
    """Whether two modes conflict; None where one is none of a table's."""
    if wanted in _METADATA_MODES and held in _METADATA_MODES:
        return (wanted, held) in _CONFLICTS
    return None


def metadata_mode(name: str) -> Mode:
    """A metadata lock's mode by the server's name for it."""
    return Mode("metadata", name)


MDL_READ, MDL_WRITE, MDL_EXCLUSIVE = map(
    metadata_mode, ("MDL_SHARED_READ", "MDL_SHARED_WRITE", "MDL_EXCLUSIVE")
)
