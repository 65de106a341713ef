"""What a conflict table is, and where to find that of a server."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module
from typing import Protocol, cast

from catenum.core.statements import Access


@dataclass(frozen=True)
class ModeTable:
    """Which modes of one family of locks conflict, weakest mode first; pairs are (wanted, held).

    Most tables are symmetric. Where one is not, as for gap locks, the order matters: an insert waits for a gap lock,
    but a gap lock never waits for an insert.
    """

    title: str
    source: str
    modes: tuple[str, ...]
    conflicts: frozenset[tuple[str, str]]

    def conflict(self, wanted: str, held: str) -> bool:
        """Whether ``wanted`` has to wait for ``held``. Raises KeyError for an unknown mode."""
        for mode in (wanted, held):
            if mode not in self.modes:
                raise KeyError(mode)
        return (wanted, held) in self.conflicts


def symmetric(modes: tuple[str, ...], rows: dict[str, tuple[int, ...]]) -> frozenset[tuple[str, str]]:
    """The conflicts of a printed table: for each mode the positions of those it conflicts with, either way round."""
    pairs = {(mode, modes[i]) for mode, positions in rows.items() for i in positions}
    return frozenset(pairs | {(held, wanted) for wanted, held in pairs})


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
    INSERTED_MODE: str
    NAMED_SOURCE: str
    row_mode: Callable[[Access, frozenset[str]], str | None]
    table_mode: Callable[[Access], str]


def lock_rules(server: str) -> LockRules:
    """The rules of ``server``. Raises KeyError where there are none."""
    if server not in ("postgresql", "mariadb"):
        raise KeyError(server)
    return cast(LockRules, import_module(f"catenum.core.locks.{server}"))


def explain_conflict(server: str, wanted: str, held: str) -> Conflict | None:
    """The conflict of two modes by the server's own table; None where they are not of one table."""
    for table in lock_rules(server).TABLES:
        if wanted in table.modes and held in table.modes:
            return Conflict(wanted, held, table.conflict(wanted, held), table.source)
    return None
