"""Lock modes as values: the family of locks they belong to, the server's own name, and what a
record lock covers.

Which of them conflict is a server's affair (``core.servers``). In JSON a mode is its text, such as
``X next-key``.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

#: ``row``: modes of rows as statements ask for them. ``record``: of index records and the gaps
#: before them. ``table``, ``metadata`` (on tables' definitions): what they say. ``other``: anything
#: else that a session waits for.
Family = Literal["row", "record", "table", "metadata", "other"]
#: What a record lock covers: the record alone, the gap before it, both, or a wish to insert into
#: the gap.
Covers = Literal["", "record", "gap", "next-key", "insert intention"]
_COVERS: tuple[Covers, ...] = ("insert intention", "next-key", "record", "gap")
_OF_TABLES = ("IS", "IX", "AUTO-INC", "S", "X")


@dataclass(frozen=True, slots=True, order=True)
class Mode:
    """A lock mode. ``str(mode)`` is how people read it."""

    family: Family
    name: str
    covers: Covers = ""

    def __str__(self) -> str:
        return f"{self.name} {self.covers}" if self.covers else self.name

    @classmethod
    def read(cls, text: str) -> Mode:
        """The mode whose text stands in a recording."""
        for covers in _COVERS:
            name = text.removesuffix(f" {covers}")
            if name != text:
                return cls("record", name, covers)
        if text.startswith("MDL_"):
            return cls("metadata", text)
        if text.startswith("FOR "):
            return cls("row", text)
        return cls("table" if text.endswith("Lock") or text in _OF_TABLES else "other", text)

    # What follows is how pydantic asks a type for its form in files; most commands read and write
    # none.

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: Any) -> Any:
        from pydantic_core import core_schema

        text = core_schema.no_info_after_validator_function(cls.read, core_schema.str_schema())
        either = core_schema.union_schema([core_schema.is_instance_schema(cls), text])
        written = core_schema.to_string_ser_schema()
        return core_schema.json_or_python_schema(
            json_schema=text, python_schema=either, serialization=written
        )

    @classmethod
    def __get_pydantic_json_schema__(cls, schema: Any, handler: Any) -> dict[str, Any]:
        return {"type": "string", "examples": ["FOR UPDATE", "X next-key", "AccessShareLock"]}


#: Something is waited for that has no mode of its own, or none that the server reports.
NO_MODE = Mode("other", "")
