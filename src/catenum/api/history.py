"""What a watch stored: incidents, deadlocks, what was released, over which time."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from catenum.core.points_in_time import point_in_time
from catenum.core.record.recording import Recording
from catenum.core.snapshot.history_rows import DeadlockRow, IncidentRow, PairRow, ReleaseRow
from catenum.engines.clock import moment
from catenum.store import queries
from catenum.store.places import place_of
from catenum.store.spans import Span
from catenum.store.store import Store, reader


@dataclass(frozen=True)
class History:
    """A store, as far as it was asked for; each question is answered from it."""

    store: Store
    span: Span

    def totals(self) -> dict[str, Any]:
        """How much there is, and when nobody looked."""
        return queries.totals(self.store, self.span)

    def incidents(self, limit: int = 50) -> list[IncidentRow]:
        """The incidents, the latest first."""
        return queries.incidents(self.store, self.span, limit)

    def deadlocks(self) -> list[DeadlockRow]:
        """The deadlocks that were counted or reported."""
        return queries.deadlocks(self.store, self.span)

    def releases(self) -> list[ReleaseRow]:
        """What 'release' did."""
        return queries.releases(self.store, self.span)

    def groups(self, by: queries.By = "statement") -> list[dict[str, Any]]:
        """The incidents by the head blocker's statement, the object or the application."""
        return queries.grouped(self.store, by, self.span)

    def pairs(self) -> list[PairRow]:
        """Which statement waited for which, how often."""
        return queries.pairs(self.store, self.span)

    def minutes_waited(self) -> list[dict[str, Any]]:
        """In how many minutes of each hour somebody waited."""
        return queries.minutes_waited(self.store, self.span)

    def over_time(self) -> list[dict[str, Any]]:
        """How many waited, by head statement: by tens of seconds, minutes or hours."""
        return queries.over_time(self.store, self.span)

    def recording(self, incident: int) -> Recording:
        """The worst moment of an incident. Raises InputError."""
        return self.store.recording(incident)


def as_stored(when: datetime | None) -> str | None:
    """A point in time as stores have it."""
    if when is None:
        return None
    return when.isoformat(timespec="milliseconds").replace("+00:00", "Z")


@contextlib.contextmanager
def history(
    store: str | Path | None = None,
    *,
    since: str | None = None,
    until: str | None = None,
    server: str | None = None,
) -> Iterator[History]:
    """A watch's store, to be asked within the block: a file, or the URL of a PostgreSQL database.
    Times as ``--since`` takes them: ``10m ago``,
    ``yesterday``, RFC 3339. Raises InputError.
    """
    now = moment()
    when = [as_stored(point_in_time(text, now) if text else None) for text in (since, until)]
    found = reader(place_of(store))
    try:
        yield History(found, Span(when[0], when[1], server))
    finally:
        found.close()
