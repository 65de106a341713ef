"""``catenum pace``: what isolation levels cost under load, from one client to many hundreds."""

from __future__ import annotations

import argparse
import re
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import IO, Any

from catenum import samples
from catenum.cli import common, scenarios
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Progress
from catenum.core import formats
from catenum.core.errors import CatenumError, InputError
from catenum.core.pace.results import PaceResult, compared, differing_settings, to_csv, to_plain
from catenum.core.scenario.model import Retry
from catenum.core.scenario.reader import ScenarioFile, read_scenario
from catenum.core.servers import rules_of
from catenum.core.text import suggestion
from catenum.engines import clock
from catenum.engines.ports import Engine
from catenum.engines.targets import Target
from catenum.lab.load.pace import OWN_CONNECTIONS, Pace, PaceOptions
from catenum.render.console import make_console, say
from catenum.render.pace import print_compared, print_pace

CLIENTS, MOST_CLIENTS = "1,4,16,64", 5000
RETRIES = 10
DEFAULT_WORK = "random-rows"
#: Connections that every private server admits.
ADMITTED = 180


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
        "--save", metavar="FILE", type=Path, help="write the result as JSON, to compare with later"
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
    common.require("scipy", "pace")  # for the intervals of what it measures
    common.require("gevent", "pace")
    form = common.chart_form(args.chart) if args.chart is not None else None
    for path in (args.csv, args.save):
        if path is not None:
            common.check_writable(path)
    before = _read_result(args.compare) if args.compare is not None else None
    file = _file_of(args.scenario)
    shares = _shares(args.share, list(file.scenario.transactions))
    target = common.target_of(args.target or scenarios.recorded_target(file), err)
    levels = _levels_of(args.levels, target)
    scenarios.refuse_unsafe(file, target.server, outside=args.outside)
    options = PaceOptions(
        clients=args.clients,
        levels=levels,
        for_ms=float(args.length),
        retry=Retry(times=min(args.retry, 100)) if args.retry else None,
        think_ms=float(args.think),
        rate=args.rate,
        shares=shares,
        seed=args.seed,
    )
    result, problem = _measure(args, file, target, options, err)
    if result is None:
        assert problem is not None
        raise problem
    if args.save is not None:
        text = formats.dumps(to_plain(result))
        common.save_atomically(args.save, text.encode(), shared=True)
    if args.csv is not None:
        common.save_atomically(args.csv, to_csv(result).encode(), shared=True)
    if args.chart is not None and form is not None:
        from catenum.render.figure import to_bytes
        from catenum.render.pace_figure import pace_figure

        common.save_atomically(args.chart, to_bytes(pace_figure(result), form), shared=True)
    show(result, before, args, out)
    if isinstance(problem, KeyboardInterrupt):
        err.write("catenum: interrupted; these are the figures so far\n")
        return ExitCode.INTERRUPTED
    if problem is not None:
        raise problem
    stopped = any(step.stopped for step in result.steps)
    return ExitCode.FOUND if result.conflicts or stopped else ExitCode.OK


def _print_work(name: str, out: IO[str]) -> ExitCode:
    try:
        out.write(samples.load_text(name))
    except KeyError:
        raise InputError(
            f"there is no kind of work {name!r}", advice=suggestion(name, samples.load_names())
        ) from None
    return ExitCode.OK


def _file_of(word: str) -> ScenarioFile:
    """A kind of work by its name, else as every command reads a scenario."""
    if word in samples.load_names() and not Path(word).exists():
        return read_scenario(samples.load_text(word).encode(), f"{word}.yaml")
    return scenarios.load_scenario(word)


def _levels_of(asked: Sequence[str], target: Target) -> tuple[str, ...]:
    rules = rules_of(target.server).locks
    for level in asked:
        if level not in rules.levels:
            raise InputError(
                f"--levels: {target.server} has no level {level!r}",
                advice=suggestion(level, list(rules.levels)),
            )
    return tuple(asked or rules.distinct_levels)


def _shares(words: Sequence[str], names: list[str]) -> dict[str, float]:
    found = {}
    for word in words:
        name, _, number = word.partition("=")
        if name not in names:
            raise InputError(
                f"--share names {name!r}, which is not a transaction",
                advice=suggestion(name, names),
            )
        if not re.fullmatch(r"\d+(\.\d+)?", number) or not float(number):
            raise InputError(f"--share {word}: the weight must be a number above 0")
        found[name] = float(number)
    return found


def _read_result(path: Path) -> dict[str, Any]:
    found: dict[str, Any] = formats.read("pace", common.read_file(path), str(path))
    return found


def _measure(
    args: argparse.Namespace, file: ScenarioFile, target: Target, options: PaceOptions, err: IO[str]
) -> tuple[PaceResult | None, BaseException | None]:
    """The result, and what ended it early; no result where nothing was measured by then."""
    progress = Progress(err, quiet=args.quiet or args.json)
    steps = options.clients

    def heard(clients: int, done: int, whole: int, level: str) -> None:
        at = (steps.index(clients) + done / whole) / len(steps)
        progress.part(at, f"{clients:,} clients at {level}")

    started = clock.moment().isoformat()
    pace: Pace | None = None
    engine: Engine | None = None
    problem: BaseException | None = None
    tell, more = common.teller(err, args.quiet), _room_for(max(steps), target)
    try:
        with scenarios.engine_for(target, tell, file, outside=args.outside, more=more) as engine:
            pace = Pace(engine, file.scenario, options, file=file, progress=heard)
            for _ in pace.run():
                pass
    except (KeyboardInterrupt, CatenumError) as error:
        problem = error
    finally:
        progress.clear()
    if pace is None or engine is None or not pace.steps:
        return None, problem
    info = engine.info
    weights = {
        name: options.shares.get(name, one.share or 1.0)
        for name, one in file.scenario.transactions.items()
    }
    result = PaceResult(
        scenario=file.scenario.scenario,
        target=target.shown,
        server=info.server,
        version=info.version,
        default_level=info.default_isolation,
        started=started,
        levels=options.levels,
        for_ms=options.for_ms,
        rate=options.rate,
        think_ms=options.think_ms,
        shares=weights,
        retries=args.retry,
        seed=options.seed,
        steps=tuple(pace.steps),
        notes=tuple(_notes(target, options, pace)),
    )
    if problem is not None:
        what = "interrupted" if isinstance(problem, KeyboardInterrupt) else str(problem)
        result = replace(result, stopped=what)
    return result, problem


def _room_for(clients: int, target: Target) -> dict[str, str]:
    """What a private server must be started with to admit all of them; one is started then."""
    if not target.private or clients + OWN_CONNECTIONS <= ADMITTED:
        return {}
    return {"max_connections": str(clients + 2 * OWN_CONNECTIONS)}


def _notes(target: Target, options: PaceOptions, pace: Pace) -> list[str]:
    notes = [
        "the data is loaded anew for each number of clients; the first round of turns, and a tenth"
        " of each turn, warm up and are not counted"
    ]
    if target.private:
        notes.append(
            "a private server does not wait for its disk and vacuums nothing by itself, so a commit"
            " costs less here than in production, and a lock is held for less time"
        )
    else:
        notes.append(
            "what else the server does (vacuum, purge, others' work) is part of the figures"
        )
    if pace.scenario.holds:
        notes.append(
            "rules (holds) are not checked under load: 'levels SCENARIO' says at which level they"
            " are kept"
        )
    if any(one.given_up for step in pace.steps for one in step.levels):
        notes.append(
            "latencies are of transactions that committed: those that failed for good are not"
            " among them"
        )
    if options.rate:
        notes.append("latency counts from the arrival, whether or not a client was free then")
    return notes


def show(
    result: PaceResult, before: dict[str, Any] | None, args: argparse.Namespace, out: IO[str]
) -> None:
    """The result on standard output, in the form asked for."""
    if args.json:
        out.write(formats.dumps(to_plain(result)) + "\n")
        return
    console = make_console(out, color=False if args.no_color else None)
    if args.quiet:
        for step in result.steps:
            told = ", ".join(f"{one.level} {one.per_second.value:,.0f}/s" for one in step.levels)
            say(console, f"{step.clients:,} clients: {told}")
    else:
        print_pace(console, result)
    if before is not None:
        say(console)
        rows = list(compared(before, result))
        print_compared(console, rows, differing_settings(before, result), str(args.compare))
