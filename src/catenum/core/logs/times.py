"""Times as logs write them, in UTC. A time whose zone cannot be told is an error, and no guess."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta, tzinfo
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

_TIME = re.compile(r"(\d{4}-\d\d-\d\d)[ T]+(\d{1,2}:\d\d:\d\d)(?:[.,](\d+))? ?(.*)")
_EPOCH = re.compile(r"1\d{9}(?:\.\d+)?")


ZONE_ADVICE = (
    "Name the zone of its times with --zone, such as --zone UTC or --zone Europe/Amsterdam."
)


class NoZone(ValueError):
    """The times of a log are in a zone that cannot be told from what stands there."""


def utc(text: str, zone: tzinfo | None = None) -> datetime:
    """A time of a log in UTC.

    ``zone`` is that of times that name none, and tells what an abbreviation such as CEST means; in
    the hour that a change of the clock repeats, the abbreviation tells which of the two it is.
    Raises NoZone.
    """
    if _EPOCH.fullmatch(text):
        return datetime.fromtimestamp(float(text), UTC)
    found = _TIME.match(text)
    if found is None:
        raise NoZone(f"{text!r} is no time")
    day, hour, part, name = found.groups()
    plain = datetime.fromisoformat(f"{day}T{hour.rjust(8, '0')}").replace(
        microsecond=int(f"{part or '0':0<6}"[:6])
    )
    if not name:
        if zone is None:
            raise NoZone(f"{text!r} names no time zone")
        return plain.replace(tzinfo=zone).astimezone(UTC)
    return _named(plain, name, zone).astimezone(UTC)


def _named(plain: datetime, name: str, zone: tzinfo | None) -> datetime:
    """The time in a zone that is told by an offset, by an abbreviation, or by its full name."""
    if name in ("UTC", "GMT", "Z"):
        return plain.replace(tzinfo=UTC)
    if re.fullmatch(r"[+-]\d\d(:?\d\d)?", name):
        offset = datetime.strptime(name if len(name) > 3 else f"{name}00", "%z").tzinfo
        return plain.replace(tzinfo=offset)
    own = _zone_of(name)
    if own is not None and "/" in name:
        return plain.replace(tzinfo=own)
    for candidate in (zone, own):
        for fold in (0, 1) if candidate is not None else ():
            at = plain.replace(tzinfo=candidate, fold=fold)
            if at.tzname() == name:
                return at
    raise NoZone(f"the time zone {name!r} is not known")


def _zone_of(name: str) -> tzinfo | None:
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        return None


def zone_of(name: str) -> tzinfo | None:
    """A zone by its name, or by its offset as +02:00; None where there is none of that name."""
    offset = re.fullmatch(r"([+-]\d\d):?(\d\d)?", name)
    if offset is not None:
        return datetime.strptime(f"{offset[1]}{offset[2] or '00'}", "%z").tzinfo
    return UTC if name in ("UTC", "GMT", "Z") else _zone_of(name)


def seconds_before(at: datetime, ms: float) -> datetime:
    """So many milliseconds before a time."""
    return at - timedelta(milliseconds=ms)
