"""Who goes on first where two wait and a third lets go, on a real server under load. Part of ``make
soak``.

python tests/overtaking.py --server postgresql --times 300

``core.space.contest`` says where the server's own queue decides, and where either may be first.
Here two wait for what a third holds, again and again, with the processors kept busy: where a queue
is said to decide, nobody may be overtaken. Prints how often each way was seen; exit code 1 where a
queue was not kept. Nothing of Catenum but the server is used.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
from collections.abc import Sequence
from dataclasses import dataclass

from enumerating.sessions import Bench, bench_on, kept_sockets

DATA = (
    "create table berth (id int primary key, moved int); insert into berth values (1, 0), (2, 0);"
    "create table crane (id int primary key, moved int); insert into crane values (1, 0);"
)
CHANGE, LOCK, INSERT = (
    "update berth set moved = moved + 1 where id = 1",
    "select moved from berth where id = 1 for update",
    "insert into berth (id, moved) values (4, 0)",
)


@dataclass(frozen=True)
class Way:
    """What the third does and how it ends, what the two wait with, and whether a queue decides on
    each server.
    """

    title: str
    holds: str
    ends: str
    wait: tuple[str, str]
    queued: tuple[str, ...]
    level: str | None = None


ALL = ("postgresql", "mariadb", "mysql")
WAYS = (
    Way("a changed row, committed", CHANGE, "commit", (CHANGE, CHANGE), ("mariadb", "mysql")),
    Way("a changed row, committed, one wants it shared", CHANGE, "commit", (LOCK, CHANGE), ("mariadb", "mysql")),
    Way("a changed row, rolled back", CHANGE, "rollback", (CHANGE, CHANGE), ALL),
    Way("a locked row", LOCK, "commit", (CHANGE, CHANGE), ALL),
    Way("a locked row, under one snapshot", LOCK, "commit", (CHANGE, CHANGE), ALL, "repeatable read"),
    Way("a new key, rolled back", INSERT, "rollback", (INSERT, INSERT), ()),
    Way("a table", "alter table crane add column more int", "commit", ("alter table crane add column one int", "select moved from crane"), ("postgresql",)),
)  # fmt: skip


def raced(bench: Bench, way: Way, times: int) -> tuple[int, int, int]:
    """How often the first that waited went on first, how often the second, and how often neither
    waits then.
    """
    first = second = neither = 0
    for _ in range(times):
        bench.fresh(DATA)
        for place, sql in enumerate((way.holds, *way.wait)):
            bench.hands[place].send(*bench.begin(way.level), sql)
            bench.settle()
        bench.hands[0].send(way.ends)
        waits = bench.settle()
        first, second = first + (waits == {2}), second + (waits == {1})
        neither += waits not in ({1}, {2})
        for place in sorted({1, 2}, key=lambda place: place in waits):
            bench.hands[place].send("rollback")
            bench.settle()
    return first, second, neither


def busy(count: int) -> Sequence[subprocess.Popen[bytes]]:
    """Processes that do nothing but keep the processors busy."""
    return [subprocess.Popen([sys.executable, "-c", "while True: pass"]) for _ in range(count)]


def main() -> int:
    """Run every way, and say what came of it."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--server", choices=ALL, required=True)
    parser.add_argument("--times", type=int, default=300)
    args = parser.parse_args()
    bench = bench_on(args.server, kept_sockets(args.server), 3, f"overtaking_{os.getpid()}")
    wrong = 0
    load = busy((os.cpu_count() or 1) * 2)
    try:
        for way in WAYS:
            first, second, neither = raced(bench, way, args.times)
            queued = args.server in way.queued
            wrong += queued and second > 0
            print(
                f"{args.server}: {way.title}: the first {first}, the second {second}, neither waits {neither}"
                f"{'; a queue decides' if queued else ''}{': NOT KEPT' if queued and second else ''}",
                flush=True,
            )
    finally:
        for process in load:
            process.kill()
            process.wait()
        bench.close()
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
