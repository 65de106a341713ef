"""What commands share: options, reading scenarios, saving, and an engine for the length of a
block.
"""

from __future__ import annotations

import argparse
import re
import shlex
import textwrap
from collections.abc import Callable, Iterable
from datetime import datetime, tzinfo
from pathlib import Path
from typing import IO

from rich.console import Console

from catenum.api.servers import find_target
from catenum.cli.progress import Reporter
from catenum.core.errors import InputError
from catenum.core.logs.times import zone_of
from catenum.core.points_in_time import point_in_time
from catenum.core.servers import profile_of
from catenum.core.text import parse_duration
from catenum.engines.clock import moment
from catenum.engines.targets import Target, has_password, read_settings, resolve
from catenum.render.console import STYLES, make_console, say
from catenum.store.places import StorePlace, place_of


def add_output_options(parser: argparse.ArgumentParser) -> None:
    """--json, --quiet, --verbose, --no-color."""
    parser.add_argument(
        "--json", action="store_true", help="write the result as JSON to standard output"
    )
    parser.add_argument("--quiet", action="store_true", help="say the outcome only")
    parser.add_argument(
        "--verbose", action="store_true", help="say more: every lock picture, what was cleared"
    )
    parser.add_argument(
        "--brief", action="store_true", help="the answer in a few sentences, and what to do next"
    )
    add_color_options(parser)


def add_profile_options(parser: argparse.ArgumentParser) -> None:
    """--profile, --trust-profile: of commands that take a target."""
    parser.add_argument(
        "--profile",
        metavar="FILE",
        action="append",
        default=[],
        help="teach another kind of server: its profile (docs/profiles.md)",
    )
    parser.add_argument(
        "--trust-profile",
        action="store_true",
        help="import whatever driver the profile names, and the libraries that it gives it",
    )


def is_by_profile(asked: str | None) -> bool:
    """Whether a target is of a server that is known by a profile. Raises InputError."""
    return profile_of(resolve(asked, read_settings()).server) is not None


def add_color_options(parser: argparse.ArgumentParser) -> None:
    """--color, --no-color."""
    parser.add_argument(
        "--color",
        choices=["auto", "always", "never"],
        default="auto",
        help="colour on a terminal (auto), also in a pipe (FORCE_COLOR), or never (NO_COLOR)",
    )
    parser.add_argument(
        "--no-color", dest="color", action="store_const", const="never", help="as --color never"
    )


def console_for(args: argparse.Namespace, out: IO[str]) -> Console:
    """The console of a command's result."""
    wanted = {"auto": None, "always": True, "never": False}
    return make_console(out, color=wanted[args.color])


def say_next(console: Console, *commands: str) -> None:
    """Below a result, what to type next."""
    for number, command in enumerate(commands):
        say(console, f"{'next:' if not number else '     '} {command}", style=STYLES["faint"])


def report_command(saved: Path, name: str) -> str:
    """What to type for a report of what was saved; ``name``: of the page."""
    return f"catenum report {shlex.quote(str(saved))} -o {shlex.quote(f'{name}.html')}"


def say_answer(console: Console, answer: Iterable[tuple[str, str]]) -> None:
    """The answer in a few sentences, each on lines of its own."""
    for text, tone in answer:
        for line in textwrap.wrap(text, console.width - 1):
            say(console, line, style=STYLES[tone])


def duration_argument(text: str) -> int:
    """A length of time on the command line, in ms."""
    try:
        return parse_duration(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(str(error)) from error


def zone_argument(name: str | None) -> tzinfo | None:
    """A time zone on the command line. Raises InputError where there is none of that name."""
    if not name:
        return None
    found = zone_of(name)
    if found is None:
        raise InputError(
            f"--zone {name}: no such time zone",
            advice="Write it as Europe/Amsterdam, UTC or +02:00.",
        )
    return found


def long_duration_argument(text: str) -> int:
    """The same with days: ``14d``."""
    days = re.fullmatch(r"\s*(\d+)\s*d\s*", text)
    return int(days[1]) * 86_400_000 if days and int(days[1]) else duration_argument(text)


def add_since_options(parser: argparse.ArgumentParser, what: str) -> None:
    """--since and --until."""
    parser.add_argument(
        "--since",
        metavar="WHEN",
        help=f"{what}: from then on, such as '2026-11-22 18:00', '10m ago', 12h, yesterday",
    )
    parser.add_argument("--until", metavar="WHEN", help="the same for the end")


def since_and_until(args: argparse.Namespace) -> tuple[datetime | None, datetime | None]:
    """What ``add_since_options`` says, in UTC. Raises InputError."""
    now = moment()
    since, until = (point_in_time(text, now) if text else None for text in (args.since, args.until))
    return since, until


def store_place(args: argparse.Namespace, err: IO[str] | None = None) -> StorePlace:
    """Where the store is that ``--store`` names, or the default. Raises InputError."""
    place = place_of(args.store)
    if err is not None:
        warn_of_password(place, "--store", err)
    return place


def warn_of_password(place: StorePlace, where: str, err: IO[str]) -> None:
    """A command's words are shown to everybody on the machine."""
    if isinstance(place, str) and has_password(place):
        err.write(
            f"catenum: the process list shows the password in {where}; set it in PGPASSWORD or"
            " ~/.pgpass instead\n"
        )


def positive(text: str) -> int:
    """A whole number from 1 on the command line."""
    if not text.isdecimal() or int(text) < 1:
        raise argparse.ArgumentTypeError(f"{text!r} is not a whole number from 1")
    return int(text)


def whole_number(text: str) -> int:
    """A whole number from 0 on the command line."""
    return 0 if text == "0" else positive(text)


def target_of(asked: str | None, err: IO[str], *, settle: bool = True) -> Target:
    """The resolved target; with ``settle``, of the server that answers there. Raises InputError,
    TargetError.
    """
    return find_target(asked, Reporter(err), settle=settle)


def teller(err: IO[str], quiet: bool) -> Callable[[str], None]:
    """Tells a person what goes on meanwhile, on stderr."""

    def tell(text: str) -> None:
        if not quiet:
            err.write(text + "\n")
            err.flush()

    return tell
