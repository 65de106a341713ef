"""A database that Catenum keeps its own records in: what ``store`` needs of one.

SQL is written once, with ``?`` for values, and in what SQLite and PostgreSQL have in common.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from typing import Any, Protocol


class DatabaseFault(Exception):
    """The database did not do it. ``damaged``: what is there cannot be read any more; ``refused``:
    these values never fit, however often it is asked; ``denied``: a right is lacking, or a table.
    """

    def __init__(
        self, message: str, *, damaged: bool = False, refused: bool = False, denied: bool = False
    ) -> None:
        super().__init__(message)
        self.damaged, self.refused, self.denied = damaged, refused, denied


class Database(Protocol):
    """All methods raise DatabaseFault."""

    @property
    def shown(self) -> str:
        """Where it is, without secrets."""

    @property
    def shared(self) -> bool:
        """Whether several may write to it."""

    @property
    def types(self) -> Mapping[str, str]:
        """What it calls the types of the schema: ``id`` (a number that it gives), ``int``,
        ``long`` (64 bits), ``real``, ``bytes``, ``text`` and ``time`` (both compared byte by byte);
        and what follows a table that is its own index, ``rowless``.
        """

    def transaction(self) -> AbstractContextManager[None]:
        """All that is done in the block is written, or nothing where it raises."""

    def execute(self, sql: str, values: Sequence[object] = ()) -> int:
        """Gives how many rows were changed."""

    def many(self, sql: str, rows: Iterable[Sequence[object]]) -> None:
        """The same statement with one row of values after another."""

    def insert(self, table: str, row: Mapping[str, object]) -> int:
        """Enter a row by its columns' names; gives its ``id``."""

    def rows(self, sql: str, values: Sequence[object] = ()) -> list[dict[str, Any]]:
        """What a query gives, by the names of its columns."""

    def joined(self, what: str, by: str) -> str:
        """SQL for texts of several rows as one, in an order."""

    def size(self) -> int:
        """Bytes that what is stored takes, without what is free."""

    def tidy(self) -> None:
        """Give the room free that deleted rows took."""

    def claim(self, name: str) -> bool:
        """Whether this is the only connection that writes under a name; until it is closed."""

    def close(self) -> None:
        """Never raises."""
