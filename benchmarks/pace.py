"""``pace`` against ``pgbench``: the same statements, clients and protocol, in turns.

python benchmarks/pace.py [--pairs N]

Both update random rows of one table on one private server (read committed, prepared statements,
begin and commit as statements of their own). A pair is a turn of each, the other first in the next;
the ratio is the median over the pairs, its interval by bootstrap (95 %). ``levels`` without a
scenario is timed on a warm private server of each kind.
"""

from __future__ import annotations

import argparse
import re
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from watching import paired

from catenum import samples
from catenum.core.scenario.reader import read_scenario
from catenum.engines.ports import Engine
from catenum.engines.targets import open_engine, read_settings, resolve
from catenum.lab.load.pace import Clients, PaceOptions
from catenum.lab.run.loading import load

BOUND, LEVELS_BOUND_S = 0.7, 15.0
#: By number of clients, the length of a turn (s): ``pgbench`` counts the time in which it connects.
CLIENTS = {1: 2, 16: 2, 256: 6}
SCRIPT = """\\set id random(1, 10000)
begin isolation level read committed;
update {table} set moves = moves + 1 where id = :id;
commit;
"""


def pgbench(where: str, script: Path, clients: int, programs: Path) -> float:
    """Transactions a second of one turn, without the time that connecting takes."""
    command = [str(programs / "pgbench"), "-n", "-M", "prepared", "-f", str(script)]
    command += ["-c", str(clients), "-j", str(min(2, clients)), "-T", str(CLIENTS[clients]), where]
    told = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    found = re.search(r"tps = ([\d.]+) \(without", told)
    assert found is not None, told
    return float(found[1])


def measure(engine: Engine, where: str, clients: int, pairs: int) -> tuple[float, float, float]:
    """The ratio of ``pace`` to ``pgbench``, with its interval."""
    file = read_scenario(samples.load_text("random-rows").encode(), "random-rows.yaml")
    options = PaceOptions(clients=(clients,), levels=("read committed",), for_ms=0.0)
    load(engine, file.scenario, file)
    programs = Path(subprocess.check_output(["pg_config", "--bindir"], text=True).strip())
    turns: list[float] = []
    schema = str(engine.loop_place()["schema"])
    with tempfile.TemporaryDirectory() as folder:
        script = Path(folder) / "random.sql"
        script.write_text(SCRIPT.format(table=f"{schema}.slot"))
        with Clients(engine, file.scenario, file, options, clients) as load_of:
            load_of.turn("read committed", 0, 1.0)
            for number in range(pairs):
                for mine in (False, True) if number % 2 else (True, False):
                    if mine:
                        turns.append(load_of.turn("read committed", 1, CLIENTS[clients]).per_second)
                    else:
                        turns.append(pgbench(where, script, clients, programs))
    return paired(turns)


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--pairs", type=int, default=12)
    args = parser.parse_args()
    missed = 0
    target = resolve("local:postgresql", read_settings())
    with open_engine(target, print, own={"max_connections": "600"}) as connect:
        engine = connect()
        engine.make_scratch()
        where = str(connect.where)
        for clients in CLIENTS:
            middle, low, high = measure(engine, where, clients, args.pairs)
            missed += middle < BOUND
            print(
                f"pace / pgbench, {clients} clients: {middle:.2f} × ({low:.2f} to {high:.2f}),"
                f" bound at least {BOUND} ×"
            )
        engine.close()
    script = str(Path(sys.executable).with_name("catenum"))
    for server in ("postgresql", "mariadb", "mysql"):
        one = f"local:{server}"
        subprocess.run([script, "local", "start", "--quiet", "--target", one], check=True)
        times = []
        for _ in range(3):
            began = time.perf_counter()
            command = [script, "levels", "--quiet", "--target", one]
            subprocess.run(command, check=True, capture_output=True)
            times.append(time.perf_counter() - began)
        subprocess.run([script, "local", "stop", "--quiet", "--target", one], check=True)
        middle = statistics.median(times)
        missed += middle > LEVELS_BOUND_S
        print(f"levels on {server}: {middle:.1f} s, bound {LEVELS_BOUND_S:g} s")
    return int(missed > 0)


if __name__ == "__main__":
    raise SystemExit(main())
