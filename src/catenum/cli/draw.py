"""``catenum draw``: a recording's timeline and wait graph as files."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import IO

from catenum.cli import common
from catenum.cli.exits import ExitCode
from catenum.core.recording import Recording, from_json

FORMAT = "catenum-drawings/1"
WHAT = ("timeline", "graph")
FORMS = ("png", "svg")


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``draw``."""
    parser.add_argument("recording", metavar="RECORDING", type=Path, help="a recording, as --save writes it")
    parser.add_argument("--only", choices=WHAT, help="one of the two figures (default: both)")
    parser.add_argument("--format", choices=[*FORMS, "both"], default="png", help="kind of file (default png)")
    parser.add_argument("--into", metavar="FOLDER", type=Path, help="where to write (default: beside the recording)")
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Read, draw, say where the files are."""
    recording = from_json(common.read_file(args.recording), str(args.recording))
    forms = FORMS if args.format == "both" else (args.format,)
    what = (args.only,) if args.only else WHAT
    folder = args.into or args.recording.parent
    written = draw(recording, folder, args.recording.stem, what, forms)
    if args.json:
        out.write(json.dumps({"format": FORMAT, "files": [str(path) for path in written]}, indent=2) + "\n")
    elif not args.quiet:
        out.writelines(f"{path}\n" for path in written)
    return ExitCode.OK


def draw(recording: Recording, folder: Path, stem: str, what: tuple[str, ...], forms: tuple[str, ...]) -> list[Path]:
    """Write the figures; returns their paths. Raises SaveError."""
    from catenum.render import figure  # matplotlib takes half a second to load: only when something is drawn

    makers = {"timeline": figure.timeline_figure, "graph": figure.graph_figure}
    written = []
    for name in what:
        drawn = makers[name](recording)
        for form in forms:
            path = folder / f"{stem}-{name}.{form}"
            common.check_writable(path)
            common.save_atomically(path, figure.to_bytes(drawn, form))
            written.append(path)
    return written
