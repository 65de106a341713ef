"""How much of the space of schedules is run: the options that ``explore`` and ``trial`` share."""

from __future__ import annotations

import argparse

from catenum.api.listener import Listener
from catenum.api.space import SpaceOptions
from catenum.cli import common
from catenum.cli.scenarios import run_options
from catenum.core.errors import InputError
from catenum.lab.explore.walker import ALL_ORDERS


def add_reach_options(parser: argparse.ArgumentParser, *, limit: int, length: bool = True) -> None:
    """How much of the space is run; shared with ``trial``."""
    parser.add_argument(
        "--every",
        action="store_true",
        help="run every schedule, also those that must come out the same",
    )
    parser.add_argument(
        "--limit",
        metavar="N",
        type=common.positive,
        default=limit,
        help=(
            "at most N classes of schedules; where there are more, a sample is drawn"
            f" (default {limit:,})"
        ),
    )
    parser.add_argument(
        "--check-orders",
        metavar="N",
        type=common.whole_number,
        default=ALL_ORDERS,
        help=(
            "where no more than N orders can be made, run all of them as well and compare "
            f"(default {ALL_ORDERS}; 0: never)"
        ),
    )
    if length:
        parser.add_argument(
            "--for",
            dest="length",
            metavar="TIME",
            type=common.duration_argument,
            help="stop after this time",
        )
    parser.add_argument(
        "--seed", metavar="N", type=int, default=1, help="for what is drawn by chance (default 1)"
    )
    parser.add_argument(
        "--workers",
        metavar="N",
        type=common.positive,
        default=1,
        help="processes, each with scratch space",
    )
    add_cluster_options(parser)


def add_cluster_options(parser: argparse.ArgumentParser) -> None:
    """Where worker processes are; shared with ``check``."""
    parser.add_argument(
        "--cluster",
        metavar="ADDRESS",
        help=(
            "let the workers of a Dask cluster do the work, each with a server of its own: the"
            " scheduler's address, or local:N for N processes here (docs/cluster.md)"
        ),
    )
    parser.add_argument(
        "--insecure-cluster",
        action="store_true",
        help="allow a scheduler on another machine without TLS",
    )


def cluster_options(args: argparse.Namespace) -> SpaceOptions:
    """What the options of ``add_cluster_options`` say. Raises InputError."""
    if args.cluster is None:
        if args.insecure_cluster:
            raise InputError("--insecure-cluster says something of --cluster, which is not given")
        return {}
    return {"cluster": args.cluster, "insecure_cluster": args.insecure_cluster}


def space_options(args: argparse.Namespace, listener: Listener) -> SpaceOptions:
    """What the options of ``add_reach_options`` and those of every run say."""
    return {**run_options(args, listener), **reach_options(args)}


def reach_options(args: argparse.Namespace) -> SpaceOptions:
    """What the options of ``add_reach_options`` say."""
    return {
        "every": args.every,
        "limit": args.limit,
        "check_orders": args.check_orders,
        "time_limit": args.length,
        "seed": args.seed,
        "workers": args.workers,
        **cluster_options(args),
    }
