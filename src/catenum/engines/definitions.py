"""Definitions of tables on a user's server, and rows by their keys, for scenarios of what happened
there.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Mapping, Sequence

from catenum.core.logs.traces import Trace

#: Tables of the schemas concerned, whose definitions are read.
MOST_TABLES = 500


class Definitions(ABC):
    """One connection, which only reads, and waits for nobody for long. Every method raises
    TargetError.
    """

    shown: str

    @abstractmethod
    def script(self, tables: Iterable[str]) -> str:
        """The definitions of all tables in the schemas in which some tables are, with what belongs
        to them.
        """

    @abstractmethod
    def rows(self, table: str, keys: Iterable[Mapping[str, str]]) -> Iterator[dict[str, str]]:
        """The rows of a table by their keys, values as text, NULL left out; of keys that are gone,
        nothing.
        """

    @abstractmethod
    def names(self, numbers: Iterable[str]) -> dict[str, str]:
        """The tables of the server's own numbers."""

    def trace(self, table: str, address: str | None, numbers: Sequence[int]) -> Trace:
        """See ``core.logs.traces.RowSearch``. There is nothing to look for where reports have
        the keys of rows.
        """
        return Trace()

    @abstractmethod
    def close(self) -> None:
        """Disconnect."""
