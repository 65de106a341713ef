"""Scratch space and data: made, loaded, filled, read, put back, dropped."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Protocol

from catenum.core.errors import TargetError
from catenum.core.record.recording import PathStep, ServerError, TableKeys, TableRows
from catenum.core.record.values import NOTHING, Binding, Value


class NeedsReload(Exception):
    """The data cannot be brought back by itself; it has to be loaded again."""


class NotRestored(TargetError):
    """After all was put back, other rows stand there than before."""

    def __init__(self, what: str, tables: Sequence[str]) -> None:
        super().__init__(
            f"{what}: {', '.join(tables) or 'the tables'} differ",
            advice=(
                "Runs that do not start from the same rows cannot be compared. A trigger or another"
                " session may be changing them; values that differ from run to run (the clock,"
                " chance) can be named under 'ignore:'."
            ),
        )


class DataError(Exception):
    """SQL that the server rejected outside of the scenario's transactions: in ``data`` or in a
    ``holds`` query.
    """

    def __init__(self, error: ServerError, sql: str) -> None:
        super().__init__(error.message)
        self.error, self.sql = error, sql


@dataclass(frozen=True, slots=True, kw_only=True)
class StatementsEffects:
    """What the statements of a scenario may do to its data, as far as restoring depends on it.

    ``ignored``: per table the columns that ``data_state`` shall not cover; they are put back all
    the same; ``of_new``: those that it covers only in rows that stand there now. ``shape``:
    statements may change more than rows. ``written``: the tables that statements can write, in
    lower case; None where that is not known. ``updated``: those of them that are only updated, and
    never in a key, with the columns that are set. ``afresh``: the data may be other than that of
    the last time, so nothing that was learnt of that counts.
    """

    ignored: Mapping[str, Sequence[str]] = field(default_factory=dict)
    of_new: Mapping[str, Sequence[str]] = field(default_factory=dict)
    shape: bool
    written: Collection[str] | None = None
    updated: Mapping[str, Collection[str]] | None = None
    afresh: bool = False

    def and_also(self, other: StatementsEffects) -> StatementsEffects | None:
        """Those of both; None where what is covered differs."""
        if (self.ignored, self.of_new, self.shape) != (other.ignored, other.of_new, other.shape):
            return None
        if self.written is None or other.written is None:
            return None if self.written != other.written else self
        mine, theirs = self.updated or {}, other.updated or {}
        both = {*self.written, *other.written}
        updated = {
            table: {*mine.get(table, ()), *theirs.get(table, ())}
            for table in both
            if (table in mine or table not in self.written)
            and (table in theirs or table not in other.written)
        }
        return replace(self, written=both, updated=updated, afresh=False)


class Data(Protocol):
    """The port for scratch space and data."""

    def make_scratch(self) -> list[str]:
        """Make the scratch space. Returns the names of stale ones, left by a killed run, that were
        cleared.
        """

    #: How often ``load`` was called, or a table was changed and changed back.
    loads: int

    def load(self, script: str) -> None:
        """Run set-up SQL in the scratch space, from empty. Raises DataError where the server
        rejects it.
        """

    def add(self, sql: str) -> None:
        """Run one more statement of set-up in the scratch space. Raises DataError where the server
        rejects it.
        """

    def fill(
        self, table: str, columns: Sequence[str], rows: Iterable[tuple[str | int | None, ...]]
    ) -> None:
        """Put rows into a table, in bulk. Raises DataError where the server rejects them."""

    def analyze(self) -> None:
        """Have the server look at the data again, so that it plans by what is there."""

    def tables(self) -> dict[str, TableKeys]:
        """The scratch space's tables and their keys."""

    def functions(self) -> frozenset[str]:
        """The names, in lower case, of functions that are not the server's own, wherever they are;
        ``*`` among them where there are operators or casts that call such without naming it.
        """

    def notes(self) -> list[str]:
        """What of the scratch space's tables a reader should know, such as that one has no row
        locks.
        """

    def plan(self, sql: str, values: Binding = NOTHING) -> tuple[PathStep, ...]:
        """The access path that the server would take for ``sql`` now; empty where it has none.
        Nothing is executed.

        ``values`` are those of its parameters, as for ``Session.send``.
        """

    def keep_data(self, what: StatementsEffects) -> None:
        """Remember what the tables hold now, for ``data_state`` and ``restore_data``.

        Raises NotRestored where what is put back is not what was there, and NeedsReload, once,
        where the server would not plan as before: what stands there then must be loaded again.
        """

    def data_state(self) -> str:
        """A fingerprint of what the tables hold now."""

    def restore_data(self) -> Callable[[], None]:
        """Begin to bring back what ``keep_data`` remembered, after ``data_state``. What is returned
        waits for it.

        Both raise NeedsReload where only loading again can, NotRestored where other rows stand
        there afterwards.
        """

    def rows(
        self, limit: int, tables: Mapping[str, TableKeys] | None = None
    ) -> dict[str, TableRows]:
        """The contents of the scratch space's tables, or of ``tables`` where they are known."""

    def values_of(self, table: str, column: str, most: int) -> tuple[Value, ...]:
        """Different values of a column, in order, without NULL; at most so many. Raises
        DataError.
        """

    def truth(self, sql: str) -> bool:
        """Whether a query returns true. Raises DataError where it fails or is no yes-or-no
        query.
        """

    def close(self) -> None:
        """Drop the scratch space and disconnect. Never raises."""
