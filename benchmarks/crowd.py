"""A crowd on one row: what a look at 500 waiters costs the server, and what a watch costs 200 that
pass the row on.

python benchmarks/crowd.py [postgresql|mariadb|mysql]

The load runs all the time; the watch beside it is stopped and let go on in turns (SIGSTOP,
SIGCONT), pair by pair in the other order. The ratio is the median over the pairs, its interval by
bootstrap (95 %).
"""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from multiprocessing.sharedctypes import Synchronized
from pathlib import Path
from typing import Any

import psycopg
import pymysql
from watching import paired

from catenum.engines.drivers import server_module
from catenum.engines.private.mariadb import MariadbRecipe
from catenum.engines.private.mysql import MysqlRecipe
from catenum.engines.private.postgresql import PostgresqlRecipe
from catenum.engines.private.programs import cache_folder, server_owner, server_programs

SCRIPT = str(Path(sys.executable).with_name("catenum"))
WAITERS, CLIENTS, TURNS, TURN_S, HOLD_S = 500, 200, 48, 4.0, 0.002
TAKE = "update slot set boxes = boxes - 1 where id = 42"
RECIPES: dict[str, Any] = {
    "postgresql": PostgresqlRecipe,
    "mariadb": MariadbRecipe,
    "mysql": MysqlRecipe,
}


class Server:
    """A server that takes 700 connections, in a folder of its own."""

    def __init__(self, kind: str) -> None:
        self.kind, owner = kind, server_owner()
        recipe = RECIPES[kind](server_programs(kind, {}, cache_folder(owner), owner), owner)
        self.folder = Path(tempfile.mkdtemp(prefix="catenum-bench-"))
        if owner.drop:
            os.chown(self.folder, owner.uid, owner.gid)
        data = self.folder / "data"
        recipe.initialise(data)
        more = ["-c", "max_connections=700"] if kind == "postgresql" else ["--max-connections=700"]
        command = [*recipe.command(data, self.folder), *more]
        self.process = subprocess.Popen(
            command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd="/", **owner.popen
        )
        while not recipe.is_ready(data, self.folder):
            time.sleep(0.05)
        if kind != "postgresql":
            self.run("create database quay", database=None)
        self.run(
            "create table slot (id int primary key, boxes int)", "insert into slot values (42, 0)"
        )

    @property
    def url(self) -> str:
        if self.kind == "postgresql":
            return f"postgresql://catenum@/postgres?host={self.folder}"
        return f"{self.kind}://root@localhost/quay?unix_socket={self.folder}/server.sock"

    def connect(self, database: str | None = "quay") -> Any:
        if self.kind == "postgresql":
            return psycopg.connect(f"host={self.folder} user=catenum dbname=postgres")
        return pymysql.connect(
            unix_socket=f"{self.folder}/server.sock", user="root", database=database
        )

    def run(self, *statements: str, database: str | None = "quay") -> None:
        with contextlib.closing(self.connect(database)) as session:
            for statement in statements:
                session.cursor().execute(statement)
            session.commit()

    def cpu_ms(self, monitor: Any) -> float:
        """Of the watching session's process; of the whole server where that is one process."""
        if self.kind == "postgresql":
            path = f"/proc/{monitor.connection.info.backend_pid}/schedstat"
            return int(Path(path).read_text().split()[0]) / 1e6
        fields = Path(f"/proc/{self.process.pid}/stat").read_text().rsplit(")", 1)[1].split()
        return (int(fields[11]) + int(fields[12])) * 1000 / os.sysconf("SC_CLK_TCK")

    def stop(self) -> None:
        self.process.send_signal(signal.SIGINT if self.kind == "postgresql" else signal.SIGTERM)
        self.process.wait(60)
        shutil.rmtree(self.folder, ignore_errors=True)


def looked(server: Server) -> float:
    """Server CPU (ms) of one look while 500 sessions wait for one row."""
    head = server.connect()
    head.cursor().execute(TAKE)
    waiting = [server.connect() for _ in range(WAITERS)]
    for session in waiting:
        threading.Thread(target=_takes, args=(session,), daemon=True).start()
    monitor = server_module(server.kind, ".monitor").open_monitor(server.url, "bench")
    while len(monitor.sample().graph.waiters) < WAITERS:
        time.sleep(0.5)
    before, looks = server.cpu_ms(monitor), 20
    for _ in range(looks):
        monitor.sample(at_least_ms=500)
        time.sleep(0.15)
    cost = (server.cpu_ms(monitor) - before) / looks
    monitor.close()
    for session in (head, *waiting):
        with contextlib.suppress(Exception):
            session.close()
    return cost


def _takes(session: Any) -> None:
    with contextlib.suppress(Exception):
        session.cursor().execute(TAKE)


def _load(
    kind: str, folder: str, clients: int, count: Synchronized[int], stop: Synchronized[int]
) -> None:
    server = object.__new__(Server)
    server.kind, server.folder = kind, Path(folder)

    def client() -> None:
        session = server.connect()
        while not stop.value:
            with contextlib.suppress(psycopg.Error, pymysql.Error):
                session.cursor().execute(TAKE)
                time.sleep(HOLD_S)
                session.commit()
                with count.get_lock():
                    count.value += 1

    threads = [threading.Thread(target=client) for _ in range(clients)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()


def watched(server: Server) -> tuple[float, float, float]:
    """Throughput with the watch against without: median of the pairs, and its interval."""
    count: Any = multiprocessing.Value("i", 0)
    stop: Any = multiprocessing.Value("i", 0)
    args = (server.kind, str(server.folder), CLIENTS // 2, count, stop)
    load = [multiprocessing.Process(target=_load, args=args) for _ in range(2)]
    for process in load:
        process.start()
    time.sleep(8)
    words = [
        SCRIPT,
        "watch",
        "--target",
        server.url,
        "--store",
        str(server.folder / "w.sqlite"),
        "--quiet",
    ]
    with tempfile.TemporaryDirectory() as folder:
        words[words.index("--store") + 1] = f"{folder}/w.sqlite"
        watch = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(3)
        turns = []
        for number in range(TURNS):
            watch.send_signal(signal.SIGCONT if number % 4 in (0, 3) else signal.SIGSTOP)
            time.sleep(0.5)  # in which the change came
            before, began = count.value, time.monotonic()
            time.sleep(TURN_S)
            turns.append((count.value - before) / (time.monotonic() - began))
        watch.send_signal(signal.SIGCONT)
        watch.terminate()
        watch.wait(30)
    stop.value = 1
    for process in load:
        process.join()
    return paired(turns)


def main() -> int:
    """Measure and print; 1 where a bound is passed."""
    good = True
    for kind in sys.argv[1:] or list(RECIPES):
        server = Server(kind)
        try:
            cost = looked(server)
            ratio, low, high = watched(server)
        finally:
            server.stop()
        good = good and cost <= 50 and ratio >= 0.98
        print(f"{kind}: a look at {WAITERS} waiters: {cost:.1f} ms of the server (at most 50)")
        print(
            f"{kind}: {CLIENTS} clients on one row, with watch / without: {ratio:.3f} ({low:.3f} to"
            f" {high:.3f})"
        )
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
