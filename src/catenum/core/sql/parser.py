"""The SQL parser, loaded when the first statement is read: who watches a server mostly reads none.

Everything in this package that parses takes ``exp`` and ``sqlglot`` from here. What a claim rests
on are the parse trees of one range of versions: see ``pyproject.toml``.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import sqlglot
    import sqlglot.errors
    from sqlglot import exp
else:

    class _Late:
        """A module of which the first attribute asked for loads it."""

        def __init__(self, name: str) -> None:
            self._name = name

        def __getattr__(self, name: str) -> Any:
            found = getattr(importlib.import_module(self._name), name)
            setattr(self, name, found)
            return found

    sqlglot, exp = _Late("sqlglot"), _Late("sqlglot.expressions")

__all__ = ["exp", "sqlglot"]
