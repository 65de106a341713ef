"""Locks that statements take by a name of their own choice: advisory locks on PostgreSQL, GET_LOCK on MariaDB.

They belong to the session unless the function says otherwise, so a commit or a rollback does not let them go
(PostgreSQL documentation, 13.3.5 and 9.28.10; MariaDB documentation, "GET_LOCK").
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from sqlglot import exp

_TAKING = frozenset(
    [
        *("pg_advisory_lock", "pg_advisory_lock_shared", "pg_try_advisory_lock", "pg_try_advisory_lock_shared"),
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
    """One use of a named lock. ``key``: a number, two numbers or a name; empty where it is computed."""

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
    def mode(self) -> str:
        """The mode in which PostgreSQL takes it."""
        return "ShareLock" if self.function.endswith("_shared") else "ExclusiveLock"

    @property
    def text(self) -> str | None:
        """The lock as a wait's resource names it."""
        if not self.key:
            return None
        return named_text(str(self.key[0])) if self.function == "get_lock" else advisory_text(*self.key)


def advisory_text(*key: int | str) -> str:
    """PostgreSQL's advisory locks as they are named here, by one number or by two."""
    return f"advisory lock {key[0]}" if len(key) == 1 else f"advisory lock ({key[0]}, {key[1]})"


def advisory_key(classid: int, objid: int, objsubid: int) -> str:
    """The same from the columns of ``pg_locks`` (documentation, 54.12): one number in two halves, or two numbers."""
    if objsubid == 1:
        return advisory_text(_signed(classid << 32 | objid, 64))
    return advisory_text(_signed(classid, 32), _signed(objid, 32))


def _signed(number: int, bits: int) -> int:
    return number - (1 << bits) if number >> (bits - 1) else number


def named_text(name: str) -> str:
    """MariaDB's named locks."""
    return f"named lock '{name}'"


def named_locks(tree: exp.Expr) -> Iterator[NamedLock]:
    """The named locks that a statement uses, in the order of its text."""
    for call in tree.find_all(exp.Anonymous):
        function = call.name.lower()
        if function in FUNCTIONS:
            yield NamedLock(function, _key(function, call.expressions))


def _key(function: str, given: list[exp.Expr]) -> tuple[int | str, ...]:
    if function.startswith("pg_"):
        numbers = [_number(argument) for argument in given]
        return tuple(number for number in numbers if number is not None) if None not in numbers else ()
    name = given[0] if given else None
    return (name.name,) if isinstance(name, exp.Literal) and name.is_string else ()


def _number(argument: exp.Expr) -> int | None:
    sign, argument = (-1, argument.this) if isinstance(argument, exp.Neg) else (1, argument)
    while isinstance(argument, exp.Cast | exp.Paren):
        argument = argument.this
    return sign * int(argument.name) if isinstance(argument, exp.Literal) and argument.is_int else None
