"""``catenum check``: the scenarios' own expectations, for builds."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import IO

from catenum.api import files
from catenum.api.check import check
from catenum.api.check_state import STATE
from catenum.api.checker import CheckOptions
from catenum.api.space import MOST_CLASSES
from catenum.cli import common, scenarios
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Reporter
from catenum.cli.space_options import add_reach_options, reach_options
from catenum.core import formats
from catenum.core.check.result import UNPROVEN, CheckCase, CheckResult, to_plain
from catenum.render.check import print_case, print_sum
from catenum.render.console import say
from catenum.render.junit import to_junit
from catenum.render.sarif import to_sarif


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``check``."""
    parser.set_defaults(several="sources")
    parser.add_argument(
        "sources",
        metavar="FILE",
        nargs="*",
        help=(
            "scenario files, folders of them, names of samples (default: the working folder); what"
            " is checked is 'expect', 'outcomes' and 'orders' of each"
        ),
    )
    common.add_profile_options(parser)
    parser.add_argument(
        "--target",
        metavar="TARGET",
        action="append",
        help=(
            "local:postgresql (default), a URL, or a short name from catenum.toml; may be repeated:"
            " each scenario is checked on each"
        ),
    )
    parser.add_argument("--junit", metavar="FILE", type=Path, help="write the result as JUnit XML")
    parser.add_argument(
        "--sarif",
        metavar="FILE",
        type=Path,
        help="write what is not as expected as SARIF 2.1.0, at the statements to look at",
    )
    parser.add_argument(
        "-o",
        "--save",
        metavar="FOLDER",
        type=Path,
        help="write a recording of each schedule that shows what is not as expected",
    )
    parser.add_argument(
        "--since-last",
        action="store_true",
        help=(
            "run only what changed since it passed: the scenario, the server, the options, or the"
            " version of Catenum"
        ),
    )
    parser.add_argument(
        "--state",
        metavar="FILE",
        type=Path,
        default=STATE,
        help=f"where --since-last remembers what passed (default {STATE})",
    )
    parser.add_argument(
        "--allow",
        metavar="[SCENARIO=]WHAT",
        action="append",
        default=[],
        help=(
            "let what is no proof pass, for all scenarios or for one; may be repeated: "
            + ", ".join(f"{word} ({what})" for word, what in UNPROVEN.items())
        ),
    )
    parser.set_defaults(isolation=(), victim=None)
    add_reach_options(parser, limit=MOST_CLASSES)
    scenarios.add_limit_option(parser)
    scenarios.add_outside_option(parser)
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Check and show. The exit code is 0 where something was expected, and all of it is so."""
    for path in (args.junit, args.sarif):
        if path is not None:
            files.check_writable(path)
    console = common.console_for(args, out)
    listener = Reporter(err, quiet=args.quiet, progress=not args.json, sizes=False)

    def heard(case: CheckCase) -> None:
        listener.clear()
        if not args.json:
            print_case(console, case, quiet=args.quiet)

    options: CheckOptions = {
        **reach_options(args),
        "targets": args.target or [None],
        "allow": args.allow,
        "since_last": args.state if args.since_last else None,
        "save": args.save,
        "heard": heard,
        "statement_limit": args.statement_limit,
        "outside": args.outside,
        "listener": listener,
    }
    result = check(*args.sources, **options)
    if args.junit is not None:
        files.save_atomically(args.junit, to_junit(result).encode(), shared=True)
    if args.sarif is not None:
        files.save_atomically(args.sarif, to_sarif(result).encode(), shared=True)
    if args.json:
        out.write(formats.dumps(to_plain(result)) + "\n")
    else:
        if result.cases and not args.quiet:
            say(console)
        print_sum(console, result)
    return _exit_code(result)


def _exit_code(result: CheckResult) -> ExitCode:
    if result.interrupted:
        return ExitCode.INTERRUPTED
    errors = [case for case in result.cases if case.status == "error"]
    if any(case.unreachable for case in errors):
        return ExitCode.UNREACHABLE
    if errors:
        return ExitCode.USAGE
    return ExitCode.OK if result.passed else ExitCode.FOUND
