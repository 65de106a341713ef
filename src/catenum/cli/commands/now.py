"""``catenum now``: one look at a running server."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import IO

from catenum.cli import common, watching
from catenum.cli.exits import ExitCode
from catenum.core.moment.plain import sample_value
from catenum.core.moment.recording import recording_of
from catenum.core.moment.story import headline_of, tell_sample
from catenum.core.record.recording_file import to_json
from catenum.render.console import make_console, say
from catenum.render.text import print_story


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``now``."""
    watching.add_target_option(parser)
    parser.add_argument("--locks", action="store_true", help="list every lock of the sessions in a chain too")
    parser.add_argument(
        "--longer-than",
        metavar="TIME",
        type=common.duration_argument,
        default=0,
        help="exit 1 only if a session waits longer than this, such as 10s",
    )
    parser.add_argument("--save", metavar="FILE", type=Path, help="write the chains as a recording")
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Check and show."""
    if args.save:
        common.check_writable(args.save)
    with watching.lookout_for(args.target, err) as lookout:
        sample = lookout.sample(locks=args.locks)
    if args.mask:
        sample = sample.masked()
    if args.save:
        common.save_atomically(args.save, to_json(recording_of(sample, title="now")).encode())
    found = bool(sample.graph.waiters) and sample.longest_wait_ms > args.longer_than
    # What this login may not see may wait all the same.
    calm = ExitCode.UNREACHABLE if sample.partial else ExitCode.OK
    if args.json:
        out.write(json.dumps(sample_value(sample), indent=2) + "\n")
        return ExitCode.FOUND if found else calm
    console = make_console(out, color=False if args.no_color else None)
    info = sample.target
    say(console, f"{info.server} {info.version} ({info.url}) at {sample.at}", style="bold")
    say(console, headline_of(sample), style="bold")
    if not args.quiet:
        say(console)
        print_story(console, tell_sample(sample))
    return ExitCode.FOUND if found else calm
