"""Lengths of time, as a caller gives them."""

from __future__ import annotations

from catenum.core.errors import InputError
from catenum.core.text import parse_duration

#: A length of time: a text such as ``10s``, or a number of milliseconds.
Duration = str | float


def milliseconds(length: Duration) -> float:
    """A length of time in ms. Raises InputError where it is none."""
    if not isinstance(length, str):
        return float(length)
    try:
        return float(parse_duration(length))
    except ValueError as error:
        raise InputError(str(error)) from error
