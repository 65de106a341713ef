"""Figures and stories of results: what ``draw`` writes, and what ``explain`` tells."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, Literal

from catenum.api import files
from catenum.core.errors import InputError
from catenum.core.record.recording import Recording
from catenum.core.report.recording_story import tell
from catenum.core.space.exploration import Exploration

Figure = Literal["timeline", "graph", "map", "page"]
FORMS = ("png", "svg")


def figures_of(result: Recording | Exploration) -> tuple[Figure, ...]:
    """The figures that there are of a result."""
    if isinstance(result, Exploration):
        return ("map", "page")
    return ("graph",) if result.source == "log" else ("timeline", "graph")


def draw(
    result: Recording | Exploration,
    folder: str | Path,
    *,
    name: str | None = None,
    only: Figure | None = None,
    forms: Sequence[str] = ("png",),
    outcomes: Sequence[Recording] = (),
) -> list[Path]:
    """Write a recording's timeline and wait graph, or an exploration's map and page of outcomes;
    the paths of what was written.

    ``name``: what the files' names begin with; ``outcomes``: recordings of an exploration's
    outcomes, for its page. Raises InputError, SaveError, LibraryError.
    """
    files.require("matplotlib", "draw")
    known = figures_of(result)
    if only is not None and only not in known:
        of = "an exploration" if isinstance(result, Exploration) else "a recording"
        of = "a server's log" if known == ("graph",) else of
        raise InputError(f"{of} has no {only} to draw", advice=f"It has: {', '.join(known)}.")
    from catenum.render.figure import to_bytes

    written = []
    for what in (only,) if only is not None else known:
        drawn = _figure(what, result, outcomes)
        for form in forms:
            path = Path(folder) / f"{f'{name}-' if name else ''}{what}.{form}"
            files.check_writable(path)
            files.save_atomically(path, to_bytes(drawn, form), shared=True)
            written.append(path)
    return written


def _figure(what: Figure, result: Recording | Exploration, outcomes: Sequence[Recording]) -> Any:
    if isinstance(result, Exploration):
        if what == "map":
            from catenum.render.map import map_figure

            return map_figure(result)
        from catenum.render.page import page_figure

        return page_figure(result, list(outcomes))
    from catenum.render import figure

    makers: dict[str, Callable[[Recording], Any]] = {
        "timeline": figure.timeline_figure,
        "graph": figure.graph_figure,
    }
    return makers[what](result)


def explain(recording: Recording) -> str:
    """The story of a recording, as ``explain`` tells it: what happened, who held what, why that
    victim.
    """
    from catenum.render.text import story_text

    return story_text(tell(recording))
