"""Locks that statements take by a name of their own choice: advisory locks on PostgreSQL, GET_LOCK
on MariaDB.

They belong to the session unless the function says otherwise, so a commit or a rollback does not
let them go (PostgreSQL documentation, 13.3.5 and 9.28.10; MariaDB documentation, "GET_LOCK").
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from catenum.core.record.waits import Resource
from catenum.core.sql.parser import exp

_TAKING = frozenset(
    [
        *(
            "pg_advisory_lock",
            "pg_advisory_lock_shared",
            "pg_try_advisory_lock",
            "pg_try_advisory_lock_shared",
        ),
        *("pg_advisory_xact_lock", "pg_advisory_xact_lock_shared"),
        *("pg_try_advisory_xact_lock", "pg_try_advisory_xact_lock_shared"),
        "get_lock",
    ]
)
#: Every function on named locks, by its name.
FUNCTIONS = _TAKING | frozenset(
    [
        *("pg_advisory_unlock", "pg_advisory_unlock_shared", "pg_advisory_unlock_all"),
        *("release_lock", "release_all_locks", "is_free_lock", "is_used_lock"),
    ]
)


@dataclass(frozen=True, slots=True)
class NamedLock:
    """One use of a named lock. ``key``: a number, two numbers or a name; empty where it is
    computed.
    """

    function: str
    key: tuple[int | str, ...] = ()

    @property
    def takes(self) -> bool:
        """Whether this takes the lock, or tries to."""
        return self.function in _TAKING

    @property
    def of_session(self) -> bool:
        """Whether the lock, once taken, outlives the transaction."""
        return self.takes and "_xact_" not in self.function

    @property
    def shared(self) -> bool:
        """Whether others may have it in the same way at the same time."""
        return self.function.endswith("_shared")

    @property
    def resource(self) -> Resource | None:
        """What it is on; None where its name is computed."""
        if not self.key:
            return None
        of_postgresql = self.function.startswith("pg_")
        return advisory_resource(*self.key) if of_postgresql else named_resource(str(self.key[0]))


def advisory_resource(*key: int | str) -> Resource:
    """PostgreSQL's advisory locks, by one number or by two."""
    text = f"advisory lock {key[0]}" if len(key) == 1 else f"advisory lock ({key[0]}, {key[1]})"
    return Resource(kind="advisory", text=text, key=tuple(("number", str(part)) for part in key))


def advisory_of_row(classid: int, objid: int, objsubid: int) -> Resource:
    """The same from the columns of ``pg_locks`` (documentation, 54.12): one number in two halves,
    or two numbers.
    """
    if objsubid == 1:
        return advisory_resource(_signed(classid << 32 | objid, 64))
    return advisory_resource(_signed(classid, 32), _signed(objid, 32))


def _signed(number: int, bits: int) -> int:
    return number - (1 << bits) if number >> (bits - 1) else number


def named_resource(name: str) -> Resource:
    """MariaDB's named locks."""
    return Resource(kind="advisory", text=f"named lock '{name}'", key=(("name", name),))


def named_locks(tree: exp.Expr) -> Iterator[NamedLock]:
    """The named locks that a statement uses, in the order of its text."""
    for call in tree.find_all(exp.Anonymous):
        function = call.name.lower()
        if function in FUNCTIONS:
            yield NamedLock(function, _key(function, call.expressions))


def _key(function: str, given: list[exp.Expr]) -> tuple[int | str, ...]:
    if function.startswith("pg_"):
        numbers = [_number(argument) for argument in given]
        return (
            tuple(number for number in numbers if number is not None) if None not in numbers else ()
        )
    name = given[0] if given else None
    return (name.name,) if isinstance(name, exp.Literal) and name.is_string else ()


def _number(argument: exp.Expr) -> int | None:
    sign, argument = (-1, argument.this) if isinstance(argument, exp.Neg) else (1, argument)
    while isinstance(argument, exp.Cast | exp.Paren):
        argument = argument.this
    return (
        sign * int(argument.name) if isinstance(argument, exp.Literal) and argument.is_int else None
    )
