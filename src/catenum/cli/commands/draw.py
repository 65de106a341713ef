"""``catenum draw``: figures of a recording (timeline, wait graph) or of an exploration (map, page
of outcomes).
"""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import IO

from catenum.api import files
from catenum.api.draw import FORMS, draw
from catenum.api.explore import RESULT
from catenum.cli import common
from catenum.cli.exits import ExitCode
from catenum.cli.intake_options import add_pick_option, recording_in
from catenum.core.record.recording_file import from_json
from catenum.core.space.exploration import letter_of
from catenum.core.space.exploration_file import from_json as exploration_from_json

FORMAT = "catenum-drawings/1"
WHAT = ("timeline", "graph", "map", "page")


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``draw``."""
    common.add_profile_options(parser)
    parser.add_argument(
        "recording",
        metavar="RECORDING",
        type=Path,
        help="a recording, or the folder of an exploration",
    )
    add_pick_option(parser)
    parser.add_argument("--only", choices=WHAT, help="one of the two figures (default: both)")
    parser.add_argument(
        "--format", choices=[*FORMS, "both"], default="png", help="kind of file (default png)"
    )
    parser.add_argument(
        "-o",
        "--into",
        metavar="FOLDER",
        type=Path,
        help="where to write (default: beside the recording)",
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Read, draw, say where the files are."""
    forms = FORMS if args.format == "both" else (args.format,)
    if args.recording.is_dir():
        saved = args.recording / RESULT
        found = exploration_from_json(files.read_file(saved), str(saved))
        paths = [
            args.recording / f"outcome-{letter_of(n)}.json" for n in range(len(found.outcomes))
        ]
        outcomes = [from_json(files.read_file(path), str(path)) for path in paths if path.exists()]
        folder = args.into or args.recording
        written = draw(found, folder, only=args.only, forms=forms, outcomes=outcomes)
    else:
        recording = recording_in(args.recording, args)
        folder = args.into or args.recording.parent
        written = draw(recording, folder, name=args.recording.stem, only=args.only, forms=forms)
    if args.json:
        out.write(
            json.dumps({"format": FORMAT, "files": [str(path) for path in written]}, indent=2)
            + "\n"
        )
    elif not args.quiet:
        out.writelines(f"{path}\n" for path in written)
    return ExitCode.OK
