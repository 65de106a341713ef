"""The tool's own errors. They carry fields, so that one place can choose the exit code and the
wording.

CatenumError
├── InputError        the call, a scenario, its data or a recording is wrong
├── SaveError         a result could not be written
├── LibraryError      a Python library that only some commands need is not installed
└── TargetError       the server cannot be reached, was lost, or does not allow it
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Place:
    """A position in an input file. ``line`` and ``column`` count from 1; ``line`` 0 means the file
    as a whole.
    """

    file: str
    line: int = 0
    column: int = 0

    def __str__(self) -> str:
        return f"{self.file}:{self.line}:{self.column}" if self.line else self.file


@dataclass(frozen=True, slots=True)
class Problem:
    """One thing that is wrong: where, what, and what to do about it."""

    message: str
    place: Place | None = None
    advice: str | None = None

    def __str__(self) -> str:
        where = f"{self.place}: " if self.place else ""
        advice = f"\n  {self.advice}" if self.advice else ""
        return f"{where}{self.message}{advice}"


class CatenumError(Exception):
    """Root of all errors that a user should read as a sentence rather than as a traceback."""

    def __init__(
        self, message: str, *, place: Place | None = None, advice: str | None = None
    ) -> None:
        super().__init__(message)
        self.problems: tuple[Problem, ...] = (Problem(message, place, advice),)

    def __str__(self) -> str:
        return "\n".join(str(problem) for problem in self.problems)

    def __reduce__(self) -> tuple[object, ...]:
        """Also of a subclass that is made from other values than its message."""
        return _again, (type(self), self.args, self.__dict__)


def _again(
    kind: type[CatenumError], args: tuple[object, ...], state: dict[str, object]
) -> CatenumError:
    error = kind.__new__(kind, *args)
    error.__dict__.update(state)
    return error


class InputError(CatenumError):
    """The call, a scenario, its ``data`` or a recording is wrong."""

    @classmethod
    def from_problems(cls, problems: Sequence[Problem]) -> InputError:
        """Several problems of one file as one error. Raises ValueError when there are none."""
        if not problems:
            raise ValueError("an InputError needs a problem")
        error = cls(problems[0].message)
        error.problems = tuple(problems)
        return error


class SaveError(CatenumError):
    """A result could not be written. ``refused``: it never will be, however often it is tried."""

    refused = False


class ScenarioFault(InputError):
    """What a scenario defines (a trigger, a check, a function) made the server reject SQL of
    Catenum's own.
    """


class TargetError(CatenumError):
    """The server cannot be reached, went away, or does not allow what is needed."""


class LibraryError(CatenumError):
    """A Python library that only some commands need is not installed."""

    def __init__(self, library: str, what: str) -> None:
        advice = f"pip install {library}"
        super().__init__(
            f"{what} needs the Python library {library}, which is not installed", advice=advice
        )
