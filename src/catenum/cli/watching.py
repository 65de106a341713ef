"""What the commands for running servers share: the target, a connection that looks, and their
options.
"""

from __future__ import annotations

import argparse
import contextlib
from collections.abc import Iterator
from typing import IO

from catenum.api.now import connect_monitor
from catenum.api.watch import name_of
from catenum.cli import common
from catenum.core.errors import InputError
from catenum.engines.monitor import Monitor
from catenum.engines.targets import Target

#: Servers that one call looks at.
MOST_TARGETS = 50


def add_target_option(parser: argparse.ArgumentParser, *, several: bool = False) -> None:
    parser.add_argument(
        "--target",
        metavar="TARGET",
        action="append" if several else "store",
        help="a URL, a short name from catenum.toml, or local:postgresql if one is running"
        + ("; may be repeated" if several else ""),
    )
    common.add_profile_options(parser)
    parser.add_argument(
        "--mask",
        action="store_true",
        help="leave literals out of everything that is shown or stored",
    )


def targets_of(words: list[str] | None, err: IO[str]) -> dict[str, Target]:
    """The targets by the names they go by: what was typed, without secrets. Raises InputError."""
    found: dict[str, Target] = {}
    for word in words or (None,):
        target = common.target_of(word, err, settle=False)
        name = name_of(word, target.shown)
        if name in found:
            raise InputError(f"--target names {name} twice")
        found[name] = target
    if len(found) > MOST_TARGETS:
        raise InputError(
            f"more than {MOST_TARGETS} servers", advice="Share them between several calls."
        )
    return found


@contextlib.contextmanager
def monitor_for(asked: str | None, err: IO[str]) -> Iterator[Monitor]:
    """The monitor of the target that was asked for, closed when the block ends."""
    monitor = connect_monitor(common.target_of(asked, err, settle=False))
    try:
        yield monitor
    finally:
        monitor.close()
