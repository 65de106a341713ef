"""What every story is made of, whatever it tells of: lines with a tone, sections, and the tree of a chain of waits.

Scenarios and running servers are described with the same parts, so there is one way to draw a chain.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Literal

from catenum.core.record.waits import Branch

Tone = Literal["plain", "strong", "bad", "good", "faint"]


@dataclass(frozen=True, slots=True)
class Line:
    """A line of the story; ``indent`` in steps; ``hang`` more columns for what wraps."""

    text: str
    tone: Tone = "plain"
    indent: int = 1
    hang: int = 2


@dataclass(frozen=True, slots=True)
class Section:
    """A part of the story with its title. ``id`` is what programs know it by, whatever the title says."""

    title: str
    lines: tuple[Line, ...]
    id: str = ""


def tree_lines(branch: Branch, text_of: Callable[[Branch], str]) -> Iterator[Line]:
    """All sessions below a head blocker as a tree, nearest first; ``text_of`` tells one of them."""
    stack = [(child, "", place == len(branch.children) - 1) for place, child in enumerate(branch.children)][::-1]
    while stack:
        child, prefix, last = stack.pop()
        yield Line(f"{prefix}{'└─ ' if last else '├─ '}{text_of(child)}", indent=1, hang=len(prefix) + 6)
        below = prefix + ("   " if last else "│  ")
        stack += [(c, below, place == len(child.children) - 1) for place, c in enumerate(child.children)][::-1]
