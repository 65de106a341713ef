"""Progress with an estimate, on stderr, and only where a person is looking."""

from __future__ import annotations

from typing import IO

from catenum.core.text import duration
from catenum.engines.clock import Clock


class Progress:
    """Called with (done, total, what); rewrites one line on a terminal and says nothing in a
    pipe.
    """

    def __init__(self, stream: IO[str], *, quiet: bool = False) -> None:
        self.stream, self.show = stream, stream.isatty() and not quiet
        self.clock = Clock()

    def __call__(self, done: int, total: int, what: str) -> None:
        if not self.show:
            return
        left = ""
        if 0 < done < total:
            left = f", about {duration(self.clock.now_ms() / done * (total - done))} left"
        line = f"{done} of {total} runs{left}  {what}" if done < total else ""
        self.stream.write("\r\x1b[K" + line)
        self.stream.flush()

    def part(self, fraction: float, what: str) -> None:
        """The same by the part that is done, 0 to 1, where the number of runs is not known
        beforehand.
        """
        if not self.show:
            return
        left = ""
        if 0.01 < fraction < 1:
            left = f", about {duration(self.clock.now_ms() / fraction * (1 - fraction))} left"
        self.stream.write(f"\r\x1b[K{fraction:.0%} done{left}  {what}")
        self.stream.flush()

    def clear(self) -> None:
        """Take the line away."""
        if self.show:
            self.stream.write("\r\x1b[K")
            self.stream.flush()
