"""``catenum intake``: the conflicts that a server's own logs and reports captured."""

from __future__ import annotations

import argparse
import csv
import json
import shlex
from dataclasses import replace
from pathlib import Path
from typing import IO, Any

from catenum.api import files
from catenum.cli import common
from catenum.cli.exits import ExitCode
from catenum.cli.intake_options import add_intake_options, pick, read, with_server
from catenum.core.errors import InputError, Place
from catenum.core.logs.conflict_recording import recording_of
from catenum.core.logs.conflicts import Conflict
from catenum.core.logs.groups import SIDES, Side, grouped, new_since, over_time
from catenum.core.logs.masking import masked
from catenum.core.record.recording_file import to_json
from catenum.core.report.headline import headline
from catenum.core.report.recording_story import tell
from catenum.core.text import counted, harmless, one_line
from catenum.render.console import say
from catenum.render.intake import FORMAT, conflict_value, print_groups, to_json_value
from catenum.render.text import print_story


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``intake``."""
    add_intake_options(parser)
    parser.add_argument(
        "--pick",
        type=common.positive,
        metavar="N",
        help="tell one conflict, by its number, as a story",
    )
    parser.add_argument(
        "-o", "--save", type=Path, metavar="FILE", help="write the picked conflict as a recording"
    )
    parser.add_argument(
        "--by",
        choices=SIDES,
        help="count the conflicts by hour, day, application or pair of statements",
    )
    parser.add_argument(
        "--baseline",
        type=Path,
        metavar="FILE",
        help="what 'intake --json' wrote earlier: show what is new since then",
    )
    parser.add_argument(
        "--csv", action="store_true", help="write the table of --by (default: by hour) as CSV"
    )
    parser.add_argument(
        "--mask", action="store_true", help="without values: literals, keys, parameters"
    )
    common.add_output_options(parser)


def _baseline(path: Path) -> dict[str, Any]:
    """An earlier reading. Raises InputError."""
    try:
        value = json.loads(files.read_file(path))
    except ValueError as error:
        raise InputError(f"this is no JSON: {error}", place=Place(str(path))) from error
    if not isinstance(value, dict) or value.get("format") != FORMAT:
        raise InputError(
            f"this is not what 'catenum intake --json' writes ({FORMAT})", place=Place(str(path))
        )
    return value


def _over_time(args: argparse.Namespace, conflicts: list[Conflict], out: IO[str]) -> ExitCode:
    by: Side = args.by or "hour"
    rows = over_time(conflicts, by)
    if args.csv:
        writer = csv.DictWriter(
            out, fieldnames=[by, "kind", "count", "first", "last"], lineterminator="\n"
        )
        writer.writeheader()
        writer.writerows(rows)
    elif args.json:
        out.write(
            json.dumps({"format": FORMAT, "by": by, "rows": rows}, indent=2, ensure_ascii=False)
            + "\n"
        )
    else:
        console = common.console_for(args, out)
        for row in rows:
            say(
                console,
                f"{row['count']:>7,}  {row['kind']:<9} {harmless(one_line(str(row[by]), 120))}",
            )
    return ExitCode.FOUND if conflicts else ExitCode.OK


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Read, list or tell. The exit code is 1 if a conflict was found."""
    if args.save is not None:
        files.check_writable(args.save)
    reading = read(args, err)
    conflicts = reading.conflicts
    if args.mask:
        conflicts = [masked(conflict) for conflict in conflicts]
    if args.pick is None and args.save is None:
        return _list(args, conflicts, reading.files, reading.limits, out, err)
    return _tell_one(args, conflicts, out, err)


def _list(
    args: argparse.Namespace,
    conflicts: list[Conflict],
    files: int,
    limits: str | None,
    out: IO[str],
    err: IO[str],
) -> ExitCode:
    """All conflicts by their kinds, or over time; with a baseline those of new kinds alone."""
    found = ExitCode.FOUND if conflicts else ExitCode.OK
    groups = grouped(conflicts)
    if args.baseline is not None:
        groups = new_since(groups, _baseline(args.baseline))
        numbers = {number for group in groups for number in group.numbers}
        found = ExitCode.FOUND if groups else ExitCode.OK
        if not args.json and not groups:
            out.write(
                f"Nothing new since {args.baseline}: {len(conflicts)} conflicts of kinds that it"
                " has.\n"
            )
            return found
        err.write(
            f"catenum: {len(numbers)} of {len(conflicts)} conflicts are of kinds that"
            f" {args.baseline} has not\n"
        )
    if args.by is not None or args.csv:
        return _over_time(args, conflicts, out)
    if args.json:
        value = to_json_value(conflicts, groups, limits)
        out.write(json.dumps(value, indent=2, ensure_ascii=False) + "\n")
    elif args.quiet or args.brief:
        out.write(f"{counted(len(conflicts), 'conflict')}, {counted(len(groups), 'kind')}\n")
    else:
        print_groups(common.console_for(args, out), conflicts, groups, files, limits)
    if conflicts and not (args.json or args.quiet):
        console = common.console_for(args, out)
        say(console)
        names = " ".join(shlex.quote(name) for name in args.files)
        pick = f" --pick {groups[0].numbers[-1]}" if len(conflicts) > 1 and groups else ""
        common.say_next(
            console,
            f"catenum intake {names}{pick}   (its story)",
            f"catenum restage {names}{pick} -o case.yaml   (a scenario that reproduces it)",
            f"catenum report {names}{pick} -o case.html",
        )
    return found


def _tell_one(
    args: argparse.Namespace, conflicts: list[Conflict], out: IO[str], err: IO[str]
) -> ExitCode:
    number, conflict = pick(args, conflicts)
    conflict = with_server(args, conflict, err)
    recording = recording_of(conflict)
    if args.mask:
        recording = replace(
            recording, deadlocks=tuple(replace(d, server_report=None) for d in recording.deadlocks)
        )
    if args.save is not None:
        files.save_atomically(args.save, to_json(recording).encode())
    if args.json:
        value = {"format": FORMAT, "conflicts": [conflict_value(number, conflict)], "groups": []}
        out.write(json.dumps(value, indent=2, ensure_ascii=False) + "\n")
        return ExitCode.FOUND
    console = common.console_for(args, out)
    if args.quiet or args.brief:
        say(console, headline(recording))
    else:
        print_story(console, tell(recording))
    if not args.quiet:
        say(console)
        names = " ".join(shlex.quote(name) for name in args.files)
        chosen = f" --pick {number}"
        common.say_next(
            console,
            f"catenum restage {names}{chosen} -o case.yaml   (a scenario that reproduces it)",
            f"catenum report {names}{chosen} -o case.html",
        )
    return ExitCode.FOUND
