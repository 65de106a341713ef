"""What ``intake`` and ``restage`` share: the files of a log, the part of it that is meant, one
conflict of it.
"""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from pathlib import Path
from typing import IO

from catenum.api.intake import LogOptions, LogReading, definitions_of, read_logs
from catenum.api.results import Saved, SavedChurn, SavedExploration, SavedValue, read_saved
from catenum.cli import common
from catenum.cli.progress import Reporter
from catenum.core.compare.trial import Trial
from catenum.core.errors import InputError, Place
from catenum.core.logs.conflicts import Conflict
from catenum.core.logs.traces import with_traces
from catenum.core.record.recording import Recording


def add_intake_options(parser: argparse.ArgumentParser) -> None:
    """The files, and which part of them."""
    parser.set_defaults(several="files")
    parser.add_argument(
        "files",
        metavar="FILE",
        nargs="+",
        help="a server's log, a report of a deadlock, a statement log; a folder of them; '-' for "
        "standard input",
    )
    common.add_since_options(parser, "leave out what is not of that time")
    parser.add_argument(
        "--zone",
        metavar="ZONE",
        help="of the log's times, where they name none, or CEST and the like",
    )
    parser.add_argument(
        "--prefix",
        metavar="TEXT",
        help=(
            "what the lines of the log begin with, as the server's setting says it, where that"
            " cannot be inferred"
        ),
    )
    parser.add_argument(
        "--schema",
        type=Path,
        metavar="FILE",
        help="definitions of the tables: a dump without data is accepted as it is",
    )
    parser.add_argument(
        "--target",
        metavar="URL",
        help=(
            "the server: names of what a log has numbers of; for restage, tables and rows. It is"
            " only read"
        ),
    )


def log_options(args: argparse.Namespace) -> LogOptions:
    """What the options of ``add_intake_options`` say. Raises InputError."""
    since, until = common.since_and_until(args)
    return LogOptions(
        since=since,
        until=until,
        zone=common.zone_argument(args.zone),
        prefix=args.prefix,
        schema=args.schema,
        target=args.target,
    )


def read(args: argparse.Namespace, err: IO[str]) -> LogReading:
    """The conflicts in the files. Raises InputError, TargetError."""
    return read_logs(
        *args.files, options=log_options(args), listener=LogReporter(err, quiet=args.quiet)
    )


class LogReporter(Reporter):
    """As Reporter; what hinders reading a log is no word about how it was called, so that
    ``--quiet`` leaves it out.
    """

    def warn(self, text: str) -> None:
        if not self.quiet:
            super().warn(text)


def pick(args: argparse.Namespace, conflicts: list[Conflict]) -> tuple[int, Conflict]:
    """The conflict that is meant, with its number: the only one, where none is named. Raises
    InputError.
    """
    if not conflicts:
        raise InputError("there is no conflict in these files")
    if args.pick is None and len(conflicts) > 1:
        advice = "'catenum intake FILE' lists them."
        raise InputError(
            f"there are {len(conflicts)} conflicts: --pick N says which", advice=advice
        )
    number = args.pick or 1
    if number > len(conflicts):
        raise InputError(f"--pick {number}: there are {len(conflicts)} conflicts")
    return number, conflicts[number - 1]


def with_server(args: argparse.Namespace, conflict: Conflict, err: IO[str]) -> Conflict:
    """With what the server of ``--target`` still has of its rows; not with ``--mask``, which shows
    no row's key.

    Raises InputError, TargetError.
    """
    if (
        args.target is None
        or args.mask
        or not any(wait.address or wait.transaction for wait in conflict.waits)
    ):
        return conflict
    with definitions_of(args.target, conflict.server, LogReporter(err)) as server:
        return with_traces(conflict, server.trace)


def recording_in(path: Path, args: argparse.Namespace) -> Recording:
    """A recording; of a server's log or report the picked conflict, of a trial the picked variant,
    of a proposal before (1) or after (2). Raises InputError.
    """
    saved = read_saved(path, pick=args.pick)
    if isinstance(saved, Recording):
        return saved
    found = list(_recordings(saved))
    if not found:
        raise InputError(
            "this has no recording",
            place=Place(str(path)),
            advice="'catenum report' shows what it has.",
        )
    number = args.pick or 1
    if number > len(found):
        names = ", ".join(f"{place} {name}" for place, (name, _) in enumerate(found, 1))
        raise InputError(f"--pick {number}: there are {names}")
    return found[number - 1][1]


def _recordings(saved: Saved) -> Iterator[tuple[str, Recording]]:
    """What a result has of recordings, each by its name."""
    if isinstance(saved, Trial):
        yield from ((one.name, run) for one in saved.variants for run in one.runs[:1])
    elif isinstance(saved, SavedExploration):
        yield from saved.recordings.items()
    elif isinstance(saved, SavedChurn):
        yield from ((f"cycle {n}", run) for n, run in enumerate(saved.recordings, 1))
    elif isinstance(saved, SavedValue):
        found = ((name, saved.value.get(name)) for name in ("before", "after"))
        yield from ((name, run) for name, run in found if isinstance(run, Recording))


def add_pick_option(parser: argparse.ArgumentParser) -> None:
    """Of a log with several conflicts, which one."""
    parser.add_argument(
        "--pick",
        type=common.positive,
        metavar="N",
        help="of a log, which conflict; of a trial, which variant; else which recording",
    )
