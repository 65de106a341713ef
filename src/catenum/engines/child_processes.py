"""Child processes of a program that may be anybody's script.

A process that is spawned imports the program's main module first. Where that is a script without a
guard it would run whole once more, in each child; nothing that a child needs is defined there.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from types import ModuleType


@contextmanager
def without_main_module() -> Iterator[None]:
    """Processes that are started within the block do not import the main module."""
    main = sys.modules["__main__"]
    sys.modules["__main__"] = ModuleType("__main__")
    try:
        yield
    finally:
        sys.modules["__main__"] = main
