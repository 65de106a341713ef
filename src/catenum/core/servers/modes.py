"""What a table of conflicting lock modes is. Each server's own tables stand in the module of its
name.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from catenum.core.record.modes import Mode


@dataclass(frozen=True)
class ModeTable:
    """Which modes of one family of locks conflict, weakest mode first; pairs are (wanted, held).

    Most tables are symmetric. Where one is not, as for gap locks, the order matters: an insert
    waits for a gap lock, but a gap lock never waits for an insert.
    """

    title: str
    source: str
    modes: tuple[Mode, ...]
    conflicts: frozenset[tuple[Mode, Mode]]

    def conflict(self, wanted: Mode, held: Mode) -> bool:
        """Whether ``wanted`` has to wait for ``held``. Raises KeyError for an unknown mode."""
        for mode in (wanted, held):
            if mode not in self.modes:
                raise KeyError(str(mode))
        return (wanted, held) in self.conflicts


def symmetric(
    modes: tuple[Mode, ...], rows: Mapping[str, tuple[int, ...]]
) -> frozenset[tuple[Mode, Mode]]:
    """The conflicts of a printed table: for each mode the positions of those it conflicts with.
    Raises ValueError where the table does not say the same of two modes either way round.
    """
    named = {mode.name: mode for mode in modes}
    pairs = frozenset(
        (named[name], modes[i]) for name, positions in rows.items() for i in positions
    )
    if pairs != {(held, wanted) for wanted, held in pairs}:
        raise ValueError(f"not symmetric: {rows}")
    return pairs


@dataclass(frozen=True)
class Conflict:
    """Why one lock stops another: the modes, whether the server's table says they conflict, and
    where that stands.
    """

    wanted: Mode
    held: Mode
    conflict: bool
    source: str


def conflict_in(tables: Iterable[ModeTable], wanted: Mode, held: Mode) -> Conflict | None:
    """The conflict of two modes by the table that has both; None where no table has."""
    for table in tables:
        if wanted in table.modes and held in table.modes:
            return Conflict(wanted, held, table.conflict(wanted, held), table.source)
    return None
