"""A night compressed: a load of which every hold-up and every deadlock is known, for a watch to
tell afterwards.

Gates take boxes off a few hot slots all the time (pgbench). Now and then a clerk books a box and
leaves the transaction open; two more sessions move boxes between slots in opposite order, which
ends in deadlocks. What the load did, by its own books, is printed as JSON: when each hold began and
ended, how many waited and how long (from pgbench's log), and how many deadlocks pgbench met. Usage:
night.py CONNINFO [--seconds N]
"""

from __future__ import annotations

import argparse
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path

import psycopg

GATES = 6
#: When the clerk opens a transaction and how long it stays open, as parts of the night.
HOLDS = ((0.12, 0.10), (0.42, 0.16), (0.74, 0.12))
CLERK = "update slot set boxes = boxes + 10 where id = 42"
TAKE = "\\sleep 40 ms\nupdate slot set boxes = boxes - 1 where id = 42;\n"
#: How often the two of the yard meet (s).
BEAT_S = 3
#: Two clients, each beginning at its own slot, both at the same moment of the server's clock: left
#: to chance they may fall into step and never meet.
SWAP = (
    f"\\set from :client_id + 1\nselect pg_sleep({BEAT_S} - extract(epoch from"
    f" clock_timestamp())::numeric % {BEAT_S});\nbegin;\nupdate slot set boxes = boxes - 1 where id"
    " = :from;\n\\sleep 120 ms\nupdate slot set boxes = boxes + 1 where id = 3 - :from;\ncommit;\n"
)


def pgbench() -> str | None:
    """The program, where it is to be had."""
    found = [
        shutil.which("pgbench"),
        *map(str, sorted(Path("/usr/lib/postgresql").glob("*/bin/pgbench"), reverse=True)),
    ]
    return next((path for path in found if path), None)


def stamp(seconds: float) -> str:
    """As the store writes times."""
    return (
        datetime.fromtimestamp(seconds, UTC)
        .isoformat(timespec="milliseconds")
        .replace("+00:00", "Z")
    )


class Load:
    """pgbench with one script, as one application, logging each transaction. ``length``: its option
    -T or -t.
    """

    def __init__(
        self, conninfo: str, folder: Path, name: str, script: str, clients: int, *length: str
    ) -> None:
        self.folder, self.name = folder, name
        (folder / f"{name}.sql").write_text(script)
        command = [
            pgbench() or "pgbench",
            "-n",
            "-c",
            str(clients),
            *length,
            "-f",
            f"{name}.sql",
            "-l",
            f"--log-prefix={name}",
            "--failures-detailed",
            conninfo,
        ]
        environment = {**os.environ, "PGAPPNAME": name}
        self.process = subprocess.Popen(
            command,
            cwd=folder,
            env=environment,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )

    def ended(self) -> str:
        """What pgbench printed. Raises RuntimeError where it failed."""
        out, err = self.process.communicate()
        if self.process.returncode:
            raise RuntimeError(err.strip())
        return out

    def transactions(self) -> list[tuple[float, float]]:
        """When each transaction ended (seconds since 1970), and how long it took (ms)."""
        found = []
        for path in self.folder.glob(f"{self.name}.[0-9]*"):
            for line in path.read_text().splitlines():
                _, _, took, _, seconds, micros, *_ = line.split()
                if took.isdigit():
                    found.append((int(seconds) + int(micros) / 1e6, int(took) / 1e3))
        return found


def night(conninfo: str, seconds: int) -> dict[str, object]:
    """Run the load and say what it did."""
    with (
        psycopg.connect(conninfo, autocommit=True) as connection,
        tempfile.TemporaryDirectory() as name,
    ):
        connection.execute("drop table if exists slot")
        connection.execute("create table slot (id int primary key, boxes int not null)")
        connection.execute("insert into slot select n, 1000000 from generate_series(1, 60) n")
        folder, began = Path(name), time.time()
        gates = Load(conninfo, folder, "gate", TAKE, GATES, "-T", str(seconds))
        # So many transactions, not so many seconds: pgbench leaves out a deadlock that it meets
        # when its time is up.
        yard = Load(conninfo, folder, "yard", SWAP, 2, "-t", str(max(1, seconds // BEAT_S - 1)))
        holds = []
        for part, length in HOLDS:
            time.sleep(max(0.0, began + part * seconds - time.time()))
            with psycopg.connect(conninfo, application_name="clerk") as clerk:
                clerk.execute(CLERK)
                since = time.time()
                time.sleep(length * seconds)
                until = time.time()
                clerk.rollback()
            holds.append((since, until))
        gates.ended()
        deadlocks = re.search(r"deadlock failures: (\d+)", yard.ended())
        done = gates.transactions()
        connection.execute("drop table slot")
    reported = []
    for since, until in holds:
        # Whoever was held up went on just after the hold ended, and had begun before that.
        held_up = [
            took for end, took in done if until <= end < until + 0.5 and end - took / 1e3 < until
        ]
        waited = [took for took in held_up if took > (until - since) * 500]
        reported.append(
            {
                "from": stamp(since),
                "until": stamp(until),
                "longest_ms": max(waited),
                "waiting": len(waited),
            }
        )
    return {
        "holds": reported,
        "statement": CLERK,
        "deadlocks": int(deadlocks[1]) if deadlocks else 0,
    }


def main() -> int:
    """Read the options, run, print."""
    parser = argparse.ArgumentParser(
        description="A night's load, compressed, on a scratch table named slot."
    )
    parser.add_argument("conninfo", help="libpq connection string of a server to try things on")
    parser.add_argument(
        "--seconds", type=int, default=30, help="how long the night lasts (default 30)"
    )
    args = parser.parse_args()
    if pgbench() is None:
        print("night: pgbench is not on this machine", file=sys.stderr)
        return 3
    print(json.dumps(night(args.conninfo, args.seconds), indent=2))
    return 0


if __name__ == "__main__":
    sys.exit(main())
