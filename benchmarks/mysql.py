"""Speed on MySQL, as ratios within one run, on private servers of its own. ``make bench`` runs this
too.

The scripts by hand know every move beforehand, and ask the server whether one waits.
"""

from __future__ import annotations

import statistics
import sys
import threading
import time
from collections.abc import Callable, Sequence

import pymysql
from exploring import MOVES, ROWS, explored, paths, scenario
from many import Server

from catenum.engines.mysql.monitor import open_monitor
from catenum.engines.targets import Connector, Settings, open_engine, resolve
from catenum.lab.run.play import PlayOptions, play

WAITS = "select count(*) from performance_schema.data_lock_waits where requesting_thread_id = %s"
THREAD = "select thread_id from performance_schema.threads where processlist_id = %s"
ROUNDS, LOCKS, SESSIONS = 40, 100_000, 500
MANY = (
    "insert into by_hand.hot with recursive r(i) as (select 1 union all select i + 1 from r where"
    f" i < {LOCKS})"
)


class ByHand:
    """The script that one would write for the occasion: a connection each, a thread for whatever
    waits.
    """

    def __init__(self, where: dict) -> None:
        made = [pymysql.connect(**where, autocommit=True, ssl_disabled=True) for _ in range(3)]
        self.control, lanes = made[0], dict(zip(MOVES, made[1:], strict=True))
        self.ask("drop database if exists by_hand")
        self.ask("create database by_hand")
        for connection in made:
            connection.select_db("by_hand")
        self.ask(
            "create table berth (id int primary key, vessel varchar(20), moved int not null"
            " default 0)"
        )
        self.ask(ROWS)
        self.lanes = lanes
        self.threads = {
            name: self.ask(
                "select thread_id from performance_schema.threads where processlist_id = %s",
                lane.thread_id(),
            )
            for name, lane in lanes.items()
        }

    def ask(self, sql: str, *values: object) -> object:
        cursor = self.control.cursor()
        cursor.execute(sql, values or None)
        row = cursor.fetchone()
        return row[0] if row else None

    def run(self, name: str, sql: str) -> None:
        try:
            self.lanes[name].cursor().execute(sql)
        except pymysql.OperationalError:
            self.lanes[name].rollback()

    def play(self, order: Sequence[str]) -> float:
        """One schedule, with the rows put back after it. Gives ms, without that."""
        place, waiting, start = dict.fromkeys(MOVES, 0), {}, time.perf_counter()
        for name in order:
            sql = MOVES[name][place[name]]
            place[name] += 1
            if name in waiting:
                waiting.pop(name).join()
            if place[name] == 1:
                self.run(name, "set session transaction isolation level read committed")
                self.run(name, "start transaction")
            if sql == "commit":
                self.run(name, sql)
            else:
                thread = threading.Thread(target=self.run, args=(name, sql))
                thread.start()
                while thread.is_alive() and not self.ask(WAITS, self.threads[name]):
                    pass
                if thread.is_alive() and not waiting:
                    waiting[name] = thread
                    continue
                thread.join()
            for thread in waiting.values():
                thread.join(0.002 if sql != "commit" else None)
            waiting = {other: thread for other, thread in waiting.items() if thread.is_alive()}
        took = (time.perf_counter() - start) * 1e3
        self.ask("truncate table berth")  # a DELETE would leave its rows marked, and gaps with them
        self.ask(ROWS)
        return took


def played(connect: Connector, locks: str) -> Callable[[], float]:
    """Catenum's own play of berth-swap, from the first move to the end. Gives ms."""
    engine = connect()
    engine.make_scratch()
    found = scenario("berth-swap")
    return lambda: play(engine, found, PlayOptions(locks=locks)).duration_ms


def noticed(connect: Connector) -> float:
    """Median ms from sending a statement to the look that showed it waiting: the server does not
    tell since when.
    """
    engine, late = connect(), []
    engine.make_scratch()
    for _ in range(20):
        recording = play(engine, scenario("left-open"), PlayOptions())
        sent: dict[str, float] = {}
        for event in recording.events:
            if event.what == "sent":
                sent[event.transaction] = event.at_ms
            elif event.what == "waits":
                late.append(event.at_ms - sent[event.transaction])
    engine.close()
    return statistics.median(late)


def looked() -> tuple[float, float, float]:
    """Median ms of a look at 500 sessions, 100 of them waiting in chains of ten; with many locks
    held, of a look and of reading the whole lock table.
    """
    server = Server("mysql")
    where = {"unix_socket": f"{server.folder}/server.sock", "user": "root"}
    made = [pymysql.connect(**where, autocommit=False, ssl_disabled=True) for _ in range(SESSIONS)]
    first = made[0].cursor()
    for sql in (
        "create database by_hand",
        "create table by_hand.hot (id int primary key, n int)",
        "set session cte_max_recursion_depth = 1000000",
        f"{MANY} select i, 0 from r",
    ):  # fmt: skip
        first.execute(sql)
    made[0].commit()
    for chain in range(10):
        members = made[chain * 11 : chain * 11 + 11]
        for place, connection in enumerate(members):
            connection.cursor().execute(
                "update by_hand.hot set n = 1 where id = %s", (chain * 11 + place + 1,)
            )
        for place, connection in enumerate(members[1:]):
            sql = f"update by_hand.hot set n = 2 where id = {chain * 11 + place + 1}"
            threading.Thread(target=_quietly, args=(connection, sql), daemon=True).start()
    monitor = open_monitor(where, "bench")
    while len(monitor.sample().graph.waiters) < 100:
        time.sleep(0.2)
    few = statistics.median(monitor.sample().cost_ms for _ in range(30))
    made[-1].cursor().execute(
        "select count(*) from (select * from by_hand.hot where id > 200 for update) x"
    )
    many = statistics.median(monitor.sample().cost_ms for _ in range(10))
    start = time.perf_counter()
    made[-2].cursor().execute("select count(*) from performance_schema.data_locks")
    whole = (time.perf_counter() - start) * 1e3
    monitor.close()
    server.stop()
    return few, many, whole


def _quietly(connection: pymysql.Connection, sql: str) -> None:
    try:
        connection.cursor().execute(sql)
    except pymysql.Error:
        return


def main() -> int:
    """Measure and print; 1 where a bound is passed."""
    good = True

    def reported(
        what: str, value: float, bound: float, *, least: bool = False, unit: str = ""
    ) -> None:
        nonlocal good
        kept = value >= bound if least else value <= bound
        good = good and kept
        word = "least" if least else "most"
        print(
            f"{'ok  ' if kept else 'SLOW'}  {what:<80} {value:8.2f}{unit}  (at {word}"
            f" {bound:g}{unit})",
            flush=True,
        )

    with open_engine(resolve("local:mysql", Settings()), print) as connect:
        hand, orders = ByHand(connect.where), paths(connect)
        cycle = ("early", "late", "early", "late", "early")
        for locks, bound in (("waits", 1.5), ("full", 3.0)):
            mine = played(connect, locks)
            mine(), hand.play(cycle)
            pairs = [(mine(), hand.play(cycle)) for _ in range(ROUNDS)]
            a, b = statistics.median(p[0] for p in pairs), statistics.median(p[1] for p in pairs)
            reported(
                f"play berth-swap --locks {locks} / the same moves by hand ({b:.1f} ms)",
                a / b,
                bound,
            )
        reported(
            "from sending a statement to seeing it wait, median", noticed(connect), 5, unit=" ms"
        )
        mine = explored(connect, 4)
        mine()
        ratios = []
        for _ in range(ROUNDS // 2):
            one, start = mine(), time.perf_counter()
            for order in orders * 4:
                hand.play(order)
            ratios.append(one * (time.perf_counter() - start) / (4 * len(orders)))
        reported(
            "explore berth-swap / a loop by hand, schedules a second",
            statistics.median(ratios),
            0.8,
            least=True,
        )
    few, many, whole = looked()
    reported(f"a look at {SESSIONS} sessions, 100 of them waiting, median", few, 20, unit=" ms")
    reported(
        f"the same with {LOCKS:,} locks held (reading them all takes {whole:.0f} ms)",
        many,
        20,
        unit=" ms",
    )
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
