"""``catenum completion``: what a shell is given to complete commands, samples and targets."""

from __future__ import annotations

import argparse
from typing import IO

from catenum.api import files
from catenum.cli.exits import ExitCode


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``completion``."""
    parser.add_argument("shell", choices=["bash", "zsh", "fish"], help="which shell")


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Print it."""
    files.require("argcomplete", "completion")
    from argcomplete.shell_integration import shellcode

    out.write(shellcode(["catenum"], shell=args.shell).strip() + "\n")
    return ExitCode.OK
