"""What every story is made of, whatever it tells of: lines with a tone, sections, and the tree of a chain of waits.

Scenarios and running servers are told with the same parts, so there is one way to draw a chain.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Literal

from catenum.core.waits import Branch

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
    """A part of the story with its title."""

    title: str
    lines: tuple[Line, ...]


def tree_lines(branch: Branch, text_of: Callable[[Branch], str]) -> Iterator[Line]:
    """Everybody below a head blocker as a tree, nearest first; ``text_of`` tells one of them."""
    stack = [(child, "", place == len(branch.children) - 1) for place, child in enumerate(branch.children)][::-1]
    while stack:
        child, prefix, last = stack.pop()
        yield Line(f"{prefix}{'└─ ' if last else '├─ '}{text_of(child)}", indent=1, hang=len(prefix) + 6)
        below = prefix + ("   " if last else "│  ")
        stack += [(c, below, place == len(child.children) - 1) for place, c in enumerate(child.children)][::-1]


def called(session: str) -> str:
    """A session by its number; what holds a lock without one (a prepared transaction) as it is called."""
    return f"session {session}" if session.isdigit() else session


def duration(ms: float | None) -> str:
    """A length of time as people say it: ``4.2 ms``, ``350 ms``, ``12 s``, ``3 min 20 s``, ``2 h 5 min``."""
    if ms is None:
        return "?"
    if ms < 10:
        return f"{ms:.1f} ms"
    if ms < 1_000:
        return f"{ms:.0f} ms"
    if ms < 60_000:
        return f"{ms / 1_000:.1f} s"
    minutes, seconds = divmod(round(ms / 1_000), 60)
    if minutes < 60:
        return f"{minutes} min {seconds} s" if seconds else f"{minutes} min"
    hours, minutes = divmod(minutes, 60)
    if hours < 48:
        return f"{hours} h {minutes} min" if minutes else f"{hours} h"
    return f"{hours // 24} days"


def one_line(sql: str, limit: int = 10_000) -> str:
    """A statement on one line, cut with an ellipsis."""
    text = " ".join(sql.split())
    return text if len(text) <= limit else text[: limit - 1] + "…"


def shortened(sql: str, limit: int) -> str:
    """A statement cut in the middle, so that its condition stays: ``update berth set … where id = 3``."""
    text = one_line(sql)
    if len(text) <= limit:
        return text
    where = text.lower().rfind(" where ")
    tail = text[where:] if where > 0 and len(text) - where <= limit * 2 // 3 else text[-(limit // 3) :]
    head = text[: max(1, limit - len(tail) - 2)].rstrip()
    head = head.rpartition(" ")[0] or head
    return f"{head} …{tail}"
