"""Work on a thread of its own, while the main thread is busy with something else.

Bringing data back takes the server longer than anything else between two schedules, and nothing of
it is needed before the next one begins.
"""

from __future__ import annotations

import threading
from collections.abc import Callable


class SideConnection:
    """At most one piece of work at a time. Whoever needs what it works on waits for it first."""

    def __init__(self) -> None:
        self._thread: threading.Thread | None = None
        self._error: Exception | None = None

    def start(self, work: Callable[[], None]) -> None:
        """Begin ``work``; whatever was begun before must be over."""
        self._error = None
        self._thread = threading.Thread(
            target=self._do, args=(work,), name="catenum aside", daemon=True
        )
        self._thread.start()

    def _do(self, work: Callable[[], None]) -> None:
        try:
            work()
        except Exception as error:  # raised where the result is asked for
            self._error = error

    def wait(self) -> None:
        """Until nothing is under way. Does nothing on the thread that does the work."""
        if self._thread is not None and self._thread is not threading.current_thread():
            self._thread.join()

    def result(self) -> None:
        """Wait, and raise what the work raised, once."""
        self.wait()
        self._thread, error, self._error = None, self._error, None
        if error is not None:
            raise error
