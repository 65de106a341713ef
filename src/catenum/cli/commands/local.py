"""``catenum local``: a private server that stays between commands."""

from __future__ import annotations

import argparse
import json
from typing import IO

from catenum.cli import common
from catenum.cli.exits import ExitCode
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
        "--target", choices=list(LOCAL), default=LOCAL[0], help="which server (default local:postgresql)"
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Do it and say so."""
    which = args.target.removeprefix("local:")
    settings = read_settings().local.get(which, {})
    if args.what == "start":
        server, new = start_kept(which, settings, common.teller(err, args.quiet))
        _tell(args, out, [server], "Started" if new else "Already running")
    elif args.what == "stop":
        stopped = stop_kept(which, settings)
        _tell(args, out, [], "Stopped." if stopped else "None was running.")
    else:
        running = kept_servers(which, settings)
        _tell(args, out, running, "Running" if running else "")
    return ExitCode.OK


def _tell(args: argparse.Namespace, out: IO[str], servers: list[PrivateServer], word: str) -> None:
    if args.json:
        value = {
            "format": FORMAT,
            "servers": [
                {
                    "server": s.server,
                    "version": s.version,
                    "process": s.pid,
                    "sockets": str(s.sockets),
                    "data": str(s.slot),
                }
                for s in servers
            ],
        }
        out.write(json.dumps(value, indent=2) + "\n")
        return
    if not servers:
        out.write((word or "No private server is kept running.") + "\n")
    for server in servers:
        out.write(f"{word}: {server.server} {server.version}, process {server.pid}, data in {server.slot}\n")
        if not args.quiet:
            out.write(f"  connect with: {server.client}\n")
