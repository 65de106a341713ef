"""``catenum churn``: transactions in loops, uncontrolled, until timing does it."""

from __future__ import annotations

import argparse
import json
import shlex
from pathlib import Path
from typing import IO

from catenum.api import files
from catenum.api.churn import RESULT as CHURN_RESULT
from catenum.api.churn import churn
from catenum.api.trial import MOST_COPIES
from catenum.cli import common, scenarios
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Reporter
from catenum.core.compare.churn_result import FAILURES, ChurnResult, to_plain
from catenum.core.compare.one_run import unmet_in_loops
from catenum.core.document.load import churn_summary
from catenum.core.errors import InputError
from catenum.core.record.recording_file import to_json
from catenum.core.scenario.terms import parse_expectation
from catenum.lab.load.churn import Churn
from catenum.render.churn import print_churn
from catenum.render.console import say


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``churn``."""
    scenarios.add_run_options(parser)
    scenarios.add_play_options(parser, schedule=False)
    add_load_options(parser)
    parser.add_argument(
        "--iterations", type=int, metavar="N", help="stop after N iterations of each copy"
    )
    parser.add_argument("--until", choices=FAILURES[:3], help="stop as soon as this has happened")
    parser.add_argument(
        "--expect",
        metavar="TERMS",
        help="exit 0 if it is so, 1 if not, such as 'no deadlock', as for explore",
    )
    parser.add_argument(
        "-o",
        "--save",
        metavar="FOLDER",
        type=Path,
        help="write the figures and a recording of each distinct cycle there, for 'report'",
    )
    common.add_output_options(parser)


def add_load_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--copies",
        action="append",
        default=[],
        metavar="NAME=N",
        help="N loops of a transaction at once; may be repeated",
    )
    parser.add_argument(
        "--for",
        dest="length",
        type=common.duration_argument,
        metavar="TIME",
        help="how long (default 10s)",
    )
    parser.add_argument(
        "--commit", action="store_true", help="commit each iteration instead of rolling it back"
    )


def copies_of(args: argparse.Namespace) -> dict[str, int]:
    """``--copies`` as numbers. Raises InputError for what is none."""
    found = {}
    for word in args.copies:
        name, _, number = word.partition("=")
        if not number.isdigit():
            raise InputError(f"--copies {word}: how many must be a number from 1 to {MOST_COPIES}")
        found[name] = int(number)
    return found


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Loop, count, show."""
    terms = parse_expectation(args.expect) if args.expect is not None else None
    live = err.isatty() and not args.quiet

    def heard(loops: Churn, left: float | None) -> None:
        if live:
            rest = f", {left:.0f} s left" if left is not None else ""
            deadlocks = loops.failures("deadlock")
            err.write(f"\r\x1b[K{loops.iterations:,} iterations, {deadlocks} deadlocks{rest}")
            err.flush()

    if args.save:
        files.make_folder(args.save)
    result = churn(
        args.scenario,
        copies=copies_of(args),
        time_limit=args.length,
        iterations=args.iterations,
        until=args.until,
        commit=args.commit,
        heard=heard,
        **scenarios.run_options(args, Reporter(err, quiet=args.quiet)),
    )
    if live:
        err.write("\r\x1b[K")
    paths = _save(result, args.save)
    if args.save:
        value = json.dumps(to_plain(result, paths), indent=2, ensure_ascii=False)
        files.save_atomically(args.save / CHURN_RESULT, value.encode())
    if args.json:
        out.write(json.dumps(to_plain(result, paths), indent=2, ensure_ascii=False) + "\n")
    else:
        console = common.console_for(args, out)
        if args.brief and not args.quiet:
            common.say_answer(console, churn_summary(to_plain(result)))
        else:
            print_churn(console, result, paths, quiet=args.quiet)
        if not args.quiet:
            say(console)
            common.say_next(console, *_next(args, result))
    if terms is not None and not result.interrupted:
        unmet = unmet_in_loops(terms, result)
        err.writelines(f"catenum: not as expected: {text}\n" for text in unmet)
        return ExitCode.FOUND if unmet else ExitCode.OK
    if result.interrupted:
        err.write("catenum: interrupted; these are the figures so far\n")
        return ExitCode.INTERRUPTED
    return ExitCode.FOUND if result.found_any else ExitCode.OK


def _next(args: argparse.Namespace, result: ChurnResult) -> list[str]:
    scenario = shlex.quote(args.scenario)
    if args.save:
        return [common.report_command(args.save, result.scenario)]
    if result.found_any:
        return [
            f"catenum trial {scenario} --churn   (its remedies, under the same load)",
            f"catenum churn {scenario} -o loops   (with a recording of each cycle)",
        ]
    return [f"catenum explore {scenario}   (loops prove nothing; this does)"]


def _save(result: ChurnResult, folder: Path | None) -> list[Path]:
    paths = []
    for number, kind in enumerate(result.deadlocks if folder else (), 1):
        path = (folder or Path()) / f"{result.scenario}-cycle-{number}.json"
        files.save_atomically(path, to_json(kind.recording).encode())
        paths.append(path)
    return paths
