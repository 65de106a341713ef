"""What a cluster costs and brings, and what a shared store takes and answers, as ratios within one
run. ``make bench`` runs this too.

python benchmarks/scale.py [cluster|writers|history] …
"""

from __future__ import annotations

import multiprocessing as mp
import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

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
from catenum.lab.explore.walker import ExploreOptions
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


def rate(connect: Connector, cluster: Cluster | None) -> float:
    """Schedules a second of exploring left-open whole, from the first that were reported on."""
    engine = connect()
    engine.make_scratch()
    marks: list[tuple[float, int]] = []
    runner = ExplorationRunner(
        connect=connect,
        engine=engine,
        scenario=read_scenario(samples.text("left-open").encode(), "left-open").scenario,
        options=ExploreOptions(every=True, for_ms=SECONDS * 1000),
        together=walks.Walks(cluster) if cluster is not None else None,
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
            turns = walks.TURN_MS
            pairs = []
            for _ in range(ROUNDS):
                walks.TURN_MS = 500.0
                short = rate(connect, one)
                walks.TURN_MS = 4_000.0
                pairs.append((short, rate(connect, one)))
            walks.TURN_MS = turns
            ratio = statistics.median(a / b for a, b in pairs)
            reported("the same, turns of 0.5 s / of 4 s", ratio, 0.97)
            alone = [rate(connect, one) for _ in range(ROUNDS)]
        with workers(connect, 2) as two:
            rate(connect, two)
            both = [share_of_servers(lambda: rate(connect, two)) for _ in range(ROUNDS)]
        ratio = statistics.median(b for b, _ in both) / statistics.median(alone)
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


def main() -> int:
    """Measure and print; 1 where a bound is passed."""
    parts = {"cluster": of_clusters, "writers": of_writers, "history": of_history}
    for name in sys.argv[1:] or list(parts):
        parts[name]()
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
