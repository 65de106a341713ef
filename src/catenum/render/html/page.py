"""The page: documents in a template, with everything that they need within it.

What comes from data is escaped by the template, and a policy in the page itself lets no script run
but its own.
"""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import cache
from importlib import resources
from itertools import count
from typing import TYPE_CHECKING, Any

from catenum.core.document.blocks import Block, Document, Figure
from catenum.core.errors import LibraryError
from catenum.core.text import harmless
from catenum.core.version import __version__
from catenum.render.html.figures import svg_of
from catenum.render.html.graph import graph_of

if TYPE_CHECKING:
    from jinja2 import Environment


@cache
def _environment() -> Environment:
    from jinja2 import Environment, PackageLoader, StrictUndefined

    made = Environment(
        loader=PackageLoader("catenum.render.html", "templates"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        finalize=_shown,
    )
    made.filters["graph"] = graph_of
    made.tests["block"] = lambda value, name: type(value).__name__ == name
    return made


def _shown(value: Any) -> Any:
    """A text without control characters, which a page cannot hold."""
    from markupsafe import Markup

    return harmless(value) if isinstance(value, str) and not isinstance(value, Markup) else value


@cache
def _asset(name: str) -> str:
    return resources.files("catenum.render.html").joinpath("templates", name).read_text("utf-8")


def page(documents: Sequence[Document], *, title: str, made: str, left_out: Sequence[str]) -> str:
    """One self-contained page. ``made``: when; ``left_out``: what was too much for it."""
    script = _asset("report.js")
    digest = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    return (
        _environment()
        .get_template("page.html.j2")
        .render(
            documents=documents,
            title=title,
            made=made,
            left_out=left_out,
            version=__version__,
            style=_safe(_asset("report.css")),
            script=_safe(script),
            policy=f"default-src 'none'; style-src 'unsafe-inline'; script-src 'sha256-{digest}'",
            svg=_Drawer(),
            count=_counter(),
        )
    )


def fragment(document: Document) -> str:
    """A document for a notebook: its own style, no script; all moves stand below each other."""
    return (
        _environment()
        .get_template("fragment.html.j2")
        .render(
            document=document, style=_safe(_asset("report.css")), svg=_Drawer(), count=_counter()
        )
    )


def _safe(text: str) -> Any:
    """Text of the package's own, which is markup already."""
    from markupsafe import Markup

    return Markup(text)  # never of data


def _counter() -> Callable[[], int]:
    """Numbers what must have a name of its own on the page."""
    numbers = count(1)
    return lambda: next(numbers)


class _Drawer:
    """Draws figures for the template; one that cannot be drawn is a sentence."""

    def __init__(self) -> None:
        self._count = 0

    def __call__(self, figure: Figure) -> Any:
        self._count += 1
        try:
            return _safe(svg_of(figure, self._count))
        except LibraryError as error:
            return f"No drawing: {error}"
        except ModuleNotFoundError as error:
            return f"No drawing: the library {error.name} is missing."


def without_figures(document: Document) -> Document:
    """The same without drawings."""

    def kept(blocks: Sequence[Block]) -> tuple[Block, ...]:
        return tuple(block for block in blocks if not isinstance(block, Figure))

    parts = (replace(part, blocks=kept(part.blocks)) for part in document.parts)
    return replace(document, parts=tuple(part for part in parts if part.blocks))
