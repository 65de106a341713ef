"""``catenum trial``: the baseline and each remedy, side by side."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import IO

from catenum.cli import common, scenarios
from catenum.cli.commands.churn import add_load_options, copies_of
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Progress
from catenum.cli.space_options import add_reach_options, options_of
from catenum.core.errors import InputError
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.scenario.remedies import split_names
from catenum.engines.targets import Target, open_engine
from catenum.lab.compare.loop_comparison import contest
from catenum.lab.compare.trial import Trial, trial, trial_of_all
from catenum.lab.explore.walker import Explorer
from catenum.lab.run.play import PlayOptions
from catenum.lab.run.safety import named_locks_of
from catenum.render.console import make_console, say
from catenum.render.loop_comparison import contest_value, print_contest, winners_of
from catenum.render.trial import print_trial, to_json_value


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
    file = scenarios.load_scenario(args.scenario)
    scenario, order = scenarios.changed_by_options(file, args)
    if not scenario.remedies:
        raise InputError(
            "the scenario has no remedies to try",
            place=file.place(),
            advice="Add them under 'remedies:', such as reorder.",
        )
    for name in args.remedy or ():
        split_names(name, scenario.remedies)
    target = common.target_of(args.target or scenarios.recorded_target(file), err)
    scenarios.refuse_unsafe(file, target.server, outside=args.outside)
    if args.save:
        common.check_writable(args.save)
    if args.churn:
        common.require("scipy", "--churn")
        return _under_load(args, scenario, file, target, out, err)
    limit_ms = float(args.statement_limit)
    options = PlayOptions(
        order=order, locks="full", victim=args.victim, limit_ms=limit_ms, once=args.outside
    )
    progress = Progress(err, quiet=args.quiet or args.json)

    def heard(name: str, explorer: Explorer) -> None:
        progress.part(explorer.fraction, f"of '{name}', {explorer.tally.schedules:,} schedules")

    with scenarios.server_for(
        target, common.teller(err, args.quiet), file, outside=args.outside
    ) as (connect, engine):
        if order is not None:
            result = trial(
                engine, scenario, options, file=file, only=args.remedy, progress=progress
            )
        else:
            result = trial_of_all(
                connect,
                engine,
                scenario,
                options,
                options_of(args, pictures=False),
                workers=args.workers,
                file=file,
                only=args.remedy,
                progress=heard,
            )
        progress.clear()
    if args.save:
        common.save_atomically(args.save, json.dumps(to_json_value(result), indent=2).encode())
    show(result, args, out)
    return ExitCode.OK if result.winners else ExitCode.FOUND


def _under_load(
    args: argparse.Namespace,
    scenario: Scenario,
    file: ScenarioFile,
    target: Target,
    out: IO[str],
    err: IO[str],
) -> ExitCode:
    if any(lock.of_session for lock in named_locks_of(scenario, target.server)):
        raise InputError(
            "--churn has all variants connected at once, and a named lock that a session of one"
            " keeps stops the others",
            advice="Leave --churn out: then each variant is explored by itself.",
        )
    copies = copies_of(args, list(scenario.transactions))
    seconds = args.length / 1000 if args.length else 5.0
    progress = Progress(err, quiet=args.quiet or args.json)
    own = scenario.settings_on(target.server)
    with open_engine(target, common.teller(err, args.quiet), own=own) as connect:
        results = contest(
            connect,
            scenario,
            copies=copies,
            seconds=seconds,
            commit=args.commit,
            file=file,
            only=args.remedy,
            progress=progress,
        )
    value = contest_value(scenario.scenario, results)
    if args.save:
        common.save_atomically(args.save, json.dumps(value, indent=2).encode())
    winners = winners_of(results)
    if args.json:
        out.write(json.dumps(value, indent=2) + "\n")
    else:
        console = make_console(out, color=False if args.no_color else None)
        if args.quiet:
            say(console, f"{scenario.scenario}: {winners[0].name if winners else 'no remedy wins'}")
        else:
            print_contest(console, scenario.scenario, results)
    return ExitCode.OK if winners else ExitCode.FOUND


def show(result: Trial, args: argparse.Namespace, out: IO[str]) -> None:
    """The trial on standard output, in the form asked for."""
    if args.json:
        out.write(json.dumps(to_json_value(result), indent=2) + "\n")
        return
    console = make_console(out, color=False if args.no_color else None)
    if args.quiet:
        best = result.winners[0].name if result.winners else "no remedy wins"
        say(console, f"{result.scenario}: {best}")
        return
    print_trial(console, result)
