"""The conflicts of logs, each with the statements of its members where a statement log has them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from itertools import chain

from catenum.core.errors import InputError
from catenum.core.serverlog import LogEntry
from catenum.core.serverlog.conflicts import Conflict
from catenum.core.serverlog.waits import NoZone, utc
from catenum.core.servers import rules_of
from catenum.intake.files import Source


def conflicts_in(
    found: Sequence[Source],
    *,
    since: datetime | None = None,
    until: datetime | None = None,
    progress: Callable[[int], None] = lambda size: None,
) -> list[Conflict]:
    """The conflicts of one server's files, in the order of the files. Raises InputError where one cannot be read."""
    if not found:
        return []
    rules = rules_of(found[0].server)
    statement_logs = [source for source in found if rules.has_statements_only(source.form)]
    logs = [source for source in found if source not in statement_logs]
    reader = rules.conflict_reader()
    done = 0

    def entries(source: Source) -> Iterator[LogEntry]:
        nonlocal done
        yield from source.entries(lambda size: progress(done + size))
        done += source.size

    conflicts = []
    for source in logs:
        for conflict in reader.read(entries(source)):
            if _within(conflict.at, since, until):
                conflicts.append(replace(conflict, source=source.path))
    if statement_logs and conflicts:
        conflicts = reader.recovered(conflicts, chain.from_iterable(entries(source) for source in statement_logs))
    return conflicts


def moment(text: str) -> datetime:
    """A time on the command line; without a zone it is UTC. Raises InputError."""
    try:
        return utc(_spaced(text), UTC)
    except (NoZone, ValueError) as error:
        advice = "Such as '2026-11-25 22:00:00', or with a zone '2026-11-25 22:00:00 +01'."
        raise InputError(f"{text!r} is no time", advice=advice) from error


def _within(at: str | None, since: datetime | None, until: datetime | None) -> bool:
    if since is None and until is None:
        return True
    try:
        when = utc(_spaced(at or ""), UTC)
    except (NoZone, ValueError):
        return True  # nothing is left out that may be meant
    return (since is None or when >= since) and (until is None or when <= until)


def _spaced(at: str) -> str:
    """A time with a space before the hour, and no letter for UTC at its end."""
    return re.sub(r"(?<=\d)T(?=\d)", " ", at).removesuffix("Z")
