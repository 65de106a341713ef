"""What a cluster costs and brings, and what a shared store takes and answers, as ratios within one
run. ``make bench`` runs this too. The curves of docs/scale.md are printed where they are named.

python benchmarks/scale.py [cluster|writers|history|classes|counting|watched|looks] …
"""

from __future__ import annotations

import json
import multiprocessing as mp
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import psutil
import psycopg

from catenum import samples
from catenum.cluster import walks
from catenum.cluster.cluster import Cluster, cluster_at
from catenum.cluster.host import Site
from catenum.core.scenario.reader import read_scenario
from catenum.core.servers import rules_of
from catenum.core.snapshot.incidents import IncidentTracker
from catenum.engines.private import private_server
from catenum.engines.targets import Connector, Settings, open_engine, resolve
from catenum.lab.explore.runner import ExplorationRunner
from catenum.lab.explore.stage import Stage
from catenum.lab.explore.walker import ExploreOptions, Explorer, plan
from catenum.store.store import writer

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
SCRIPT = str(Path(sys.executable).with_name("catenum"))
SECONDS, ROUNDS = 8.0, 3
WRITERS, WRITE_S = 20, 20.0
SERVERS, LOOKS = 20, 10_000_000
good = True


def reported(what: str, value: float, bound: float, *, most: bool = False) -> None:
    """One line; remembers whether a bound was passed."""
    global good
    fine = value <= bound if most else value >= bound
    good = good and fine
    word = "at most" if most else "at least"
    print(f"{'ok  ' if fine else 'SLOW'}  {what:<86} {value:8.2f}  ({word} {bound:g})", flush=True)


# -- a cluster -------------------------------------------------------------------------------------


class Timed(walks.Walks):
    """Remembers when each turn came back, and how long (ms) the worker worked in it."""

    marks: list[tuple[float, float]] = []  # noqa: RUF012

    def _add(self, turned: walks.Turned, explorer: Explorer) -> None:
        self.marks.append((time.perf_counter(), turned.worked_ms))
        super()._add(turned, explorer)


def rate(
    connect: Connector, cluster: Cluster | None, kind: type[walks.Walks] = walks.Walks
) -> float:
    """Schedules a second of exploring left-open whole, from the first that were reported on."""
    engine = connect()
    engine.make_scratch()
    marks: list[tuple[float, int]] = []
    runner = ExplorationRunner(
        connect=connect,
        engine=engine,
        scenario=read_scenario(samples.text("left-open").encode(), "left-open").scenario,
        options=ExploreOptions(every=True, for_ms=SECONDS * 1000),
        together=kind(cluster) if cluster is not None else None,
    )
    try:
        runner.run(
            progress=lambda one: marks.append(
                (time.perf_counter(), one.tally.schedules + one.tally.broken_off)
            )
        )
    finally:
        engine.close()
    going = [mark for mark in marks if mark[1] > 50]
    (start, first), (end, last) = going[0], _last_change(going)
    return (last - first) / (end - start)


def _last_change(marks: list[tuple[float, int]]) -> tuple[float, int]:
    """When the last ones were reported: workers report by turns."""
    return next(mark for mark in marks if mark[1] == marks[-1][1])


@contextmanager
def workers(connect: Connector, size: int) -> Iterator[Cluster]:
    engine = connect()
    shown = f"{rules_of('postgresql').title} {engine.info.version}"
    engine.close()
    with cluster_at(f"local:{size}", Site("postgresql"), shown, lambda text: None) as cluster:
        yield cluster


def share_of_servers(work: Callable[[], float]) -> tuple[float, float]:
    """What ``work`` gives, and the part of the processor time that servers took meanwhile."""

    def spent() -> tuple[float, float]:
        servers = others = 0.0
        for process in psutil.process_iter(["name", "cpu_times"]):
            times = process.info["cpu_times"]
            if times is not None:
                used = times.user + times.system
                if process.info["name"] == "postgres":
                    servers += used
                else:
                    others += used
        return servers, others

    before = spent()
    value = work()
    after = spent()
    servers, others = after[0] - before[0], after[1] - before[1]
    return value, servers / max(0.01, servers + others)


def of_clusters() -> None:
    with open_engine(resolve("local:postgresql", Settings()), print) as connect:
        with workers(connect, 1) as one:
            rate(connect, one)
            pairs = [(rate(connect, one), rate(connect, None)) for _ in range(ROUNDS)]
            ratio = statistics.median(a / b for a, b in pairs)
            reported("a cluster of one worker / one process, schedules a second", ratio, 0.9)
            turns, walks.TURN_MS = walks.TURN_MS, 500.0
            costs = []
            for _ in range(ROUNDS):
                Timed.marks.clear()
                rate(connect, one, Timed)
                (begun, _), (over, _) = Timed.marks[0], Timed.marks[-1]
                worked = sum(ms for _, ms in Timed.marks[1:]) / 1000
                costs.append(1 - worked / (over - begun))
            walks.TURN_MS = turns
            cost = 100 * statistics.median(costs)
            reported("of the time, not worked where a turn is 0.5 s (%)", cost, 3.0, most=True)
        with workers(connect, 2) as two, workers(connect, 1) as one:
            rate(connect, two)
            rate(connect, one)
            ratios, both = [], []
            for _ in range(ROUNDS):
                alone = rate(connect, one)
                both.append(share_of_servers(lambda: rate(connect, two)))
                ratios.append(both[-1][0] / alone)
        ratio = statistics.median(ratios)
        share = statistics.median(s for _, s in both)
        reported(f"two workers / one on two cores ({share:.0%} of them the servers')", ratio, 1.6)


# -- writers ---------------------------------------------------------------------------------------


def write(url: str, name: str, begin: float) -> int:
    """Incidents for a while, each seen three times; gives how many."""
    from test_live import moment

    store, number = writer(url), 0
    while time.time() < begin:
        time.sleep(0.01)
    ends = time.perf_counter() + WRITE_S
    while time.perf_counter() < ends:
        tracker = IncidentTracker()
        for second in range(4):
            at = f"2026-03-{1 + number // 86_000:02d}T00:{number // 60 % 60:02d}:{second:02d}.000Z"
            sample = moment(at, *([("b", "a")] if second < 3 else []))
            change = tracker.update(sample, since_last_ms=1000)
            store.write(name, sample, [*change.began, *change.went_on, *change.ended])
        number += 1
    store.close()
    return number


def of_writers() -> None:
    with a_database() as url:
        writer(url).close()
        begin = time.time() + 6
        with mp.get_context("spawn").Pool(WRITERS) as pool:
            asked = [(url, f"berth-{n}", begin) for n in range(WRITERS)]
            counts = pool.starmap(write, asked)
        with psycopg.connect(url) as connection:
            query = "select count(*) from catenum_history.incident where ended is not null"
            (kept,) = connection.execute(query).fetchone() or (0,)
    made = sum(counts)
    reported(f"incidents a minute from {WRITERS} writers / 2,000", made / WRITE_S * 60 / 2000, 1.0)
    reported(f"of these lost ({made:,} written)", made - kept, 0, most=True)


@contextmanager
def a_database() -> Iterator[str]:
    with private_server("postgresql", {}, print, alone=True) as server:
        drop = "drop schema if exists catenum_history cascade"
        with psycopg.connect(server.where, autocommit=True) as connection:
            connection.execute(drop)
            try:
                yield f"postgresql://catenum@/marrowgate?host={server.sockets}"
            finally:
                connection.execute(drop)


# -- history ---------------------------------------------------------------------------------------

_FILL = f"""
set search_path = catenum_history;
insert into server (name, kind)
select 'berth-' || n, 'postgresql' from generate_series(1, {SERVERS}) n;
create function pg_temp.at(seconds int, form text) returns text language sql return
  to_char(timestamp '2026-03-01' + make_interval(secs => seconds), form);
insert into minute (server, minute, shape, waiting, samples)
select s.id, pg_temp.at(10 * n, 'YYYY-MM-DD"T"HH24:MI:SS'), shape,
  case when shape = '' then 0 else 7 end, 10
from server s, generate_series(0, {LOOKS // SERVERS // 10 - 1}) n,
  unnest(case when n % 20 = 0 then array['', 'update berth set moved = ?'] else array[''] end) as
  shape;
insert into incident (server, first_seen, last_seen, ended, waiting, chain, wait_ms, longest_ms,
  shape, statement, object, head)
select s.id, at, at, at, 3, 1, 5000, 4000, 'update berth set moved = ?',
  'update berth set moved = 1', 'berth(id=1)', '4711'
from server s, generate_series(1, 5000) n, pg_temp.at(100 * n, 'YYYY-MM-DD"T"HH24:MI:SS".000Z"') at;
insert into hour select server, substr(minute, 1, 13), sum(samples), 0 from minute
  where shape = '' group by 1, 2;
insert into watched select id, '2026-03-06T18:53:00.000Z' from server;
analyze;
"""


def of_history() -> None:
    from psycopg.conninfo import conninfo_to_dict

    with a_database() as url:
        writer(url).close()
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute(_FILL)
            rows = connection.execute("select count(*), sum(samples) from catenum_history.minute"
                                      " where shape = ''").fetchone()  # fmt: skip
        assert conninfo_to_dict(url)["host"]
        day = ("--since", "2026-03-05T00:00:00Z", "--until", "2026-03-06T00:00:00Z")
        for what, words in (
            ("a day", day),
            ("a day of one server", (*day, "--server", "berth-3")),
            ("a day, its incidents", (*day, "list")),
            ("a day, to hand over", (*day, "report")),
            ("all of it", ("--until", "2026-03-07T00:00:00Z")),
        ):
            took = []
            for _ in range(3):
                start = time.perf_counter()
                subprocess.run(
                    [SCRIPT, "history", "--store", url, *words, "--json"],
                    check=True,
                    capture_output=True,
                )
                took.append(time.perf_counter() - start)
            title = f"history over {int(rows[1]):,} samples, {what}, whole process (s)"
            reported(title, statistics.median(took), 2.0, most=True)


# -- curves for docs/scale.md ----------------------------------------------------------------------


def of_classes() -> None:
    """What grows with the number of schedules that were run: memory, the saved state, time."""
    mine = psutil.Process()
    with open_engine(resolve("local:postgresql", Settings()), print) as connect:
        engine = connect()
        engine.make_scratch()
        runner = ExplorationRunner(
            connect=connect,
            engine=engine,
            scenario=read_scenario(samples.text("left-open").encode(), "left-open").scenario,
            options=ExploreOptions(every=True, for_ms=100_000),
        )
        start, marks = time.perf_counter(), [1_000, 2_000, 4_000, 8_000, 16_000, 32_000]

        def progress(explorer: Any) -> None:
            done = explorer.tally.schedules + explorer.tally.broken_off
            if marks and done >= marks[0]:
                marks.pop(0)
                state = len(json.dumps(runner.state(explorer)))
                took, memory = time.perf_counter() - start, mine.memory_info().rss / 2**20
                print(f"{done:>8,} schedules {took:7.1f} s  {memory:6.0f} MB  state {state:>9,} B")

        try:
            runner.run(progress=progress)
        finally:
            engine.close()


def of_counting() -> None:
    """How long counting a space takes, by the number of its classes: a line of vessels, each of
    which meets the next.
    """
    for size in range(4, 16, 2):
        text = "scenario: line\ndata: create table berth (id int primary key, moved int);\n"
        text += "transactions:\n"
        for number in range(size):
            pair = (f"update berth set moved = 1 where id = {n}" for n in (number, number + 1))
            text += f"  t{number}: {{statements: [{', '.join(pair)}]}}\n"
        scenario = read_scenario(text.encode(), "line").scenario
        with open_engine(resolve("local:postgresql", Settings()), print) as connect:
            engine = connect()
            engine.make_scratch()
            with Stage(engine, scenario) as stage:
                start = time.perf_counter()
                made = plan(stage.scenario, stage.dependence, ExploreOptions())
                took = time.perf_counter() - start
            engine.close()
        print(f"{size:>3} transactions  {made.orders:.1e} orders  {made.classes or 'not counted'}"
              f" classes  {took:6.2f} s", flush=True)  # fmt: skip


def of_watched() -> None:
    """What one watch needs, by the number of servers that it looks at every second; and what the
    store takes of it.
    """
    with a_database() as url, tempfile.TemporaryDirectory() as folder:
        for count in (1, 10, 25, 50):
            named = "".join(f'berth-{n} = "{url}"\n' for n in range(count))
            (Path(folder) / "catenum.toml").write_text(f"[targets]\n{named}")
            targets = [word for n in range(count) for word in ("--target", f"berth-{n}")]
            watch = psutil.Popen(
                [SCRIPT, "watch", *targets, "--store", url, "--quiet"],
                cwd=folder,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
            time.sleep(12)
            first = watch.cpu_times()
            time.sleep(20)
            last, memory = watch.cpu_times(), watch.memory_info().rss / 2**20
            watch.send_signal(signal.SIGINT)
            watch.wait(30)
            spent = (last.user + last.system - first.user - first.system) / 20
            with psycopg.connect(url) as connection:
                query = "select sum(samples) from catenum_history.minute where shape = ''"
                (looks,) = connection.execute(query).fetchone() or (0,)
                connection.execute("truncate catenum_history.minute")
            print(f"{count:>4} servers  {spent:5.1%} of a core  {memory:6.0f} MB  {looks} looks"
                  f" in 32 s", flush=True)  # fmt: skip


def of_looks() -> None:
    """How many looks a second the store takes from one writer, and how large they get."""
    from test_live import moment

    with a_database() as url:
        store = writer(url)
        start, number = time.perf_counter(), 0
        while time.perf_counter() - start < 10:
            at = f"2026-03-{1 + number // 86_400:02d}T{number // 3600 % 24:02d}"
            at += f":{number // 60 % 60:02d}:{number % 60:02d}.000Z"
            store.write("berth-1", moment(at), ())
            number += 1
        print(f"{number / 10:.0f} looks a second from one writer")
        store.close()
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute("truncate catenum_history.server cascade")
            connection.execute("truncate catenum_history.minute, catenum_history.hour")
            connection.execute(_FILL)
            query = """select relname, pg_total_relation_size(oid), reltuples from pg_class
                where relnamespace = 'catenum_history'::regnamespace and relkind = 'r'
                and reltuples > 0 order by 2 desc"""
            for name, size, rows in connection.execute(query):
                print(
                    f"{name:<10} {rows:>10,.0f} rows  {size / 2**20:8.1f} MB  {size / rows:6.0f} B"
                )


def main() -> int:
    """Measure and print; 1 where a bound is passed."""
    bounds = {"cluster": of_clusters, "writers": of_writers, "history": of_history}
    curves = {
        "classes": of_classes,
        "counting": of_counting,
        "watched": of_watched,
        "looks": of_looks,
    }
    for name in sys.argv[1:] or list(bounds):
        (bounds | curves)[name]()
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
