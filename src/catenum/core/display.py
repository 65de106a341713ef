"""How results show themselves in a notebook.

Core objects know no renderer: the face of the package sets one, which makes HTML of them.
"""

from __future__ import annotations

from collections.abc import Callable

_renderer: Callable[[object], str | None] | None = None


def set_renderer(renderer: Callable[[object], str | None]) -> None:
    """What makes HTML of a result; None of it where the result has no form of its own."""
    global _renderer
    _renderer = renderer


class Displayed:
    """A result that a notebook shows by itself."""

    __slots__ = ()

    def _repr_html_(self) -> str | None:
        return _renderer(self) if _renderer is not None else None
