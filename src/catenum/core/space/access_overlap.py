"""Whether two ways of touching rows meet: by table, by mode, and by the values of unique keys.

Apart from the dependence of moves, which is what they come to together, since each rule here is a
server's own.
"""

from __future__ import annotations

import re

from catenum.core.servers.table_access import AccessMode, KeyValue, RowKey, TableAccess


def overlap(a: TableAccess, b: TableAccess, *, gaps: bool = False) -> bool:
    """Whether two statements that touch so depend on each other. ``gaps``: locks cover the space
    between rows.
    """
    low, high = sorted((a, b), key=lambda touch: touch.mode)
    if not _modes_meet(low.mode, high.mode):
        return False
    if a.table is None or b.table is None:
        return True
    if a.table != b.table:
        return False
    if AccessMode.SCHEMA in (a.mode, b.mode):
        return True
    if high.mode is AccessMode.INSERT and low.mode >= AccessMode.SHARE:
        return (gaps and low.mode is not AccessMode.INSERT) or _inserts_meet(a, b)
    if gaps and high.mode is AccessMode.INSERT:
        return True
    return _rows_meet(a.keys, b.keys)


def end_overlaps(ended: TableAccess, b: TableAccess, *, gaps: bool = False) -> bool:
    """Whether the end of a transaction that touched ``ended`` counts for a statement that touches
    ``b``.
    """
    if ended.at_once or b.at_once:
        return False
    if b.mode is AccessMode.READ and ended.mode >= AccessMode.WRITE:
        same = ended.table is None or b.table is None or ended.table == b.table
        return same and (ended.mode is AccessMode.SCHEMA or _rows_meet(ended.keys, b.keys))
    return overlap(ended, b, gaps=gaps)


def shut_out(held: TableAccess, other: TableAccess) -> bool:
    """Whether ``other`` waits, whenever it comes, where the change ``held`` is of a row that was
    locked before it.

    Not what only reads. Not an INSERT: whether a row that has its key is only locked or changed
    makes a difference to it (PostgreSQL, _bt_check_unique).
    """
    return (
        held.mode is AccessMode.WRITE
        and AccessMode.SHARE <= other.mode <= AccessMode.WRITE
        and held.table == other.table
        and held.keys is not None
        and held.keys == other.keys
    )


def _modes_meet(low: AccessMode, high: AccessMode) -> bool:
    if high is AccessMode.SCHEMA:
        return True
    if low is AccessMode.READ:
        return False
    if low is AccessMode.DIRTY:
        return high >= AccessMode.WRITE
    return not low is high is AccessMode.SHARE


def _rows_meet(a: frozenset[RowKey] | None, b: frozenset[RowKey] | None) -> bool:
    """False only where a unique key distinguishes the rows: no row has two values of one key."""
    if a is None or b is None:
        return True
    ours, theirs = dict(a), dict(b)
    return not any(_apart(ours[key], theirs[key]) for key in ours.keys() & theirs.keys())


def _inserts_meet(a: TableAccess, b: TableAccess) -> bool:
    """Whether an INSERT and a change of rows may meet: on any unique key, so each must tell them
    apart.

    An INSERT waits for whoever changes a row that has its value of *some* unique key (PostgreSQL,
    "Index Uniqueness Checks"; InnoDB takes a shared lock on the entry), and which other keys a
    changed row has is not known.
    """
    if a.keys is None or b.keys is None:
        return True
    ours, theirs = dict(a.keys), dict(b.keys)
    if ours.keys() != theirs.keys():
        return True
    return not all(_apart(ours[key], theirs[key]) for key in ours)


def _apart(a: tuple[KeyValue, ...], b: tuple[KeyValue, ...]) -> bool:
    return any(_differ(x, y) for x, y in zip(a, b, strict=True))


#: Letters that some collation takes for another's equal (Swedish: v and w; Lithuanian: i and y;
#: older Latin: i, j and u, v).
_SAME_LETTERS = str.maketrans("wuyj", "vvii")


def _differ(a: KeyValue, b: KeyValue) -> bool:
    """Whether two values of a key are certainly different, as the server compares values of that
    kind.
    """
    (kind, is_text, one), (other_kind, other_is_text, other) = a, b
    if kind != other_kind:
        return False
    name, _, length = kind.partition(" ")
    if name == CLASS:
        return one != other
    if name == "integer":
        return bool(_INTEGER.fullmatch(one) and _INTEGER.fullmatch(other)) and int(one) != int(
            other
        )
    if name not in ("text", "folded") or not (is_text and other_is_text):
        return False  # a number against a text: how they compare is the server's affair
    if name == "folded":
        if not (_FOLDABLE.fullmatch(one) and _FOLDABLE.fullmatch(other)):
            return False
        one, other = (text.casefold().translate(_SAME_LETTERS) for text in (one, other))
    kept = int(length) if length else None
    return one[:kept].rstrip(" ") != other[:kept].rstrip(" ")


#: The kind of a value that the server has put into a class of equals.
CLASS = "class"
_INTEGER = re.compile(r"[+-]?[0-9]+")
_FOLDABLE = re.compile(r"[A-Za-z0-9 ]*")
