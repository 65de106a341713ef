"""Exit codes, and the one place that turns an error into a line on stderr and a code."""

from __future__ import annotations

from enum import IntEnum

from catenum.core.errors import CatenumError, InputError, LibraryError, SaveError, TargetError


class ExitCode(IntEnum):
    """The exit codes."""

    OK = 0
    FOUND = 1  # a conflict, a rule that is false, no remedy that wins; or not what --expect said
    USAGE = 2  # the call, the file or its data is wrong, or a result could not be written
    UNREACHABLE = 3  # the server cannot be reached, went away, or does not allow it
    FAULT = (
        70  # of Catenum's own, as sysexits.h has it (EX_SOFTWARE); never to be taken for a result
    )
    INTERRUPTED = 130


def code_for(error: CatenumError) -> ExitCode:
    """The exit code of one of the tool's own errors."""
    if isinstance(error, TargetError):
        return ExitCode.UNREACHABLE
    if isinstance(error, InputError | LibraryError | SaveError):
        return ExitCode.USAGE
    return ExitCode.FOUND
