"""Two situations for pictures, on servers for tests. Run it beside a ``watch``.

crowd.py pile CONNINFO --seconds 15        forty gates that take boxes off one slot, one after the
other crowd.py across HERE THERE --seconds 30    a deadlock over two servers, through a foreign
table
"""

from __future__ import annotations

import argparse
import contextlib
import threading
import time

import psycopg

GATES = 40
TAKE = "update slot set boxes = boxes - 1 where id = 42"


def pile(conninfo: str, seconds: float) -> None:
    """Each gate holds the slot for some 15 ms, and then queues for it again."""
    with psycopg.connect(conninfo, autocommit=True) as admin:
        admin.execute(
            "drop table if exists slot; create table slot (id int primary key, boxes int)"
        )
        admin.execute("insert into slot values (42, 0)")
    until = time.monotonic() + seconds

    def gate(number: int) -> None:
        with psycopg.connect(conninfo, application_name=f"gate {number % 4 + 1}") as session:
            while time.monotonic() < until:
                session.execute(TAKE)
                time.sleep(0.015)
                session.commit()

    gates = [threading.Thread(target=gate, args=(number,)) for number in range(GATES)]
    for thread in gates:
        thread.start()
    for thread in gates:
        thread.join()


def across(here: str, there: str, seconds: float) -> None:
    """Two tugs: each holds what the other wants, one of the two things on each server."""
    with psycopg.connect(there, autocommit=True) as admin:
        admin.execute(
            "drop table if exists berth; create table berth (id int primary key, tugs int)"
        )
        admin.execute("insert into berth values (7, 0)")
        place = (admin.info.host, admin.info.port, admin.info.dbname, admin.info.user)
    with psycopg.connect(here, autocommit=True) as admin:
        admin.execute(
            "drop table if exists slot; create table slot (id int primary key, boxes int)"
        )
        admin.execute("insert into slot values (42, 0)")
        admin.execute(
            "create extension if not exists postgres_fdw; drop server if exists yard cascade"
        )
        admin.execute(
            f"create server yard foreign data wrapper postgres_fdw options (host '{place[0]}', "
            f"port '{place[1]}', dbname '{place[2]}', application_name 'lift %p')"
        )
        admin.execute(
            f"create user mapping for current_user server yard options (user '{place[3]}')"
        )
        admin.execute(
            "create foreign table yard_berth (id int, tugs int) server yard options (table_name"
            " 'berth')"
        )
    one, two = (psycopg.connect(here, application_name=name) for name in ("tug one", "tug two"))
    one.execute("update slot set boxes = 1 where id = 42")
    two.execute("update yard_berth set tugs = 1 where id = 7")
    waiting = [
        threading.Thread(target=_quietly, args=pair, daemon=True)
        for pair in (
            (one, "update yard_berth set tugs = 2 where id = 7"),
            (two, "update slot set boxes = 2 where id = 42"),
        )
    ]
    for thread in waiting:
        thread.start()
    time.sleep(seconds)
    with psycopg.connect(here, autocommit=True) as admin:
        admin.execute(
            "select pg_terminate_backend(pid) from pg_stat_activity where application_name like"
            " 'tug %'"
        )
        for thread in waiting:
            thread.join(5)
        admin.execute("drop server yard cascade; drop table slot")


def _quietly(session: psycopg.Connection, statement: str) -> None:
    with contextlib.suppress(psycopg.Error):
        session.execute(statement)


def main() -> None:
    """Read the command line and play."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("what", choices=("pile", "across"))
    parser.add_argument("servers", nargs="+", metavar="CONNINFO")
    parser.add_argument("--seconds", type=float, default=15.0)
    args = parser.parse_args()
    if args.what == "pile":
        pile(args.servers[0], args.seconds)
    else:
        across(args.servers[0], args.servers[1], args.seconds)


if __name__ == "__main__":
    main()
