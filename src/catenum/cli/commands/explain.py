"""``catenum explain``: the story of a recording."""

from __future__ import annotations

import argparse
import json
from dataclasses import asdict
from pathlib import Path
from typing import IO

from catenum.cli import common
from catenum.cli.exits import ExitCode
from catenum.cli.intake_options import add_pick_option, recording_in
from catenum.core.document.recording import summary_of
from catenum.core.report.headline import headline
from catenum.core.report.recording_story import tell
from catenum.render.console import say
from catenum.render.text import print_pictures, print_story
from catenum.render.timeline import print_timeline

FORMAT = "catenum-story/1"


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``explain``."""
    common.add_profile_options(parser)
    parser.add_argument(
        "recording", metavar="FILE", type=Path, help="a recording, as --save writes it; or a log"
    )
    add_pick_option(parser)
    parser.add_argument("--timeline", action="store_true", help="show the timeline first")
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Read and print. The exit code is 0 if the story could be printed, whatever the recording's
    outcome.
    """
    recording = recording_in(args.recording, args)
    sections = tell(recording)
    if args.json:
        value = {
            "format": FORMAT,
            "headline": headline(recording),
            "sections": [asdict(s) for s in sections],
        }
        out.write(json.dumps(value, indent=2, ensure_ascii=False) + "\n")
        return ExitCode.OK
    console = common.console_for(args, out)
    if args.quiet:
        say(console, headline(recording))
        return ExitCode.OK
    pick = f" --pick {args.pick}" if args.pick else ""
    page = common.report_command(args.recording, args.recording.stem) + pick
    if args.brief:
        common.say_answer(console, summary_of(recording))
        common.say_next(console, page)
        return ExitCode.OK
    if args.timeline and recording.source != "log":
        print_timeline(console, recording)
        say(console)
    if args.verbose and recording.pictures:
        print_pictures(console, recording)
        say(console)
    print_story(console, sections)
    say(console)
    common.say_next(console, page)
    return ExitCode.OK
