"""Values that a transaction carries from one statement to the next: as the server's text, with the
kind of value.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from typing import Literal

ValueKind = Literal["number", "text", "boolean", "null"]
#: What a driver is given in place of a value.
Plain = int | Decimal | str | bool | None


@dataclass(frozen=True, slots=True, order=True)
class Value:
    """One value. ``text`` is None for NULL."""

    text: str | None
    kind: ValueKind = "text"

    @classmethod
    def from_python(cls, plain: int | float | Decimal | str | bool | None) -> Value:
        """A value as a scenario file writes it."""
        if plain is None:
            return NULL
        if isinstance(plain, bool):
            return cls("true" if plain else "false", "boolean")
        return cls(str(plain), "text" if isinstance(plain, str) else "number")

    @classmethod
    def read(cls, text: str | None, kind: ValueKind) -> Value:
        """A value as a server gave it."""
        if text is None:
            return NULL
        return cls({"t": "true", "f": "false"}.get(text, text) if kind == "boolean" else text, kind)

    @property
    def plain(self) -> Plain:
        """The value for a driver that writes values by their type."""
        if self.text is None:
            return None
        if self.kind == "boolean":
            return self.text == "true"
        if self.kind != "number":
            return self.text
        try:
            return int(self.text)
        except ValueError:
            pass
        try:
            return Decimal(self.text)
        except InvalidOperation:
            return self.text

    def __str__(self) -> str:
        return "null" if self.text is None else self.text


NULL = Value(None, "null")
#: Names with their values.
Values = Mapping[str, Value]
#: The same as a value that can be compared and kept.
Binding = tuple[tuple[str, Value], ...]
NOTHING: Binding = ()


def binding_of(values: Values, names: tuple[str, ...]) -> Binding:
    return tuple((name, values[name]) for name in names)
