"""The options of commands that run a scenario, and what they ask of ``api`` for it."""

from __future__ import annotations

import argparse

from catenum.api.listener import Listener
from catenum.api.scenarios import RunOptions
from catenum.cli.common import add_profile_options, duration_argument


def add_run_options(parser: argparse.ArgumentParser) -> None:
    """What every command that runs a scenario takes."""
    parser.add_argument(
        "scenario", metavar="SCENARIO", help="a scenario file, or the name of a sample"
    )
    parser.add_argument(
        "--target",
        metavar="TARGET",
        help=(
            "local:postgresql (default), a URL, or a short name from catenum.toml; CATENUM_TARGET"
            " sets the default"
        ),
    )
    add_profile_options(parser)
    add_limit_option(parser)
    add_outside_option(parser)


def add_limit_option(parser: argparse.ArgumentParser) -> None:
    """How long a statement may work."""
    parser.add_argument(
        "--statement-limit",
        type=duration_argument,
        default=60_000,
        metavar="TIME",
        help="end a statement that works longer than this, such as 10s (default 60s)",
    )


def add_outside_option(parser: argparse.ArgumentParser) -> None:
    """Whether statements may reach beyond the scratch space."""
    parser.add_argument(
        "--outside",
        action="store_true",
        help=(
            "let statements reach beyond the run's scratch space: YOUR tables are then read and"
            " changed"
        ),
    )


def add_play_options(
    parser: argparse.ArgumentParser, *, schedule: bool = True, each: bool = False
) -> None:
    """What changes the transactions, and the schedule where there is one."""
    parser.set_defaults(order=None, victim=None)
    _add_isolation(parser, each=each)
    parser.add_argument(
        "--timeouts",
        choices=["at-once", "by-order"],
        help=(
            "when lock timeouts run out: before the next move (the default), or where the order"
            " names the transaction again while it waits"
        ),
    )
    if not schedule:
        return
    parser.add_argument(
        "--order",
        metavar="MOVES",
        help="the order of moves, such as 'early late early late', instead of the scenario's",
    )
    parser.add_argument(
        "--victim",
        metavar="NAME",
        help="the transaction to become the deadlock victim, if the server allows it",
    )


def _add_isolation(parser: argparse.ArgumentParser, *, each: bool) -> None:
    every = "; 'each': every level of the server in turn" if each else ""
    parser.add_argument(
        "--isolation",
        action="append",
        default=[],
        metavar="[NAME=]LEVEL",
        help="an isolation level for all transactions, or for one; may be repeated" + every,
    )


def run_options(args: argparse.Namespace, listener: Listener) -> RunOptions:
    """What the options of ``add_run_options`` and ``add_play_options`` say."""
    timeouts = getattr(args, "timeouts", None)
    return {
        "target": args.target,
        "isolation": args.isolation,
        "victim": args.victim,
        "timeouts": timeouts.replace("-", " ") if timeouts is not None else None,
        "statement_limit": args.statement_limit,
        "outside": args.outside,
        "listener": listener,
    }
