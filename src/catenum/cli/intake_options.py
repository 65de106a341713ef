"""What ``intake`` and ``restage`` share: the files of a log, the part of it that is meant, one
conflict of it.
"""

from __future__ import annotations

import argparse
import contextlib
from collections.abc import Iterator
from pathlib import Path
from typing import IO

from catenum.api import files
from catenum.api.results import Saved, SavedChurn, SavedExploration, SavedValue, read_saved
from catenum.cli import common
from catenum.cli.progress import Progress
from catenum.core.compare.trial import Trial
from catenum.core.errors import InputError, Place
from catenum.core.logs.conflict_recording import conflicts_of
from catenum.core.logs.conflicts import Conflict, numbered, with_names
from catenum.core.logs.restage import with_definitions
from catenum.core.logs.servers import log_rules_of
from catenum.core.logs.tables import Schema, read_schema
from catenum.core.logs.traces import with_traces
from catenum.core.record.recording import Recording
from catenum.core.record.recording_file import from_json
from catenum.core.servers import rules_of
from catenum.engines.definitions import Definitions
from catenum.engines.drivers import server_module
from catenum.intake.conflicts import conflicts_in
from catenum.intake.files import sources


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


@contextlib.contextmanager
def definitions_of(asked: str, server: str, err: IO[str]) -> Iterator[Definitions]:
    """A connection that reads definitions. Raises InputError where the target is no such server,
    TargetError.
    """
    target = common.target_of(asked, err)
    if target.url is None or target.server != server:
        title = rules_of(server).title
        raise InputError(
            f"--target {target.shown}: the log is one of {title}, so this must be the URL of one"
        )
    found: Definitions = server_module(server, ".engine").read_definitions(target.url, target.shown)
    try:
        yield found
    finally:
        found.close()


def schema_in(path: Path, server: str) -> Schema:
    """The definitions in a schema file. Raises InputError where there are none."""
    schema = read_schema(
        files.read_file(path).decode("utf-8", "backslashreplace"), rules_of(server)
    )
    if not schema.tables:
        raise InputError("this has no definition of a table", place=Place(str(path)))
    return schema


def read(args: argparse.Namespace, err: IO[str]) -> tuple[list[Conflict], int, str | None]:
    """The conflicts, how many files there were, and what their kind of log does not have. Raises
    InputError.
    """
    recorded = [path for path in map(Path, args.files) if _is_recording(path)]
    if recorded and len(recorded) == len(args.files):
        found_in = [conflicts_of(from_json(files.read_file(path), str(path))) for path in recorded]
        return [conflict for conflicts in found_in for conflict in conflicts], len(recorded), None
    since, until = common.since_and_until(args)
    zone = common.zone_argument(args.zone)
    found = sources(args.files, args.prefix)
    size = sum(source.size for source in found)
    progress = Progress(err, quiet=args.quiet)

    def show(at: int) -> None:
        progress.part(min(1.0, at / size) if size else 1.0, "reading")

    def warn(text: str) -> None:
        progress.clear()
        if not args.quiet:
            err.write(f"catenum: {text}\n")

    try:
        conflicts = conflicts_in(
            found, since=since, until=until, zone=zone, progress=show, warn=warn
        )
        if args.schema is not None and conflicts:
            schema = schema_in(args.schema, conflicts[0].server)
            conflicts = [with_definitions(conflict, schema) for conflict in conflicts]
        numbers = numbered(conflicts)
        if args.target is not None and numbers:
            with definitions_of(args.target, conflicts[0].server, err) as server:
                conflicts = with_names(conflicts, server.names(numbers))
        return conflicts, len(found), log_rules_of(found[0].server).log_limits
    finally:
        progress.clear()


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
    with definitions_of(args.target, conflict.server, err) as server:
        return with_traces(conflict, server.trace)


def _head(path: Path) -> bytes:
    try:
        with path.open("rb") as stream:
            return stream.read(4_000)
    except OSError:
        return b""


def _is_recording(path: Path) -> bool:
    return b'"catenum-recording/' in _head(path)


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
