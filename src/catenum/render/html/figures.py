"""Figures as SVG within a page: their colours follow the page's, light or dark."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from catenum.core.document.blocks import Figure

#: The colours of figures, and the page's name for each.
_COLOURS = {
    "#1c2a33": "ink",
    "#ffffff": "paper",
    "#c9d2d6": "rule",
    "#2f6f8f": "work",
    "#f0c75e": "wait",
    "#8c1d40": "fail",
}
_COLOUR = re.compile("|".join(_COLOURS))
_SIZE = re.compile(r'(<svg)(?: width="[^"]*"| height="[^"]*")+')
_ID = re.compile(r'(\bid="|xlink:href="#|\bhref="#|url\(#)')


def svg_of(figure: Figure, number: int) -> str:
    """The drawing as an ``svg`` element; ``number`` keeps its names apart from those of others on
    the page. Raises LibraryError where nothing can be drawn.
    """
    from catenum.render.figure import to_bytes

    text = to_bytes(_maker(figure.kind)(figure.value), "svg").decode()
    text = text[text.index("<svg") :]
    text = _ID.sub(lambda found: f"{found[1]}f{number}-", text)
    text = _COLOUR.sub(lambda found: f"var(--{_COLOURS[found[0]]})", text)
    return _SIZE.sub(r"\1", text, count=1)


def _maker(kind: str) -> Callable[[Any], Any]:
    if kind == "map":
        from catenum.render.map import map_figure

        return map_figure
    if kind == "pace":
        from catenum.render.pace_figure import pace_figure

        return pace_figure
    from catenum.render import figure

    return figure.timeline_figure if kind == "timeline" else figure.graph_figure
