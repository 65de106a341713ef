"""From when to when a log goes, by the times at the beginnings of its first and its last lines."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta

#: The first time in what a line of a log begins with, whatever the server and the form.
_TIME = re.compile(
    r'^(?:\{"timestamp":")?[^\d\t]{0,40}(\d{4}-\d\d-\d\d)[ T](\d\d:\d\d:\d\d(?:\.\d{3})?)\d*(?:'
    r" ([A-Z]\w*))?"
)
#: Two logs of one server meet where one is rotated; more than so much is two servers, or two forms
#: of one log.
_MEETS, _CHANGE = timedelta(minutes=1), timedelta(hours=2)


@dataclass(frozen=True, slots=True)
class Span:
    """Both ends as the log writes them, with the zones that it names."""

    first: datetime
    last: datetime
    zones: frozenset[str]

    def overlaps(self, other: Span) -> bool:
        """Whether both cover one time for longer than a rotation takes. Zones may have changed
        between them.
        """
        least = _MEETS if self.zones == other.zones else _CHANGE
        return min(self.last, other.last) - max(self.first, other.first) > min(
            least, (self.last - self.first) / 2, (other.last - other.first) / 2
        )


def span_of(head: str, tail: str) -> Span | None:
    """Of the texts that a log begins and ends with; None where no line of either begins with a
    time.
    """
    first = next(_times(head.split("\n")), None)
    last = next(_times(reversed(tail.split("\n"))), None)
    if first is None or last is None:
        return None
    return Span(first[0], max(first[0], last[0]), frozenset((first[1], last[1])))


def _times(lines: Iterable[str]) -> Iterator[tuple[datetime, str]]:
    for line in lines:
        found = _TIME.match(line)
        if found is not None:
            try:
                yield datetime.fromisoformat(f"{found[1]} {found[2]}"), found[3] or ""
            except ValueError:
                continue  # it looks like one only
