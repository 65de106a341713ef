"""Random moments of a running server, told by a look and by the server's own views. Part of ``make
soak``.

python tests/moments.py --server postgresql --seconds 600 --first 1

Sessions lock rows, tables and named things at random, by statements that may wait; cycles are left
standing. After each statement the look's waits are held against what the server itself tells, asked
in another way: the same sessions wait, behind the same heads, in the same cycles; nobody is said to
hold what the lock table does not show as held; a head's hold is no longer than its transaction.
Prints each difference with the number that makes it again.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import random
import re
import subprocess
import sys
import threading
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

import psycopg
import pymysql

from catenum.core.record.modes import NO_MODE
from catenum.core.record.waits import Edge, Resource, WaitGraph
from catenum.engines.drivers import server_module
from conftest import over_socket

SCRIPT = Path(sys.executable).with_name("catenum")
SESSIONS, STEPS = 7, 16
ROWS = (
    "update berth set n = n + 1 where id = {k}", "select * from berth where id = {k} for update",
    "update crate set n = n + 1 where id = {k}", "delete from crate where id = {k}", "delete from berth where id = {k}",
    "insert into crate values ({n}, {k}, 0)", "update berth set n = 5 where n >= 0", "select * from berth",
)  # fmt: skip
OWN = {
    "postgresql": (
        *ROWS, "select * from berth where id = {k} for share", "select * from berth where id = {k} for key share",
        "select * from berth where id = {k} for no key update", "lock table berth in share mode",
        "lock table crate in access exclusive mode", "select pg_advisory_xact_lock({k})",
        "select pg_advisory_xact_lock_shared({k})", "alter table crate add column c{n} int", "update berth set id = {n} where id = {k}",
    ),
    "mariadb": (
        *ROWS, "select * from berth where id = {k} lock in share mode", "select * from berth where id between {k} and 9 for update",
        "select * from crate where n = 0 for update", "select get_lock('quay {k}', 60)",
    ),
}  # fmt: skip
OWN["mysql"] = tuple(
    statement.replace("lock in share mode", "for share") for statement in OWN["mariadb"]
)
#: How MySQL's lock table calls what InnoDB's status says in words.
WORDS = {
    "REC_NOT_GAP": "locks rec but not gap",
    "GAP": "locks gap before rec",
    "INSERT_INTENTION": "insert intention",
}


class Yard:
    """The sessions of one moment."""

    def __init__(self, kind: str, place: str) -> None:
        self.kind, self.place = kind, place
        self.sessions = [self.connect(f"gate {n}") for n in range(SESSIONS)]
        self.busy = [False] * SESSIONS
        self.ids = [self.number(session) for session in self.sessions]
        self.threads: list[threading.Thread] = []

    def connect(self, name: str, **more: Any) -> Any:
        if self.kind == "postgresql":
            made = psycopg.connect(self.place, application_name=name)
            made.autocommit = bool(more)
            return made
        return over_socket(unix_socket=self.place, user="root", database="moments", program_name=name,
                               autocommit=bool(more))  # fmt: skip

    def number(self, session: Any) -> str:
        return str(session.info.backend_pid if self.kind == "postgresql" else session.thread_id())

    def send(self, place: int, statement: str) -> None:
        session = self.sessions[place]
        self.busy[place] = True

        def run() -> None:
            with contextlib.suppress(psycopg.Error, pymysql.Error):
                session.cursor().execute(statement)
            self.busy[place] = False

        thread = threading.Thread(target=run, daemon=True)
        self.threads.append(thread)
        thread.start()

    def over(self, admin: Any) -> None:
        for number in self.ids:
            with contextlib.suppress(psycopg.Error, pymysql.Error):
                word = (
                    f"select pg_terminate_backend({number})"
                    if self.kind == "postgresql"
                    else f"kill {number}"
                )
                admin.cursor().execute(word)
        for thread in self.threads:
            thread.join(10)
        for session in self.sessions:
            with contextlib.suppress(Exception):
                session.close()


def own_waits(kind: str, admin: Any, ids: list[str]) -> dict[str, set[str]]:
    """Who waits for whom by the server's own view, queues included."""
    cursor = admin.cursor()
    found: dict[str, set[str]] = {}
    if kind == "postgresql":
        cursor.execute("select pid::text, pg_blocking_pids(pid)::text[] from pg_stat_activity")
        return {pid: set(by) for pid, by in cursor.fetchall() if by and pid in ids}
    if kind == "mysql":
        locks = tabled(cursor)
    else:
        cursor.execute("set global innodb_status_output_locks = on")
        cursor.execute("show engine innodb status")
        status = cursor.fetchone()[2]
        cursor.execute("set global innodb_status_output_locks = off")
        locks = printed(status)
    for waiter, mine in locks.items():
        for place, mode, waits in mine:
            for other, theirs in locks.items() if waits else ():
                if other != waiter and any(
                    p == place and not w and blocks(mode, m) for p, m, w in theirs
                ):
                    found.setdefault(waiter, set()).add(other)
            ahead = [
                o
                for o, theirs in locks.items()
                if o != waiter and any(p == place and w and blocks(mode, m) for p, m, w in theirs)
            ]
            if waits and waiter not in found and ahead:  # nobody holds it: it stands in a queue
                found[waiter] = set(ahead)
    listed = "performance_schema" if kind == "mysql" else "information_schema"
    cursor.execute(f"select id, info from {listed}.processlist where state = 'User lock'")
    for waiter, info in cursor.fetchall():
        name = info.split("'")[1]
        cursor.execute("select is_used_lock(%s)", (name,))
        holder = cursor.fetchone()[0]
        if holder is not None:
            found.setdefault(str(waiter), set()).add(str(holder))
    return found


def printed(status: str) -> dict[str, list[tuple[tuple[str, ...], str, bool]]]:
    """Each thread's row locks as the status prints them: place, mode, whether it waits."""
    found: dict[str, list[tuple[tuple[str, ...], str, bool]]] = {}
    body = status.split("LIST OF TRANSACTIONS FOR EACH SESSION:")[-1]
    for block in body.split("---TRANSACTION ")[1:]:
        thread = re.search(r"MariaDB thread id (\d+)", block)
        if thread is None:
            continue
        mine = found.setdefault(thread[1], [])
        for text in re.split(r"(?=RECORD LOCKS )", block)[1:]:
            head = re.match(
                r"RECORD LOCKS space id (\d+) page no (\d+) .*? lock[ _]mode (.*)", text
            )
            if head:
                for heap in re.findall(r"heap no (\d+)", text):
                    mine.append(
                        (
                            (head[1], head[2], heap),
                            head[3].replace(" waiting", ""),
                            "waiting" in head[3],
                        )
                    )
    return found


def tabled(cursor: Any) -> dict[str, list[tuple[tuple[str, ...], str, bool]]]:
    """The same from MySQL's lock table, by transactions: the threads that it tells of locks are not
    asked.
    """
    cursor.execute("select trx_id, trx_mysql_thread_id from information_schema.innodb_trx")
    threads = {str(number): str(thread) for number, thread in cursor.fetchall()}
    cursor.execute(
        "select engine_transaction_id, engine_lock_id, index_name, lock_mode, lock_status, lock_data "
        "from performance_schema.data_locks where lock_type = 'RECORD'"
    )
    found: dict[str, list[tuple[tuple[str, ...], str, bool]]] = {}
    for number, name, index, mode, status, data in cursor.fetchall():
        letter, *parts = mode.split(",")
        parts = ["GAP"] if data == "supremum pseudo-record" and parts == [] else parts
        words = " ".join([letter, *(WORDS[part] for part in parts)])
        place = (index, *name.split(":")[1:-1][-3:])
        if str(number) in threads:
            found.setdefault(threads[str(number)], []).append((place, words, status == "WAITING"))
    return found


def blocks(wanted: str, held: str) -> bool:
    """Whether one row lock is in the way of another (InnoDB's manual, "InnoDB Locking")."""
    if wanted[0] == held[0] == "S":
        return False
    gap = "gap before rec" in held
    if "insert intention" in wanted:
        return "insert intention" not in held and "rec but not gap" not in held
    return not gap and "gap before rec" not in wanted


def graph_of(waits: dict[str, set[str]]) -> WaitGraph:
    thing = Resource(kind="other", text="something")
    return WaitGraph(
        Edge(waiter=w, holder=h, resource=thing, wanted=NO_MODE, held=None)
        for w, by in waits.items()
        for h in by
    )


def roots(graph: WaitGraph, name: str) -> set[str]:
    """Whom a session waits for in the end: heads, and everybody in a cycle that it leads to."""
    seen, stack = set(), [name]
    while stack:
        for edge in graph.waits_of(stack.pop()):
            if edge.holder not in seen:
                seen.add(edge.holder)
                stack.append(edge.holder)
    rings = {edge.waiter for knot in graph._knots() for edge in graph.edges if edge.waiter in knot}
    return {one for one in seen if not graph.waits_of(one) or one in rings}


def differences(sample: Any, own: dict[str, set[str]], kind: str) -> list[str]:
    """What the look says and the server does not, or the other way round."""
    reported = WaitGraph(sample.edges)
    server = graph_of(own)
    found = []
    if kind == "mariadb":  # whoever is not named is one of the suspects
        suspected = {
            one.waiter: {s.session for s in sample.suspects if s.waiter == one.waiter}
            for one in sample.suspects
        }
        reported = WaitGraph(
            replace(edge, holder=name)
            for edge in sample.edges
            for name in (
                sorted(suspected.get(edge.waiter, ()))
                if edge.holder not in sample.by_id
                else [edge.holder]
            )
        )
    if reported.waiters != server.waiters:
        found.append(f"waiting: told {sorted(reported.waiters)}, server {sorted(server.waiters)}")
    for name in reported.waiters & server.waiters:
        mine, theirs = roots(reported, name), roots(server, name)
        # The server names one of several that share a row; the look may know the others. In a cycle
        # the server counts those who stand ahead in a queue for a row among the members.
        alike = mine == theirs or (
            theirs <= mine and (kind == "postgresql" or bool(sample.suspects))
        )
        if not alike and not (reported.cycles() and mine & theirs):
            found.append(f"{name}: told behind {sorted(mine)}, server {sorted(theirs)}")
    # Who shares a row may close a cycle before the server has come to wait for it: for it waits for
    # one after the other.
    shares = any(edge.resource.kind == "row" and edge.held is not None for edge in sample.edges)
    if bool(reported.cycles()) != bool(server.cycles()) and not (
        kind == "postgresql" and reported.cycles() and shares
    ):
        found.append(f"cycles: told {len(reported.cycles())}, server {len(server.cycles())}")
    for head in reported.heads():
        held, age = sample.holds_up(head), sample.session(head).transaction_ms
        if age is not None and held.ms > age + 1100:
            found.append(f"{head}: holds for {held.ms:.0f} ms, its transaction is {age:.0f} ms old")
    return found


def moment(kind: str, place: str, admin: Any, monitor: Any, number: int) -> list[str]:
    """Play one; look after each statement; a difference counts when it stands in three looks."""
    chance = random.Random(number)
    cursor = admin.cursor()
    for sql in ("drop table if exists crate", "drop table if exists berth", "create table berth (id int primary key, n int)",
                "create table crate (id int primary key, berth int, n int, foreign key (berth) references berth (id))",
                "insert into berth values (1, 0), (2, 0), (3, 0)", "insert into crate values (1, 1, 0), (2, 2, 0), (3, 3, 0)"):  # fmt: skip
        cursor.execute(sql)
    yard = Yard(kind, place)
    found: list[str] = []
    done: list[str] = []
    try:
        for step in range(STEPS):
            free = [n for n in range(SESSIONS) if not yard.busy[n]]
            if not free:
                break
            who = chance.choice(free)
            statement = chance.choice(OWN[kind]).format(
                k=chance.randint(1, 3), n=10 + step + number % 1000 * 20
            )
            if chance.random() < 0.15:
                statement = chance.choice(("commit", "rollback"))
            done.append(f"{yard.ids[who]} {statement}")
            yard.send(who, statement)
            time.sleep(0.03 if kind == "postgresql" else 0.13)
            for _ in range(4):
                before = own_waits(kind, admin, yard.ids)
                sample = monitor.sample()
                after = own_waits(kind, admin, yard.ids)
                wrong = differences(sample, after, kind) if before == after else []
                if not wrong:
                    break
                time.sleep(0.25)
            else:
                found += wrong
            if found:
                return [*found, *done]
    finally:
        yard.over(admin)
    return found


def soak() -> int:
    """Play many, and say what came of it."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--server", choices=tuple(OWN), required=True)
    parser.add_argument("--seconds", type=float, default=600.0)
    parser.add_argument("--first", type=int, default=1)
    parser.add_argument("--count", type=int, default=10**9)
    args = parser.parse_args()
    target = f"local:{args.server}"
    subprocess.run(
        [str(SCRIPT), "local", "start", "--target", target], check=False, capture_output=True
    )
    reported = subprocess.run(
        [str(SCRIPT), "local", "status", "--target", target, "--json"],
        check=True,
        capture_output=True,
    )
    (server,) = json.loads(reported.stdout)["servers"]
    open_monitor = server_module(args.server, ".monitor").open_monitor
    admin: Any
    if args.server == "postgresql":
        first = psycopg.connect(
            f"host={server['sockets']} user=catenum dbname=marrowgate", autocommit=True
        )
        first.execute("drop database if exists moments with (force)")
        first.execute("create database moments")
        place = f"host={server['sockets']} user=catenum dbname=moments"
        admin = psycopg.connect(place, autocommit=True)
        admin.execute("alter database moments set deadlock_timeout = '10min'")
        monitor = open_monitor(place, "moments")
    else:
        place = f"{server['sockets']}/server.sock"
        admin = over_socket(unix_socket=place, user="root", autocommit=True)
        for sql in (
            "create database if not exists moments",
            "use moments",
            "set global innodb_lock_wait_timeout = 600",
        ):
            admin.cursor().execute(sql)
        monitor = open_monitor({"unix_socket": place, "user": "root"}, "moments")
    until, number, bad = time.monotonic() + args.seconds, args.first, 0
    while time.monotonic() < until and number < args.first + args.count:
        wrong = moment(args.server, place, admin, monitor, number)
        if wrong:
            bad += 1
            print(f"{args.server} {number}", *wrong, sep="\n    ", flush=True)
        number += 1
        if number % 50 == 0:
            print(f"{args.server}: at {number}", flush=True)
    print(
        f"{args.server}: {number - args.first} moments, {bad} different, the last was {number - 1}"
    )
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(soak())
