"""How much of a time was seen: the looks of each server, by the hour, without what hid it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime, timedelta
from typing import Any

from catenum.engines.clock import moment
from catenum.store.spans import Span
from catenum.store.store import LOOKS, Store

HOUR = timedelta(hours=1)
Interval = tuple[datetime, datetime]


@dataclass(frozen=True, slots=True)
class Hour:
    """One hour of one server: ``hour`` is its beginning (RFC 3339, UTC). ``of_s``: its length
    within the time asked.

    ``looks``: checks that saw all; ``blind_s``: how long somebody looked and could not see.
    """

    server: str
    hour: str
    looks: int
    seen_s: float
    blind_s: float
    of_s: float


def coverage(store: Store, span: Span) -> list[dict[str, Any]]:
    """Every hour of the time that was asked about, server by server.

    Without a beginning, from the first look at any server on; without an end, to now.
    """
    servers = _servers(store, span.server)
    if not servers:
        return []
    begin = _time(span.since) if span.since else min(_time(row["first"]) for row in servers)
    end = min(_time(span.until), moment()) if span.until else moment()
    found = []
    for row in servers:
        seen, blind = _seen(store, row, end)
        looks = {
            one["hour"]: one["looks"]
            for one in store.rows(
                "select hour, looks from hour where server = ? and hour >= ? and hour <= ?",
                (row["id"], _text(begin)[:13], _text(end)[:13]),
            )
        }
        hour = begin.replace(minute=0, second=0, microsecond=0)
        while hour < end:
            here = (max(hour, begin), min(hour + HOUR, end))
            name = hour.strftime("%Y-%m-%dT%H")
            found.append(
                Hour(
                    row["name"],
                    f"{name}:00Z",
                    int(looks.get(name, 0)),
                    round(sum(_common(here, part) for part in seen), 1),
                    round(sum(_common(here, part) for part in blind), 1),
                    round((here[1] - here[0]).total_seconds(), 1),
                )
            )
            hour += HOUR
    return [asdict(hour) for hour in found]


def seen_intervals(store: Store, name: str) -> Sequence[Interval]:
    """The times in which a server was seen."""
    return [part for row in _servers(store, name) for part in _seen(store, row, moment())[0]]


def _servers(store: Store, name: str | None) -> list[dict[str, Any]]:
    found = store.rows(
        "select s.id, s.name, (select min(m.minute) from minute m where m.server = s.id and m.shape"
        " = ?) as first, w.last_seen as last from server s left join watched w on w.server = s.id"
        " where (cast(? as text) is null or s.name = ?) order by s.name",
        (LOOKS, name, name),
    )
    return [row for row in found if row["first"] is not None]


def _seen(
    store: Store, row: dict[str, Any], end: datetime
) -> tuple[Sequence[Interval], Sequence[Interval]]:
    """The times in which a server was seen, and those in which somebody looked and could not
    see.
    """
    gaps = store.rows("select since, until, blind from gap where server = ?", (row["id"],))
    times = [
        ((_time(gap["since"]), _time(gap["until"]) if gap["until"] else end), gap["blind"])
        for gap in gaps
    ]
    # The first look stands for the ten seconds in which it is counted.
    last = _time(row["last"]) if row["last"] else _time(row["first"])
    whole = (_time(row["first"]), max(last, _time(row["first"])))
    seen = _without(whole, [time for time, _ in times])
    unwatched = [time for time, blind in times if not blind]
    blind = [part for time, blind in times if blind for part in _without(time, unwatched)]
    return seen, _merged(blind)


def _time(text: str) -> datetime:
    """A time of the store; steps of ten seconds end within the minute."""
    return datetime.fromisoformat(text if text.endswith("Z") else f"{text}Z")


def _text(at: datetime) -> str:
    return at.isoformat(timespec="seconds").replace("+00:00", "")


def _common(one: Interval, other: Interval) -> float:
    return max(0.0, (min(one[1], other[1]) - max(one[0], other[0])).total_seconds())


def _merged(times: Iterable[Interval]) -> Sequence[Interval]:
    """Intervals that may overlap, as ones that do not."""
    found: list[Interval] = []
    for since, until in sorted(times):
        if found and since <= found[-1][1]:
            found[-1] = (found[-1][0], max(found[-1][1], until))
        else:
            found.append((since, until))
    return found


def _without(whole: Interval, hidden: Iterable[Interval]) -> Sequence[Interval]:
    """An interval without others that may overlap."""
    found, begin = [], whole[0]
    for since, until in sorted(hidden):
        if since > begin:
            found.append((begin, min(since, whole[1])))
        begin = max(begin, until)
    if begin < whole[1]:
        found.append((begin, whole[1]))
    return [part for part in found if part[0] < part[1]]
