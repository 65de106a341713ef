"""Progress with an estimate, on stderr, and only where a person is looking."""

from __future__ import annotations

from typing import IO

from catenum.api.listener import Listener
from catenum.core.text import duration
from catenum.engines.clock import Clock


class Progress:
    """Called with (done, total, what); rewrites one line on a terminal and says nothing in a
    pipe.
    """

    def __init__(self, stream: IO[str], *, quiet: bool = False) -> None:
        self.stream, self.show = stream, stream.isatty() and not quiet
        self._clock: Clock | None = None

    @property
    def _spent_ms(self) -> float:
        """Since anything was shown first."""
        self._clock = self._clock or Clock()
        return self._clock.now_ms()

    def __call__(self, done: int, total: int, what: str) -> None:
        if not self.show:
            return
        left, spent = "", self._spent_ms
        if 0 < done < total:
            left = f", about {duration(spent / done * (total - done))} left"
        line = f"{done} of {total} runs{left}  {what}" if done < total else ""
        self.stream.write("\r\x1b[K" + line)
        self.stream.flush()

    def part(self, fraction: float, what: str) -> None:
        """The same by the part that is done, 0 to 1, where the number of runs is not known
        beforehand.
        """
        if not self.show:
            return
        left, spent = "", self._spent_ms
        if 0.01 < fraction < 1:
            left = f", about {duration(spent / fraction * (1 - fraction))} left"
        self.stream.write(f"\r\x1b[K{fraction:.0%} done{left}  {what}")
        self.stream.flush()

    def clear(self) -> None:
        """Take the line away."""
        if self.show:
            self.stream.write("\r\x1b[K")
            self.stream.flush()


class Reporter(Listener):
    """Shows on stderr what a command tells: lines for a person, and its progress on a terminal.

    ``progress``: whether progress is shown where lines are, too; ``sizes``: and how much there is
    to be done.
    """

    def __init__(
        self, err: IO[str], *, quiet: bool = False, progress: bool = True, sizes: bool = True
    ) -> None:
        self.err, self.quiet, self.sizes = err, quiet, progress and sizes
        self._progress = Progress(err, quiet=quiet or not progress)

    def tell(self, text: str) -> None:
        if not self.quiet:
            self.err.write(text + "\n")
            self.err.flush()

    def warn(self, text: str) -> None:
        self.err.write(f"catenum: {text}\n")

    def size(self, text: str) -> None:
        if self.sizes:
            self.tell(text)

    def steps(self, done: int, total: int, what: str) -> None:
        self._progress(done, total, what)

    def part(self, fraction: float, what: str) -> None:
        self._progress.part(fraction, what)

    def clear(self) -> None:
        self._progress.clear()
