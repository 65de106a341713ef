"""``catenum draw``: figures of a recording (timeline, wait graph) or of an exploration (map, page
of outcomes).
"""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import IO, Any

from catenum.api import files
from catenum.cli import common
from catenum.cli.exits import ExitCode
from catenum.cli.intake_options import add_pick_option, recording_in
from catenum.core.errors import InputError
from catenum.core.record.recording import Recording
from catenum.core.record.recording_file import from_json
from catenum.core.space.exploration import Exploration, letter_of
from catenum.core.space.exploration_file import from_json as exploration_from_json

FORMAT = "catenum-drawings/1"
WHAT = ("timeline", "graph")
WHAT_OF_ALL = ("map", "page")
FORMS = ("png", "svg")


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``draw``."""
    parser.add_argument(
        "recording",
        metavar="RECORDING",
        type=Path,
        help="a recording, or the folder of an exploration",
    )
    add_pick_option(parser)
    parser.add_argument(
        "--only", choices=[*WHAT, *WHAT_OF_ALL], help="one of the two figures (default: both)"
    )
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
    files.require("matplotlib", "draw")
    forms = FORMS if args.format == "both" else (args.format,)
    if args.recording.is_dir():
        what = _what(args.only, WHAT_OF_ALL, "an exploration")
        written = draw_all(args.recording, args.into or args.recording, what, forms)
    else:
        recording = recording_in(args.recording, args)
        of_log = recording.source == "log"
        what = _what(
            args.only, WHAT[1:] if of_log else WHAT, "a server's log" if of_log else "a recording"
        )
        written = draw(
            recording, args.into or args.recording.parent, args.recording.stem, what, forms
        )
    if args.json:
        out.write(
            json.dumps({"format": FORMAT, "files": [str(path) for path in written]}, indent=2)
            + "\n"
        )
    elif not args.quiet:
        out.writelines(f"{path}\n" for path in written)
    return ExitCode.OK


def draw(
    recording: Recording, folder: Path, stem: str, what: tuple[str, ...], forms: tuple[str, ...]
) -> list[Path]:
    """Write the figures; returns their paths. Raises SaveError."""
    from catenum.render import (
        figure,
    )  # matplotlib takes half a second to load: only when something is drawn

    makers = {"timeline": figure.timeline_figure, "graph": figure.graph_figure}
    written = []
    for name in what:
        drawn = makers[name](recording)
        for form in forms:
            path = folder / f"{stem}-{name}.{form}"
            files.check_writable(path)
            files.save_atomically(path, figure.to_bytes(drawn, form), shared=True)
            written.append(path)
    return written


def _what(only: str | None, known: tuple[str, ...], of: str) -> tuple[str, ...]:
    if only is not None and only not in known:
        raise InputError(f"{of} has no {only} to draw", advice=f"It has: {', '.join(known)}.")
    return (only,) if only else known


def draw_all(
    source: Path, folder: Path, what: tuple[str, ...], forms: tuple[str, ...]
) -> list[Path]:
    """The figures of the exploration saved in ``source``. Raises InputError, SaveError."""
    saved = source / "exploration.json"
    found = exploration_from_json(files.read_file(saved), str(saved))
    written = []
    for name in what:
        drawn = _figure_of(name, found, source)
        for form in forms:
            path = folder / f"{name}.{form}"
            files.check_writable(path)
            files.save_atomically(path, _bytes(drawn, form), shared=True)
            written.append(path)
    return written


def _figure_of(name: str, found: Exploration, source: Path) -> Any:
    if name == "map":
        from catenum.render.map import map_figure

        return map_figure(found)
    from catenum.render.page import page_figure

    paths = [source / f"outcome-{letter_of(n)}.json" for n in range(len(found.outcomes))]
    return page_figure(
        found, [from_json(files.read_file(path), str(path)) for path in paths if path.exists()]
    )


def _bytes(drawn: Any, form: str) -> bytes:
    from catenum.render.figure import to_bytes

    return to_bytes(drawn, form)
