"""What commands share: options, reading scenarios, saving, and an engine for the length of a
block.
"""

from __future__ import annotations

import argparse
import contextlib
import importlib
import os
import re
import tempfile
from collections.abc import Callable
from datetime import tzinfo
from pathlib import Path
from typing import IO

from catenum import samples
from catenum.core.errors import InputError, LibraryError, Place, SaveError
from catenum.core.logs.times import zone_of
from catenum.core.servers import rules_of
from catenum.core.text import parse_duration, suggestion
from catenum.engines.targets import Target, has_password, read_settings, resolve, settled

SAMPLE_NAMES = samples.names()


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
        "--no-color",
        action="store_true",
        help="no colour, also on a terminal (NO_COLOR does the same)",
    )


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


def positive(text: str) -> int:
    """A whole number from 1 on the command line."""
    if not text.isdecimal() or int(text) < 1:
        raise argparse.ArgumentTypeError(f"{text!r} is not a whole number from 1")
    return int(text)


def whole_number(text: str) -> int:
    """A whole number from 0 on the command line."""
    return 0 if text == "0" else positive(text)


def read_file(path: Path, most: int = 500_000_000) -> bytes:
    """A file's bytes. Raises InputError where it cannot be read."""
    where = Place(str(path))
    try:
        if path.is_dir():
            raise InputError("is a folder, not a file", place=where)
        if path.stat().st_size > most:
            raise InputError(f"has more than {most:,} bytes", place=where)
        return path.read_bytes()
    except FileNotFoundError as error:
        near = (
            suggestion(path.name, SAMPLE_NAMES)
            if path.parent == Path(".") and not path.suffix
            else None
        )
        raise InputError("no such file", place=where, advice=near) from error
    except OSError as error:
        raise InputError(f"cannot be read: {error.strerror}", place=where) from error


def target_of(asked: str | None, err: IO[str], *, settle: bool = True) -> Target:
    """The resolved target; with ``settle``, of the server that answers there.

    With a warning where a password stands on the command line for all to see. Raises InputError,
    TargetError.
    """
    target = resolve(asked, read_settings())
    if asked and has_password(asked):
        *others, last = rules_of(target.server).advice.password_places
        instead = f"{', '.join(others)} or {last}" if others else last
        err.write(
            f"catenum: the process list shows the password in --target; set it in {instead}"
            " instead\n"
        )
    return settled(target) if settle else target


def teller(err: IO[str], quiet: bool) -> Callable[[str], None]:
    """Tells a person what goes on meanwhile, on stderr."""

    def tell(text: str) -> None:
        if not quiet:
            err.write(text + "\n")
            err.flush()

    return tell


def require(library: str, what: str) -> None:
    """Raises LibraryError, before any work is done, where a library is missing that ``what``
    needs.
    """
    try:
        importlib.import_module(library)
    except ModuleNotFoundError as error:
        raise LibraryError(library, what) from error


def chart_form(path: Path) -> str:
    """The form of the file that ``--chart`` names: png or svg. Raises before any work is done where
    it could not be drawn or written (LibraryError, InputError, SaveError).
    """
    require("matplotlib", "--chart")
    form = path.suffix.lstrip(".").lower()
    if form not in ("png", "svg"):
        raise InputError(f"--chart {path}: the file must end in .png or .svg")
    check_writable(path)
    return form


def check_writable(path: Path) -> None:
    """Raises SaveError before the work is done, rather than after, where ``path`` could not be
    written.
    """
    folder = path.parent
    if not folder.is_dir():
        raise SaveError(f"cannot save {path}: there is no folder {folder}")
    if path.is_dir():
        raise SaveError(f"cannot save {path}: it is a folder")
    if not os.access(folder, os.W_OK):
        raise SaveError(f"cannot save {path}: no right to write in {folder}")


def save_atomically(path: Path, data: bytes, *, shared: bool = False) -> None:
    """Write a file whole or not at all. Raises SaveError, leaving what was there before.

    It has rows and statements of somebody's, so that nobody else may read a new one, but where it
    is ``shared``: a figure, a scenario.
    """
    temporary: str | None = None
    try:
        handle, temporary = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
        with os.fdopen(handle, "wb") as stream:
            stream.write(data)
            stream.flush()
            os.fsync(stream.fileno())
        mask = os.umask(0)
        os.umask(mask)
        mode = path.stat().st_mode & 0o777 if path.exists() else 0o666 & ~mask if shared else 0o600
        os.chmod(temporary, mode)
        os.replace(temporary, path)
    except OSError as error:
        if temporary is not None:
            with contextlib.suppress(OSError):
                os.unlink(temporary)
        raise SaveError(
            f"cannot save {path}: {error.strerror}", advice="What was there before is untouched."
        ) from error
