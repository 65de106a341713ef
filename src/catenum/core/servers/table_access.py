"""How a statement touches a table, from the mildest way: what the dependence of moves is read off.

Here rather than with the dependence itself, because some of it is a server's rule: whether a plain
read locks what it reads, and what it sees.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum

#: A value that a key's column is compared with: the column's kind (``TableKeys.kinds``, "" where it
#: is not known), whether it is written as a text, and what is written.
KeyValue = tuple[str, bool, str]
#: A unique index's columns, and the values they are compared with.
RowKey = tuple[tuple[str, ...], tuple[KeyValue, ...]]


#: In the place of a table's name, as no table here is called: sequences; named locks; and, before a
#: table's name, the order in which its rows were written.
SEQUENCES, NAMED_LOCKS, ROW_ORDER = "every sequence", "every named lock", "order of the rows of "


class AccessMode(IntEnum):
    """How a statement touches what it touches, from the mildest."""

    READ = 0  # under a snapshot: sees what was committed
    DIRTY = 1  # sees what was not
    SHARE = 2
    LOCK = 3
    WRITE = 4
    INSERT = 5
    SCHEMA = 6


@dataclass(frozen=True, slots=True)
class TableAccess:
    """One table as one statement touches it; ``keys`` None: any of its rows. ``table`` None:
    anything at all.
    """

    table: str | None
    mode: AccessMode
    keys: frozenset[RowKey] | None = None

    @property
    def at_once(self) -> bool:
        """Whether it is of what no transaction holds back or undoes: numbers, the order of rows."""
        return self.table is not None and self.table.startswith((SEQUENCES, ROW_ORDER))


UNKNOWN_ACCESS = TableAccess(None, AccessMode.SCHEMA)
