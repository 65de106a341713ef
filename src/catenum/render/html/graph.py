"""A small wait graph for a move: where boxes and arrows go. Everything else is in the template."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from catenum.core.document.steps import Step
from catenum.core.text import shortened

#: More transactions than this are told in words only.
MOST_NODES = 9
#: Of the drawing: of two transactions, and of more.
LOW, HIGH, BOX_HEIGHT = 104, 190, 28
_LETTER = 7.4
MOST_LETTERS, MOST_LABEL = 16, 30


@dataclass(frozen=True, slots=True)
class Node:
    """A box around a transaction's name, by its middle."""

    name: str
    x: float
    y: float
    width: float
    role: str


@dataclass(frozen=True, slots=True)
class Arrow:
    """From who waits to who is waited for, bent so that two arrows between the same boxes do not
    lie on each other; its label stands at ``at``.
    """

    path: str
    tip: str
    label: str
    at: tuple[float, float]
    closing: bool


@dataclass(frozen=True, slots=True)
class Graph:
    """A drawing in units of pixels."""

    width: float
    height: float
    nodes: tuple[Node, ...]
    arrows: tuple[Arrow, ...]


def graph_of(step: Step) -> Graph | None:
    """The wait graph of a move; None where nobody waits, or where there are too many for a drawing
    of this size.
    """
    names = [one.name for one in step.standing]
    if not step.edges or len(names) > MOST_NODES:
        return None
    involved = {name for edge in step.edges for name in (edge.waiter, edge.holder)}
    shown = [name for name in names if name in involved]
    shown += sorted(involved - set(shown))
    width = max(400.0, 120.0 + 90.0 * len(shown))
    height = LOW if len(shown) == 2 else HIGH
    places = _places(shown, width, height)
    nodes = tuple(
        Node(
            shortened(name, MOST_LETTERS),
            *places[name],
            _LETTER * min(len(name), MOST_LETTERS) + 20,
            _role(name, step),
        )
        for name in shown
    )
    boxes = dict(zip(shown, nodes, strict=True))
    arrows = tuple(
        _arrow(boxes[edge.waiter], boxes[edge.holder], edge.label, closing=edge.closing)
        for edge in step.edges
    )
    return Graph(width, height, nodes, arrows)


def _places(names: Sequence[str], width: float, height: float) -> dict[str, tuple[float, float]]:
    """Two face each other; more stand on an ellipse."""
    middle_x, middle_y = width / 2, height / 2
    if len(names) == 2:
        return {names[0]: (width * 0.2, middle_y), names[1]: (width * 0.8, middle_y)}
    found = {}
    for number, name in enumerate(names):
        angle = math.pi - 2 * math.pi * number / len(names)
        x = middle_x + (width / 2 - 80) * math.cos(angle)
        found[name] = (round(x, 1), round(middle_y - (height / 2 - 24) * math.sin(angle), 1))
    return found


def _role(name: str, step: Step) -> str:
    if name == step.victim:
        return "victim"
    waits = any(edge.waiter == name for edge in step.edges)
    return "waiter" if waits else "holder"


def _arrow(start: Node, end: Node, label: str, *, closing: bool) -> Arrow:
    dx, dy = end.x - start.x, end.y - start.y
    length = math.hypot(dx, dy) or 1.0
    bend = min(46.0, length / 4)
    bent = ((start.x + end.x) / 2 - dy / length * bend, (start.y + end.y) / 2 + dx / length * bend)
    first, last = _edge_of(start, bent), _edge_of(end, bent)
    at = (
        round((first[0] + 2 * bent[0] + last[0]) / 4, 1),
        round((first[1] + 2 * bent[1] + last[1]) / 4, 1),
    )
    first_point, middle, last_point = (f"{x:.1f} {y:.1f}" for x, y in (first, bent, last))
    path = f"M{first_point} Q{middle} {last_point}"
    return Arrow(path, _tip(bent, last), shortened(label, MOST_LABEL), at, closing)


def _tip(origin: tuple[float, float], end: tuple[float, float]) -> str:
    """A triangle at the end of a line."""
    dx, dy = end[0] - origin[0], end[1] - origin[1]
    length = math.hypot(dx, dy) or 1.0
    dx, dy = dx / length, dy / length
    corners = (
        end,
        (end[0] - 10 * dx - 5 * dy, end[1] - 10 * dy + 5 * dx),
        (end[0] - 10 * dx + 5 * dy, end[1] - 10 * dy - 5 * dx),
    )
    return " ".join(f"{x:.1f},{y:.1f}" for x, y in corners)


def _edge_of(node: Node, towards: tuple[float, float]) -> tuple[float, float]:
    """Where a line from the middle of a box leaves it."""
    dx, dy = towards[0] - node.x, towards[1] - node.y
    half_x, half_y = node.width / 2 + 3, BOX_HEIGHT / 2 + 3
    scale = min(half_x / abs(dx) if dx else math.inf, half_y / abs(dy) if dy else math.inf, 1.0)
    return node.x + dx * scale, node.y + dy * scale
