"""``catenum lint``: what is wrong with scenarios, without running them."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import IO

from catenum.cli import common, scenarios
from catenum.cli.exits import ExitCode
from catenum.core.errors import InputError, Problem
from catenum.core.servers import NAMES
from catenum.engines.targets import DEFAULT

FORMAT = "catenum-lint/1"


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``lint``."""
    parser.add_argument(
        "scenarios", metavar="SCENARIO", nargs="+", help="scenario files, or names of samples"
    )
    parser.add_argument(
        "--server",
        choices=list(NAMES),
        default=DEFAULT.removeprefix("local:"),
        help="whose SQL the statements are in",
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Read each, print every problem. Exit 2 if there is one."""
    found: list[tuple[str, Problem]] = []
    for word in args.scenarios:
        problems = check(word, args.server)
        found.extend((word, problem) for problem in problems)
        if not problems and not args.json and not args.quiet:
            out.write(f"{word}: fine\n")
    if args.json:
        value = {"format": FORMAT, "problems": [_plain(word, problem) for word, problem in found]}
        out.write(json.dumps(value, indent=2, ensure_ascii=False) + "\n")
    else:
        for _, problem in found:
            out.write(f"{problem}\n")
    return ExitCode.USAGE if found else ExitCode.OK


def check(word: str, server: str) -> list[Problem]:
    try:
        file = scenarios.load_scenario(word)
    except InputError as error:
        return list(error.problems)
    return scenarios.unsafe(file, server, outside=False, advice="Running it needs --outside.")


def _plain(word: str, problem: Problem) -> dict[str, object]:
    place = problem.place
    return {
        "scenario": str(Path(word)),
        "line": place.line if place else 0,
        "column": place.column if place else 0,
        "message": problem.message,
        "advice": problem.advice,
    }
