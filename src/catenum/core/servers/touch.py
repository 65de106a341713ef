"""How a statement touches a table, from the mildest way: what the dependence of moves is read off.

Here rather than with the dependence itself, because some of it is a server's rule: whether a plain read locks what it
reads, and what it sees.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum

#: A value that a key's column is compared with: the column's kind (``TableKeys.kinds``, "" where it is not known),
#: whether it is written as a text, and what is written.
KeyValue = tuple[str, bool, str]
#: A unique index's columns, and the values they are compared with.
RowKey = tuple[tuple[str, ...], tuple[KeyValue, ...]]


class TouchMode(IntEnum):
    """How a statement touches what it touches, from the mildest."""

    READ = 0  # under a snapshot: sees what was committed
    DIRTY = 1  # sees what was not
    SHARE = 2
    LOCK = 3
    WRITE = 4
    INSERT = 5
    SCHEMA = 6


@dataclass(frozen=True, slots=True)
class Touch:
    """One table as one statement touches it; ``keys`` None: any of its rows. ``table`` None: anything at all."""

    table: str | None
    mode: TouchMode
    keys: frozenset[RowKey] | None = None


ANYTHING = Touch(None, TouchMode.SCHEMA)
