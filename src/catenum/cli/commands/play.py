"""``catenum play``: one schedule, with its timeline, its locks and its story."""

from __future__ import annotations

import argparse
import json
import shlex
import sys
from collections.abc import Callable
from pathlib import Path
from typing import IO

from catenum.api import files
from catenum.api.play import play, play_orders
from catenum.api.scenarios import RunOptions, load
from catenum.cli import common, scenarios
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Reporter
from catenum.core.compare.one_run import unmet_in_run
from catenum.core.document.recording import summary_of
from catenum.core.errors import InputError
from catenum.core.record.outcome import is_conflict
from catenum.core.record.recording import Recording
from catenum.core.record.recording_file import to_json
from catenum.core.report.recording_story import tell
from catenum.core.report.timeline import summary
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.scenario.terms import parse_expectation
from catenum.core.text import counted, one_line
from catenum.lab.run.orders import PlayedOrder
from catenum.lab.run.requests import Announce
from catenum.render.console import say
from catenum.render.orders import orders_value, print_order
from catenum.render.text import print_pictures, print_story
from catenum.render.timeline import legend, print_timeline


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``play``."""
    scenarios.add_run_options(parser)
    scenarios.add_play_options(parser)
    parser.add_argument(
        "--locks",
        choices=["none", "waits", "full"],
        help=(
            "which locks to collect: none, waits (who waits for whom; the default), or full: every"
            " lock and the committed rows after each move (the default with --save)"
        ),
    )
    parser.add_argument(
        "--remedy",
        metavar="NAME",
        help="play the scenario with one of its remedies applied, or 'one + other'",
    )
    parser.add_argument(
        "--named",
        metavar="NAME",
        help="only the scenario's order of this name, with its timeline and its story",
    )
    parser.add_argument(
        "--pause",
        action="store_true",
        help="say what each move will do, and wait for Enter before it",
    )
    parser.add_argument(
        "-o",
        "--save",
        metavar="FILE",
        type=Path,
        help="write the recording, for 'explain' and 'draw'",
    )
    parser.add_argument(
        "--expect",
        metavar="TERMS",
        help="exit 0 if it is so, 1 if not, such as 'deadlock' or 'no conflict', as for explore",
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Play and show."""
    file = load(args.scenario)
    if args.expect is not None:
        parse_expectation(args.expect)  # a wrong word is an error before anything runs
    args.show_locks = args.locks == "full"
    args.locks = args.locks or ("full" if args.save else "waits")
    if args.save:
        files.check_writable(args.save)
    options = scenarios.run_options(args, Reporter(err, quiet=args.quiet))
    announce = _pause(err) if args.pause else None
    if (file.scenario.orders and args.order is None) or args.named is not None:
        return _play_named(args, file, options, announce, out)

    def heard(recording: Recording) -> None:
        if args.save:
            files.save_atomically(args.save, to_json(recording).encode())
        show(recording, args, out)

    recording = play(
        file,
        order=args.order,
        remedy=args.remedy,
        locks=args.locks,
        announce=announce,
        heard=heard,
        **options,
    )
    if args.save and not args.quiet and not args.json:
        err.write(f"Recording: {args.save}\n")
    return exit_code(recording, args.expect)


def _play_named(
    args: argparse.Namespace,
    file: ScenarioFile,
    options: RunOptions,
    announce: Callable[[Announce], None] | None,
    out: IO[str],
) -> ExitCode:
    """The named orders, or the one that was asked for: whether each is as expected."""
    names = tuple(file.scenario.orders)
    if args.named is None and (args.save is not None or args.expect is not None):
        option = "--save" if args.save is not None else "--expect"
        raise InputError(
            f"{option} is about one order, and the scenario has {counted(len(names), 'order')}",
            advice="--named NAME plays one of them.",
        )
    if args.order is not None:
        raise InputError(
            "--named plays the order that the scenario gives, and --order gives another",
            advice="Leave one of them out.",
        )
    console = common.console_for(args, out)
    width, first = max(map(len, names if args.named is None else [args.named])), True

    def heard(one: PlayedOrder) -> None:
        nonlocal first
        if args.json:
            return
        if args.named is not None:
            show(one.recording, args, out)
            say(console)
        elif first and not args.quiet:
            say(console, _title(one.recording), style="bold")
        print_order(console, one, width=width)
        first = False

    played = play_orders(
        file,
        None if args.named is None else [args.named],
        remedy=args.remedy,
        locks=args.locks,
        announce=announce,
        heard=heard,
        **options,
    )
    if args.save is not None:
        files.save_atomically(args.save, to_json(played[0].recording).encode())
    if args.json:
        value = orders_value(file.scenario.scenario, played)
        out.write(json.dumps(value, indent=2, ensure_ascii=False) + "\n")
    codes = [_order_code(one, args.expect) for one in played]
    return ExitCode.FOUND if ExitCode.FOUND in codes else ExitCode.OK


def _order_code(played: PlayedOrder, expected: str | None) -> ExitCode:
    """By what is expected of the order, and of it by the option; where nothing is, by its outcome:
    a deadlock that nobody expected is a conflict, as in any other run.
    """
    if played.as_expected is False:
        return ExitCode.FOUND
    if played.as_expected is None or expected is not None:
        return exit_code(played.recording, expected)
    return ExitCode.OK


def exit_code(recording: Recording, expected: str | None) -> ExitCode:
    """By the outcome, or by whether it is the one expected."""
    if expected is not None:
        return (
            ExitCode.FOUND if unmet_in_run(parse_expectation(expected), recording) else ExitCode.OK
        )
    return ExitCode.FOUND if is_conflict(recording.outcome) else ExitCode.OK


def show(recording: Recording, args: argparse.Namespace, out: IO[str]) -> None:
    """The recording on standard output, in the form asked for."""
    if args.json:
        out.write(to_json(recording) + "\n")
        return
    console = common.console_for(args, out)
    if args.quiet:
        say(console, f"{recording.scenario}: {summary(recording)}")
        return
    say(console, _title(recording), style="bold")
    if args.brief:
        common.say_answer(console, summary_of(recording))
        common.say_next(console, *_next(recording, args))
        return
    common.say_answer(console, [next(summary_of(recording))])
    say(console)
    say(console, legend(), style="dim")
    say(console)
    print_timeline(console, recording)
    say(console)
    say(console, summary(recording), style="bold")
    say(console)
    if recording.pictures and (args.verbose or args.show_locks):
        print_pictures(console, recording)
        say(console)
    print_story(console, [part for part in tell(recording) if part.id != "headline"])
    say(console)
    common.say_next(console, *_next(recording, args))


def _next(recording: Recording, args: argparse.Namespace) -> list[str]:
    """What to type after a run."""
    scenario = shlex.quote(args.scenario)
    if args.save:
        return [common.report_command(args.save, recording.scenario)]
    explore = f"catenum explore {scenario}"
    if not is_conflict(recording.outcome):
        return [f"{explore}   (every schedule that can differ)"]
    return [f"catenum propose {scenario}   (changes that would cure it)", explore]


def _title(recording: Recording) -> str:
    info = recording.target
    return f"{recording.scenario} on {info.server} {info.version} ({info.url})"


def _pause(err: IO[str]) -> Callable[[Announce], None]:
    def announce(move: Announce) -> None:
        err.write(
            f"move {move.move}: {move.transaction} will run: {one_line(move.sql)}\n  press Enter to"
            " continue … "
        )
        err.flush()
        if not sys.stdin.readline():
            err.write("\n")

    return announce
