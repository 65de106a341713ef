"""An exploration: what all schedules of a scenario (or a sample) came to, as a plain record.

Its JSON form is ``"format": "catenum-exploration/1"``.
"""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from functools import cache
from typing import Any, Literal

from pydantic import TypeAdapter, ValidationError

from catenum.core.errors import InputError, Place
from catenum.core.recording import TargetInfo
from catenum.core.tally import OutcomeEntry, Tally

FORMAT = "catenum-exploration/1"


@dataclass(kw_only=True)
class Reach:
    """How far an exploration got. ``classes`` None: too many to count. ``left``: shares that were not worked off.

    ``every``: nothing was left out as equivalent, so each order counts as a class.
    """

    orders: int
    classes: int | None
    complete: bool
    sampled: bool
    left: int = 0
    every: bool = False


@dataclass(kw_only=True)
class Exploration:
    """All schedules of one scenario at given levels, or a part of them."""

    format: Literal["catenum-exploration/1"] = "catenum-exploration/1"
    scenario: str
    about: str | None
    target: TargetInfo
    levels: dict[str, str]
    statements: dict[str, tuple[str, ...]]
    ends: dict[str, str]
    reach: Reach
    tally: Tally
    ran_ms: float
    ignored: dict[str, str] = field(default_factory=dict)
    notes: tuple[str, ...] = ()

    @property
    def outcomes(self) -> list[OutcomeEntry]:
        """Distinct outcomes, the worst first."""
        return self.tally.ordered

    def letter(self, key: str) -> str:
        """The letter by which an outcome is called: A is the worst."""
        order = [id(entry) for entry in self.outcomes]
        return letter_of(order.index(id(self.tally.outcomes[key])))


def letter_of(place: int) -> str:
    """A, B … Z, AA, AB …"""
    text = ""
    place += 1
    while place:
        place, rest = divmod(place - 1, 26)
        text = chr(65 + rest) + text
    return text


def how_far(exploration: Exploration) -> str:
    """One sentence on how much was run, and what that allows to be said."""
    reach, tally = exploration.reach, exploration.tally
    whole = f"{reach.classes:,}" if reach.classes is not None else "more than can be counted"
    whole += " class" if reach.classes == 1 else " classes"
    if reach.every:
        whole = _orders(reach.orders)
    if reach.complete:
        done = _count(tally.schedules, "schedule")
        if reach.every:
            return f"{done} run, all that can be made (of {whole}; nothing was left out as equivalent)"
        return f"{done} run, one for each class that can be made (of {_orders(reach.orders)} in at most {whole})"
    if reach.sampled:
        out = f", {tally.ruled_out:,} of them ruled out by waiting" if tally.ruled_out else ""
        ran = tally.schedules + tally.ruled_out
        return f"ran {ran:,} of {whole}{out}; nothing can be said of the rest"
    done = _count(tally.schedules, "schedule")
    return f"stopped after {done} of at most {whole}; nothing can be said of the rest"


def _count(number: int, what: str) -> str:
    return f"{number:,} {what}{'s' if number != 1 else ''}"


def _orders(number: int) -> str:
    return f"{number:,} orders" if number < 10**12 else f"about {number:.1e} orders".replace("e+", "·10^")


@cache
def _adapter() -> TypeAdapter[Exploration]:
    return TypeAdapter(Exploration)


@cache
def tally_adapter() -> TypeAdapter[Tally]:
    """Reads and writes tallies, for files to go on from."""
    return TypeAdapter(Tally)


def to_json(exploration: Exploration) -> str:
    """The exploration as JSON text."""
    return _adapter().dump_json(exploration, indent=2).decode()


def to_plain(exploration: Exploration) -> dict[str, Any]:
    """The exploration as plain lists and mappings."""
    return _adapter().dump_python(exploration, mode="json")  # type: ignore[no-any-return]


def from_json(data: bytes, file: str) -> Exploration:
    """Reads an exploration back. Raises InputError where it is not one, or not whole."""
    try:
        plain = json.loads(data)
    except ValueError as error:
        raise InputError(f"not an exploration: {error}", place=Place(file)) from error
    found = plain.get("format") if isinstance(plain, dict) else None
    if found != FORMAT:
        raise InputError(
            f"not an exploration of the format {FORMAT} (found: {found or 'no format'})", place=Place(file)
        )
    try:
        return _adapter().validate_json(data)
    except ValidationError as error:
        first = error.errors()[0]
        path = ".".join(str(part) for part in first["loc"])
        raise InputError(f"a damaged exploration: {path}: {first['msg']}", place=Place(file)) from error


def json_schema() -> dict[str, Any]:
    """The JSON Schema of an exploration."""
    return _adapter().json_schema()
