"""``catenum local``: a private server that stays between commands."""

from __future__ import annotations

import argparse
import contextlib
import json
from typing import IO

from catenum.cli import common
from catenum.cli.exits import ExitCode
from catenum.core.errors import TargetError
from catenum.engines.private import PrivateServer, kept_servers, start_kept, stop_kept
from catenum.engines.targets import LOCAL, read_settings

FORMAT = "catenum-local/1"


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``local``."""
    parser.add_argument(
        "what",
        choices=["start", "stop", "status"],
        help="start one and keep it running, stop it, or show whether one is running",
    )
    parser.add_argument(
        "--target", choices=list(LOCAL), help=f"which server (default: start {LOCAL[0]}, stop and show all of them)"
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Do it and say so."""
    settings = read_settings().local
    if args.what == "start":
        which = (args.target or LOCAL[0]).removeprefix("local:")
        server, new = start_kept(which, settings.get(which, {}), common.teller(err, args.quiet))
        _tell(args, out, [(server, True)], "Started" if new else "Already running")
        return ExitCode.OK
    stopped, running = 0, list[tuple[PrivateServer, bool]]()
    for target in [args.target] if args.target else LOCAL:
        which = target.removeprefix("local:")
        # A kind whose programs this machine lacks has no servers to stop or to show, unless it was asked for by name.
        with contextlib.nullcontext() if args.target else contextlib.suppress(TargetError):
            if args.what == "stop":
                stopped += stop_kept(which, settings.get(which, {}))
            else:
                running += kept_servers(which, settings.get(which, {}))
    if args.what == "stop":
        _tell(args, out, [], "Stopped." if stopped else "None was running.")
    else:
        _tell(args, out, running, "Running")
    return ExitCode.OK


def _tell(args: argparse.Namespace, out: IO[str], servers: list[tuple[PrivateServer, bool]], word: str) -> None:
    if args.json:
        value = {
            "format": FORMAT,
            "servers": [
                {
                    "server": s.server,
                    "version": s.version,
                    "process": s.pid,
                    "sockets": str(s.sockets),
                    "answers": answers,
                    "data": str(s.slot),
                }
                for s, answers in servers
            ],
        }
        out.write(json.dumps(value, indent=2) + "\n")
        return
    if not servers:
        out.write(("No private server is kept running." if word == "Running" else word) + "\n")
    for server, answers in servers:
        out.write(f"{word}: {server.server} {server.version}, process {server.pid}, data in {server.slot}\n")
        if not answers:
            out.write("  it does not answer: catenum local stop ends it\n")
        elif not args.quiet:
            out.write(f"  connect with: {server.client}\n")
