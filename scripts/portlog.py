"""A night of Marrowgate Harbour in a server's own log: a server that logs as it should, and
dispatchers that meet.

python scripts/portlog.py FOLDER --seconds 12     the log is FOLDER/port.csv
"""

from __future__ import annotations

import argparse
import contextlib
import os
import random
import shutil
import subprocess
import tempfile
import threading
import time
from pathlib import Path

import psycopg

from catenum.engines.private.postgresql import PostgresqlRecipe
from catenum.engines.private.programs import cache_folder, server_owner, server_programs

TABLES = """
create table berth (id int primary key, vessel text, moved int not null default 0);
insert into berth select i, 'Halcyon ' || i, 0 from generate_series(1, 12) i;
create table manifest (id int primary key, vessel text, boxes int not null default 0);
insert into manifest select i, 'Oriel ' || i, 240 from generate_series(1, 6) i;
create table box (id serial primary key, manifest int not null references manifest,
  kg int not null);
"""
SETTINGS = (
    "logging_collector=on",
    "log_destination=csvlog",
    "log_filename=port.log",
    "log_lock_waits=on",
    "deadlock_timeout=80ms",
    "listen_addresses=",
    "log_statement=mod",
)


def work(place: Path, name: str, chance: random.Random, until: float) -> None:
    """One client: what it does next, it decides by chance."""
    while time.monotonic() < until:
        with (
            contextlib.suppress(psycopg.Error),
            psycopg.connect(
                f"host={place} user=catenum dbname=postgres", application_name=name
            ) as connection,
        ):
            if name == "dispatcher":
                for berth in chance.sample((3, 7), 2):
                    connection.execute(f"update berth set moved = moved + 1 where id = {berth}")
                    time.sleep(0.03)
            elif name == "loader":
                manifest = chance.choice((1, 2))
                connection.execute(
                    f"insert into box (manifest, kg) values ({manifest}, {chance.randint(1, 30)})"
                )
                time.sleep(0.05)
                connection.execute(f"update manifest set boxes = boxes + 1 where id = {manifest}")
            else:
                connection.execute("update manifest set boxes = 0 where id = 2")
                time.sleep(0.25)
        time.sleep(chance.uniform(0.02, 0.2))


def main() -> None:
    """Start, work, stop, copy the log."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--seconds", type=float, default=12.0)
    args = parser.parse_args()
    owner = server_owner()
    recipe = PostgresqlRecipe(server_programs("postgresql", {}, cache_folder(owner), owner), owner)
    place = Path(tempfile.mkdtemp(prefix="catenum-port-"))
    if owner.drop:
        os.chown(place, owner.uid, owner.gid)
    recipe.initialise(place / "data")
    options = [part for setting in SETTINGS for part in ("-c", setting)]
    command = [
        str(recipe.programs / "postgres"),
        "-D",
        str(place / "data"),
        "-k",
        str(place),
        *options,
    ]
    server = subprocess.Popen(
        command, cwd="/", stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, **owner.popen
    )
    try:
        while not recipe.is_ready(place / "data", place):
            time.sleep(0.05)
        with psycopg.connect(f"host={place} user=catenum dbname=postgres") as connection:
            connection.execute(TABLES)
        until = time.monotonic() + args.seconds
        clients = [("dispatcher", 1), ("dispatcher", 2), ("loader", 3), ("loader", 4), ("clerk", 5)]
        threads = [
            threading.Thread(target=work, args=(place, n, random.Random(seed), until))
            for n, seed in clients
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
    finally:
        server.send_signal(2)
        server.wait(30)
        args.folder.mkdir(parents=True, exist_ok=True)
        shutil.copy(place / "data" / "log" / "port.csv", args.folder / "port.csv")
        shutil.rmtree(place, ignore_errors=True)


if __name__ == "__main__":
    main()
