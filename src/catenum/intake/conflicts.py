"""The conflicts of logs, each with the statements of its members where a statement log has them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from datetime import UTC, datetime, tzinfo
from itertools import chain

from catenum.core.errors import InputError
from catenum.core.logs import LogEntry
from catenum.core.logs.conflicts import Conflict
from catenum.core.logs.servers import log_rules_of
from catenum.core.logs.span import Span
from catenum.core.logs.times import ZONE_ADVICE, NoZone, utc
from catenum.intake.files import Source


def conflicts_in(
    found: Sequence[Source],
    *,
    since: datetime | None = None,
    until: datetime | None = None,
    zone: tzinfo | None = None,
    progress: Callable[[int], None] = lambda size: None,
    warn: Callable[[str], None] = lambda text: None,
) -> list[Conflict]:
    """The conflicts of files of one kind of server, in the order of the files: each once, where two
    files have it.

    Files that cover the same time are read apart, as those of two servers. Raises InputError where
    one cannot be read.
    """
    if not found:
        return []
    rules = log_rules_of(found[0].server)
    statement_logs = [source for source in found if rules.has_statements_only(source.form)]
    logs = list({source.name: source for source in found if source not in statement_logs}.values())
    done, path = 0, ""
    unread: dict[str, int] = {}

    def entries(source: Source) -> Iterator[LogEntry]:
        nonlocal done, path
        path = source.name
        yield from source.entries(
            lambda size: progress(done + size),
            unread=lambda lines: unread.update({source.name: lines}),
            doubt=lambda text: warn(f"{source.name}: {text}"),
        )
        done += source.size

    conflicts: list[Conflict] = []
    series = _series(logs)
    for files in series:
        reader = rules.conflict_reader()
        mine: list[Conflict] = []
        for conflict in chain(
            reader.read(chain.from_iterable(map(entries, files))), reader.finish()
        ):
            if _within(conflict, path, since, until, zone):
                mine.append(replace(conflict, source=path))
        conflicts += reader.continued(mine)
    for source in logs:
        if source.layers or unread.get(source.name):
            around = f"read from {', within it '.join(source.layers)}" if source.layers else "read"
            lines = unread.get(source.name, 0)
            warn(
                f"{source.name}: {around};"
                f" {f'{lines:,} lines were' if lines != 1 else '1 line was'} not read"
            )
    conflicts, twice = _once(conflicts)
    if twice:
        warn(f"{twice} conflicts stand in more than one of these files: each is listed once")
    if len(series) > 1 and not twice:
        warn(
            "some of these files cover the same time: each such file is read by itself, as one of"
            " another server"
        )
    if statement_logs and conflicts:
        conflicts = rules.conflict_reader().recovered(conflicts, _joined(statement_logs))
    return conflicts


def _joined(logs: Sequence[Source]) -> Iterator[LogEntry]:
    """The messages of statement logs, those of one form read as one: transactions may stand in
    another file.
    """
    for form in dict.fromkeys(source.form for source in logs):
        files = [source for source in logs if source.form == form]
        reader = files[0].reader()
        for source in files:
            yield from source.entries(more=reader)
        yield from reader.finish()


def _series(logs: Sequence[Source]) -> list[list[Source]]:
    """Files that follow each other, as one log that was rotated; the oldest first, where that
    shows.
    """
    spans = {source.name: source.span() for source in logs}
    known = [span for span in spans.values() if span is not None]
    if len(known) < len(logs):
        return [list(logs)]  # no times, or packed: they follow each other as they were named
    series: list[list[Source]] = []
    for source in logs:
        span = spans[source.name]
        for files in series:
            if not any(_overlap(span, spans[other.name]) for other in files):
                files.append(source)
                break
        else:
            series.append([source])
    return [sorted(files, key=lambda source: _first(spans[source.name])) for files in series]


def _overlap(one: Span | None, other: Span | None) -> bool:
    return one is not None and other is not None and one.overlaps(other)


def _first(span: Span | None) -> datetime:
    return span.first if span is not None else datetime.min


def _once(conflicts: Sequence[Conflict]) -> tuple[list[Conflict], int]:
    """Without those that another file has too, as a log in two forms has; and how many these
    were.
    """
    kept: list[Conflict] = []
    known: dict[object, int] = {}
    for conflict in conflicts:
        who = tuple((member.session, (member.statement or "")[:80]) for member in conflict.members)
        key = (conflict.kind, (conflict.at or "")[:19], who, conflict.victim)
        place = known.get(key) if conflict.at else None
        if place is None or kept[place].source == conflict.source:
            known[key] = len(kept)
            kept.append(conflict)
        elif _known(conflict) > _known(kept[place]):
            kept[place] = conflict
    # Of a report some forms have the headings only.
    whole = {
        (conflict.kind, (conflict.at or "")[:23]): conflict.source
        for conflict in kept
        if conflict.members
    }
    alone = [
        c for c in kept if c.members or whole.get((c.kind, (c.at or "")[:23]), c.source) == c.source
    ]
    return alone, len(conflicts) - len(alone)


def _known(conflict: Conflict) -> int:
    """How many of its facts are known."""
    parts = [
        conflict.provenance,
        *(m.provenance for m in conflict.members),
        *(w.provenance for w in conflict.waits),
    ]
    return sum(fact != "unknown" for part in parts for fact in part.values())


def _within(
    conflict: Conflict,
    path: str,
    since: datetime | None,
    until: datetime | None,
    zone: tzinfo | None,
) -> bool:
    """Whether it came in that time. Raises InputError where its own time cannot be told."""
    if (since is None and until is None) or conflict.at is None:
        return True
    try:
        when = utc(conflict.at, zone or UTC)  # a log that names no zone is asked in its own times
    except NoZone as error:
        raise InputError(
            f"{path}: {error}, so that --since and --until say nothing", advice=ZONE_ADVICE
        ) from error
    return (since is None or when >= since) and (until is None or when <= until)
