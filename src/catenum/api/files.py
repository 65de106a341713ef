"""Files: read and written whole, or not at all; and libraries that may be missing."""

from __future__ import annotations

import contextlib
import importlib
import os
import tempfile
from pathlib import Path

from catenum import samples
from catenum.core.errors import InputError, LibraryError, Place, SaveError
from catenum.core.text import suggestion

SAMPLE_NAMES = samples.names()


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


def make_folder(folder: Path) -> None:
    """Make a folder that nobody else may read, where there is none. Raises SaveError."""
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    except OSError as error:
        raise SaveError(f"cannot make the folder {folder}: {error.strerror}") from error
