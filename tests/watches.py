"""Watches of one server beside the account of a script that makes its incidents. Part of ``make
soak``.

python tests/watches.py --server postgresql --seconds 180 --first 1

Four watches look at the same server: as it is, over a slow link, with a disk that is full for a
while, with ``--mask``. Every incident of three seconds and more must be in the history of each,
with its head, or lie in a time that the history calls a gap or blind; and no incident may be there
that the script did not make.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import random
import resource
import subprocess
import sys
import tempfile
import threading
import time
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import psycopg

from conftest import SCRIPT, over_socket
from enumerating.sessions import kept_sockets
from slow_link import SlowLink

EVERY_S, DELAY_S = 0.5, 0.12
#: What is seen of an incident may begin and end a check late, and over a slow link some more.
LATE_S = 4.0
ROW = "update berth set moved = moved + 1 where id = {k}"
#: Incidents by kind: what the head does, then what each of the others does (None: sends nothing
#: that waits).
KINDS: dict[str, tuple[str, tuple[tuple[str, ...], ...]]] = {
    "a row": (ROW.format(k=1), ((ROW.format(k=1),),)),
    "a row that many want": (ROW.format(k=2), ((ROW.format(k=2),),) * 4),
    "a chain": (ROW.format(k=3), ((ROW.format(k=4), ROW.format(k=3)), (ROW.format(k=4),))),
    "a lock of that name": ("{named}", (("{named}",),)),
    "all rows": (
        "update berth set moved = 0",
        ((ROW.format(k=5),), ("delete from berth where id = 1",)),
    ),
}
NAMED = {"postgresql": "select pg_advisory_xact_lock(7)", "mariadb": "select get_lock('quay', 60)"}
NAMED["mysql"] = NAMED["mariadb"]


@dataclass
class Made:
    """One incident as the script made it, in seconds of the wall clock."""

    kind: str
    head: str
    since: float
    until: float


@dataclass
class Watched:
    """One watch: its store, and what it writes."""

    name: str
    store: Path
    process: subprocess.Popen[bytes]
    full: list[tuple[float, float]] = field(default_factory=list)

    def fill_disk(self) -> None:
        size = self.store.stat().st_size
        resource.prlimit(self.process.pid, resource.RLIMIT_FSIZE, (size, resource.RLIM_INFINITY))
        self.full.append((time.time(), 0.0))

    def free_disk(self) -> None:
        unlimited = resource.RLIM_INFINITY
        resource.prlimit(self.process.pid, resource.RLIMIT_FSIZE, (unlimited, unlimited))
        self.full[-1] = (self.full[-1][0], time.time())


class Port:
    """The server and its sessions."""

    def __init__(self, server: str) -> None:
        self.server, self.sockets = server, kept_sockets(server)
        admin = self.connect("tester")
        if server != "postgresql":
            admin.cursor().execute("set global innodb_lock_wait_timeout = 60")
        for sql in ("drop table if exists berth", "create table berth (id int primary key, moved int)",
                    "insert into berth values (1, 0), (2, 0), (3, 0), (4, 0), (5, 0)"):  # fmt: skip
            admin.cursor().execute(sql)
        admin.commit()
        admin.close()

    def connect(self, name: str) -> Any:
        if self.server == "postgresql":
            where = f"host={self.sockets} user=catenum dbname=marrowgate"
            return psycopg.connect(where, application_name=name)
        made = over_socket(
            unix_socket=f"{self.sockets}/server.sock", user="root", program_name=name
        )
        made.cursor().execute("create database if not exists watches")
        made.select_db("watches")
        return made

    def number(self, session: Any) -> str:
        return str(session.info.backend_pid if self.server == "postgresql" else session.thread_id())

    def url(self, sockets: Path | str) -> str:
        if self.server == "postgresql":
            return f"postgresql://catenum@/marrowgate?host={sockets}"
        return f"{self.server}://root@localhost/watches?unix_socket={sockets}/server.sock"

    @property
    def socket(self) -> str:
        return ".s.PGSQL.5432" if self.server == "postgresql" else "server.sock"

    def incident(self, kind: str, length_s: float) -> Made:
        """Make one, and let it last."""
        first, others = KINDS[kind]
        named = NAMED[self.server]
        head = self.connect("head")
        made = [self.connect(f"crane {n}") for n in range(len(others))]
        threads = []
        head.cursor().execute(first.format(named=named))
        since = time.time()
        for session, statements in zip(made, others, strict=True):
            for statement in statements[:-1]:
                session.cursor().execute(statement)
            thread = threading.Thread(
                target=_quietly, args=(session, statements[-1].format(named=named)), daemon=True
            )
            thread.start()
            threads.append(thread)
            time.sleep(0.1)
        time.sleep(length_s)
        found = Made(kind, self.number(head), since, time.time())
        head.close()  # which rolls back, and lets go of what is named
        for thread, session in zip(threads, made, strict=True):
            thread.join(20)
            with contextlib.suppress(Exception):
                session.close()
        return found


def _quietly(session: Any, statement: str) -> None:
    with contextlib.suppress(Exception):
        session.cursor().execute(statement)
        session.rollback()


def watch(port: Port, name: str, folder: Path) -> Watched:
    sockets: Path | str = port.sockets
    if name == "over a slow link":
        SlowLink(folder / port.socket, f"{port.sockets}/{port.socket}", DELAY_S).start()
        sockets = folder
    store = folder / f"{name.replace(' ', '-')}.sqlite"
    words = [
        "watch",
        "--target",
        port.url(sockets),
        "--store",
        str(store),
        "--every",
        f"{int(EVERY_S * 1000)}ms",
        "--json",
    ]
    process = subprocess.Popen(
        [str(SCRIPT), *words, *(["--mask"] if name == "masked" else [])], stdout=subprocess.DEVNULL
    )
    return Watched(name, store, process)


def wall(text: str) -> float:
    return datetime.fromisoformat(text).astimezone(UTC).timestamp()


def asked(store: Path, *words: str) -> dict[str, Any]:
    done = subprocess.run(
        [str(SCRIPT), "history", *words, "--store", str(store), "--json"],
        check=True,
        capture_output=True,
    )
    found: dict[str, Any] = json.loads(done.stdout)
    return found


def differences(one: Watched, made: list[Made]) -> list[str]:
    """What a watch's history has otherwise than the script."""
    reported = [
        row
        for row in asked(one.store, "list")["incidents"]
        if row["source"] is None or row["source"] == "watch"
    ]
    gaps = [
        (wall(gap["since"]), wall(gap["until"]) if gap["until"] else time.time())
        for gap in asked(one.store)["gaps"]
    ]
    found, wrong = set(), []
    for each in made:
        own = [row for row in reported if row["head"] == each.head]
        found |= {row["id"] for row in own}
        dark = sum(
            max(0.0, min(until, each.until) - max(since, each.since)) for since, until in gaps
        )
        for row in own:
            if wall(row["first"]) < each.since - 1 or wall(row["last"]) > each.until + LATE_S:
                wrong.append(f"{one.name}: {each} is told from {row['first']} to {row['last']}")
        if (
            each.until - each.since >= 3
            and not own
            and each.until - each.since - dark > EVERY_S + 1
        ):
            wrong.append(
                f"{one.name}: {each} is not in its history, and {dark:.1f} s of it are called a gap"
            )
        if len(own) > 1 and not dark:
            wrong.append(f"{one.name}: {each} is {len(own)} incidents")
    wrong += [f"{one.name}: nobody made {row}" for row in reported if row["id"] not in found]
    return wrong


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--server", choices=list(NAMED), required=True)
    parser.add_argument("--seconds", type=float, default=180.0)
    parser.add_argument("--first", type=int, default=1)
    args = parser.parse_args()
    chance = random.Random(args.first)
    port = Port(args.server)
    made: list[Made] = []
    with tempfile.TemporaryDirectory(prefix="catenum-watches-") as place:
        names = ("as it is", "over a slow link", "with a full disk", "masked")
        watches = [watch(port, name, Path(place)) for name in names]
        disk = watches[2]
        time.sleep(6)
        until, number = time.monotonic() + args.seconds, 0
        while time.monotonic() < until:
            number += 1
            if number % 6 == 3:
                disk.fill_disk()
            if number % 6 == 5:
                disk.free_disk()
            made.append(
                port.incident(chance.choice(list(KINDS)), chance.choice([1.0, 3.0, 4.0, 6.0]))
            )
            time.sleep(chance.uniform(2.0, 4.0))
        if number % 6 in (3, 4):
            disk.free_disk()
        time.sleep(5)
        for one in watches:
            one.process.terminate()
        for one in watches:
            one.process.wait(60)
        wrong = [text for one in watches for text in differences(one, made)]
    print(*wrong, sep="\n")
    print(f"{args.server}: {len(made)} incidents, {len(watches)} watches, {len(wrong)} differences")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
