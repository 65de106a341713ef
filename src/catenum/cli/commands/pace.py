"""``catenum pace``: what isolation levels cost under load, from one client to many hundreds."""

from __future__ import annotations

import argparse
import re
import shlex
from collections.abc import Sequence
from pathlib import Path
from typing import IO, Any

from catenum import samples
from catenum.api import files
from catenum.api.pace import DEFAULT_WORK, RETRIES, PaceStopped, pace
from catenum.cli import common, scenarios
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Reporter
from catenum.core import formats
from catenum.core.document.load import pace_summary
from catenum.core.errors import InputError
from catenum.core.pace.results import PaceResult, compared, differing_settings, to_csv, to_plain
from catenum.core.text import suggestion
from catenum.render.console import say
from catenum.render.pace import print_compared, print_pace

CLIENTS, MOST_CLIENTS = "1,4,16,64", 5000


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``pace``."""
    kinds = ", ".join(samples.load_names())
    parser.add_argument(
        "scenario",
        metavar="SCENARIO",
        nargs="?",
        default=DEFAULT_WORK,
        help=f"a scenario file, a sample, or a kind of work: {kinds} (default {DEFAULT_WORK})",
    )
    parser.add_argument(
        "--target",
        metavar="TARGET",
        help="local:postgresql (default), a URL, or a short name from catenum.toml",
    )
    parser.add_argument(
        "--clients",
        type=_clients,
        default=_clients(CLIENTS),
        metavar="N,…",
        help=f"how many clients at once, a step for each (default {CLIENTS})",
    )
    parser.add_argument(
        "--for",
        dest="length",
        type=common.duration_argument,
        default=10_000,
        metavar="TIME",
        help="how long each step is, all levels together (default 10s)",
    )
    parser.add_argument(
        "--levels",
        type=_levels,
        default=(),
        metavar="LEVEL,…",
        help="isolation levels to compare (default: all that differ on the server)",
    )
    parser.add_argument(
        "--retry",
        type=common.whole_number,
        default=RETRIES,
        metavar="N",
        help=(
            "how often a transaction that is refused or a deadlock victim begins again, where it"
            f" has no retry of its own (default {RETRIES}; 0: never)"
        ),
    )
    parser.add_argument(
        "--share",
        action="append",
        default=[],
        metavar="NAME=N",
        help="how often a transaction is run beside the others, by weight; may be repeated",
    )
    parser.add_argument(
        "--think",
        type=common.duration_argument,
        default=0,
        metavar="TIME",
        help="the mean pause of a client between two transactions (default: none)",
    )
    parser.add_argument(
        "--rate",
        type=_rate,
        metavar="N/s",
        help=(
            "arrivals in this number a second, which do not wait for answers: latency then counts"
            " from the arrival"
        ),
    )
    parser.add_argument(
        "--seed", metavar="N", type=int, default=1, help="for what is drawn by chance (default 1)"
    )
    parser.add_argument(
        "--chart", metavar="FILE", type=Path, help="draw the result as a .png or .svg file"
    )
    parser.add_argument("--csv", metavar="FILE", type=Path, help="write the figures as CSV")
    parser.add_argument(
        "-o",
        "--save",
        metavar="FILE",
        type=Path,
        help="write the result as JSON, to compare with later",
    )
    parser.add_argument(
        "--compare", metavar="FILE", type=Path, help="show the ratio to a result that was saved"
    )
    parser.add_argument(
        "--print", action="store_true", dest="as_text", help="print a kind of work, and end"
    )
    scenarios.add_outside_option(parser)
    common.add_output_options(parser)


def _clients(text: str) -> tuple[int, ...]:
    words = text.split(",")
    if not all(word.strip().isdecimal() and 1 <= int(word) <= MOST_CLIENTS for word in words):
        raise argparse.ArgumentTypeError(
            f"{text!r} is not a list of numbers from 1 to {MOST_CLIENTS}, such as 1,16,256"
        )
    return tuple(dict.fromkeys(int(word) for word in words))


def _levels(text: str) -> tuple[str, ...]:
    return tuple(
        dict.fromkeys(" ".join(word.replace("-", " ").lower().split()) for word in text.split(","))
    )


def _rate(text: str) -> float:
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*(?:/\s*s)?\s*", text)
    if match is None or not float(match[1]):
        raise argparse.ArgumentTypeError(f"{text!r} is not a rate, such as 200/s")
    return float(match[1])


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Load, measure, show."""
    if args.as_text:
        return _print_work(args.scenario, out)
    files.require("scipy", "pace")  # for the intervals of what it measures
    files.require("gevent", "pace")
    form = files.chart_form(args.chart) if args.chart is not None else None
    for path in (args.csv, args.save):
        if path is not None:
            files.check_writable(path)
    before = _read_result(args.compare) if args.compare is not None else None
    problem: BaseException | None = None
    try:
        result = pace(
            args.scenario,
            clients=args.clients,
            levels=args.levels,
            time_limit=args.length,
            retries=args.retry,
            think=args.think,
            rate=args.rate,
            shares=_shares(args.share),
            seed=args.seed,
            target=args.target,
            outside=args.outside,
            listener=Reporter(err, quiet=args.quiet, progress=not args.json),
        )
    except PaceStopped as stopped:
        result, problem = stopped.result, stopped.problem
    if args.save is not None:
        text = formats.dumps(to_plain(result))
        files.save_atomically(args.save, text.encode(), shared=True)
    if args.csv is not None:
        files.save_atomically(args.csv, to_csv(result).encode(), shared=True)
    if args.chart is not None and form is not None:
        from catenum.render.figure import to_bytes
        from catenum.render.pace_figure import pace_figure

        files.save_atomically(args.chart, to_bytes(pace_figure(result), form), shared=True)
    show(result, before, args, out)
    if isinstance(problem, KeyboardInterrupt):
        err.write("catenum: interrupted; these are the figures so far\n")
        return ExitCode.INTERRUPTED
    if problem is not None:
        raise problem
    ended_early = any(step.stopped for step in result.steps)
    return ExitCode.FOUND if result.conflicts or ended_early else ExitCode.OK


def _print_work(name: str, out: IO[str]) -> ExitCode:
    try:
        out.write(samples.load_text(name))
    except KeyError:
        raise InputError(
            f"there is no kind of work {name!r}", advice=suggestion(name, samples.load_names())
        ) from None
    return ExitCode.OK


def _shares(words: Sequence[str]) -> dict[str, float]:
    found = {}
    for word in words:
        name, _, number = word.partition("=")
        if not re.fullmatch(r"\d+(\.\d+)?", number) or not float(number):
            raise InputError(f"--share {word}: the weight must be a number above 0")
        found[name] = float(number)
    return found


def _read_result(path: Path) -> dict[str, Any]:
    found: dict[str, Any] = formats.read("pace", files.read_file(path), str(path))
    return found


def show(
    result: PaceResult, before: dict[str, Any] | None, args: argparse.Namespace, out: IO[str]
) -> None:
    """The result on standard output, in the form asked for."""
    if args.json:
        out.write(formats.dumps(to_plain(result)) + "\n")
        return
    console = common.console_for(args, out)
    if args.quiet:
        for step in result.steps:
            told = ", ".join(f"{one.level} {one.per_second.value:,.0f}/s" for one in step.levels)
            say(console, f"{step.clients:,} clients: {told}")
    elif args.brief:
        common.say_answer(console, pace_summary(result))
    else:
        print_pace(console, result)
    if before is not None:
        say(console)
        rows = list(compared(before, result))
        print_compared(console, rows, differing_settings(before, result), str(args.compare))
    if not args.quiet:
        say(console)
        file = shlex.quote(str(args.save)) if args.save else None
        common.say_next(
            console,
            f"catenum report {file} -o pace.html" if file else "catenum pace … -o before.json",
        )
