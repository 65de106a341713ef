"""Calls into a driver that must come back: one that blocks for ever is left in its thread."""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable
from typing import Any, TypeVar

from catenum.core.errors import TargetError

T = TypeVar("T")
#: How long connecting, a look at the server, and work on the data may take (s).
CONNECT_S, LOOK_S, WORK_S = 15.0, 20.0, 300.0


class Caller:
    """One thread that makes calls, one after another."""

    def __init__(self, name: str) -> None:
        self._name = name
        self._orders: queue.SimpleQueue[tuple[Callable[[], Any] | None, list[Any], threading.Event]]
        self._begin()

    def _begin(self) -> None:
        self._orders = queue.SimpleQueue()
        orders = self._orders

        def work() -> None:
            while True:
                what, found, done = orders.get()
                if what is None:
                    return
                try:
                    found += [what(), None]
                except BaseException as error:
                    found += [None, error]
                done.set()

        threading.Thread(target=work, name=self._name, daemon=True).start()

    def close(self) -> None:
        """Its thread ends when it has come back."""
        self._orders.put((None, [], threading.Event()))

    def call(self, what: Callable[[], T], seconds: float, shown: str) -> T:
        """What ``what`` returns. Raises what it raises, TargetError where it takes longer."""
        found: list[Any] = []
        done = threading.Event()
        self._orders.put((what, found, done))
        if not done.wait(seconds):
            self._begin()  # nobody waits for that thread any more
            raise TargetError(
                f"{shown}: the driver did not come back within {seconds:g} s",
                advice="The server, the network or the driver has stopped.",
            )
        if found[1] is not None:
            raise found[1]
        result: T = found[0]
        return result
