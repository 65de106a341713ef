"""Figures: the timeline as lanes, and the wait graph, as PNG or SVG.

Shapes carry the meaning and colour only repeats it: statements are solid boxes, waits are hatched
bars, a failure is a cross, a commit a filled and a rollback an open diamond. The colours differ in
lightness too, so that a grey print can be read.
"""

from __future__ import annotations

import io
import math
import textwrap
import warnings
from typing import Any

import matplotlib

matplotlib.use("Agg")

from matplotlib.figure import Figure
from matplotlib.patches import FancyArrowPatch, FancyBboxPatch, Patch, Rectangle
from matplotlib.text import Text

from catenum.core.record.outcome import is_caught
from catenum.core.record.recording import Event, Recording, Wait
from catenum.core.record.waits import Branch, Edge, WaitGraph
from catenum.core.report.headline import headline
from catenum.core.text import duration, harmless, named, shortened

INK, PAPER, RULE = "#1c2a33", "#ffffff", "#c9d2d6"
WORK, WAIT, FAIL = "#2f6f8f", "#f0c75e", "#8c1d40"
SIZE, DPI = (12.8, 8.0), 100
_STEP, _LANE = 1.0, 1.0


def timeline_figure(recording: Recording) -> Figure:
    """Lanes over time. The axis gives each happening the same room, whatever it took; the times
    stand below.
    """
    figure = Figure(figsize=SIZE, dpi=DPI, facecolor=PAPER)
    axes = figure.add_axes((0.11, 0.2, 0.87, 0.62))
    names = [record.name for record in recording.transactions]
    events = [event for event in recording.events if event.what != "resumed"]
    ticks = _ticks(events)
    _lanes(axes, recording, names, len(ticks))
    rows = _Rows(axes, recording, names, ticks)
    for event in events:
        rows.draw(event)
    rows.draw_waits()
    _time_axis(axes, events, ticks)
    _titles(figure, recording)
    _timeline_legend(figure)
    return figure


def _ticks(events: list[Event]) -> dict[int, float]:
    """The place of each event on the axis; what one move does at once shares a place."""
    places: dict[int, float] = {}
    place, before = 0.0, None
    for index, event in enumerate(events):
        key = (event.move, event.what, event.transaction)
        follows = (
            before is not None
            and before[0] == event.move
            and before[1] == "sent"
            and event.what == "done"
        )
        if before is not None and not follows:
            place += _STEP
        places[index] = place
        before = key
    return places


def _lanes(axes: Any, recording: Recording, names: list[str], count: int) -> None:
    last = max(1.0, float(count))
    for index, record in enumerate(recording.transactions):
        y = -index * _LANE
        axes.plot([-0.6, last + 0.2], [y, y], color=RULE, lw=1.2, zorder=0)
        axes.text(
            -0.7,
            y + 0.02,
            record.name,
            ha="right",
            va="bottom",
            fontsize=12,
            weight="bold",
            color=INK,
        )
        manner = record.isolation + ("\nautocommit" if record.autocommit else "")
        axes.text(-0.7, y - 0.03, manner, ha="right", va="top", fontsize=8, color=INK)
    axes.set_ylim(-(len(names) - 1) * _LANE - 0.62, 0.62)
    axes.set_yticks([])
    for side in ("top", "left", "right"):
        axes.spines[side].set_visible(False)


class _Rows:
    """Draws events in their lanes."""

    def __init__(
        self, axes: Any, recording: Recording, names: list[str], ticks: dict[int, float]
    ) -> None:
        self.axes, self.recording, self.names, self.ticks = axes, recording, names, ticks
        self.index = -1
        self.place: dict[tuple[str, int, int | None, str], float] = {}
        self.last = max(ticks.values(), default=0.0)

    def lane(self, name: str) -> float:
        return -self.names.index(name) * _LANE

    def draw(self, event: Event) -> None:
        self.index += 1
        x, y = self.ticks[self.index], self.lane(event.transaction)
        self.place[event.transaction, event.attempt, event.statement, event.what] = x
        if event.what == "sent" and event.statement is not None:
            self._statement(event, x, y)
        elif event.what == "done" and event.statement is None:
            filled = event.sql == "commit" and not event.rolled_back
            self.axes.plot(
                [x],
                [y],
                marker="D",
                ms=11,
                mfc=WORK if filled else PAPER,
                mec=INK,
                mew=1.5,
                zorder=5,
            )
            word = "commit refused" if event.rolled_back else event.sql
            self.axes.text(x, y - 0.2, word, ha="center", va="top", fontsize=8, color=INK)
        elif event.what == "passed":
            self._box(x, y, str(event.statement))
            self.axes.text(x, y - 0.2, "not run", ha="center", va="top", fontsize=8, color=INK)
        elif event.what == "done" and self._waited(event):
            self._box(x, y, str(event.statement))
            word = "continued\nwithout the lock" if self._is_caught(event) else "continued"
            self.axes.text(x, y - 0.2, word, ha="center", va="top", fontsize=8, color=INK)
        elif event.what == "failed":
            self.axes.plot([x], [y], marker="X", ms=15, mfc=FAIL, mec=PAPER, mew=1.2, zorder=6)
            kind = event.error.kind if event.error else "failed"
            word = {"deadlock": "victim", "timeout": "timeout"}.get(kind, kind)
            word += ", went on" if event.swallowed else ", sent again" if event.then else ""
            self.axes.text(
                x, y - 0.2, word, ha="center", va="top", fontsize=9, weight="bold", color=FAIL
            )

    def _waited(self, event: Event) -> bool:
        waits = self.place.get((event.transaction, event.attempt, event.statement, "waits"))
        sent = self.place.get((event.transaction, event.attempt, event.statement, "sent"), 0.0)
        return waits is not None and waits > sent

    def _is_caught(self, event: Event) -> bool:
        """Whether its wait ended by an error that code of the scenario caught."""
        step = (event.transaction, event.attempt, event.statement)
        return any(
            is_caught(wait)
            for wait in self.recording.waits
            if (wait.waiter, wait.attempt, wait.statement) == step
        )

    def _box(self, x: float, y: float, text: str) -> None:
        patch = FancyBboxPatch(
            (x - 0.17, y - 0.12),
            0.34,
            0.24,
            boxstyle="round,pad=0.02",
            fc=WORK,
            ec=INK,
            lw=1.2,
            zorder=4,
        )
        self.axes.add_patch(patch)
        self.axes.text(
            x, y, text, ha="center", va="center", color=PAPER, fontsize=10, weight="bold", zorder=5
        )

    def _statement(self, event: Event, x: float, y: float) -> None:
        self._box(x, y, str(event.statement))
        # what stands above two statements beside each other must not run into each other
        width, most = (22, 84) if self.last <= 6 else (16, 64) if self.last <= 10 else (13, 46)
        text = shortened(event.sql, most)
        self.axes.text(
            x - 0.17,
            y + 0.17,
            "\n".join(textwrap.wrap(text, width)),
            ha="left",
            va="bottom",
            fontsize=7.5,
            family="monospace",
            color=INK,
        )

    def draw_waits(self) -> None:
        drawn: set[tuple[str, int, int | None]] = set()
        for wait in self.recording.waits:
            key = (wait.waiter, wait.attempt, wait.statement)
            start = self.place.get((*key, "waits"))
            if start is None:
                continue
            if key not in drawn:
                drawn.add(key)
                self._wait_bar(wait, start, self._end_of(wait))
            if wait.holder in self.names:
                self._arrow(wait, start)

    def _end_of(self, wait: Wait) -> float:
        for what in ("failed", "done") if wait.ended == "failed" else ("done", "failed"):
            place = self.place.get((wait.waiter, wait.attempt, wait.statement, what))
            if place is not None:
                return place
        return self.last + 0.8

    def _wait_bar(self, wait: Wait, start: float, end: float) -> None:
        y = self.lane(wait.waiter)
        begin = self.place.get((wait.waiter, wait.attempt, wait.statement, "sent"), start)
        begin = min(begin, start)  # it may have been sent again since
        bar = Rectangle(
            (begin + 0.19, y - 0.07),
            end - begin - 0.19,
            0.14,
            fc=WAIT,
            ec=INK,
            hatch="////",
            lw=0.8,
            zorder=2,
        )
        self.axes.add_patch(bar)
        # at the bar's left end, where there is room for it even when the wait lasts to the end of
        # the figure
        self.axes.text(
            begin + 0.22, y - 0.15, wait.resource.text, ha="left", va="top", fontsize=8, color=INK
        )

    def _arrow(self, wait: Wait, x: float) -> None:
        up = self.lane(wait.holder) > self.lane(wait.waiter)
        here, there = self.lane(wait.waiter), self.lane(wait.holder)
        style = "--" if wait.queued else "-"
        arrow = FancyArrowPatch(
            (x, here + (0.07 if up else -0.07)),
            (x, there + (-0.03 if up else 0.03)),
            arrowstyle="-|>",
            mutation_scale=15,
            lw=1.4,
            ls=style,
            color=FAIL,
            zorder=3,
            shrinkA=0,
            shrinkB=0,
        )
        self.axes.add_patch(arrow)


def _time_axis(axes: Any, events: list[Event], ticks: dict[int, float]) -> None:
    places: dict[float, str] = {}
    for index, event in enumerate(events):
        places.setdefault(ticks[index], f"{event.move}\n{duration(event.at_ms)}")
    axes.set_xlim(-0.75, max(ticks.values(), default=1.0) + 0.9)
    axes.set_xticks(list(places), list(places.values()), fontsize=8, color=INK)
    axes.tick_params(length=3, color=RULE)
    axes.spines["bottom"].set_color(RULE)
    axes.set_xlabel(
        "move, and when after the first (every happening has the same room; not to scale)",
        fontsize=8,
        color=INK,
    )


def _titles(figure: Figure, recording: Recording) -> None:
    info = recording.target
    stand = " · a stand-in, not a real server" if info.standin else ""
    figure.text(
        0.02,
        0.965,
        (
            recording.scenario
            if recording.source == "log"
            else f"{recording.scenario}: {recording.outcome.kind}"
        ),
        fontsize=16,
        weight="bold",
        color=INK,
        va="top",
    )
    figure.text(
        0.02,
        0.918,
        "\n".join(textwrap.wrap(headline(recording), 150)),
        fontsize=10,
        color=INK,
        va="top",
    )
    figure.text(
        0.98,
        0.965,
        f"{info.server} {info.version}{stand}",
        fontsize=9,
        color=INK,
        va="top",
        ha="right",
    )


def _timeline_legend(figure: Figure) -> None:
    axes = figure.add_axes((0.02, 0.015, 0.96, 0.07))
    axes.set_axis_off()
    axes.set_xlim(0, 100)
    axes.set_ylim(0, 10)
    axes.add_patch(FancyBboxPatch((1, 3), 2, 4, boxstyle="round,pad=0.3", fc=WORK, ec=INK))
    axes.text(4.5, 5, "statement", va="center", fontsize=9, color=INK)
    axes.add_patch(Rectangle((14, 3.4), 6, 3.2, fc=WAIT, ec=INK, hatch="////", lw=0.8))
    axes.text(21, 5, "waits for a lock", va="center", fontsize=9, color=INK)
    for x, style, text in (
        (34, "-", "waits for its holder"),
        (54, "--", "waits behind, in the queue"),
    ):
        axes.add_patch(
            FancyArrowPatch(
                (x, 5),
                (x + 4, 5),
                arrowstyle="-|>",
                mutation_scale=13,
                ls=style,
                lw=1.4,
                color=FAIL,
            )
        )
        axes.text(x + 5, 5, text, va="center", fontsize=9, color=INK)
    axes.plot([76], [5], marker="X", ms=11, mfc=FAIL, mec=PAPER)
    axes.text(77.5, 5, "failed", va="center", fontsize=9, color=INK)
    axes.plot([84], [5], marker="D", ms=8, mfc=WORK, mec=INK)
    axes.text(85.5, 5, "commit", va="center", fontsize=9, color=INK)
    axes.plot([92], [5], marker="D", ms=8, mfc=PAPER, mec=INK)
    axes.text(93.5, 5, "rollback", va="center", fontsize=9, color=INK)


# -- the wait graph --------------------------------------------------------------------------------


def graph_figure(recording: Recording) -> Figure:
    """Who waits for whom at the worst moment: a cycle as a cycle, chains as layers under their head
    blocker.
    """
    figure = Figure(figsize=SIZE, dpi=DPI, facecolor=PAPER)
    axes = figure.add_axes((0.02, 0.09, 0.96, 0.76))
    axes.set_axis_off()
    _titles(figure, recording)
    move, graph = _moment(recording)
    if not graph.edges:
        axes.text(
            0.5,
            0.5,
            "Nobody waited.",
            ha="center",
            va="center",
            fontsize=16,
            color=INK,
            transform=axes.transAxes,
        )
        return figure
    places = _cycle_places(graph) if graph.cycles() else _layer_places(graph)
    _scale(axes, places)
    patches = {
        name: _draw_node(axes, recording, graph, name, x, y) for name, (x, y) in places.items()
    }
    for edge in graph.edges:
        _draw_edge(axes, recording, graph, edge, places, patches)
    when = "as the log reports it" if recording.source == "log" else f"after move {move}"
    text = (
        f"The wait graph {when}. Arrows point from who waits to who is waited for; dashed: ahead in"
        " the queue only."
    )
    figure.text(0.02, 0.03, text, fontsize=9, color=INK)
    return figure


def _moment(recording: Recording) -> tuple[int, WaitGraph]:
    if not recording.deadlocks:
        return recording.worst_graph()
    move = recording.deadlocks[0].move
    waits = [
        wait
        for wait in recording.waits
        if wait.move <= move
        and (wait.until_ms is None or wait.until_ms >= recording.deadlocks[0].at_ms)
    ]
    return move, WaitGraph(
        Edge(
            waiter=w.waiter,
            holder=w.holder,
            resource=w.resource,
            wanted=w.wanted,
            held=w.held,
            queued=w.queued,
        )
        for w in waits
    )


def _cycle_places(graph: WaitGraph) -> dict[str, tuple[float, float]]:
    """Members of the cycles on a circle, everybody who waits behind them further out."""
    cycle = [edge.waiter for cycle in graph.cycles() for edge in cycle]
    cycle = list(dict.fromkeys(cycle))
    places = {}
    for index, name in enumerate(cycle):
        angle = math.pi - 2 * math.pi * index / len(cycle)
        places[name] = (2.3 * math.cos(angle), 1.25 * math.sin(angle) if len(cycle) > 2 else 0.0)
    others = sorted({n for e in graph.edges for n in (e.waiter, e.holder)} - set(cycle))
    for index, name in enumerate(others):
        places[name] = (-2.3 + 4.6 * (index + 0.5) / len(others), -2.2)
    return places


def _layer_places(graph: WaitGraph) -> dict[str, tuple[float, float]]:
    """Heads on top, each wait one layer further down; a parent stands over the middle of those who
    wait for it.
    """
    places: dict[str, tuple[float, float]] = {}
    column = 0.0

    def place(branch: Branch, depth: int) -> float:
        nonlocal column
        below = [place(child, depth + 1) for child in branch.children if child.name not in places]
        if below:
            x = sum(below) / len(below)
        else:
            x = column
            column += 3.1
        places[branch.name] = (x, -depth * 1.35)
        return x

    for head in graph.heads():
        place(graph.tree(head), 0)
    return places


def _scale(axes: Any, places: dict[str, tuple[float, float]]) -> None:
    xs, ys = [x for x, _ in places.values()], [y for _, y in places.values()]
    middle_x, middle_y = (min(xs) + max(xs)) / 2, (min(ys) + max(ys)) / 2
    half_x = max(3.6, (max(xs) - min(xs)) / 2 + 1.5)
    half_y = max(1.9, (max(ys) - min(ys)) / 2 + 0.45)
    axes.set_xlim(middle_x - half_x, middle_x + half_x)
    axes.set_ylim(middle_y - half_y, middle_y + half_y)


def _draw_node(
    axes: Any, recording: Recording, graph: WaitGraph, name: str, x: float, y: float
) -> Patch:
    victim = any(deadlock.victim == name for deadlock in recording.deadlocks)
    head = name in graph.heads()
    record = recording.transaction(name)
    edge_style: dict[str, Any] = {"fc": PAPER, "ec": INK, "lw": 1.6}
    if victim:
        edge_style = {"fc": "#f3dbe2", "ec": FAIL, "lw": 3.0, "ls": (0, (4, 2))}
    elif head:
        edge_style = {"fc": "#dcebf2", "ec": INK, "lw": 3.0}
    patch = FancyBboxPatch(
        (x - 0.72, y - 0.25), 1.44, 0.5, boxstyle="round,pad=0.04", zorder=4, **edge_style
    )
    axes.add_patch(patch)
    axes.text(
        x, y + 0.11, name, ha="center", va="center", fontsize=13, weight="bold", color=INK, zorder=5
    )
    role = "victim" if victim else "head blocker" if head else ""
    isolation = record.isolation if record else "outside this run"
    status = f" · {record.status_text}" if record else ""
    axes.text(
        x,
        y - 0.08,
        f"{isolation}{status}",
        ha="center",
        va="center",
        fontsize=8,
        color=INK,
        zorder=5,
    )
    if role:
        axes.text(
            x,
            y - 0.21,
            role,
            ha="center",
            va="center",
            fontsize=8.5,
            weight="bold",
            color=FAIL if victim else INK,
            zorder=5,
        )
    return patch


def _draw_edge(
    axes: Any,
    recording: Recording,
    graph: WaitGraph,
    edge: Edge,
    places: dict[str, tuple[float, float]],
    patches: dict[str, Patch],
) -> None:
    (x1, y1), (x2, y2) = places[edge.waiter], places[edge.holder]
    in_cycle = any(edge in cycle for cycle in graph.cycles())
    bend = 0.35 if in_cycle and len(graph.cycles()[0]) == 2 else 0.0
    arrow = FancyArrowPatch(
        (x1, y1),
        (x2, y2),
        arrowstyle="-|>",
        mutation_scale=22,
        connectionstyle=f"arc3,rad={bend}",
        lw=2.6 if in_cycle else 1.6,
        ls="--" if edge.queued else "-",
        color=FAIL if in_cycle else INK,
        zorder=2,
        shrinkA=3,
        shrinkB=3,
        patchA=patches[edge.waiter],
        patchB=patches[edge.holder],
    )
    axes.add_patch(arrow)
    wait = next(
        (
            w
            for w in reversed(recording.waits)
            if (w.waiter, w.holder) == (edge.waiter, edge.holder)
        ),
        None,
    )
    verb = "asked first for" if edge.queued else "took"
    holder = f"{edge.holder} {wait.holder_numbers}" if wait and wait.holder_numbers else edge.holder
    waiter = named(edge.waiter, wait.statement) if wait else edge.waiter
    mx, my = (x1 + x2) / 2, (y1 + y2) / 2
    dx, dy = x2 - x1, y2 - y1
    length = math.hypot(dx, dy) or 1.0
    # arc3 bends to the right of its direction in these coordinates by half of rad times the length
    lift = bend * length / 2 + (0.26 if bend else 0.0)
    mx, my = mx + dy / length * lift, my - dx / length * lift
    text = (
        f"{edge.resource.text}\n{waiter} wants {edge.wanted}\n{holder} {verb} {edge.held or 'it'}"
    )
    axes.text(
        mx,
        my,
        text,
        ha="center",
        va="center",
        fontsize=8.5,
        color=INK,
        zorder=6,
        bbox={"boxstyle": "round,pad=0.3", "fc": PAPER, "ec": RULE, "lw": 0.8},
    )


def to_bytes(figure: Figure, form: str) -> bytes:
    """The figure as a PNG or SVG file's bytes, the same for the same recording."""
    for text in figure.findobj(Text):
        text.set_text(harmless(text.get_text()))  # an SVG with a control character is none
        text.set_parse_math(False)  # a $ in a statement is no formula
    stream = io.BytesIO()
    with (
        warnings.catch_warnings(),
        matplotlib.rc_context({"svg.hashsalt": "catenum", "svg.fonttype": "none"}),
    ):
        warnings.filterwarnings("ignore", message="Glyph")  # of a name in another script
        figure.savefig(stream, format=form, metadata={"Date": None} if form == "svg" else None)
    return stream.getvalue()
