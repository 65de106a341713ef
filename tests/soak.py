"""Hours of generated scenarios: every order walked by hand, beside what ``explore`` says. See
``tests/enumerating``.

python tests/soak.py --server postgresql --seconds 3600 --first 1

Prints each difference with the scenario's number, and at the end how many were compared. Exit code
1: differences.
"""

from __future__ import annotations

import argparse
import contextlib
import io
import os
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from catenum.cli.main import main
from enumerating.compare import as_json, compared, written
from enumerating.generate import MAKES, PIECES
from enumerating.sessions import bench_on, kept_sockets


def soak() -> int:
    """Run, and say what came of it."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--server", choices=tuple(PIECES), required=True)
    parser.add_argument("--seconds", type=float, default=3600.0)
    parser.add_argument("--first", type=int, default=1)
    parser.add_argument("--step", type=int, default=1)
    parser.add_argument("--count", type=int, default=10**9)
    parser.add_argument(
        "--make", choices=tuple(MAKES), default="pieces", help="which kind of scenarios"
    )
    parser.add_argument(
        "--reduced", action="store_true", help="explore without running every order as well"
    )
    parser.add_argument(
        "--show", action="store_true", help="print the scenario of --first and stop"
    )
    args = parser.parse_args()
    make = MAKES[args.make]
    folder = Path(tempfile.mkdtemp(prefix="catenum-soak-"))
    if args.show:
        print(written(make(args.server, args.first), folder).read_text())
        return 0
    bench = bench_on(args.server, kept_sockets(args.server), 3, f"enumerated_{os.getpid()}")
    counts = Counter[str]()

    def explore(path: Path) -> dict:
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            words = ["explore", str(path), "--target", f"local:{args.server}", "--json", "--quiet"]
            code = main([*words, *(["--check-orders", "0"] if args.reduced else [])])
        found = as_json(out.getvalue())
        counts["not proven"] += bool(found) and not found["reach"]["complete"]
        if any("please report" in note for note in found.get("notes", ())):
            print(f"  {[note for note in found['notes'] if 'please report' in note]}", flush=True)
        if not found:
            print(f"  explore ended with {code}: {err.getvalue().strip()[-600:]}", flush=True)
        return found

    def play(path: Path, order: str, locks: str) -> dict:
        out = io.StringIO()
        words = [
            "play",
            str(path),
            "--order",
            order,
            "--target",
            f"local:{args.server}",
            "--json",
            "--quiet",
            "--locks",
            locks,
        ]
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
            main(words)
        return as_json(out.getvalue())

    until = time.monotonic() + args.seconds
    number = args.first
    while time.monotonic() < until and counts["compared"] < args.count:
        began = time.monotonic()
        lines: list[str] = []
        for attempt in range(
            3
        ):  # a slow machine makes the walk see a wait where a statement merely took long
            try:
                lines = compared(make(args.server, number), bench, explore, folder, play=play)
            except Exception as error:  # a soak goes on
                lines = [f"{type(error).__name__}: {error}"]
            if not lines:
                counts["only once"] += attempt > 0
                break
        counts["compared"] += 1
        if time.monotonic() - began > 180:
            lines.append(f"it took {time.monotonic() - began:.0f} s")
        if lines:
            counts["different"] += 1
            print(f"{args.server} {number}", *lines, sep="\n    ", flush=True)
        if counts["compared"] % 50 == 0:
            print(
                f"{args.server}: {counts['compared']} compared, at {number}",
                file=sys.stderr,
                flush=True,
            )
        number += args.step
    bench.close()
    print(
        f"{args.server}: {counts['compared']} compared, {counts['different']} different, {counts['only once']} that differed "
        f"once and not again, {counts['not proven']} explorations in which nothing is called proven, "
        f"the last was {number - args.step}"
    )
    return 1 if counts["different"] else 0


if __name__ == "__main__":
    sys.exit(soak())
