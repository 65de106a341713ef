"""``catenum demo``: the whole way, from a deadlock to the proof of its cure, on a private
server.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import sys
from pathlib import Path
from typing import IO

from rich.console import Console

from catenum import samples
from catenum.api import files
from catenum.api.draw import FORMS, draw
from catenum.api.servers import server_for
from catenum.cli import common
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Reporter
from catenum.core.compare.trial_file import to_plain as trial_value
from catenum.core.errors import LibraryError, SaveError
from catenum.core.record.recording_file import to_json
from catenum.core.report.recording_story import tell
from catenum.core.report.timeline import summary
from catenum.core.scenario.reader import read_scenario
from catenum.engines.clock import Clock
from catenum.lab.compare.trial import trial_of_all
from catenum.lab.explore.jobs import Here
from catenum.lab.explore.walker import ExploreOptions
from catenum.lab.run.play import PlayOptions, play
from catenum.render.console import say
from catenum.render.text import print_story
from catenum.render.timeline import legend, print_timeline
from catenum.render.trial import print_trial

SAMPLE = "berth-swap"
#: The parts of the story that carry it; ``explain`` prints the rest.
SHOWN = ("headline", "cycles", "victims", "findings")


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``demo``."""
    parser.add_argument(
        "--into",
        metavar="FOLDER",
        type=Path,
        default=Path("catenum-demo"),
        help="where its files go (default catenum-demo)",
    )
    parser.add_argument("--target", metavar="TARGET", help="another server than a private one")
    common.add_color_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Play, draw, explain, try the remedies, play the cured version."""
    clock = Clock()
    folder: Path = args.into
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise SaveError(f"cannot make the folder {folder}: {error.strerror}") from error
    console = common.console_for(args, out)
    text = samples.text(SAMPLE)
    file = read_scenario(text.encode(), f"sample:{SAMPLE}")
    files.save_atomically(folder / f"{SAMPLE}.yaml", text.encode(), shared=True)
    target = common.target_of(args.target, err)

    _step(
        console,
        1,
        "Two dispatchers move vessels between the same two berths of Marrowgate Harbour.",
    )
    with server_for(target, listener=Reporter(err)) as (connect, engine):
        info = engine.info
        say(console, f"Server: {info.server} {info.version} ({info.url}). {legend()}", style="dim")
        say(console)
        before = play(engine, file.scenario, PlayOptions(locks="full"), file=file)
        print_timeline(console, before)
        say(console, summary(before), style="bold")
        _step(console, 2, "What happened, and why.")
        print_story(console, [part for part in tell(before) if part.id in SHOWN])
        _step(console, 3, "Its remedies, each on every schedule that can differ.")
        here, options = Here(connect=connect, engine=engine), PlayOptions(locks="full")
        result = trial_of_all(here, engine, file.scenario, options, ExploreOptions(), file=file)
        here.close()
    print_trial(console, result)
    best = result.winners[0] if result.winners else None
    after = best.runs[0] if best else before
    _step(
        console,
        4,
        f"The same schedule with the remedy '{best.name}'." if best else "No remedy wins.",
    )
    print_timeline(console, after)
    say(console, summary(after), style="bold")
    undrawn = None
    for name, recording in (("before", before), ("after", after)):
        files.save_atomically(folder / f"{name}.json", to_json(recording).encode())
        try:
            draw(recording, folder, name=name, forms=FORMS)
        except LibraryError as error:
            undrawn = error
    files.save_atomically(folder / "trial.json", json.dumps(trial_value(result), indent=2).encode())
    _ending(console, folder, clock, undrawn)
    return ExitCode.OK if best and before.outcome.kind == "deadlock" else ExitCode.FOUND


def _step(console: Console, number: int, text: str) -> None:
    say(console)
    say(console, f"{number}. {text}", style="bold")
    say(console)


def _ending(console: Console, folder: Path, clock: Clock, undrawn: LibraryError | None) -> None:
    say(console)
    if undrawn is not None:
        say(console, f"No pictures: {undrawn}")
    say(console, f"Done in {clock.now_ms() / 1000:.1f} s. In {folder.resolve()}:", style="bold")
    drawn = (
        ("before-timeline.png, before-graph.png", "the deadlock, drawn (also as SVG)"),
        ("after-timeline.png, after-graph.png", "the cured version"),
    )
    for name, what in (
        *(drawn if undrawn is None else ()),
        ("before.json, after.json, trial.json", "recordings, for explain and draw"),
        (f"{SAMPLE}.yaml", "the scenario, to edit"),
    ):
        say(console, f"  {name:<40} {what}")
    say(console)
    say(console, "Next:", style="bold")
    commands = (
        (f"play {folder}/{SAMPLE}.yaml --pause", "step by step, with Enter"),
        (f"play {folder}/{SAMPLE}.yaml --locks full", "every lock after each move"),
        (f"explain {folder}/before.json", "the whole story"),
        ("play left-open", "a chain of waits under a head blocker"),
        ("sample", "the other scenarios that ship"),
    )
    width = max(len(command) for command, _ in commands)
    for command, what in commands:
        say(console, f"  {_program()} {command:<{width}}   {what}")


def _program() -> str:
    """How to call this program from here: its name alone where the shell would find it."""
    if shutil.which("catenum"):
        return "catenum"
    called = Path(sys.argv[0])
    return os.path.relpath(called) if called.name == "catenum" else "python -m catenum"
