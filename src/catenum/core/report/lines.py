"""What every story is made of, whatever it tells of: lines with a tone, sections, and the tree of a
chain of waits.

Scenarios and running servers are described with the same parts, so there is one way to draw a
chain.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

from catenum.core.record.waits import Branch
from catenum.core.text import listed

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
    """A part of the story with its title. ``id`` is what programs know it by, whatever the title
    says.
    """

    title: str
    lines: tuple[Line, ...]
    id: str = ""


#: So many that wait in the same way below one session are told one by one; of more, a few, and the
#: others by number.
MOST_ALIKE, SHOWN_ALIKE = 8, 3


def _all_alike(branch: Branch) -> object:
    return None


def _names(branches: Sequence[Branch]) -> str:
    return f"and {len(branches)} more like these: {listed([branch.name for branch in branches])}"


def tree_lines(
    branch: Branch,
    text_of: Callable[[Branch], str],
    *,
    alike: Callable[[Branch], object] = _all_alike,
    more: Callable[[Sequence[Branch]], str] = _names,
) -> Iterator[Line]:
    """All sessions below a head blocker as a tree, nearest first; ``text_of`` tells one of them.

    Of many that hold up nobody and are ``alike``, ``more`` tells those that are not told one by
    one.
    """
    stack = [(text, child, "", last) for text, child, last in _below(branch, text_of, alike, more)][
        ::-1
    ]
    while stack:
        text, child, prefix, last = stack.pop()
        yield Line(f"{prefix}{'└─ ' if last else '├─ '}{text}", indent=1, hang=len(prefix) + 6)
        below = prefix + ("   " if last else "│  ")
        if child is not None:
            stack += [(t, c, below, end) for t, c, end in _below(child, text_of, alike, more)][::-1]


def _below(
    branch: Branch,
    text_of: Callable[[Branch], str],
    alike: Callable[[Branch], object],
    more: Callable[[Sequence[Branch]], str],
) -> list[tuple[str, Branch | None, bool]]:
    """The lines of a session's children: the text, whose it is, and whether it is the last."""
    kinds: dict[object, list[Branch]] = {}
    for child in branch.children:
        if not child.children:
            kinds.setdefault(alike(child), []).append(child)
    folded = {
        kind: leaves[SHOWN_ALIKE:] for kind, leaves in kinds.items() if len(leaves) > MOST_ALIKE
    }
    left_out = {id(leaf) for leaves in folded.values() for leaf in leaves}
    found: list[tuple[str, Branch | None]] = [
        (text_of(child), child) for child in branch.children if id(child) not in left_out
    ]
    found += [(more(leaves), None) for leaves in folded.values()]
    return [(text, child, place == len(found) - 1) for place, (text, child) in enumerate(found)]
