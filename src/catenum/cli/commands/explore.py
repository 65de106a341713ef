"""``catenum explore``: every schedule that can differ, the outcome of each, the shortest way
there.
"""

from __future__ import annotations

import argparse
import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from catenum.cli import common, scenarios
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Progress
from catenum.cli.space_options import add_reach_options, options_of
from catenum.core.errors import InputError, SaveError
from catenum.core.record.recording import DataVerdict
from catenum.core.record.recording_file import to_json as recording_json
from catenum.core.scenario.model import ExpectedOutcome, Scenario
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.scenario.remedies import apply_remedies
from catenum.core.servers import rules_of
from catenum.core.space.expect import DATA_WORDS, other_outcomes, parse_expectation, unmet
from catenum.core.space.exploration import Exploration, how_far, letter_of
from catenum.core.space.exploration_file import to_json, to_plain
from catenum.core.space.run import went_on
from catenum.core.text import counted, listed
from catenum.engines.clock import Clock
from catenum.engines.ports import Engine
from catenum.lab.explore.runner import ExplorationRunner
from catenum.lab.explore.walker import ExploreOptions, Explorer, Plan
from catenum.lab.run.play import PlayOptions, play
from catenum.render.console import make_console, say
from catenum.render.explore import print_exploration, print_levels

LEVELS_FORMAT = "catenum-levels/1"
#: What ``--expect`` says for the scenario's own list of outcomes.
LISTED = "listed"
STATE, RESULT = "state.json", "exploration.json"
SAVE_EVERY_MS = 5_000.0
#: How often a schedule is played to get the outcome that it had: where the server had made its
#: other choice, and else.
MOST_REPLAYS, FEW_REPLAYS = 20, 3


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


@dataclass
class _Job:
    """One exploration of perhaps several: its scenario and where it is saved."""

    scenario: Scenario
    ddl: tuple[str, ...]
    folder: Path | None
    resume: dict[str, Any] | None


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Explore and show."""
    file = scenarios.load_scenario(args.scenario)
    each = "each" in args.isolation
    if each and len(args.isolation) > 1:
        raise InputError(
            "--isolation each cannot be combined with another --isolation: it sets every level in"
            " turn"
        )
    args.isolation = [] if each else args.isolation
    scenario, _ = scenarios.changed_by_options(file, args)
    listed_only = args.expect == LISTED
    terms = parse_expectation(args.expect) if args.expect and not listed_only else None
    target = common.target_of(args.target or scenarios.recorded_target(file), err)
    _check_listed(args, scenario, target.server, each=each)
    scenarios.refuse_unsafe(file, target.server, outside=args.outside)
    scenario, ddl = apply_remedies(scenario.for_server(target.server), args.remedy)
    folder = args.save or args.resume
    if folder is not None:
        _make_folder(folder)
    options = options_of(args, pictures=args.locks == "full")
    tell = common.teller(err, args.quiet)
    found: list[Exploration] = []
    with scenarios.server_for(target, tell, file, outside=args.outside) as (connect, engine):
        for job in _jobs(engine, scenario, ddl, folder, args.resume is not None, each=each):
            runner = ExplorationRunner(
                connect=connect,
                engine=engine,
                scenario=job.scenario,
                options=options,
                workers=args.workers,
                file=file,
                ddl=job.ddl,
            )
            try:
                found.append(_run(runner, job, args, err))
            except BaseException as error:
                if runner.explorer is not None and not isinstance(error, InputError):
                    _tell_broken_off(runner, job, args, out, err)
                raise
            if job.folder is not None:
                _save(found[-1], job, engine, file, options, args.outside)
    show(found, each, args, out, note=rules_of(target.server).locks.level_note if each else "")
    _tell_files(found, folder, args, err)
    if terms is not None:
        return _expected(found, terms, err)
    outcomes = scenario.outcomes_on(target.server)
    if outcomes is not None and not (each or args.isolation or args.remedy or args.timeouts):
        compared = _compared(found[0], outcomes, file, target.server, err)
        if args.expect == LISTED or compared is ExitCode.FOUND:
            return compared
    return ExitCode.FOUND if any(one.tally.bad for one in found) else ExitCode.OK


def _check_listed(args: argparse.Namespace, scenario: Scenario, server: str, *, each: bool) -> None:
    """Raises InputError where the scenario's list is asked for, and there is none for this."""
    if args.expect != LISTED:
        return
    if scenario.outcomes_on(server) is None:
        raise InputError(
            f"--expect {LISTED}: the scenario lists no outcomes for {server}",
            advice="It does so under the key 'outcomes'.",
        )
    if each or args.isolation or args.remedy or args.timeouts:
        raise InputError(
            f"--expect {LISTED}: the list is not of the scenario as these options change it"
        )


def _jobs(
    engine: Engine,
    scenario: Scenario,
    ddl: tuple[str, ...],
    folder: Path | None,
    resume: bool,
    *,
    each: bool,
) -> list[_Job]:
    levels: list[str | None] = list(engine.capabilities.levels) if each else [None]
    jobs = []
    for level in levels:
        changed = scenario if level is None else scenario.at_level(level)
        place = (
            folder / level.replace(" ", "-") if folder is not None and level is not None else folder
        )
        if place is not None:
            _make_folder(place)
        jobs.append(
            _Job(changed, ddl, place, _read_state(place) if resume and place is not None else None)
        )
    return jobs


def _run(
    runner: ExplorationRunner, job: _Job, args: argparse.Namespace, err: IO[str]
) -> Exploration:
    progress = Progress(err, quiet=args.quiet or args.json)
    tell = common.teller(err, args.quiet or args.json)
    clock, saved = Clock(), -SAVE_EVERY_MS

    def counted(made: Plan) -> None:
        tell(_counted(made, runner))

    def on_the_way(explorer: Explorer) -> None:
        nonlocal saved
        progress.part(
            explorer.fraction,
            f"{explorer.tally.schedules:,} schedules, {explorer.tally.bad:,} with a conflict",
        )
        if job.folder is not None and clock.now_ms() - saved > SAVE_EVERY_MS:
            saved = clock.now_ms()
            _save_state(runner, job.folder, explorer)

    try:
        return runner.run(resume=job.resume, counted=counted, progress=on_the_way)
    finally:
        progress.clear()


def _counted(made: Plan, runner: ExplorationRunner) -> str:
    level = {t.isolation for t in runner.scenario.transactions.values()}
    at = f" at {level.pop()}" if len(level) == 1 and None not in level else ""
    classes = (
        f"at most {counted(made.classes, 'class')}"
        if made.classes is not None
        else "more classes than can be counted"
    )
    drawn = ", of which a sample is run" if made.sampled else ""
    if made.every:
        return f"{counted(made.orders, 'order')}{at}{drawn}."
    return f"{counted(made.orders, 'order')}{at}, in {classes} of equivalent ones{drawn}."


def _tell_broken_off(
    runner: ExplorationRunner, job: _Job, args: argparse.Namespace, out: IO[str], err: IO[str]
) -> None:
    result = runner.result
    if job.folder is not None:
        _save_state(runner, job.folder, None)
        common.save_atomically(job.folder / RESULT, to_json(result).encode())
    if result.tally.schedules and not args.json:
        console = make_console(out, color=False if args.no_color else None)
        print_exploration(console, result)
        say(console)
    go_on = (
        f"catenum explore {args.scenario} --resume {args.save or args.resume} continues from there"
        if job.folder
        else ("use --save FOLDER to be able to continue")
    )
    err.write(f"catenum: broken off: {how_far(result)}; {go_on}\n")


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
    console = make_console(out, color=False if args.no_color else None)
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
    if each:
        print_levels(console, found, note)
        return
    print_exploration(console, found[0], verbose=args.verbose)


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


def _expected(found: list[Exploration], terms: list[Any], err: IO[str]) -> ExitCode:
    reported = [text for one in found for text in unmet(terms, one.tally)]
    for text in dict.fromkeys(reported):
        err.write(f"catenum: not as expected: {text}\n")
    if reported:
        return ExitCode.FOUND
    apart = dict.fromkeys(name for one in found for name in one.ignored)
    if apart and any(term.none and term.word in DATA_WORDS for term in terms):
        err.write(
            f"catenum: as expected, apart from {listed(list(apart))}, which no comparison covers\n"
        )
    if any(term.none for term in terms) and not all(one.reach.complete for one in found):
        err.write(f"catenum: as expected, but not proven: {how_far(found[0])}\n")
    return ExitCode.OK


# -- files -----------------------------------------------------------------------------------------


def _make_folder(folder: Path) -> None:
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    except OSError as error:
        raise SaveError(f"cannot make the folder {folder}: {error.strerror}") from error


def _read_state(folder: Path) -> dict[str, Any]:
    path = folder / STATE
    try:
        plain = json.loads(common.read_file(path))
    except ValueError as error:
        raise InputError(f"{path}: nothing to resume: {error}") from error
    if not isinstance(plain, dict):
        raise InputError(f"{path}: nothing to resume: not the saved state of an exploration")
    return plain


def _save_state(runner: ExplorationRunner, folder: Path, explorer: Explorer | None) -> None:
    common.save_atomically(folder / STATE, json.dumps(runner.state(explorer)).encode())


def _save(
    found: Exploration,
    job: _Job,
    engine: Engine,
    file: ScenarioFile,
    options: ExploreOptions,
    outside: bool,
) -> None:
    """The result, and a recording of each distinct outcome, played again from its shortest
    schedule.

    Where the server goes on otherwise than it did, the verdict on the data is not the recording's.
    """
    folder = job.folder
    if folder is None:
        return
    common.save_atomically(folder / RESULT, to_json(found).encode())
    if found.reach.whole:
        (folder / STATE).unlink(missing_ok=True)
    for number, entry in enumerate(found.outcomes):
        stage = options.stage
        how = PlayOptions(
            order=entry.shortest, victim=stage.victim, limit_ms=stage.limit_ms, once=outside
        )
        verdicts: list[DataVerdict] = [entry.data] * (MOST_REPLAYS if entry.chosen else FEW_REPLAYS)
        for verdict in (*verdicts, "unchecked"):
            recording = play(engine, job.scenario, how, file=file, ddl=job.ddl, data=verdict)
            if went_on(recording.events) == entry.went_on and recording.outcome.kind == entry.kind:
                break
        common.save_atomically(
            folder / f"outcome-{letter_of(number)}.json", recording_json(recording).encode()
        )


def _tell_files(
    found: list[Exploration], folder: Path | None, args: argparse.Namespace, err: IO[str]
) -> None:
    if folder is None or args.quiet or args.json:
        return
    err.write(
        f"Written to {folder}: {RESULT} and one recording an outcome  (next: catenum draw"
        f" {folder})\n"
    )
    if not all(one.reach.whole for one in found):
        err.write(
            f"Stopped before the end: catenum explore {args.scenario} --resume {folder} goes on.\n"
        )
