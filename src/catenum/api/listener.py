"""What a command tells while it works: a shell shows it on stderr, a program may ignore it."""

from __future__ import annotations


class Listener:
    """Hears what goes on; this one ignores it. A subclass overrides what it is interested in."""

    def tell(self, text: str) -> None:
        """Something that a person should know meanwhile: a server is made, a leftover cleared."""

    def warn(self, text: str) -> None:
        """Something that should be done otherwise."""

    def size(self, text: str) -> None:
        """How much there is to be done, before the work begins."""

    def steps(self, done: int, total: int, what: str) -> None:
        """How many of a known number of runs are done."""

    def part(self, fraction: float, what: str) -> None:
        """Which part is done, 0 to 1, where the number of runs is not known beforehand."""

    def clear(self) -> None:
        """The work is over: a line of progress is to be taken away."""


SILENT = Listener()
