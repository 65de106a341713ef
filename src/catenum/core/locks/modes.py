"""What a conflict table is, and where to find that of a server."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module
from typing import Protocol, cast

from catenum.core.statements import Access


@dataclass(frozen=True)
class ModeTable:
    """Symmetric conflicts between the modes of one family of locks, weakest mode first."""

    title: str
    source: str
    modes: tuple[str, ...]
    conflicts: frozenset[frozenset[str]]

    def conflict(self, one: str, other: str) -> bool:
        """Whether two transactions cannot hold ``one`` and ``other`` at once. Raises KeyError for an unknown mode."""
        for mode in (one, other):
            if mode not in self.modes:
                raise KeyError(mode)
        return frozenset((one, other)) in self.conflicts

    def stronger(self, one: str, other: str) -> str:
        """The later of two modes in the table's order."""
        return max(one, other, key=self.modes.index)


def symmetric(modes: tuple[str, ...], rows: dict[str, tuple[int, ...]]) -> frozenset[frozenset[str]]:
    """The conflicts of a printed table: for each mode the positions of those it conflicts with."""
    return frozenset(frozenset((mode, modes[i])) for mode, positions in rows.items() for i in positions)


@dataclass(frozen=True)
class Conflict:
    """Why one lock stops another: the modes, whether the server's table says they conflict, and where that stands."""

    wanted: str
    held: str
    conflict: bool
    source: str


class LockRules(Protocol):
    """What a server module in this folder offers."""

    TABLES: tuple[ModeTable, ...]
    row_mode: Callable[[Access, frozenset[str]], str | None]
    table_mode: Callable[[Access], str]
    VICTIM_SOURCE: str


def lock_rules(server: str) -> LockRules:
    """The rules of ``server``. Raises KeyError where there are none."""
    if server not in ("postgresql",):
        raise KeyError(server)
    return cast(LockRules, import_module(f"catenum.core.locks.{server}"))


def explain_conflict(server: str, wanted: str, held: str) -> Conflict | None:
    """The conflict of two modes by the server's own table; None where they are not of one table."""
    for table in lock_rules(server).TABLES:
        if wanted in table.modes and held in table.modes:
            return Conflict(wanted, held, table.conflict(wanted, held), table.source)
    return None
