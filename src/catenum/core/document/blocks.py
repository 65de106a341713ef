"""What documents are made of. A builder says what stands there; a renderer how it looks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, fields, is_dataclass, replace
from typing import Any, Literal

from catenum.core.document.steps import Step

Tone = Literal["plain", "strong", "good", "bad", "faint"]
FigureKind = Literal["timeline", "graph", "map", "pace"]


@dataclass(frozen=True, slots=True)
class Paragraph:
    """A sentence or more."""

    text: str
    tone: Tone = "plain"


@dataclass(frozen=True, slots=True)
class Bullets:
    """Points, each with a tone; ``indent`` of each in steps."""

    items: tuple[tuple[str, Tone, int], ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Table:
    """``numbers``: columns that are aligned to the right; ``marked``: rows with a tone of their
    own; ``links``: rows that lead to a part of the document, by its anchor.
    """

    head: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    numbers: tuple[int, ...] = ()
    marked: tuple[tuple[int, Tone], ...] = ()
    links: tuple[tuple[int, str], ...] = ()
    caption: str = ""


@dataclass(frozen=True, slots=True)
class Code:
    """A text as it is: a command, SQL, a scenario."""

    text: str
    language: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Figure:
    """A drawing of a core object."""

    kind: FigureKind
    value: Any
    caption: str


@dataclass(frozen=True, slots=True, kw_only=True)
class StepsOf:
    """One recording's moves, with the transactions' names and levels."""

    title: str
    transactions: tuple[tuple[str, str], ...]
    steps: tuple[Step, ...]
    left_out: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Stepper:
    """The moves of a schedule, one after another; of several recordings side by side, in step."""

    columns: tuple[StepsOf, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Details:
    """Something that is opened when it is wanted."""

    title: str
    anchor: str
    blocks: tuple[Block, ...]


Block = Paragraph | Bullets | Table | Code | Figure | Stepper | Details


@dataclass(frozen=True, slots=True)
class Part:
    """A heading, and what stands below it."""

    title: str
    blocks: tuple[Block, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Document:
    """A document for a reader who was not there. ``summary``: what happened, in a few sentences,
    each with its tone; ``facts``: what and where, as names and values.
    """

    title: str
    summary: tuple[tuple[str, Tone], ...]
    facts: tuple[tuple[str, str], ...] = ()
    parts: tuple[Part, ...] = ()
    standin: bool = False


def with_texts(value: Any, change: Callable[[str], str]) -> Any:
    """The same with every text changed, but those of figures, which are drawn from objects."""
    if isinstance(value, str):
        return change(value)
    if isinstance(value, tuple | list):
        return tuple(with_texts(one, change) for one in value)
    if isinstance(value, dict):
        return {key: with_texts(one, change) for key, one in value.items()}
    if isinstance(value, Figure):
        return replace(value, caption=change(value.caption))
    if is_dataclass(value) and not isinstance(value, type):
        changed = {
            field.name: with_texts(getattr(value, field.name), change)
            for field in fields(value)
            if field.name not in ("tone", "anchor", "kind", "language", "marked", "links")
        }
        return replace(value, **changed)
    return value
