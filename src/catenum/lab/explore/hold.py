"""Stretches that an interrupt must not cut in two: what was run and what is left to run have to
change together.

The handler of interrupts (``cli.main``) asks ``held`` whether it may break in now; if not, it is
called again once the stretch is over.
"""

from __future__ import annotations

from collections.abc import Callable
from types import TracebackType


class Hold:
    """Used as a context. Stretches are short, and do not contain one another."""

    def __init__(self) -> None:
        self._on = False
        self._later: Callable[[], None] | None = None

    def __enter__(self) -> None:
        self._on = True

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._on = False
        later, self._later = self._later, None
        if later is not None:
            later()

    def defers_interrupt(self, interrupt: Callable[[], None]) -> bool:
        """Whether ``interrupt`` has to wait; it is called at the end of the stretch then."""
        if self._on:
            self._later = interrupt
        return self._on


held = Hold()
