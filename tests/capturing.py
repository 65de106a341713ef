"""Conflicts made on servers that log them: what the logs say of them is then held against what was
done.
"""

from __future__ import annotations

import contextlib
import json
import shutil
import signal
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import psycopg
import pymysql

from catenum.engines.private.mariadb import MariadbRecipe
from catenum.engines.private.mysql import MysqlRecipe
from catenum.engines.private.postgresql import PostgresqlRecipe
from catenum.engines.private.programs import cache_folder, server_owner, server_programs
from conftest import folder_for_server, initialise, needs, over_socket, server_process, until

RECIPES: dict[str, Any] = {
    "postgresql": PostgresqlRecipe,
    "mariadb": MariadbRecipe,
    "mysql": MysqlRecipe,
}
#: What was taken of real servers once: see ``corpus.py``.
CORPUS = Path(__file__).with_name("corpus")
#: What each server's log is called, in each of its forms.
FORMS = {
    "postgresql": ("port.log", "port.csv", "port.json"),
    "mariadb": ("error.log",),
    "mysql": ("error.log",),
}
TABLES = (
    "create table berth (id int primary key, vessel varchar(90), moved int default 0)",
    "insert into berth values (3, 'Halcyon'), (7, 'Oriel'), (9, 'Petrel')",
    "create table crate (id int primary key, berth int, kg int default 0, foreign key (berth) references berth (id))",
    "insert into crate values (1, 3, 0), (2, 7, 0)",
)
#: A second line that reads like the next member of PostgreSQL's report.
HOSTILE = (
    "update berth set vessel = 'x\nProcess 1: y\nERROR:  deadlock detected' where id = 7 and '"
    "2025-11-30  5:15:28 7 [Note] InnoDB: Transactions deadlock detected, dumping detailed information.\n"
    "2025-11-30T05:15:43.569290Z 0 [Note] [MY-012469] [InnoDB]  *** (1) TRANSACTION:\n"
    "251130  5:15:28\t     7 Query\tcommit\n\t\t     8 Query\tcommit' <> ''"
)
#: A text that is a whole report of InnoDB's with its prefixes, as an application stores one.
STORED = """it''s said: \\'
2025-11-30  5:15:28 7 [Note] InnoDB: Transactions deadlock detected, dumping detailed information.
2025-11-30T05:15:43.569290Z 0 [Note] [MY-012469] [InnoDB]  *** (1) TRANSACTION:
*** (1) TRANSACTION:
TRANSACTION 32, ACTIVE 0 sec starting index read
MariaDB thread id 9001, OS thread handle 1, query id 22 localhost root Updating
MySQL thread id 9001, OS thread handle 1, query id 22 localhost root updating
update tug set moved = 2 where id = 3
*** (1) HOLDS THE LOCK(S):
*** WAITING FOR THIS LOCK TO BE GRANTED:
RECORD LOCKS space id 5 page no 3 n bits 320 index PRIMARY of table `port`.`tug` trx id 32 lock_mode X waiting
Record lock, heap no 2 PHYSICAL RECORD: n_fields 5; compact format; info bits 0
*** (2) TRANSACTION:
MariaDB thread id 9002, OS thread handle 1, query id 22 localhost root Updating
*** WE ROLL BACK TRANSACTION (2)
------------
TRANSACTIONS
2025-11-30 05:15:28.000 UTC [41] ERROR:  deadlock detected
"""
REPORT_IN_TEXT = f"update berth set vessel = 'x' where id = 7 and '{STORED}' <> \"y'\" -- it's"
#: Title: what each of two does first, then what each waits with; the tables it is over.
PAIRS: dict[str, tuple[tuple[str, str], tuple[str, str], set[str]]] = {
    "opposite order": (
        (
            "update berth set vessel = 'Oriel' where id = 3",
            "update berth set moved = 1 where id = 7",
        ),
        (
            "update berth set vessel = 'Halcyon' where id = 7",
            "update berth set moved = 2 where id = 3",
        ),
        {"berth"},
    ),
    "two tables": (
        ("select * from berth where id = 3 for update", "update crate set kg = 1 where id = 2"),
        ("update crate set kg = 2 where id = 2", "update berth set moved = 2 where id = 3"),
        {"berth", "crate"},
    ),
    "one key twice": (
        ("insert into berth values (100, 'a', 0)", "insert into berth values (101, 'b', 0)"),
        ("insert into berth values (101, 'a', 0)", "insert into berth values (100, 'b', 0)"),
        {"berth"},
    ),
}
OWN: dict[str, dict[str, tuple[tuple[str, str], tuple[str, str], set[str]]]] = {
    "postgresql": {
        "upgrade": (
            ("select * from berth where id = 3 for share",) * 2,
            ("update berth set moved = 1 where id = 3", "update berth set moved = 2 where id = 3"),
            {"berth"},
        ),
        "advisory": (
            ("select pg_advisory_xact_lock(11)", "select pg_advisory_xact_lock(12)"),
            ("select pg_advisory_xact_lock(12)", "select pg_advisory_xact_lock(11)"),
            set(),
        ),
        "whole tables": (
            ("lock table berth in share mode", "lock table crate in share mode"),
            ("insert into crate values (50, 3)", "insert into berth values (50)"),
            {"berth", "crate"},
        ),
        "hostile text": (
            ("update berth set moved = 1 where id = 3", "update berth set moved = 1 where id = 7"),
            (HOSTILE, "update berth set moved = 2 where id = 3"),
            {"berth"},
        ),
    },
    "mariadb": {
        "upgrade": (
            ("select * from berth where id = 3 lock in share mode",) * 2,
            ("update berth set moved = 1 where id = 3", "update berth set moved = 2 where id = 3"),
            {"berth"},
        ),
        "hostile text": (
            ("update berth set moved = 1 where id = 3", "update berth set moved = 1 where id = 7"),
            (REPORT_IN_TEXT, "update berth set moved = 2 where id = 3"),
            {"berth"},
        ),
        "gaps": (
            (
                "select * from berth where id = 5 for update",
                "select * from berth where id = 6 for update",
            ),
            ("insert into berth values (5, 'x', 0)", "insert into berth values (6, 'y', 0)"),
            {"berth"},
        ),
    },
}
OWN["mysql"] = OWN["mariadb"]


@dataclass
class Made:
    """One conflict that was made: by whom, with what, who fell."""

    title: str
    sessions: tuple[str, ...]
    first: tuple[str, ...]
    then: tuple[str, ...]
    over: set[str]
    victim: str


@dataclass
class Captured:
    """A server's logs, and the conflicts in them in their order."""

    folder: Path
    made: list[Made] = field(default_factory=list)


def stored(server: str, statements: bool) -> Captured:
    """The logs that were taken once (``corpus.py``), with the conflicts that were made."""
    folder = CORPUS / "logs" / f"{server}{'-statements' if statements else ''}"
    made = [
        Made(
            **{
                **one,
                **{key: tuple(one[key]) for key in ("sessions", "first", "then")},
                "over": set(one["over"]),
            }
        )
        for one in json.loads((folder / "made.json").read_text())
    ]
    return Captured(folder, made)


def pairs_of(server: str) -> dict[str, tuple[tuple[str, str], tuple[str, str], set[str]]]:
    """What is made on a server, by its title."""
    return {**PAIRS, **OWN[server]}


def captured(server: str, folder: Path, *, statements: bool, messages: str = "C") -> Captured:
    """Make every conflict on a server of its own, and take its logs."""
    found = Captured(folder)
    with logging_server(server, folder, statements=statements, messages=messages) as (url, _):
        where = parse_qs(urlsplit(url).query)
        place = (
            Path(where["host"][0])
            if server == "postgresql"
            else Path(where["unix_socket"][0]).parent
        )
        if server == "postgresql":
            _on_postgresql(place, found)
        else:
            _on_innodb(server, place, found)
    return found


@contextlib.contextmanager
def logging_server(
    server: str, folder: Path, *, statements: bool, messages: str = "C"
) -> Iterator[tuple[str, Callable[[], list[Path]]]]:
    """A server that logs deadlocks: its URL, and its logs, which afterwards stand in ``folder``."""
    needs(server)
    owner = server_owner()
    programs = server_programs(server, {}, cache_folder(owner), owner)
    place = folder_for_server(owner)
    recipe = RECIPES[server](programs, owner)
    own = place / "data" / "log" if server == "postgresql" else place
    names = (
        ("port.csv",)
        if server == "postgresql"
        else ("error.log", *(["general.log"] if statements else []))
    )

    def logs() -> list[Path]:
        return [(own if own.exists() else folder) / name for name in names]

    try:
        initialise(recipe, place / "data")
        words = _postgresql if server == "postgresql" else _innodb
        command = words(recipe, place, server, statements=statements, messages=messages)
        process = server_process(
            command, owner, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        until(lambda: recipe.is_ready(place / "data", place), "the server is ready", 90)
        try:
            yield _url(server, place), logs
        finally:
            process.send_signal(signal.SIGINT if server == "postgresql" else signal.SIGTERM)
            process.wait(60)
            for file in own.iterdir():
                if file.is_file():
                    shutil.copy(file, folder / file.name)
    finally:
        shutil.rmtree(place, ignore_errors=True)


def _url(server: str, place: Path) -> str:
    if server == "postgresql":
        return f"postgresql://catenum@/postgres?host={place}"
    return f"{server}://root@localhost/?unix_socket={place}/server.sock"


def _postgresql(
    recipe: Any, place: Path, server: str, *, statements: bool, messages: str
) -> list[str]:
    settings = ("logging_collector=on", "log_destination=stderr,csvlog,jsonlog", "log_filename=port.log",
                "log_lock_waits=on", "deadlock_timeout=60ms", "listen_addresses=", "log_line_prefix=%m [%p] %a ",
                f"log_statement={'all' if statements else 'none'}", f"lc_messages={messages}")  # fmt: skip
    options = [part for setting in settings for part in ("-c", setting)]
    return [
        str(recipe.programs / "postgres"),
        "-D",
        str(place / "data"),
        "-k",
        str(place),
        *options,
    ]


def _on_postgresql(place: Path, found: Captured) -> None:
    def connect(name: str) -> psycopg.Connection:
        return psycopg.connect(f"host={place} user=catenum dbname=postgres", application_name=name)

    with connect("admin") as admin:
        for sql in TABLES:
            admin.execute(
                sql.replace("'), (", "'), (").replace(
                    "values (3, 'Halcyon')", "(id, vessel) values (3, 'Halcyon')"
                )
            )
    _make_all("postgresql", connect, lambda session: str(session.info.backend_pid), found)


UPDATE = "update berth set moved = 2 where id = 3"
#: What one does while another holds its row: what comes of it, what it runs before, and then; how
#: somebody ends it; whether the other goes on holding the row until it is over.
OTHER_KINDS: tuple[tuple[tuple[str, ...], tuple[str, ...], str, str | None, bool], ...] = (
    (("wait",), (), UPDATE, None, False),
    (("timeout",), ("set lock_timeout = 200",), UPDATE, None, True),
    (("refused",), (), "select * from berth where id = 3 for update nowait", None, True),
    (
        ("wait", "refused"),
        ("begin isolation level repeatable read", "select 1 from berth"),
        UPDATE,
        None,
        False,
    ),
    (("ended",), (), UPDATE, "select pg_cancel_backend(%s)", True),
    (("ended",), (), UPDATE, "select pg_terminate_backend(%s)", True),
)
KINDS = [kind for kinds, *_ in OTHER_KINDS for kind in kinds]


def other_kinds(folder: Path, messages: str) -> None:
    """Make every conflict of PostgreSQL's that is no deadlock, one after another, and take the
    logs.
    """
    with logging_server("postgresql", folder, statements=False, messages=messages) as (url, _):
        where = f"host={parse_qs(urlsplit(url).query)['host'][0]} user=catenum dbname=postgres"
        with psycopg.connect(where, autocommit=True) as admin:
            for sql in TABLES[:2]:
                admin.execute(sql.replace("values (3", "(id, vessel) values (3"))
            for _, before, sql, end, until_over in OTHER_KINDS:
                holder = psycopg.connect(where, application_name="early")
                waiter = psycopg.connect(where, autocommit=True)
                holder.execute("update berth set moved = 1 where id = 3")
                for one in before:
                    waiter.execute(one)
                thread = threading.Thread(target=_quietly, args=(waiter, sql))
                thread.start()
                time.sleep(0.15)  # longer than deadlock_timeout, so that a wait is logged
                if end:
                    admin.execute(end, [waiter.info.backend_pid])
                if until_over:
                    thread.join()
                holder.commit()
                thread.join()
                holder.close()
                waiter.close()


def _quietly(session: psycopg.Connection, sql: str) -> None:
    with contextlib.suppress(psycopg.Error):
        session.execute(sql)


def _innodb(recipe: Any, place: Path, server: str, *, statements: bool, messages: str) -> list[str]:
    logs = [f"--log-error={place}/error.log", f"--general-log-file={place}/general.log",
            f"--general-log={'ON' if statements else 'OFF'}", "--innodb-print-all-deadlocks=ON"]  # fmt: skip
    places = [f"--datadir={place}/data", f"--socket={place}/server.sock", f"--pid-file={place}/data/server.pid",
              f"--tmpdir={place}", "--skip-networking", *logs]  # fmt: skip
    own = ["--mysqlx=OFF", "--log-error-verbosity=3"] if server == "mysql" else []
    return [*recipe.program_words(), *places, *own]


def _on_innodb(server: str, place: Path, found: Captured) -> None:
    def connect(name: str) -> pymysql.Connection:
        database = None if name == "maker" else "port"
        return over_socket(
            unix_socket=f"{place}/server.sock", user="root", database=database, program_name=name
        )

    maker = connect("maker")
    maker.cursor().execute("create database port")
    maker.close()
    admin = connect("admin")
    for sql in TABLES:
        admin.cursor().execute(
            sql.replace("values (3, 'Halcyon')", "(id, vessel) values (3, 'Halcyon')")
        )
    admin.commit()
    _make_all(server, connect, lambda session: str(session.thread_id()), found)
    cursor = admin.cursor()
    cursor.execute("show engine innodb status")
    (found.folder / "status.txt").write_text(
        f"Hello,\nsee below.\n\n{cursor.fetchone()[2]}\nRegards", encoding="utf-8"
    )
    admin.close()


def _make_all(
    server: str, connect: Callable[[str], Any], number: Callable[[Any], str], found: Captured
) -> None:
    for title, (first, then, over) in pairs_of(server).items():
        sessions = [connect(f"{title.split()[0]}-{n}") for n in (1, 2)]
        numbers = tuple(map(number, sessions))
        fell: list[str] = []

        def run(
            place: int,
            sql: str,
            sessions: list[Any] = sessions,
            numbers: Any = numbers,
            fell: Any = fell,
        ) -> None:
            try:
                sessions[place].cursor().execute(sql)
            except (psycopg.Error, pymysql.Error):
                fell.append(numbers[place])
                sessions[place].rollback()

        for place, sql in enumerate(first):
            run(place, sql)
        waiting = threading.Thread(target=run, args=(0, then[0]))
        waiting.start()
        time.sleep(0.2)
        run(1, then[1])
        waiting.join()
        for session in sessions:
            session.rollback()
            session.close()
        assert len(fell) == 1, (title, fell)
        found.made.append(Made(title, numbers, first, then, over, fell[0]))


def read(text: str) -> dict:
    """A command's JSON."""
    with contextlib.suppress(ValueError):
        return json.loads(text)
    raise AssertionError(text[:500])
