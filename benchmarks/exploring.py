"""Speed of exploring, as ratios within one run, on a private server of its own. ``make bench`` runs
this too.

The hand-written loop knows every schedule of berth-swap beforehand, with which moves wait and who
is given up; it checks as Catenum does that a move waits before it makes the next, and brings the
rows back after each schedule.
"""

from __future__ import annotations

import statistics
import sys
import threading
import time
from collections.abc import Callable

import psycopg

from catenum import samples
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import read_scenario
from catenum.core.space.search import Walk
from catenum.engines.targets import Connector, Settings, open_engine, resolve
from catenum.lab.explore.runner import ExplorationRunner
from catenum.lab.explore.serial import Oracle
from catenum.lab.explore.stage import Stage
from catenum.lab.explore.walker import ExploreOptions, space_of

BERTHS = "create table berth (id int primary key, vessel text, moved int not null default 0)"
ROWS = "insert into berth values (3, 'Halcyon', 0), (7, 'Oriel', 0)"
MOVES = {
    "early": [
        "update berth set vessel = 'Oriel', moved = moved + 1 where id = 3",
        "update berth set vessel = 'Halcyon', moved = moved + 1 where id = 7",
        "commit",
    ],
    "late": [
        "update berth set moved = moved + 1 where id = 7",
        "update berth set moved = moved + 1 where id = 3",
        "commit",
    ],
}
#: Many short turns: a machine's speed drifts over seconds, and a pair of turns must meet the same
#: of it.
ROUNDS, LOOPS = 60, 8


def scenario(name: str) -> Scenario:
    """A sample that ships."""
    return read_scenario(samples.text(name).encode(), name).scenario


def paths(connect: Connector) -> list[tuple[str, ...]]:
    """The schedules that exploring berth-swap runs, for the loop by hand to replay."""
    engine = connect()
    engine.make_scratch()
    found = []
    with Stage(engine, scenario("berth-swap")) as stage:
        walk = Walk(space_of(stage, reduce=True))
        while walk.more:
            run = stage.run(walk)
            walk.turn()
            found.append(run.path)
    engine.close()
    return found


def by_hand(conninfo: str, orders: list[tuple[str, ...]]) -> Callable[[], float]:
    """Schedules a second of the script that one would write for the occasion: a connection each, a
    thread for whatever waits, the server asked whether it does.
    """
    control = psycopg.connect(conninfo, autocommit=True)
    control.execute("drop table if exists berth")
    control.execute(BERTHS)
    control.execute(ROWS)
    lanes = {name: psycopg.connect(conninfo, autocommit=True) for name in MOVES}
    for lane in lanes.values():
        lane.execute("set deadlock_timeout = 3000")

    def run(name: str, sql: str) -> None:
        try:
            lanes[name].execute(sql)
        except psycopg.errors.DeadlockDetected:
            lanes[name].execute("rollback")

    def blocked(name: str) -> bool:
        pid = lanes[name].info.backend_pid
        return bool(control.execute("select pg_blocking_pids(%s)", [pid]).fetchone()[0])

    def one(order: tuple[str, ...]) -> None:
        place, waiting = dict.fromkeys(MOVES, 0), {}
        for name in order:
            sql = MOVES[name][place[name]]
            place[name] += 1
            if place[name] == 1:
                lanes[name].execute("begin isolation level read committed")
            if sql == "commit":
                run(name, sql)
            else:
                if waiting:
                    lanes[name].execute("set local deadlock_timeout = 1")
                thread = threading.Thread(target=run, args=(name, sql))
                thread.start()
                while thread.is_alive() and not blocked(name):
                    pass
                if thread.is_alive() and not waiting:
                    waiting[name] = thread
                    continue
                thread.join()
            for thread in waiting.values():
                thread.join(0.002 if sql != "commit" else None)
            waiting = {other: thread for other, thread in waiting.items() if thread.is_alive()}
        control.execute("delete from berth")
        control.execute(ROWS)

    def turn() -> float:
        start = time.perf_counter()
        for _ in range(LOOPS):
            for order in orders:
                one(order)
        return LOOPS * len(orders) / (time.perf_counter() - start)

    return turn


def explored(connect: Connector, loops: int = LOOPS) -> Callable[[], float]:
    """Schedules a second of exploring berth-swap again and again on one stage, each judged by the
    serial oracle.
    """
    engine = connect()
    engine.make_scratch()
    stage = Stage(engine, scenario("berth-swap")).__enter__()
    oracle = Oracle(stage)

    def turn() -> float:
        start, runs = time.perf_counter(), 0
        for _ in range(loops):
            walk = Walk(space_of(stage, reduce=True))
            while walk.more:
                oracle.judge(stage.run(walk))
                walk.turn()
                runs += 1
        return runs / (time.perf_counter() - start)

    return turn


def with_workers(connect: Connector, size: int) -> Callable[[], float]:
    """Schedules a second of exploring left-open whole, without the time that processes take to
    start.
    """

    def turn() -> float:
        engine = connect()
        engine.make_scratch()
        marks: list[tuple[float, int]] = []

        def progress(explorer: object) -> None:
            marks.append(
                (time.perf_counter(), explorer.tally.schedules + explorer.tally.broken_off)
            )

        options = ExploreOptions(every=True, for_ms=6_000)
        runner = ExplorationRunner(
            connect=connect,
            engine=engine,
            scenario=scenario("left-open"),
            options=options,
            workers=size,
        )
        runner.run(progress=progress)
        engine.close()
        going = [mark for mark in marks if mark[1] > 50]
        (start, first), (end, last) = going[0], going[-1]
        return (last - first) / (end - start)

    return turn


def main() -> int:
    """Measure and print; 1 where a bound is passed."""
    good = True

    def reported(what: str, value: float, bound: float) -> None:
        nonlocal good
        good = good and value >= bound
        print(
            f"{'ok  ' if value >= bound else 'SLOW'}  {what:<72} {value:8.2f}  (at least {bound:g})"
        )

    with open_engine(resolve("local:postgresql", Settings()), print) as connect:
        mine, hand = explored(connect), by_hand(connect.where, paths(connect))
        mine(), hand()
        pairs = [(mine(), hand()) for _ in range(ROUNDS)]
        a, b = statistics.median(p[0] for p in pairs), statistics.median(p[1] for p in pairs)
        ratio = statistics.median(one / other for one, other in pairs)
        reported(
            f"explore berth-swap / a loop by hand, schedules a second ({a:.0f}, {b:.0f})",
            ratio,
            0.8,
        )
        one, two = with_workers(connect, 1), with_workers(connect, 2)
        pairs = [(one(), two()) for _ in range(3)]
        a, b = statistics.median(p[0] for p in pairs), statistics.median(p[1] for p in pairs)
        reported(f"explore left-open, 2 workers / 1 worker ({b:.0f}, {a:.0f} a second)", b / a, 1.4)
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
