"""``catenum schema``: the JSON Schema of everything that is read and written, for editors and for
programs.
"""

from __future__ import annotations

import argparse
from typing import IO

from catenum.cli.exits import ExitCode

#: The names in ``core.formats.FORMATS``, here so that a wrong one is refused without loading all of
#: it.
NAMES = (
    "scenario",
    "recording",
    "orders",
    "exploration",
    "levels",
    "matrix",
    "need",
    "pace",
    "trial",
    "contest",
    "churn",
    "check",
    "proposal",
    "story",
    "drawings",
    "lint",
    "samples",
    "now",
    "watch",
    "history",
    "release",
    "preflight",
    "profile",
    "profile-check",
    "local",
    "intake",
    "restage",
    "sweep",
)


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``schema``."""
    known = ", ".join(NAMES)
    parser.add_argument("what", metavar="NAME", choices=NAMES, help=f"which format: {known}")


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    from catenum.core import formats

    out.write(formats.dumps(formats.schema_of(args.what)) + "\n")
    return ExitCode.OK
