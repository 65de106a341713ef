"""``catenum explore``: every schedule that can differ, the outcome of each, the shortest way
there.
"""

from __future__ import annotations

import argparse
import json
import shlex
from collections.abc import Sequence
from pathlib import Path
from typing import IO

from catenum.api.explore import RESULT, explore, explore_levels
from catenum.api.scenarios import load, target_of
from catenum.cli import common, scenarios
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Reporter
from catenum.cli.space_options import add_reach_options, space_options
from catenum.core.document.exploration import summary_of
from catenum.core.errors import InputError
from catenum.core.scenario.model import ExpectedOutcome
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.scenario.terms import LISTED, Term, parse_expectation
from catenum.core.servers import rules_of
from catenum.core.space.expect import other_outcomes
from catenum.core.space.exploration import Exploration, how_far
from catenum.core.space.exploration_file import to_json, to_plain
from catenum.core.text import counted, listed
from catenum.render.console import say
from catenum.render.explore import print_exploration, print_levels

LEVELS_FORMAT = "catenum-levels/1"


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``explore``."""
    scenarios.add_run_options(parser)
    scenarios.add_play_options(parser, schedule=False, each=True)
    parser.add_argument(
        "--victim",
        metavar="NAME",
        help="the transaction to become the deadlock victim, if the server allows it",
    )
    parser.add_argument(
        "--remedy",
        metavar="NAME",
        help="with one of the scenario's remedies applied, or 'one + other'",
    )
    add_reach_options(parser, limit=10_000)
    parser.add_argument(
        "--locks", choices=["waits", "full"], default="waits", help="full counts every lock taken"
    )
    parser.add_argument(
        "-o",
        "--save",
        metavar="FOLDER",
        type=Path,
        help="write the result and a recording of each distinct outcome",
    )
    parser.add_argument(
        "--resume",
        metavar="FOLDER",
        type=Path,
        help="continue the exploration that was saved there",
    )
    parser.add_argument(
        "--expect",
        metavar="TERMS",
        help=(
            "exit 0 if it is so, 1 if not, such as 'no deadlock, no anomaly'; 'listed': the"
            " outcomes that the scenario lists, and no others"
        ),
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Explore and show."""
    file = load(args.scenario)
    each = "each" in args.isolation
    if each:
        args.isolation.remove("each")
    listed_only = args.expect == LISTED
    terms = parse_expectation(args.expect) if args.expect and not listed_only else None
    options = space_options(args, Reporter(err, quiet=args.quiet, progress=not args.json))
    target = target_of(file, options)
    outcomes = _outcomes(args, file, target.server, each=each)
    options["target"] = target

    def broken_off(result: Exploration) -> None:
        if result.tally.schedules and not args.json:
            console = common.console_for(args, out)
            print_exploration(console, result)
            say(console)
        folder = args.save or args.resume
        go_on = (
            f"catenum explore {args.scenario} --resume {folder} continues from there"
            if folder
            else "use --save FOLDER to be able to continue"
        )
        err.write(f"catenum: broken off: {how_far(result)}; {go_on}\n")

    found: list[Exploration] = []
    if each:
        found = explore_levels(
            file,
            remedy=args.remedy,
            locks=args.locks,
            save=args.save,
            resume=args.resume,
            broken_off=broken_off,
            **options,
        )
    else:
        found.append(
            explore(
                file,
                remedy=args.remedy,
                locks=args.locks,
                save=args.save,
                resume=args.resume,
                broken_off=broken_off,
                **options,
            )
        )
    show(found, each, args, out, note=rules_of(target.server).locks.level_note if each else "")
    _tell_files(found, args, err)
    if terms is not None:
        return _expected(found, terms, err)
    if outcomes is not None:
        compared = _compared(found[0], outcomes, file, target.server, err)
        if listed_only or compared is ExitCode.FOUND:
            return compared
    return ExitCode.FOUND if any(one.tally.bad for one in found) else ExitCode.OK


def _outcomes(
    args: argparse.Namespace, file: ScenarioFile, server: str, *, each: bool
) -> Sequence[ExpectedOutcome] | None:
    """The scenario's list of outcomes; None where it has none, or where an option makes another
    scenario of it. Raises InputError where ``--expect`` asks for it then.
    """
    outcomes = file.scenario.outcomes_on(server)
    changed = each or args.isolation or args.remedy or args.timeouts
    if args.expect == LISTED and outcomes is None:
        raise InputError(
            f"--expect {LISTED}: the scenario lists no outcomes for {server}",
            advice="It does so under the key 'outcomes'.",
        )
    if args.expect == LISTED and changed:
        raise InputError(
            f"--expect {LISTED}: the list is not of the scenario as these options change it"
        )
    return None if changed else outcomes


def show(
    found: list[Exploration], each: bool, args: argparse.Namespace, out: IO[str], note: str
) -> None:
    """The result on standard output, in the form asked for."""
    if args.json:
        if each:
            plain = {"format": LEVELS_FORMAT, "levels": [to_plain(one) for one in found]}
            out.write(json.dumps(plain, indent=2) + "\n")
        else:
            out.write(to_json(found[0]) + "\n")
        return
    console = common.console_for(args, out)
    if args.quiet:
        for one in found:
            level = f" at {', '.join(sorted(set(one.levels.values())))}" if each else ""
            but = f"; compared apart from {listed(list(one.ignored))}" if one.ignored else ""
            say(
                console,
                f"{one.scenario}{level}: {one.tally.bad:,} of {one.tally.schedules:,} schedules"
                f" with a conflict{but}",
            )
        return
    if args.brief:
        for one in found:
            level = f" at {', '.join(sorted(set(one.levels.values())))}" if each else ""
            say(console, f"{one.scenario}{level}", style="bold")
            common.say_answer(console, summary_of(one))
    elif each:
        print_levels(console, found, note)
    else:
        print_exploration(
            console, found[0], verbose=args.verbose, answer=next(summary_of(found[0]))[0]
        )
    say(console)
    common.say_next(console, *_next(found, args))


def _next(found: list[Exploration], args: argparse.Namespace) -> list[str]:
    """What to type after an exploration."""
    scenario = shlex.quote(args.scenario)
    folder = args.save or args.resume
    commands = []
    if any(one.tally.bad for one in found):
        commands.append(f"catenum propose {scenario}   (changes that would cure it)")
        shortest = next((one.outcomes[0].shortest for one in found if one.tally.bad), None)
        if shortest:
            commands.append(f"catenum play {scenario} --order '{' '.join(shortest)}'")
    elif all(one.reach.complete for one in found):
        commands.append(f"catenum check {scenario}   (with 'expect:' in it, for a build)")
    else:
        commands.append(f"catenum explore {scenario} --limit N   (a larger part)")
    if folder:
        commands.append(common.report_command(folder, found[0].scenario))
    return commands


def _compared(
    found: Exploration,
    expected: Sequence[ExpectedOutcome],
    file: ScenarioFile,
    server: str,
    err: IO[str],
) -> ExitCode:
    """Whether the outcomes are those that the scenario says, and no others."""
    below = (server,) if isinstance(file.scenario.outcomes, dict) else ()
    differences = other_outcomes(expected, found.tally)
    for number, text in differences:
        place = file.place("outcomes", *below, *([number] if number is not None else []))
        err.write(f"catenum: {place}: not as expected: {text}\n")
    if not differences:
        told = f"as expected: {counted(len(expected), 'outcome')}, and no other"
        unproven = "" if found.reach.complete else f", but not proven: {how_far(found)}"
        err.write(f"catenum: {told}{unproven}\n")
    return ExitCode.FOUND if differences else ExitCode.OK


def _expected(found: list[Exploration], terms: list[Term], err: IO[str]) -> ExitCode:
    answers = [one.meets(terms, sample=True) for one in found]
    unmet = dict.fromkeys(text for answer in answers for text in answer.unmet)
    for text in unmet:
        err.write(f"catenum: not as expected: {text}\n")
    if unmet:
        return ExitCode.FOUND
    apart = dict.fromkeys(name for answer in answers for name in answer.apart)
    if apart:
        err.write(
            f"catenum: as expected, apart from {listed(list(apart))}, which no comparison covers\n"
        )
    for text in dict.fromkeys(text for answer in answers for text in answer.unproven):
        err.write(f"catenum: as expected, but not proven: {text}\n")
    return ExitCode.OK


def _tell_files(found: list[Exploration], args: argparse.Namespace, err: IO[str]) -> None:
    folder = args.save or args.resume
    if folder is None or args.quiet or args.json:
        return
    err.write(f"Written to {folder}: {RESULT} and one recording an outcome\n")
    if not all(one.reach.whole for one in found):
        err.write(
            f"Stopped before the end: catenum explore {args.scenario} --resume {folder} goes on.\n"
        )
