"""Points in time as people write them: a date, a time, how long ago, yesterday."""

from __future__ import annotations

import re
from datetime import UTC, datetime, time, timedelta

from catenum.core.errors import InputError
from catenum.core.logs.times import NoZone, utc

_UNITS = {"s": 1, "sec": 1, "second": 1, "m": 60, "min": 60, "minute": 60, "h": 3_600}
_UNITS |= {"hour": 3_600, "d": 86_400, "day": 86_400, "w": 604_800, "week": 604_800}
_AGO = re.compile(r"(\d+(?:\.\d+)?)\s*([a-z]+?)s?(?:\s+ago)?", re.IGNORECASE)
_DAY = re.compile(r"(today|yesterday)?\s*(\d{1,2}:\d\d(?::\d\d)?)?", re.IGNORECASE)
_DATE = re.compile(r"\d{4}-\d\d-\d\d")
ADVICE = (
    "Write 2026-11-22 18:00 (UTC unless it says otherwise), 18:00, yesterday, yesterday 18:00, or"
    " how long ago: 10m ago, 12h, 3d."
)


def point_in_time(text: str, now: datetime) -> datetime:
    """A point in time, in UTC; ``now`` is what *ago*, *today* and *yesterday* count from. Raises
    InputError.
    """
    word = " ".join(text.split())
    if word.lower() == "now":
        return now.astimezone(UTC)
    ago = _AGO.fullmatch(word)
    if ago is not None and ago[2].lower() in _UNITS:
        return now.astimezone(UTC) - timedelta(seconds=float(ago[1]) * _UNITS[ago[2].lower()])
    day = _DAY.fullmatch(word)
    if day is not None and word:
        return _of_day(day[1], day[2], now)
    try:
        if _DATE.fullmatch(word):
            return datetime.fromisoformat(word).replace(tzinfo=UTC)
        if re.fullmatch(r"\d{4}-\d\d-\d\dT?[ ]?\d\d:\d\d", word):
            return datetime.fromisoformat(word).replace(tzinfo=UTC)
        return utc(word, UTC)
    except (NoZone, ValueError) as error:
        try:
            found = datetime.fromisoformat(word)
        except ValueError:
            raise InputError(f"{text!r} is no time", advice=ADVICE) from error
        return found.replace(tzinfo=UTC) if found.tzinfo is None else found.astimezone(UTC)


def _of_day(name: str | None, hour: str | None, now: datetime) -> datetime:
    """A time of today or yesterday; without either, the latest such time that is over."""
    try:
        parts = [int(part) for part in (hour or "0:0").split(":")]
        at = time(parts[0], parts[1], parts[2] if len(parts) > 2 else 0)
    except ValueError as error:
        raise InputError(f"{hour!r} is no time", advice=ADVICE) from error
    found = datetime.combine(now.astimezone(UTC).date(), at, tzinfo=UTC)
    if (name or "").lower() == "yesterday" or (name is None and found > now):
        found -= timedelta(days=1)
    return found
