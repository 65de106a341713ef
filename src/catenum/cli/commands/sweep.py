"""``catenum sweep``: every way in which the parameters of the transactions can coincide."""

from __future__ import annotations

import argparse
import json
import re
import shlex
from pathlib import Path
from typing import IO

from catenum.api import files
from catenum.api.sweep import sweep
from catenum.cli import common, scenarios
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Reporter
from catenum.cli.space_options import add_reach_options, space_options
from catenum.core.scenario.writing import as_text, definition_of
from catenum.core.sweep.cases import LONGEST, MOST_ASSIGNMENTS
from catenum.core.sweep.result import CaseResult, Sweep, to_plain
from catenum.lab.sweep.sweep import MANY_CASES, MOST_CASES, MOST_SCHEDULES, SHORTER
from catenum.render.console import say
from catenum.render.sweep import answer, print_sweep, rows_of

RESULT = "sweep.json"


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``sweep``."""
    scenarios.add_run_options(parser)
    scenarios.add_play_options(parser, schedule=False)
    parser.add_argument(
        "--remedy",
        metavar="NAME",
        help="with one of the scenario's remedies applied, or 'one + other'",
    )
    parser.add_argument(
        "--longest",
        metavar="N",
        type=common.positive,
        help=f"lists have up to so many elements (default {LONGEST}, and {SHORTER} where that would"
        f" be more than {MANY_CASES} distinct cases)",
    )
    parser.add_argument(
        "--most",
        metavar="N",
        type=common.positive,
        default=MOST_ASSIGNMENTS,
        help=f"look at so many assignments of values at the most (default {MOST_ASSIGNMENTS:,})",
    )
    parser.add_argument(
        "--cases",
        metavar="N",
        type=common.positive,
        default=MOST_CASES,
        help=f"run so many distinct cases of transactions together (default {MOST_CASES:,}), those"
        " first in which most coincides; of more, it is a sample",
    )
    parser.add_argument(
        "-o",
        "--save",
        metavar="FOLDER",
        type=Path,
        help="write the result, and a scenario file of each distinct case in which any meet",
    )
    parser.set_defaults(victim=None)
    add_reach_options(parser, limit=MOST_SCHEDULES)
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Sweep and show. The exit code is 0 only where nothing is wrong for all values."""
    if args.save is not None:
        files.make_folder(args.save)
    listener = Reporter(err, quiet=args.quiet, progress=not args.json)
    options = space_options(args, listener)
    found = sweep(
        args.scenario,
        remedy=args.remedy,
        longest=args.longest,
        most=args.most,
        cases=args.cases,
        **options,
    )
    if args.save is not None:
        _save(found, args.save)
    code = ExitCode.OK if found else ExitCode.FOUND
    if args.json:
        out.write(json.dumps(to_plain(found), indent=2, ensure_ascii=False) + "\n")
        return code
    console = common.console_for(args, out)
    if args.quiet:
        say(console, answer(found))
        return code
    print_sweep(console, found, brief=args.brief, verbose=args.verbose)
    say(console)
    scenario = shlex.quote(args.scenario)
    if args.save is not None and found.bad:
        first = next(number for number, one in _numbered(found) if one.bad)
        common.say_next(
            console,
            f"catenum explore {shlex.quote(str(args.save / _file(first, found)))}",
            f"catenum propose {scenario}   (changes that hold for all values)",
        )
    elif found.bad:
        common.say_next(
            console,
            f"catenum propose {scenario}   (changes that hold for all values)",
            f"catenum sweep {scenario} -o cases   (a scenario file of each case)",
        )
    else:
        common.say_next(console, f"catenum check {scenario}")
    return code


def _numbered(found: Sweep) -> list[tuple[int, CaseResult]]:
    """The cases that were run, as they are counted in what is shown."""
    return [(number, row.first) for number, row in enumerate(rows_of(found), 1) if row.first.ran]


def _file(number: int, found: Sweep) -> str:
    row = rows_of(found)[number - 1]
    words = re.sub(r"[^a-z0-9]+", "-", row.words.lower()).strip("-")[:60].strip("-")
    return f"{number:02}-{words or 'case'}.yaml"


def _save(found: Sweep, folder: Path) -> None:
    """The result, and a scenario of each kind of case."""
    text = json.dumps(to_plain(found), indent=2, ensure_ascii=False) + "\n"
    files.save_atomically(folder / RESULT, text.encode())
    for number, case in _numbered(found):
        if case.scenario is None:
            continue
        plain = definition_of(case.scenario, found.target.server)
        plain["scenario"] = re.sub(r"[\s:,=]+", "-", f"{found.scenario}-{number}")[:40]
        plain["about"] = f"{found.scenario}: {case.words}."
        if case.shortest:
            plain["order"] = " ".join(case.shortest)
        files.save_atomically(folder / _file(number, found), as_text(plain).encode(), shared=True)
