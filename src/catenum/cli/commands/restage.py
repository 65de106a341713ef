"""``catenum restage``: a scenario that reproduces a captured conflict, played to see that it
does.
"""

from __future__ import annotations

import argparse
import json
import re
import shlex
from pathlib import Path
from typing import IO

from catenum.api import files
from catenum.api.intake import Restaged, restage
from catenum.cli import common
from catenum.cli.exits import ExitCode
from catenum.cli.intake_options import add_intake_options, log_options, pick, read
from catenum.cli.progress import Reporter
from catenum.core.errors import InputError
from catenum.core.logs.conflicts import Conflict
from catenum.core.logs.groups import grouped

FORMAT = "catenum-restage/1"


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``restage``."""
    add_intake_options(parser)
    parser.add_argument(
        "--pick", type=common.positive, metavar="N", help="the conflict, by its number in 'intake'"
    )
    parser.add_argument(
        "--all",
        type=Path,
        metavar="FOLDER",
        help="write a scenario of each kind of conflict into this folder",
    )
    parser.add_argument(
        "-o",
        "--save",
        metavar="FILE",
        type=Path,
        help="write the scenario to a file instead of standard output",
    )
    parser.add_argument("--name", metavar="NAME", help="the scenario's name")
    parser.add_argument(
        "--mask",
        action="store_true",
        help="replace values, alike ones alike, in statements and rows",
    )
    parser.add_argument(
        "--literals",
        action="store_true",
        help="leave the captured values in the statements, instead of parameters for them",
    )
    parser.add_argument(
        "--no-play", action="store_true", help="write the scenario without playing it"
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Write and play. The exit code is 0 if the same cycle came (or nothing was played), 1 if
    not.
    """
    if args.schema is not None and args.target is not None:
        raise InputError("--schema and --target both say where tables come from: give one of them")
    if args.save and args.all is not None:
        raise InputError("--save writes one scenario, --all one of each kind: give one of them")
    if args.save:
        files.check_writable(args.save)
    conflicts = read(args, err).conflicts
    if args.all is not None:
        return _all(args, conflicts, out, err)
    _, conflict = pick(args, conflicts)
    found = _restage(args, conflict, err)
    _write(args, found, out)
    if found.same is None:
        return ExitCode.OK
    tell = common.teller(err, args.quiet)
    tell(found.staged.notes[-1])
    if found.same:
        written = shlex.quote(str(args.save)) if args.save else "SCENARIO   (of what was written)"
        tell(f"next: catenum sweep {written}")
    if not found.same:
        for what, outcome in found.tried:
            tell(f"  tried {what}: {outcome}")
    return ExitCode.OK if found.same else ExitCode.FOUND


def _all(
    args: argparse.Namespace, conflicts: list[Conflict], out: IO[str], err: IO[str]
) -> ExitCode:
    """A scenario of each kind of conflict, of the latest of its kind. What cannot be restaged is
    told, and left out.
    """
    folder: Path = args.all
    if folder.exists() and any(folder.iterdir()):
        raise InputError(
            f"{folder} is not empty", advice="Name a folder that is empty, or that does not exist."
        )
    folder.mkdir(parents=True, exist_ok=True)
    code, rows = ExitCode.OK, []
    for place, group in enumerate(grouped(conflicts), 1):
        name = "-".join([f"{place:02}", group.kind, *group.relations])
        path = folder / f"{re.sub(r'[^A-Za-z0-9_-]+', '-', name)[:80]}.yaml"
        row: dict[str, object] = {
            "kind": group.kind,
            "count": group.count,
            "file": None,
            "same": None,
        }
        try:
            found = _restage(args, conflicts[group.numbers[-1] - 1], err)
        except InputError as error:
            row["why"] = error.problems[0].message
            code = ExitCode.FOUND
        else:
            files.save_atomically(path, found.text.encode(), shared=True)
            row |= {"file": str(path), "same": found.same}
            code = ExitCode.FOUND if found.same is False else code
        rows.append(row)
        if not args.json and not args.quiet:
            played = (
                "not played"
                if row["same"] is None
                else "the same came"
                if row["same"]
                else "it did NOT come"
            )
            how = row.get("why") or played
            out.write(f"{group.kind} × {group.count}: {row['file'] or 'no scenario'} ({how})\n")
    if args.json:
        out.write(
            json.dumps({"format": FORMAT, "scenarios": rows}, indent=2, ensure_ascii=False) + "\n"
        )
    return code


def _restage(args: argparse.Namespace, conflict: Conflict, err: IO[str]) -> Restaged:
    """The scenario of a conflict, and what came of playing it."""
    return restage(
        conflict,
        options=log_options(args),
        name=args.name,
        mask=args.mask,
        play=not args.no_play,
        literals=args.literals,
        listener=Reporter(err, quiet=args.quiet),
    )


def _write(args: argparse.Namespace, found: Restaged, out: IO[str]) -> None:
    if args.save:
        files.save_atomically(args.save, found.text.encode(), shared=True)
    if not args.json:
        if not args.save:
            out.write(found.text)
        return
    value = {
        "format": FORMAT,
        "scenario": found.text,
        "same": found.same,
        "tried": [{"what": what, "outcome": outcome} for what, outcome in found.tried],
        "differs": found.differs,
        "notes": found.staged.notes,
    }
    out.write(json.dumps(value, indent=2, ensure_ascii=False) + "\n")
