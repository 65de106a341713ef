"""Cost of watching, on servers and data of its own. ``make bench`` runs this too; ``quick`` leaves
out the load.
"""

from __future__ import annotations

import os
import random
import shutil
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import psycopg

from catenum.core.record.recording import TargetInfo
from catenum.core.record.waits import Edge, Resource, WaitGraph
from catenum.core.snapshot.incidents import Head, Incident
from catenum.core.snapshot.sample import Sample, SessionInfo
from catenum.engines.postgresql.monitor import open_monitor
from catenum.engines.private.postgresql import PostgresqlRecipe
from catenum.engines.private.programs import cache_folder, server_owner, server_programs
from catenum.store import queries
from catenum.store.spans import Span
from catenum.store.store import writer

SCRIPT = str(Path(sys.executable).with_name("catenum"))
TURNS, TURN_S = 60, 5


class Server:
    """A PostgreSQL that takes 600 connections, in a folder of its own."""

    def __init__(self) -> None:
        self.owner = server_owner()
        self.recipe = PostgresqlRecipe(
            server_programs("postgresql", {}, cache_folder(self.owner), self.owner), self.owner
        )
        self.folder = Path(tempfile.mkdtemp(prefix="catenum-bench-"))
        if self.owner.drop:
            os.chown(self.folder, self.owner.uid, self.owner.gid)
        self.recipe.initialise(self.folder / "data")
        command = [
            *self.recipe.command(self.folder / "data", self.folder),
            "-c",
            "max_connections=600",
        ]
        self.process = subprocess.Popen(
            command,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            cwd="/",
            **self.owner.popen,
        )
        self.conninfo = f"host={self.folder} user=catenum dbname=postgres"
        for _ in range(200):
            if self.recipe.is_ready(self.folder / "data", self.folder):
                return
            time.sleep(0.05)
        raise RuntimeError("the server did not start")

    def stop(self) -> None:
        self.process.terminate()
        self.process.wait(30)
        shutil.rmtree(self.folder, ignore_errors=True)


def sampled(server: Server) -> float:
    """Median ms of a cheap sample at 500 sessions, 100 of them waiting in chains of ten."""
    made = [psycopg.connect(server.conninfo) for _ in range(500)]
    made[0].execute("create table hot (id int primary key, n int)")
    made[0].execute("insert into hot select n, 0 from generate_series(1, 500) n")
    made[0].commit()
    for chain in range(10):
        members = made[chain * 11 : chain * 11 + 11]
        for place, connection in enumerate(members):
            connection.execute("update hot set n = 1 where id = %s", [chain * 11 + place + 1])
        for place, connection in enumerate(members[1:]):
            sql = f"update hot set n = 2 where id = {chain * 11 + place + 1}"
            connection.pgconn.send_query(sql.encode())
    time.sleep(1.0)
    monitor = open_monitor(server.conninfo, "bench")
    monitor.sample()
    costs, waiting = [], 0
    for _ in range(30):
        sample = monitor.sample()
        costs.append(sample.cost_ms)
        waiting = len(sample.graph.waiters)
    monitor.close()
    for connection in made:
        connection.close()
    if waiting != 100:
        raise RuntimeError(f"{waiting} were waiting instead of 100")
    time.sleep(1.0)
    with psycopg.connect(server.conninfo) as connection:
        connection.execute(
            "select pg_terminate_backend(pid) from pg_stat_activity where wait_event_type = 'Lock'"
        )
    return statistics.median(costs)


def chains(sessions: int = 10_000, locks: int = 100_000) -> float:
    """Seconds to find heads, chains and cycles among so many."""
    chance = random.Random(5)
    resource = Resource(kind="row", text="hot")
    edges = []
    for _ in range(locks):
        waiter = chance.randrange(1, sessions)
        edges.append(
            Edge(
                waiter=str(waiter),
                holder=str(chance.randrange(waiter)),
                resource=resource,
                wanted="x",
                held="x",
            )
        )
    for n in range(20):
        edges.append(
            Edge(
                waiter=str(n), holder=str(sessions - 1 - n), resource=resource, wanted="x", held="x"
            )
        )
    start = time.perf_counter()
    graph = WaitGraph(edges)
    heads, cycles = graph.heads(), graph.cycles()
    chain = graph.longest_chain()
    if not cycles or not chain:
        raise RuntimeError("nothing was found")
    for head in heads[:5]:
        graph.tree(head)
    return time.perf_counter() - start


def a_week(folder: Path) -> tuple[float, float]:
    """Size (MB) of a store with a week at a sample a second and an incident every ten seconds;
    seconds of a summary.
    """
    store = writer(folder / "week.sqlite")
    target = TargetInfo(server="postgresql", version="15", url="bench")
    resource = Resource(kind="row", text="box(id=7)", table="box", key="id=7")
    store.connection.execute("pragma synchronous = off")
    chance = random.Random(3)
    begin = time.time() - 7 * 86_400
    for number in range(60_480):
        at = time.strftime("%Y-%m-%dT%H:%M:%S.000Z", time.gmtime(begin + number * 10))
        head = SessionInfo(
            id=str(number),
            started=at,
            user="yard",
            application=f"gate{number % 9}",
            host="10.0.0.7",
            database="harbour",
            state="idle in a transaction",
            transaction_ms=900.0,
            statement=f"update box set state = 'in' where id = {number % 40}",
        )
        waiters = [
            SessionInfo(
                id=f"{number}-{n}",
                user="yard",
                application="crane",
                state="waits for a lock",
                transaction_ms=500.0,
                statement_ms=400.0,
                statement="update box set state = 'out' where id = 7",
            )
            for n in range(chance.randrange(1, 4))
        ]
        edges = [
            Edge(
                waiter=w.id,
                holder=head.id,
                resource=resource,
                wanted="x",
                held="x",
                since_ms=-400.0,
            )
            for w in waiters
        ]
        sample = Sample(
            at=at,
            target=target,
            sessions=(head, *waiters),
            edges=tuple(edges),
            connected=80,
            cost_ms=1.0,
            rows_read=5,
        )
        incident = Incident(
            at,
            at,
            sample,
            "a row of tally",
            worst_waiting=len(waiters),
            ended=at,
            wait_ms=900.0,
            longest_ms=400.0,
            chain=1,
            statements={head.id: (head.statement or "",)},
        )
        one = Head(head, at, at, held_ms=400.0)
        incident.heads[one.key], incident.head_count = one, 1
        store.write("bench", sample, [incident])
    store.connection.execute("pragma wal_checkpoint(truncate)")
    size = (folder / "week.sqlite").stat().st_size / 1e6
    start = time.perf_counter()
    span = Span()
    queries.totals(store, span)
    queries.grouped(store, "statement", span)
    queries.grouped(store, "object", span)
    queries.pairs(store, span)
    took = time.perf_counter() - start
    store.close()
    return size, took


def paired(turns: list[float]) -> tuple[float, float, float]:
    """With against without, of turns in the order on, off, off, on: the median of the pairs, its
    interval (95 %).
    """
    pairs = [
        (turns[n], turns[n + 1]) if n % 4 == 0 else (turns[n + 1], turns[n])
        for n in range(0, len(turns) - 1, 2)
    ]
    ratios = [on / off for on, off in pairs]
    chance = random.Random(1)
    means = sorted(statistics.median(chance.choices(ratios, k=len(ratios))) for _ in range(2000))
    return statistics.median(ratios), means[50], means[1949]


def watched(server: Server, folder: Path) -> tuple[float, float, float]:
    """pgbench, 200 clients on a hot table, with and without a watch: the ratio and its interval (95
    %).

    One pgbench runs all the time and tells its throughput each second; the watch is stopped and let
    go on (SIGSTOP, SIGCONT) in turns, pair by pair in the other order, so that neither has the
    warmer half.
    """
    program = next(
        p
        for p in (
            shutil.which("pgbench"),
            *map(str, Path("/usr/lib/postgresql").glob("*/bin/pgbench")),
        )
        if p
    )
    with psycopg.connect(server.conninfo, autocommit=True) as connection:
        connection.execute("create table if not exists tally (id int primary key, n int)")
        connection.execute(
            "insert into tally select n, 0 from generate_series(1, 100) n on conflict do nothing"
        )
    script = folder / "hot.sql"
    script.write_text(
        "\\set id random(1, 100)\nbegin;\nupdate tally set n = n + 1 where id = :id;\ncommit;\n"
    )
    (folder / "catenum.toml").write_text(
        f'[targets]\nbench = "postgresql:///postgres?host={server.folder}&user=catenum"\n'
    )
    load = subprocess.Popen(
        [
            program,
            "-n",
            "-M",
            "prepared",
            "-c",
            "200",
            "-j",
            "2",
            "-T",
            str(TURNS * TURN_S + 60),
            "-P",
            "1",
            "-f",
            str(script),
            "-h",
            str(server.folder),
            "-U",
            "catenum",
            "postgres",
        ],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        text=True,
    )
    words = [
        SCRIPT,
        "watch",
        "--target",
        "bench",
        "--every",
        "1s",
        "--store",
        str(folder / "w.sqlite"),
        "--quiet",
    ]
    watch = subprocess.Popen(
        words, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    try:
        seconds = (
            float(line.split()[3]) for line in load.stderr or () if line.startswith("progress:")
        )
        for _ in range(10):  # until both have settled
            next(seconds)
        turns = []
        for number in range(TURNS):
            with_watch = number % 4 in (0, 3)
            watch.send_signal(signal.SIGCONT if with_watch else signal.SIGSTOP)
            next(seconds)  # in which the change came
            turns.append(statistics.mean(next(seconds) for _ in range(TURN_S - 1)))
    finally:
        for process in (watch, load):
            process.send_signal(signal.SIGCONT)
            process.terminate()
            process.wait(20)
    return paired(turns)


def main() -> int:
    """Measure and print; 1 where a bound is passed."""
    good = True

    def reported(
        what: str, value: float, bound: float, unit: str = "", *, least: bool = False
    ) -> None:
        nonlocal good
        fine = value >= bound if least else value <= bound
        good = good and fine
        word = "at least" if least else "at most"
        print(
            f"{'ok  ' if fine else 'SLOW'}  {what:<72} {value:8.2f}{unit}  ({word} {bound:g}{unit})"
        )

    reported("heads, chains and cycles among 10,000 sessions and 100,000 waits", chains(), 1, " s")
    with tempfile.TemporaryDirectory() as name:
        size, took = a_week(Path(name))
        reported("a week of samples with an incident every 10 s: the store", size, 200, " MB")
        reported("history of that week", took, 1, " s")
    server = Server()
    try:
        reported("a cheap sample, 500 sessions, 100 of them waiting", sampled(server), 20, " ms")
        if "quick" not in sys.argv:
            with tempfile.TemporaryDirectory() as name:
                ratio, low, high = watched(server, Path(name))
            reported(
                f"pgbench, 200 clients, with watch / without ({low:.3f} to {high:.3f})",
                ratio,
                0.98,
                least=True,
            )
    finally:
        server.stop()
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
