"""``catenum trial``: the baseline and each remedy, side by side."""

from __future__ import annotations

import argparse
import json
import shlex
from pathlib import Path
from typing import IO

from catenum.api import files
from catenum.api.listener import Listener
from catenum.api.scenarios import load
from catenum.api.trial import trial, trial_under_load
from catenum.cli import common, scenarios
from catenum.cli.commands.churn import add_load_options, copies_of
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Reporter
from catenum.cli.space_options import add_reach_options, space_options
from catenum.core.compare.trial import Trial
from catenum.core.compare.trial_file import to_plain as trial_value
from catenum.core.document.comparison import trial_summary
from catenum.render.console import say
from catenum.render.loop_comparison import contest_value, print_contest, winners_of
from catenum.render.trial import print_trial


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``trial``."""
    scenarios.add_run_options(parser)
    scenarios.add_play_options(parser)
    parser.add_argument(
        "--remedy",
        action="append",
        metavar="NAME",
        help="only this remedy, or 'one + other' together; may be repeated",
    )
    add_reach_options(parser, limit=300, length=False)
    parser.add_argument(
        "-o",
        "--save",
        metavar="FILE",
        type=Path,
        help="write the result with a recording of every run, as JSON",
    )
    parser.add_argument(
        "--churn",
        action="store_true",
        help="under load, in loops and in turns, instead of on schedules",
    )
    add_load_options(parser)
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Try and show."""
    if args.save:
        files.check_writable(args.save)
    listener = Reporter(err, quiet=args.quiet, progress=not args.json)
    if args.churn:
        return _under_load(args, listener, out)
    options = space_options(args, listener)
    result = trial(args.scenario, order=args.order, remedies=args.remedy, **options)
    if args.save:
        files.save_atomically(args.save, json.dumps(trial_value(result), indent=2).encode())
    show(result, args, out)
    return ExitCode.OK if result.winners else ExitCode.FOUND


def _under_load(args: argparse.Namespace, listener: Listener, out: IO[str]) -> ExitCode:
    results = trial_under_load(
        args.scenario,
        remedies=args.remedy,
        copies=copies_of(args),
        time_limit=args.length or "5s",
        commit=args.commit,
        **scenarios.run_options(args, listener),
    )
    name = load(args.scenario).scenario.scenario
    value = contest_value(name, results)
    if args.save:
        files.save_atomically(args.save, json.dumps(value, indent=2).encode())
    winners = winners_of(results)
    if args.json:
        out.write(json.dumps(value, indent=2) + "\n")
    else:
        console = common.console_for(args, out)
        if args.quiet:
            say(console, f"{name}: {winners[0].name if winners else 'no remedy wins'}")
        else:
            print_contest(console, name, results)
    return ExitCode.OK if winners else ExitCode.FOUND


def show(result: Trial, args: argparse.Namespace, out: IO[str]) -> None:
    """The trial on standard output, in the form asked for."""
    if args.json:
        out.write(json.dumps(trial_value(result), indent=2) + "\n")
        return
    console = common.console_for(args, out)
    if args.quiet:
        best = result.winners[0].name if result.winners else "no remedy wins"
        say(console, f"{result.scenario}: {best}")
        return
    if args.brief:
        common.say_answer(console, trial_summary(result))
    else:
        common.say_answer(console, [_answer(result)])
        print_trial(console, result)
    say(console)
    common.say_next(console, *_next(result, args))


def _answer(result: Trial) -> tuple[str, str]:
    """In a sentence."""
    best = result.winners[0] if result.winners else None
    if best is None or best.verdict is None:
        return f"{result.scenario}: no remedy wins.", "bad"
    return f"{result.scenario}: {best.name} is best: {best.verdict.reason}.", "good"


def _next(result: Trial, args: argparse.Namespace) -> list[str]:
    scenario = shlex.quote(args.scenario)
    commands = []
    if result.winners:
        best = shlex.quote(result.winners[0].name)
        commands.append(f"catenum explore {scenario} --remedy {best}   (what is proven of it)")
    else:
        commands.append(f"catenum propose {scenario}   (other changes)")
    if args.save:
        commands.append(common.report_command(args.save, result.scenario))
    return commands
