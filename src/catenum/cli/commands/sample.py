"""``catenum sample``: the scenarios that ship."""

from __future__ import annotations

import argparse
import json
import textwrap
from pathlib import Path
from typing import IO

from catenum import samples
from catenum.api import files
from catenum.cli import common
from catenum.cli.exits import ExitCode
from catenum.core.errors import InputError, SaveError
from catenum.core.scenario.reader import read_scenario
from catenum.core.text import suggestion

FORMAT = "catenum-samples/1"


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``sample``."""
    parser.add_argument(
        "name",
        metavar="NAME",
        nargs="?",
        help="the sample to write out; without it, all are listed",
    )
    parser.add_argument(
        "--all", metavar="FOLDER", type=Path, help="write all of them into this folder"
    )
    parser.add_argument(
        "-o",
        "--save",
        metavar="FILE",
        type=Path,
        help="write it to a file instead of standard output",
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """List them, or write one out."""
    if args.all is not None:
        return _all(args, out)
    if args.name is None:
        return _list(args, out)
    try:
        text = samples.text(args.name)
    except KeyError as error:
        raise InputError(
            f"there is no sample {args.name!r}", advice=suggestion(args.name, samples.names())
        ) from error
    if args.save:
        files.check_writable(args.save)
        files.save_atomically(args.save, text.encode(), shared=True)
        if not args.quiet:
            err.write(f"Written: {args.save}  (next: catenum play {args.save})\n")
    else:
        out.write(text)
    return ExitCode.OK


def _all(args: argparse.Namespace, out: IO[str]) -> ExitCode:
    """All of them; what is there is left as it is."""
    if args.name is not None:
        raise InputError("--all writes every sample: leave the name out")
    folder: Path = args.all
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise SaveError(f"cannot make the folder {folder}: {error.strerror}") from error
    there = [name for name in samples.names() if (folder / f"{name}.yaml").exists()]
    if there:
        raise InputError(
            f"{folder} has {there[0]}.yaml already", advice="Name a folder without samples."
        )
    for name in samples.names():
        files.save_atomically(folder / f"{name}.yaml", samples.text(name).encode(), shared=True)
    if not args.quiet:
        out.write(f"{len(samples.names())} samples written to {folder}\n")
        out.write(f"next: catenum check {folder}\n")
    return ExitCode.OK


def _list(args: argparse.Namespace, out: IO[str]) -> ExitCode:
    scenarios = {
        name: read_scenario(samples.text(name).encode(), f"sample:{name}").scenario
        for name in samples.names()
    }
    if args.json:
        value = {
            "format": FORMAT,
            "samples": [{"name": n, "about": s.about} for n, s in scenarios.items()],
        }
        out.write(json.dumps(value, indent=2, ensure_ascii=False) + "\n")
        return ExitCode.OK
    for name, scenario in scenarios.items():
        out.write(f"{name}\n")
        about = " ".join((scenario.about or "").split())
        out.write(textwrap.fill(about, 78, initial_indent="    ", subsequent_indent="    ") + "\n")
        if not args.quiet:
            out.write(f"    remedies: {', '.join(scenario.remedies)}\n")
    return ExitCode.OK
