"""Speed, as ratios within one run, on a private server of its own. Run with ``make bench``;
docs/speed.md tells how to read it.

Each line prints a ratio (or a median), the bound it must stay within, and whether it does; the exit
code is 1 where one does not.
"""

from __future__ import annotations

import multiprocessing as mp
import os
import re
import shutil
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

import psycopg
import pymysql
from psycopg.conninfo import conninfo_to_dict

from catenum import samples
from catenum.core.scenario.reader import read_scenario
from catenum.engines.ports import Engine, Patience
from catenum.engines.postgresql.engine import connect
from catenum.engines.postgresql.session import CHECK_AFTER_MS
from catenum.engines.private import private_server
from catenum.engines.targets import Settings, open_engine, resolve
from catenum.lab.load.churn import Churn
from catenum.lab.run.loading import load
from catenum.lab.run.play import PlayOptions, play

ROUNDS = 60
SCRIPT = str(Path(sys.executable).with_name("catenum"))
BERTHS = """
drop table if exists bench_berth;
create table bench_berth (id int primary key, vessel text, moved int not null default 0);
insert into bench_berth values (3, 'Halcyon', 0), (7, 'Oriel', 0);
"""


def by_hand(conninfo: str) -> Callable[[], float]:
    """A script such as one would write for the occasion: the same moves, waits found by asking the
    server. Gives ms.
    """
    early, late, control = (psycopg.connect(conninfo, autocommit=True) for _ in range(3))
    pids = [early.info.backend_pid, late.info.backend_pid]
    for connection, patience in ((early, Patience.LAST), (late, Patience.LAST)):
        connection.execute(f"set deadlock_timeout = {CHECK_AFTER_MS[patience]}")

    def until_blocked(pid: int) -> None:
        while not control.execute("select pg_blocking_pids(%s)", [pid]).fetchone()[0]:
            pass

    def moves() -> float:
        control.execute(BERTHS)
        start = time.perf_counter()
        early.execute("begin isolation level read committed")
        early.execute("update bench_berth set vessel = 'Oriel', moved = moved + 1 where id = 3")
        late.execute("begin isolation level read committed")
        late.execute("update bench_berth set moved = moved + 1 where id = 7")
        sql = "update bench_berth set vessel = 'Halcyon', moved = moved + 1 where id = 7"
        waiting = threading.Thread(target=early.execute, args=(sql,))
        waiting.start()
        until_blocked(pids[0])
        late.execute(f"set local deadlock_timeout = {CHECK_AFTER_MS[Patience.FIRST]}")
        try:
            late.execute("update bench_berth set moved = moved + 1 where id = 3")
        except psycopg.errors.DeadlockDetected:
            late.execute("rollback")
        waiting.join()
        early.execute("commit")
        return (time.perf_counter() - start) * 1e3

    return moves


def played(conninfo: str, locks: str) -> Callable[[], float]:
    """Catenum's own play of berth-swap, from the first move to the end. Gives ms."""
    engine = connect(conninfo, "bench", private=True)
    engine.make_scratch()
    scenario = read_scenario(samples.text("berth-swap").encode(), "berth-swap").scenario

    def once() -> float:
        return play(engine, scenario, PlayOptions(locks=locks)).duration_ms

    once.engine = engine
    return once


def interleaved(
    first: Callable[[], float], second: Callable[[], float], rounds: int, warm: int = 5
) -> tuple[float, float]:
    """Medians of both, taken in turns so that drift hits both alike."""
    for _ in range(warm):
        first(), second()
    pairs = [(first(), second()) for _ in range(rounds)]
    return statistics.median(a for a, _ in pairs), statistics.median(b for _, b in pairs)


def noticed(engine: Engine, rounds: int) -> float:
    """Median ms between the server's own start of a wait and Catenum's look that showed it."""
    engine.make_scratch()
    scenario = read_scenario(samples.text("left-open").encode(), "left-open").scenario
    late = []
    for _ in range(rounds):
        recording = play(engine, scenario, PlayOptions())
        seen = {e.transaction: e.at_ms for e in recording.events if e.what == "waits"}
        late += [seen[wait.waiter] - wait.since_ms for wait in recording.waits]
    engine.close()
    return statistics.median(late)


LOOPED = """
scenario: bench
data: |
  create table tide (id int primary key, height int not null);
  insert into tide values (1, 0)
transactions:
  {name}:
    statements: [{sql}]
"""


def churned(engine: Engine, sql: str, copies: int, seconds: float) -> Callable[[], float]:
    """Iterations a second of Catenum's loops; each call is a turn."""
    scenario = read_scenario(LOOPED.format(name="loop", sql=sql).encode(), "bench").scenario
    load(engine, scenario, None)
    churn = Churn(engine, scenario, copies={"loop": copies}, commit=True)
    churn.ready()

    def turn() -> float:
        before = churn.seconds
        made = churn.turn(seconds)
        return made / (churn.seconds - before)

    turn.close = churn.close
    return turn


def _hand_loop(server: str, place: dict, sql: str, seconds: float, pipe: object) -> None:
    """The loop that one would write for the occasion, with the same driver."""
    made, start = 0, time.perf_counter()
    if server == "postgresql":
        pg = psycopg.connect(place["conninfo"]).pgconn
        pg.exec_(f"set search_path = {place['schema']}".encode())
        pg.prepare(b"s", sql.encode())
        start = time.perf_counter()
        while time.perf_counter() - start < seconds:
            pg.exec_(b"begin")
            pg.exec_prepared(b"s", None)
            pg.exec_(b"commit")
            made += 1
    else:
        connection = pymysql.connect(**place["where"], database=place["schema"], autocommit=True)
        cursor = connection.cursor()
        start = time.perf_counter()
        while time.perf_counter() - start < seconds:
            connection.query("start transaction")
            cursor.execute(sql)
            connection.query("commit")
            made += 1
    pipe.send(made / (time.perf_counter() - start))


def by_hand_loop(engine: Engine, sql: str, copies: int, seconds: float) -> Callable[[], float]:
    """So many of these loops at once, each a process. Gives iterations a second of all."""
    context = mp.get_context("spawn")

    def turn() -> float:
        ends = []
        for _ in range(copies):
            mine, theirs = context.Pipe(duplex=False)
            context.Process(
                target=_hand_loop,
                args=(engine.info.server, engine.loop_place(), sql, seconds, theirs),
                daemon=True,
            ).start()
            ends.append(mine)
        return sum(end.recv() for end in ends)

    return turn


def pgbench(
    engine: Engine, sql: str, copies: int, seconds: int, folder: Path
) -> Callable[[], float]:
    """The server's own load generator with the same script, clients and protocol."""
    program = next(
        p
        for p in (
            shutil.which("pgbench"),
            *map(str, Path("/usr/lib/postgresql").glob("*/bin/pgbench")),
        )
        if p
    )
    script = folder / "bench.sql"
    script.write_text(f"begin;\n{sql};\ncommit;\n")
    place = engine.loop_place()
    info = conninfo_to_dict(place["conninfo"])

    def turn() -> float:
        done = subprocess.run(
            [
                program,
                "-n",
                "-M",
                "prepared",
                "-c",
                str(copies),
                "-j",
                str(copies),
                "-T",
                str(seconds),
                "-f",
                str(script),
                "-h",
                info["host"],
                "-U",
                info["user"],
                info["dbname"],
            ],
            capture_output=True,
            text=True,
            check=True,
            env={**os.environ, "PGOPTIONS": f"-c search_path={place['schema']}"},
        )
        return float(re.search(r"tps = ([\d.]+)", done.stdout)[1])

    return turn


def loops(server: str, reported: Callable[..., None]) -> None:
    """Throughput of the loops: at least so many times that of the others, so the inverse is held
    against a bound.
    """
    sql, copies = "select height from tide where id = 1", 2
    settings = Settings()
    with open_engine(resolve(f"local:{server}", settings), print) as make:
        engine = make()
        engine.make_scratch()
        mine = churned(engine, sql, copies, 1.5)
        a, b = interleaved(mine, by_hand_loop(engine, sql, copies, 1.5), 5, warm=1)
        reported(
            f"{server}: a hand-written loop / churn, {copies} clients ({a:,.0f} a second)",
            b / a,
            1 / 0.8,
        )
        if server == "postgresql":
            with tempfile.TemporaryDirectory() as folder:
                a, b = interleaved(mine, pgbench(engine, sql, copies, 2, Path(folder)), 5, warm=1)
            reported(
                f"pgbench / churn, the same script, {copies} clients, prepared ({b:,.0f} a second)",
                b / a,
                1 / 0.5,
            )
        mine.close()
        engine.close()


def whole(*command: str) -> Callable[[], float]:
    """A whole process. Gives ms."""

    def once() -> float:
        start = time.perf_counter()
        subprocess.run(command, capture_output=True, check=False)
        return (time.perf_counter() - start) * 1e3

    return once


def main() -> int:
    """Measure and print; 1 where a bound is passed."""
    good = True

    def reported(what: str, value: float, bound: float, unit: str = "") -> None:
        nonlocal good
        good = good and value <= bound
        print(
            f"{'ok  ' if value <= bound else 'SLOW'}  {what:<72} {value:8.2f}{unit}  (at most"
            f" {bound:g}{unit})"
        )

    with private_server("postgresql", {}, print) as server:
        for locks, bound in (("waits", 1.5), ("full", 3.0)):
            run = played(server.where, locks)
            mine, theirs = interleaved(run, by_hand(server.where), ROUNDS)
            run.engine.close()
            reported(
                f"play berth-swap --locks {locks} / the same moves by hand ({theirs:.1f} ms)",
                mine / theirs,
                bound,
            )
        reported(
            "a wait noticed after the server's own waitstart, median",
            noticed(connect(server.where, "bench", private=True), 20),
            5,
            " ms",
        )
    with open_engine(resolve("local:mariadb", Settings()), print) as make:
        reported(
            "mariadb: a wait noticed after its beginning by InnoDB's count, median",
            noticed(make(), 20),
            10,
            " ms",
        )
    for server_name in ("postgresql", "mariadb", "mysql"):
        loops(server_name, reported)
    bare = whole(sys.executable, "-c", "pass")
    helped, plain = interleaved(whole(SCRIPT, "--help"), bare, 20)
    reported(f"catenum --help / python -c pass ({plain:.0f} ms)", helped / plain, 3)
    subprocess.run([SCRIPT, "local", "start", "--quiet"], check=True, capture_output=True)
    try:
        run = whole(SCRIPT, "play", "berth-swap")
        run()
        reported(
            "catenum play on a warm private server, whole process, median",
            statistics.median(run() for _ in range(9)),
            1500,
            " ms",
        )
    finally:
        subprocess.run([SCRIPT, "local", "stop", "--quiet"], check=True, capture_output=True)
    run = whole(SCRIPT, "play", "berth-swap")
    run()
    reported(
        "the same, the server started and stopped by the command",
        statistics.median(run() for _ in range(5)),
        1500,
        " ms",
    )
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
