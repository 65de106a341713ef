"""``catenum lint``: what is wrong with scenarios, without running them."""

from __future__ import annotations

import argparse
import json
import shlex
from pathlib import Path
from typing import IO

from catenum.api import files
from catenum.api.lint import lint, with_parameters
from catenum.cli import common
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Reporter
from catenum.core.errors import InputError, Problem
from catenum.core.servers import NAMES
from catenum.engines.targets import DEFAULT

FORMAT = "catenum-lint/1"


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``lint``."""
    parser.set_defaults(several="scenarios")
    parser.add_argument(
        "scenarios", metavar="SCENARIO", nargs="+", help="scenario files, or names of samples"
    )
    parser.add_argument(
        "--server",
        choices=list(NAMES),
        default=DEFAULT.removeprefix("local:"),
        help="whose SQL the statements are in",
    )
    common.add_profile_options(parser)
    parser.add_argument(
        "--target",
        metavar="TARGET",
        help="the server that reads the SQL, in scratch space (default: a private one)",
    )
    parser.add_argument(
        "--text-only", action="store_true", help="do not have a server read the statements"
    )
    parser.add_argument(
        "--parameters",
        action="store_true",
        help=(
            "write the scenario anew, with parameters and loops for values that were captured"
            " (one file)"
        ),
    )
    parser.add_argument(
        "-o", "--save", metavar="FILE", type=Path, help="with --parameters: where to write it"
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Read each, print every problem. Exit 2 if there is one."""
    if args.parameters:
        return _parameters(args, out, err)
    if args.save is not None:
        raise InputError("--save goes with --parameters: lint itself writes nothing")
    found = lint(
        *args.scenarios,
        server=args.server,
        target=args.target,
        text_only=args.text_only,
        listener=Reporter(err, quiet=args.quiet),
    )
    if args.json:
        value = {
            "format": FORMAT,
            "read_by": found.read_by,
            "problems": [_plain(word, problem) for word, problem in found.problems],
        }
        out.write(json.dumps(value, indent=2, ensure_ascii=False) + "\n")
        return ExitCode.OK if found else ExitCode.USAGE
    for word in found.fine if not args.quiet else ():
        by = f" (read by {found.read_by[word]})" if word in found.read_by else ""
        out.write(f"{word}: fine{by}\n")
    if found and not args.quiet:
        out.write(f"next: catenum play {shlex.quote(found.fine[0])}\n")
    for _, problem in found.problems:
        out.write(f"{problem}\n")
    return ExitCode.OK if found else ExitCode.USAGE


def _parameters(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    if len(args.scenarios) > 1:
        raise InputError("--parameters takes one scenario")
    if args.save is not None:
        files.check_writable(args.save)
    text, notes = with_parameters(args.scenarios[0], server=args.server)
    tell = common.teller(err, args.quiet)
    for note in notes:
        tell(note)
    if args.save is None:
        out.write(text)
        return ExitCode.OK
    files.save_atomically(args.save, text.encode(), shared=True)
    tell(f"Written: {args.save}")
    tell(f"next: catenum sweep {shlex.quote(str(args.save))}")
    return ExitCode.OK


def _plain(word: str, problem: Problem) -> dict[str, object]:
    place = problem.place
    return {
        "scenario": str(Path(word)),
        "line": place.line if place else 0,
        "column": place.column if place else 0,
        "message": problem.message,
        "advice": problem.advice,
    }
