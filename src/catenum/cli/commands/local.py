"""``catenum local``: a private server that stays between commands."""

from __future__ import annotations

import argparse
import json
from collections.abc import Mapping
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
        "--target", choices=list(LOCAL), default=LOCAL[0], help=f"which server (default {LOCAL[0]})"
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Do it and say so."""
    which = args.target.removeprefix("local:")
    settings = read_settings().local
    if args.what == "start":
        server, new = start_kept(which, settings.get(which, {}), common.teller(err, args.quiet))
        _tell(args, out, [(server, True)], "Started" if new else "Already running")
        return ExitCode.OK
    if args.what == "stop":
        stopped = stop_kept(which, settings.get(which, {}))
        _tell(args, out, [], "Stopped." if stopped else "None was running.")
    else:
        running = kept_servers(which, settings.get(which, {}))
        _tell(args, out, running, "Running" if running else "No private server is running.")
    if not args.json:
        for other in LOCAL:
            if other != args.target and _keeps(other, settings):
                out.write(f"{other} is running too: --target {other}\n")
    return ExitCode.OK


def _keeps(target: str, settings: Mapping[str, Mapping[str, str]]) -> bool:
    """Whether a server of this kind is kept; one whose programs this machine lacks is none of
    ours.
    """
    which = target.removeprefix("local:")
    try:
        return bool(kept_servers(which, settings.get(which, {})))
    except TargetError:
        return False


def _tell(
    args: argparse.Namespace, out: IO[str], servers: list[tuple[PrivateServer, bool]], word: str
) -> None:
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
        out.write(word + "\n")
    for server, answers in servers:
        out.write(
            f"{word}: {server.server} {server.version}, process {server.pid}, data in"
            f" {server.slot}\n"
        )
        if not answers:
            out.write("  it does not answer: catenum local stop ends it\n")
        elif not args.quiet:
            out.write(f"  connect with: {server.client}\n")
