"""Speed of reading a log of PostgreSQL, as ratios within one run, and in MB/s. ``make bench`` runs
this too.

The log is one that nobody waits in: what a server writes that logs every statement, and one that
logs none.
"""

from __future__ import annotations

import csv
import io
import statistics
import sys
import tempfile
import time
from functools import partial
from pathlib import Path

from catenum.intake.conflicts import conflicts_in
from catenum.intake.files import sources

MEGABYTES, ROUNDS = 60, 5
_HEAD = (
    "2026-11-26 07:25:55.353"
    ' UTC,"quay","port",{pid},"[local]",66a1b2c3.7358,{line},"{tag}",2026-11-26 07:25:54 UTC'
)
_STATEMENT = (
    f'{_HEAD},3/{{line}},0,LOG,00000,"duration: 0.123 ms  statement: select id, vessel, moved from'
    ' berth where id = {line} order by id limit 10",,,,,,,,,"quay-board","client backend",,0\n'
)
_QUIET = (
    f'{_HEAD},,0,LOG,00000,"checkpoint complete: wrote 3 buffers (0.0%); 0 WAL file(s) added, 0'
    ' removed; write=0.2 s",,,,,,,,,"","checkpointer",,0\n'
)


def written(path: Path, row: str, tag: str) -> None:
    """A log of so many megabytes."""
    part = "".join(
        row.format(pid=2_000 + number % 50, line=number, tag=tag) for number in range(20_000)
    )
    with path.open("w", encoding="utf-8") as stream:
        for _ in range(MEGABYTES * 1_000_000 // len(part) + 1):
            stream.write(part)


def seconds(work: object) -> float:
    """How long a call takes."""
    start = time.perf_counter()
    work()  # type: ignore[operator]
    return time.perf_counter() - start


def by_hand(path: Path) -> None:
    """The rows alone, by the library that is in Python, in pieces as large as ours."""
    with path.open(encoding="utf-8", newline="\n") as stream:
        while text := stream.read(4_000_000):
            for _ in csv.reader(io.StringIO(text, newline="")):
                pass


def _taken_in(path: Path) -> None:
    conflicts_in(sources([str(path)]))


def main() -> int:
    """Measure and print; 1 where a bound is passed."""
    good = True
    with tempfile.TemporaryDirectory(prefix="catenum-bench-") as folder:
        for what, row, tag in (
            ("every statement", _STATEMENT, "SELECT"),
            ("no statement", _QUIET, ""),
        ):
            path = Path(folder) / "port.csv"
            written(path, row, tag)
            size = path.stat().st_size / 1e6
            mine, hand = partial(_taken_in, path), partial(by_hand, path)
            pairs = [(seconds(mine), seconds(hand)) for _ in range(ROUNDS)]
            ratio = statistics.median(one / other for one, other in pairs)
            speed = size / min(one for one, _ in pairs)
            good = good and ratio <= 2
            word = "ok  " if ratio <= 2 else "SLOW"
            print(
                f"{word}  intake of a csvlog with {what} / its rows alone: {ratio:.2f}  (at most 2;"
                f" {speed:.0f} MB/s)"
            )
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
