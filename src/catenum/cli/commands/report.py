"""``catenum report``: a page to hand over, of results that were saved."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import IO

from catenum.api import files
from catenum.api.history import as_stored
from catenum.api.report import Form, report
from catenum.cli import common
from catenum.cli.exits import ExitCode
from catenum.cli.intake_options import add_pick_option
from catenum.core.errors import InputError


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``report``."""
    common.add_profile_options(parser)
    parser.set_defaults(several="sources")
    parser.add_argument(
        "sources",
        metavar="SOURCE",
        nargs="+",
        help=(
            "what --save wrote: a recording, the folder of an exploration or of loops, a trial, a"
            " proposal, a load; a watch's store; a server's log"
        ),
    )
    parser.add_argument(
        "-o",
        "--save",
        dest="output",
        metavar="FILE",
        type=Path,
        help="where to write (default: standard output)",
    )
    parser.add_argument(
        "--format",
        choices=["html", "markdown"],
        help="html (default): one page that needs no network; markdown: for an issue tracker",
    )
    parser.add_argument("--title", metavar="TEXT", help="the page's title")
    parser.add_argument(
        "--mask",
        action="store_true",
        help="leave out the values of statements and rows, and the scenario, which has them",
    )
    common.add_since_options(parser, "of a watch's store")
    add_pick_option(parser)
    parser.add_argument("--quiet", action="store_true", help="do not say where it was written")


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Read, write."""
    path = args.output
    if path is not None:
        files.check_writable(path)
    form: Form = args.format or (
        "markdown" if path is not None and path.suffix == ".md" else "html"
    )
    if path is None and form == "html" and out.isatty():
        raise InputError(
            "a page is not for a terminal", advice="-o FILE writes it; --format markdown prints."
        )
    since, until = (as_stored(when) for when in common.since_and_until(args))
    text = report(
        *args.sources,
        output=path,
        form=form,
        title=args.title,
        mask=args.mask,
        pick=args.pick,
        since=since,
        until=until,
    )
    if path is None:
        out.write(text)
    elif not args.quiet:
        how = "; open it in a browser" if form == "html" else ""
        out.write(f"{path}  ({len(text.encode()) / 1000:,.0f} kB{how})\n")
    return ExitCode.OK
