"""The truth table: situations on servers as they come (default settings), the servers' own views
beside ``now``.

Each situation is made by a script: who holds, who waits. What ``now --json`` says is held against
what the script did, and against what the server itself tells, asked in another way than ``now``
asks.
"""

from __future__ import annotations

import contextlib
import io
import json
import os
import shutil
import signal
import subprocess
import threading
import time
import zlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import psycopg
import pymysql
import pytest

from catenum.cli.main import main
from catenum.engines.private.mariadb import MariadbRecipe
from catenum.engines.private.mysql import MysqlRecipe
from catenum.engines.private.postgresql import PostgresqlRecipe
from catenum.engines.private.programs import cache_folder, server_owner, server_programs
from conftest import folder_for_server, initialise, needs, over_socket, server_process, until

DATA = (
    "create table berth (id int primary key, vessel varchar(20))",
    "insert into berth values (1, 'Halcyon'), (2, 'Oriel'), (3, 'Petrel')",
    "create table crate (id int primary key, berth int references berth (id), kg int default 0, tag varchar(9))",
    "insert into crate values (1, 1, 0, 'a'), (2, 2, 0, 'b'), (7, 1, 0, 'c'), (9, 2, 0, 'z')",
    "create table tally (day int primary key, crates int)",
    "insert into tally values (1, 0)",
)
FOREIGN_KEY = "alter table crate add foreign key (berth) references berth (id)"  # MariaDB leaves out the short form


@dataclass
class Port:
    """One server and the sessions of a situation, by their roles. ``own`` asks the server's own
    views.
    """

    server: str
    url: str
    connect: Callable[[str], Any]
    folder: Path
    sessions: dict[str, Any] = field(default_factory=dict)
    numbers: dict[str, str] = field(default_factory=dict)
    sending: dict[str, threading.Thread] = field(default_factory=dict)

    def number(self, role: str) -> str:
        return self.numbers[role]

    def number_of(self, session: Any) -> str:
        return str(session.info.backend_pid if self.server == "postgresql" else session.thread_id())

    def session(self, role: str) -> Any:
        if role not in self.sessions:
            made = self.sessions[role] = self.connect(role)
            self.numbers[role] = self.number_of(
                made
            )  # asked while it lives: a dead one no longer tells
        return self.sessions[role]

    def does(self, role: str, *statements: str) -> None:
        cursor = self.session(role).cursor()
        for statement in statements:
            cursor.execute(statement)

    def waits(self, role: str, statement: str) -> None:
        """Send a statement that will wait, and see that its session is in it."""
        cursor = self.session(role).cursor()

        def send() -> None:
            with contextlib.suppress(Exception):
                cursor.execute(statement)

        self.sending[role] = threading.Thread(target=send, daemon=True)
        self.sending[role].start()
        until(lambda: self.runs(role), f"{role} is in its statement")
        time.sleep(0.15)

    def rolls_back(self, role: str) -> None:
        """Once the driver has the answer to what it sent: a session is used by one thread at a
        time.
        """
        if role in self.sending:
            self.sending.pop(role).join(20)
        self.sessions[role].rollback()

    @property
    def listed(self) -> str:
        return f"{'performance' if self.server == 'mysql' else 'information'}_schema.processlist"

    def runs(self, role: str) -> bool:
        query = (
            f"select 1 from pg_stat_activity where pid = {self.number(role)} and state = 'active'"
            if self.server == "postgresql"
            else f"select 1 from {self.listed} where id = {self.number(role)} and command = 'Query'"
        )
        return bool(self.asked(query))

    def is_there(self, role: str) -> bool:
        pids = ("pg_stat_activity", "pid") if self.server == "postgresql" else (self.listed, "id")
        return bool(self.asked(f"select 1 from {pids[0]} where {pids[1]} = {self.number(role)}"))

    def asked(self, query: str) -> list[Any]:
        other = self.connect("tester")
        with contextlib.closing(other):
            cursor = other.cursor()
            cursor.execute(query)
            return list(cursor.fetchall())

    def own(self) -> dict[str, set[str]]:
        """Who waits for whom, by the server's own view alone."""
        if self.server == "postgresql":
            rows = self.asked("select pid, pg_blocking_pids(pid) from pg_stat_activity")
            return {str(pid): {str(one) for one in by} for pid, by in rows if by}
        found: dict[str, set[str]] = {}
        if self.server == "mysql":
            return self._own_by_transactions()
        for waiter, holder in self.asked(
            "select r.trx_mysql_thread_id, b.trx_mysql_thread_id from information_schema.innodb_lock_waits w "
            "join information_schema.innodb_trx r on r.trx_id = w.requesting_trx_id "
            "join information_schema.innodb_trx b on b.trx_id = w.blocking_trx_id"
        ):
            found.setdefault(str(waiter), set()).add(str(holder))
        return found

    def _own_by_transactions(self) -> dict[str, set[str]]:
        """The views are joined by transactions alone, and not by the threads that are told of
        locks.
        """
        found: dict[str, set[str]] = {}
        for waiter, holder in self.asked(
            "select r.trx_mysql_thread_id, b.trx_mysql_thread_id from performance_schema.data_lock_waits w "
            "join information_schema.innodb_trx r on r.trx_id = w.requesting_engine_transaction_id "
            "join information_schema.innodb_trx b on b.trx_id = w.blocking_engine_transaction_id"
        ):
            found.setdefault(str(waiter), set()).add(str(holder))
        return found

    def ends(self, *sessions: Any) -> None:
        """As an administrator would, over one connection."""
        admin = self.connect("tester")
        for session in sessions:
            with contextlib.suppress(psycopg.Error, pymysql.Error):
                number = self.number_of(session)
                word = (
                    f"select pg_terminate_backend({number})"
                    if self.server == "postgresql"
                    else f"kill {number}"
                )
                admin.cursor().execute(word)
        admin.close()

    def over(self) -> None:
        """End every session of the situation, and see that the server has: what they held is free."""
        self.ends(*self.sessions.values())
        until(lambda: not any(map(self.is_there, self.numbers)), "the sessions are gone")
        for session in self.sessions.values():
            with contextlib.suppress(Exception):
                session.close()
        self.sessions.clear()
        self.numbers.clear()


def _postgresql(folder: Path) -> Iterator[Port]:
    owner = server_owner()
    recipe = PostgresqlRecipe(server_programs("postgresql", {}, cache_folder(owner), owner), owner)
    initialise(recipe, folder / "data")
    port = 21_000 + os.getpid() % 20_000
    settings = ("max_prepared_transactions=5", f"port={port}", "logging_collector=on", "log_destination=csvlog,jsonlog",
                "log_lock_waits=on", "deadlock_timeout=200ms", "log_rotation_size=20kB", "listen_addresses=127.0.0.1",
                "log_filename=port-%Y-%m-%d_%H%M%S.log", "max_wal_senders=3", "wal_level=replica")  # fmt: skip
    options = [part for setting in settings for part in ("-c", setting)]
    command = [
        str(recipe.programs / "postgres"),
        "-D",
        str(folder / "data"),
        "-k",
        str(folder),
        *options,
    ]
    with (folder / "out").open("wb") as out:
        process = server_process(command, owner, stdout=out, stderr=out)
    until(lambda: recipe.is_ready(folder / "data", folder), "the server is ready")

    def connect(role: str) -> psycopg.Connection:
        made = psycopg.connect(url, application_name=role)
        made.autocommit = role == "tester"
        return made

    url = f"postgresql://catenum@/postgres?host={folder}&port={port}"
    yield Port("postgresql", url, connect, folder)
    process.send_signal(signal.SIGINT)  # with SIGTERM it would wait for clients
    process.wait(30)


def _innodb(server: str, folder: Path) -> Iterator[Port]:
    owner = server_owner()
    programs = server_programs(server, {}, cache_folder(owner), owner)
    recipe = MysqlRecipe(programs, owner) if server == "mysql" else MariadbRecipe(programs, owner)
    initialise(recipe, folder / "data")
    places = [f"--datadir={folder}/data", f"--socket={folder}/server.sock", f"--pid-file={folder}/data/server.pid",
              f"--tmpdir={folder}", "--skip-networking", f"--log-error={folder}/error.log"]  # fmt: skip
    command = [*recipe.program_words(), *places, *(["--mysqlx=OFF"] if server == "mysql" else [])]
    process = server_process(command, owner, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    until(lambda: recipe.is_ready(folder / "data", folder), "the server is ready")

    def connect(role: str) -> pymysql.Connection:
        return over_socket(unix_socket=f"{folder}/server.sock", user="root", database="test", program_name=role,
                               autocommit=role == "tester")  # fmt: skip

    first = over_socket(unix_socket=f"{folder}/server.sock", user="root", autocommit=True)
    first.cursor().execute("create database if not exists test")
    first.close()
    yield Port(
        server, f"{server}://root@localhost/test?unix_socket={folder}/server.sock", connect, folder
    )
    process.terminate()
    process.wait(30)


def prints_deadlocks(port: Port) -> None:
    port.asked("set global innodb_print_all_deadlocks = on")
    if port.server == "mysql":
        port.asked("set global log_error_verbosity = 3")


@pytest.fixture(scope="module")
def servers() -> Iterator[Callable[[str], Port]]:
    """Servers with default settings, each started when a situation first needs it."""
    started: dict[str, tuple[Iterator[Port], Port]] = {}
    folders = []

    def get(server: str) -> Port:
        if server not in started:
            needs(server)
            folder = folder_for_server(server_owner())
            folders.append(folder)
            made = _postgresql(folder) if server == "postgresql" else _innodb(server, folder)
            started[server] = (made, next(made))
        return started[server][1]

    yield get
    for made, _ in started.values():
        next(made, None)
    for folder in folders:
        shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture
def port(request, servers) -> Iterator[Port]:
    """A server with the tables of a situation, and nobody on it."""
    found = servers(request.param)
    gone = [f"drop table if exists {table}" for table in ("crate", "berth", "tally")]
    with contextlib.closing(found.connect("tester")) as tester:
        for statement in (*gone, *DATA, *([FOREIGN_KEY] if found.server != "postgresql" else [])):
            tester.cursor().execute(statement)
    yield found
    found.over()


def now(port: Port, *words: str) -> tuple[dict, int]:
    """What ``now --json`` says, with the sessions by their roles, and its exit code."""
    out, err = io.StringIO(), io.StringIO()
    code = main(["now", "--target", port.url, "--json", *words], out, err)
    assert err.getvalue() == ""
    return json.loads(out.getvalue()), code


EACH = ("postgresql", "mariadb", "mysql")
INNODB = ("mariadb", "mysql")
LIKE_STATUS = """x
---TRANSACTION 4711, ACTIVE 900 sec
5 lock struct(s), heap size 1128, 7 row lock(s), undo log entries 9
MariaDB thread id 1, OS thread handle 1, query id 1 localhost root
------- TRX HAS BEEN WAITING 5 SEC FOR THIS LOCK TO BE GRANTED:
RECORD LOCKS space id 5 page no 3 n bits 8 index PRIMARY of table `test`.`crate` trx id 4711 lock_mode X waiting
--------
FILE I/O
--------"""
#: Title; the servers; who does what first; who then waits with what; who waits for whom; over what,
#: by server.
SITUATIONS: list[tuple[str, tuple[str, ...], list[tuple[str, str]], list[tuple[str, str]], dict[str, set[str]], dict]] = [
    ("a row", EACH, [("lift", "update crate set kg = 1 where id = 2")],
     [("gate", "update crate set kg = 2 where id = 2"), ("tug", "delete from crate where id = 2")],
     {"gate": {"lift"}, "tug": {"lift"}}, {"gate": "crate(id=2)", "tug": "crate(id=2)"}),
    ("three holders of a parent's row", EACH,
     [(f"lift{n}", f"insert into crate values ({20 + n}, 1, 0, 'n')") for n in range(3)],
     [("clerk", "delete from berth where id = 1")],
     {"clerk": {"lift0", "lift1", "lift2"}}, {"clerk": "berth(id=1)"}),
    ("a wait for a parent's row by a foreign key", EACH, [("clerk", "delete from berth where id = 3")],
     [("lift", "insert into crate values (30, 3, 0, 'n')")],
     {"lift": {"clerk"}}, {"lift": {"postgresql": "berth row at (0,3)", "mariadb": "berth(id=3)", "mysql": "berth(id=3)"}}),
    ("a scan stops where it stops", INNODB, [("lift", "select * from crate where id = 7 for update")],
     [("gate", "update crate set kg = 1 where tag = 'z'")], {"gate": {"lift"}}, {"gate": "crate(id=7)"}),
    ("a gap is a gap", INNODB, [("lift", "select * from crate where id between 3 and 5 for update")],
     [("gate", "insert into crate values (4, 1, 0, 'n')")],
     {"gate": {"lift"}}, {"gate": "crate: the gap before (id=7)"}),
    ("a chain over three rows", EACH,
     [("one", "update crate set kg = 1 where id = 1"), ("two", "update crate set kg = 1 where id = 2"),
      ("three", "update crate set kg = 1 where id = 7")],
     [("two", "update crate set kg = 1 where id = 1"), ("three", "update crate set kg = 1 where id = 2")],
     {"two": {"one"}, "three": {"two"}}, {"two": "crate(id=1)", "three": "crate(id=2)"}),
    ("no statement names the row", ("postgresql",), [("lift", "update crate set kg = 1 where id = 2")],
     [("gate", "do $$ begin update crate set kg = 3 where id = 2; end $$")],
     {"gate": {"lift"}}, {"gate": "crate row at (0,2)"}),
    ("readers behind a schema change", ("postgresql",), [("desk", "select * from crate")],
     [("alter", "alter table crate add note text"), ("board", "select count(*) from crate")],
     {"alter": {"desk"}, "board": {"alter"}}, {"alter": "crate", "board": "crate"}),
    ("an index built beside the work", ("postgresql",), [("desk", "update crate set kg = 1 where id = 1")],
     [("index", "create index concurrently on crate (kg)")], {"index": {"desk"}},
     {"index": "the end of the other transaction"}),
    ("the whole table made anew", ("postgresql",), [("desk", "select * from crate")],
     [("full", "vacuum full crate")], {"full": {"desk"}}, {"full": "crate"}),
    ("an advisory lock that two share", ("postgresql",),
     [("one", "select pg_advisory_lock_shared(7)"), ("two", "select pg_advisory_lock_shared(7)")],
     [("gate", "select pg_advisory_lock(7)")], {"gate": {"one", "two"}}, {"gate": "advisory lock 7"}),
    ("a key that two insert", EACH, [("lift", "insert into crate values (40, 1, 0, 'n')")],
     [("gate", "insert into crate values (40, 2, 0, 'm')")], {"gate": {"lift"}},
     {"gate": {"postgresql": "the end of the other transaction", "mariadb": "crate(id=40)", "mysql": "crate(id=40)"}}),
    ("its last statement did nothing", EACH,
     [("lift", "update crate set kg = 1 where id = 2"), ("lift", "select 1")],
     [("gate", "update crate set kg = 2 where id = 2")], {"gate": {"lift"}}, {"gate": "crate(id=2)"}),
    ("a row locked within a savepoint", EACH, [("lift", "savepoint here"), ("lift", "update crate set kg = 1 where id = 2")],
     [("gate", "update crate set kg = 2 where id = 2")], {"gate": {"lift"}}, {"gate": "crate(id=2)"}),
    ("back to a savepoint keeps the row", INNODB,
     [("lift", "update crate set kg = 1 where id = 1"), ("lift", "savepoint here"),
      ("lift", "update crate set kg = 1 where id = 2"), ("lift", "rollback to savepoint here")],
     [("gate", "update crate set kg = 2 where id = 2")], {"gate": {"lift"}}, {"gate": "crate(id=2)"}),
    ("two share a row, one within a savepoint", ("postgresql",),
     [("one", "select * from crate where id = 2 for share"), ("two", "savepoint here"), ("two", "select * from crate where id = 2 for share")],
     [("gate", "update crate set kg = 2 where id = 2")], {"gate": {"one", "two"}}, {"gate": "crate(id=2)"}),
    ("two share a row", INNODB, [(role, "select * from crate where id = 2 lock in share mode") for role in ("one", "two")],
     [("gate", "update crate set kg = 2 where id = 2")], {"gate": {"one", "two"}}, {"gate": "crate(id=2)"}),
    ("a serializable read", INNODB,
     [("lift", "set session transaction isolation level serializable"), ("lift", "select * from crate where id = 2")],
     [("gate", "update crate set kg = 2 where id = 2")], {"gate": {"lift"}}, {"gate": "crate(id=2)"}),
    ("behind the last row", INNODB, [("lift", "select * from crate where id > 7 for update")],
     [("gate", "insert into crate values (50, 1, 0, 'n')")], {"gate": {"lift"}}, {"gate": "crate: the gap after the last entry"}),
    ("a text that reads like the server's status", INNODB, [("lift", "update crate set kg = 1 where id = 2")],
     [("gate", f"update crate set kg = 2 where id = 2 and '{LIKE_STATUS}' <> ''")], {"gate": {"lift"}}, {"gate": "crate(id=2)"}),
    ("a whole table", ("postgresql",), [("lift", "lock table crate in share mode")],
     [("gate", "update crate set kg = 2 where id = 2")], {"gate": {"lift"}}, {"gate": "crate"}),
    ("a named lock", INNODB, [("one", "select get_lock('quay 7', 1)")],
     [("gate", "select get_lock('quay 7', 30)")], {"gate": {"one"}}, {"gate": "named lock 'quay 7'"}),
]  # fmt: skip
CASES = [(server, *rest) for _, names, *rest in SITUATIONS for server in names]
NAMES = [f"{title}, {server}" for title, names, *_ in SITUATIONS for server in names]


@pytest.mark.parametrize(
    ("port", "first", "then", "waits", "objects"), CASES, ids=NAMES, indirect=["port"]
)
def test_now_says_what_was_done_and_what_the_server_tells(port: Port, first, then, waits, objects):
    for role, statement in first:
        port.does(role, statement)
    for role, statement in then:
        if statement.startswith(("vacuum", "create index")):
            port.session(role).autocommit = True
        port.waits(role, statement)
    found, code = now(port)
    roles = {port.number(role): role for role in port.sessions}
    reported: dict[str, set[str]] = {}
    for edge in found["waits"]:
        reported.setdefault(roles[edge["waiter"]], set()).add(
            roles.get(edge["holder"], edge["holder"])
        )
    assert (reported, code) == (waits, 1)
    for role, text in objects.items():
        wanted = text[port.server] if isinstance(text, dict) else text
        assert {edge["over"] for edge in found["waits"] if roles[edge["waiter"]] == role} == {
            wanted
        }
    heads = {holder for listed in waits.values() for holder in listed} - waits.keys()
    assert {roles[head["session"]] for head in found["heads"]} == heads
    # The server's own word: it names the same ones waiting, and nobody that is not told, but for
    # those ahead in a queue.
    own = {
        roles[w]: {roles[h] for h in by if h in roles} for w, by in port.own().items() if w in roles
    }
    listed = {
        role for role in waits if port.server == "postgresql" or "lock" not in str(objects[role])
    }
    assert own.keys() == listed
    for role in listed:
        assert own[role] <= waits[role] | waits.keys()
    # A schema change that waits itself holds nothing: the others queue behind it.
    queued = {roles[edge["waiter"]] for edge in found["waits"] if edge["queued"]}
    assert queued == {role for role, holders in waits.items() if holders & {"alter"}}


@pytest.mark.parametrize("port", EACH, indirect=True)
def test_nobody_is_blamed_for_what_others_waited_before_he_came(port: Port):
    """The row goes from hand to hand: the one who has it now has had it for less than the last one
    has waited.
    """
    port.does("lift", "update crate set kg = 1 where id = 2")
    port.waits("gate", "update crate set kg = 2 where id = 2")
    port.waits("tug", "update crate set kg = 3 where id = 2")
    time.sleep(2.5)
    began = time.monotonic()  # however slow the machine is, gate has the row after this
    port.rolls_back("lift")
    until(lambda: port.number("gate") not in port.own(), "gate has the row")
    found, _ = now(port)
    took_ms = (time.monotonic() - began) * 1000
    (head,) = found["heads"]
    assert head["session"] == port.number("gate")
    if port.server == "postgresql":
        assert head["exact"]
        assert head["holds_up_ms"] < took_ms
    else:  # it counts whole seconds from when the wait began: what is told is marked as the most it can be
        assert not head["exact"]


@pytest.mark.parametrize("port", EACH, indirect=True)
def test_a_prepared_transaction_is_a_head_with_the_statement_that_undoes_it(port: Port):
    begin, end = (
        ("begin", "prepare transaction 'lift-7'"),
        ("xa start 'lift-7'", "xa end 'lift-7'", "xa prepare 'lift-7'"),
    )
    if port.server == "postgresql":
        port.session("lift").autocommit = True
        port.does("lift", begin[0], "update crate set kg = 1 where id = 2", begin[1])
    else:
        port.does("lift", end[0], "update crate set kg = 1 where id = 2", *end[1:])
        port.sessions.pop("lift").close()
    port.waits("gate", "update crate set kg = 2 where id = 2")
    found, code = now(port)
    tester = port.connect("tester")
    tester.cursor().execute(
        "rollback prepared 'lift-7'" if port.server == "postgresql" else "xa rollback 'lift-7'"
    )
    tester.close()
    (head,) = found["heads"]
    assert (code, "prepared transaction" in head["session"]) == (1, True)
    assert any("rollback" in note and "lift-7" in note for note in found["notes"])


@pytest.mark.parametrize("port", ["postgresql"], indirect=True)
def test_on_a_standby_the_replay_is_told_and_who_holds_it_up(port: Port, tmp_path):
    owner = server_owner()
    programs = server_programs("postgresql", {}, cache_folder(owner), owner)
    number = int(port.url.rpartition("=")[2])
    standby = port.folder / "standby"
    subprocess.run([programs / "pg_basebackup", "-h", port.folder, "-p", str(number), "-U", "catenum", "-D", standby,
                    "-R", "-X", "stream", "-c", "fast"], check=True, cwd="/", **owner.popen)  # fmt: skip
    options = ("max_standby_streaming_delay=-1", f"port={number + 1}", "max_prepared_transactions=5", "hot_standby=on",
               "max_wal_senders=3", "logging_collector=off")  # fmt: skip
    command = [
        programs / "postgres",
        "-D",
        standby,
        "-k",
        port.folder,
        *(p for o in options for p in ("-c", o)),
    ]
    with (port.folder / "standby.out").open("wb") as out:
        process = server_process(command, owner, stdout=out, stderr=out)
    url = port.url.replace(f"port={number}", f"port={number + 1}")
    try:
        until(lambda: _lets_in(url), "the standby lets us in")
        reader = psycopg.connect(url, application_name="board")
        reader.execute("select count(*) from crate")
        port.does("tester", "alter table crate add note text")
        there = Port(
            "postgresql", url, lambda role: psycopg.connect(url, autocommit=True), port.folder
        )
        found = until(lambda: (f := now(there)[0])["waiting"] and f, "the replay waits")
        (edge,) = found["waits"]
        kinds = {s["id"]: s["kind"] for s in found["sessions"]}
        assert (kinds[edge["waiter"]], edge["holder"]) == ("startup", str(reader.info.backend_pid))
        assert (edge["over"], edge["held"]) == ("crate", "AccessShareLock")
        assert any("its replay waits at" in note for note in found["notes"])
        reader.close()
    finally:
        process.terminate()
        process.wait(30)
        shutil.rmtree(standby, ignore_errors=True)


def _lets_in(url: str) -> bool:
    with contextlib.suppress(psycopg.Error):
        psycopg.connect(url).close()
        return True
    return False


@pytest.mark.parametrize("form", ["csv", "json"])
@pytest.mark.parametrize("port", ["postgresql"], indirect=True)
def test_deadlocks_are_read_from_structured_logs_across_their_rotation(
    port: Port, form, start, call, tmp_path
):
    logs = port.folder / "data" / "log"
    (log,) = sorted(logs.glob(f"*.{form}"))[-1:]
    before = time.strftime("%Y-%m-%dT%H:%M:%S", time.gmtime())
    watch = start(
        "watch",
        "--target",
        port.url,
        "--log",
        log,
        "--every",
        "200ms",
        "--store",
        "s.sqlite",
        "--json",
    )
    until(
        lambda: (tmp_path / "s.sqlite").exists() and _has_looked(tmp_path / "s.sqlite"),
        "it has looked",
    )
    for n in range(3):
        port.asked("select pg_rotate_logfile()")
        time.sleep(1.1)  # names of files are as fine as seconds
        port.does("one", "update crate set kg = 1 where id = 1")
        port.does("two", "update crate set kg = 1 where id = 2")
        port.waits("one", "update crate set kg = 2 where id = 2")
        with contextlib.suppress(psycopg.errors.DeadlockDetected):
            port.does("two", f"update crate set kg = {n} where id = 1")
        until(lambda: not port.runs("one"), "the one that was not given up has gone on")
        for role in ("one", "two"):
            port.rolls_back(role)
    # A report that comes after the next deadlock was counted stands with that one's.
    said = "ERROR:  deadlock detected"
    until(lambda: "\n".join(_reports(tmp_path / "s.sqlite")).count(said) == 3, "three reports")
    port.does("one", "update crate set kg = 1 where id = 1")
    port.waits("two", "update crate set kg = 1 where id = 1")
    time.sleep(0.4)
    port.rolls_back("one")
    watch.terminate()
    assert watch.wait(30) == 0
    for report in _reports(tmp_path / "s.sqlite"):
        assert "deadlock detected" in report
        assert "blocked by process" in report
    # The same logs, taken in afterwards into another store.
    files = [str(one) for one in sorted(logs.glob(f"*.{form}"))]
    done = call("history", "take", *files, "--server", "harbour", "--store", "t.sqlite", "--json")
    assert done.json["deadlocks"] >= 3
    assert done.json["incidents"] >= 1  # a wait of more than deadlock_timeout
    again = call(
        "history", "take", *files, "--server", "harbour", "--store", "t.sqlite", "--json"
    ).json
    assert (again["deadlocks"], again["incidents"]) == (0, 0)
    listed = call("history", "list", "--store", "t.sqlite", "--since", before, "--json").json[
        "incidents"
    ]
    assert {row["source"] for row in listed} == {"log"}
    assert all("crate" in row["object"] for row in listed)
    shown = call("history", "show", listed[0]["id"], "--store", "t.sqlite").out
    assert "from the log" in shown


def _has_looked(store: Path) -> bool:
    return bool(_rows(store, "select 1 from minute"))


def _reports(store: Path) -> list[str]:
    return [row[0] for row in _rows(store, "select report from deadlock where report is not null")]


def _rows(store: Path, query: str) -> list[tuple]:
    import sqlite3

    with contextlib.suppress(sqlite3.Error), contextlib.closing(sqlite3.connect(store)) as db:
        return db.execute(query).fetchall()
    return []


@pytest.mark.parametrize("port", INNODB, indirect=True)
def test_every_deadlock_of_a_burst_is_read_from_the_error_log(port: Port, start, tmp_path):
    prints_deadlocks(port)
    log = port.folder / "error.log"
    watch = start(
        "watch",
        "--target",
        port.url,
        "--log",
        log,
        "--every",
        "300ms",
        "--store",
        "s.sqlite",
        "--json",
    )
    until(
        lambda: (tmp_path / "s.sqlite").exists() and _has_looked(tmp_path / "s.sqlite"),
        "it has looked",
    )
    for n in range(5):
        port.does("one", "update crate set kg = 1 where id = 1")
        port.does("two", "update crate set kg = 1 where id = 2")
        port.waits("one", "update crate set kg = 2 where id = 2")
        with contextlib.suppress(pymysql.OperationalError):
            port.does("two", f"update crate set kg = {n} where id = 1")
        until(lambda: not port.runs("one"), "the one that was not given up has gone on")
        for role in ("one", "two"):
            port.rolls_back(role)
    until(
        lambda: (
            sum(r.count("WE ROLL BACK TRANSACTION") for r in _reports(tmp_path / "s.sqlite")) == 5
        ),
        "five reports",
    )
    watch.terminate()
    assert watch.wait(30) == 0
    assert sum(row[0] for row in _rows(tmp_path / "s.sqlite", "select count from deadlock")) == 5


@pytest.mark.parametrize("port", EACH, indirect=True)
def test_what_preflight_proposes_can_be_run_as_it_is_and_works(port: Port, call):
    done = call("preflight", "--target", port.url, "--json").json
    off = {
        check["what"]: check for check in done["checks"] if check["turn_on"] and not check["then"]
    }
    assert off or done["checks"]
    for check in off.values():
        for statement in check["turn_on"].splitlines():
            port.asked(f"{statement}") if statement.startswith("select") else _runs(port, statement)
    time.sleep(0.3)
    after = {
        check["what"]: check["state"]
        for check in call("preflight", "--target", port.url, "--json").json["checks"]
    }
    assert {what: after.get(what) for what in off} == dict.fromkeys(off, "on")
    libraries = next((c for c in done["checks"] if c["what"] == "pg_stat_statements"), None)
    if libraries is not None:  # what is loaded already is kept
        _runs(port, "alter system set shared_preload_libraries = 'auto_explain'")
        asked = call("preflight", "--target", port.url, "--json").json["checks"]
        (line,) = [c["turn_on"].splitlines()[0] for c in asked if c["what"] == "pg_stat_statements"]
        assert (
            line
            == "alter system set shared_preload_libraries = 'auto_explain', 'pg_stat_statements';"
        )
        _runs(port, "alter system reset shared_preload_libraries")


def _runs(port: Port, statement: str) -> None:
    tester = port.connect("tester")
    with contextlib.closing(tester):
        tester.cursor().execute(statement)


@pytest.mark.parametrize("port", ["postgresql"], indirect=True)
def test_a_member_that_does_not_inherit_a_right_has_it_not(port: Port, call):
    for statement in ("drop role if exists keeper", "create role keeper login noinherit",
                      "grant pg_read_all_stats to keeper"):  # fmt: skip
        _runs(port, statement)
    url = port.url.replace("catenum@", "keeper@")
    done = call("now", "--target", url, "--json")
    assert (done.code, done.json["partial"]) == (3, True)
    checks = {c["what"]: c for c in call("preflight", "--target", url, "--json").json["checks"]}
    assert checks["login may see all sessions"]["turn_on"] == 'alter role "keeper" inherit;'
    _runs(port, checks["login may see all sessions"]["turn_on"])
    assert call("now", "--target", url, "--json").code == 0
    _runs(port, "drop role keeper")


@pytest.mark.parametrize(
    "port",
    ["mariadb", *(pytest.param(one, marks=pytest.mark.soak) for one in ("postgresql", "mysql"))],
    indirect=True,
)
def test_a_crowd_on_one_row_is_one_head_and_few_lines(port: Port, call):
    """More than so many that the look goes another way; the server's default of connections allows
    no 300.
    """
    port.does("lift", "update crate set kg = 1 where id = 2")
    gates = [port.connect(f"gate {n}") for n in range(90)]
    sql = "update crate set kg = 2 where id = 2"
    threads = [threading.Thread(target=_quietly, args=(gate, sql), daemon=True) for gate in gates]
    try:
        for thread in threads:
            thread.start()
        found = until(lambda: (f := now(port)[0])["waiting"] == 90 and f, "ninety wait")
        (head,) = found["heads"]
        assert (head["session"], head["directly"], found["longest_chain"]) == (
            port.number("lift"),
            90,
            1,
        )
        assert {edge["over"] for edge in found["waits"]} == {"crate(id=2)"}
        shown = call("now", "--target", port.url).out
        assert len(shown.splitlines()) < 40
        assert "and 87 more like these" in " ".join(shown.split())
    finally:
        port.ends(*gates)
        for thread in threads:
            thread.join(20)
        for gate in gates:
            gate.close()


def _quietly(session: Any, statement: str) -> None:
    with contextlib.suppress(Exception):
        session.cursor().execute(statement)


@pytest.mark.parametrize("port", EACH, indirect=True)
def test_hostile_names_and_long_statements_do_no_harm(port: Port, call):
    port.sessions["evil"] = port.connect("evil \x1b[31m\x07 name")
    port.does("evil", "update crate set kg = 1 where id = 2")
    port.waits(
        "gate",
        "update crate set kg = 2 where id = 2 and 'x' <> '" + "y\x1b]0;z\x07" * 120_000 + "'",
    )
    until(port.own, "it waits")
    for words in ((), ("--mask",), ("--locks",)):
        done = call("now", "--target", port.url, *words)
        assert done.code == 1
        assert not {"\x1b", "\x07"} & set(done.out + done.err)
        assert len(done.out) < 4_000
    json.loads(call("now", "--target", port.url, "--json").out)


SECRET = ("Zephyrine", "8675309", "Quillfeather")
MASKED: dict[str, list[tuple[str, str]]] = {
    "postgresql": [
        ("one", "update crate set tag = 'Zephyrine', kg = 8675309 where id = 1"),
        ("two", "select pg_advisory_lock(8675309)"),
        ("two", "/* for Quillfeather */ update crate set tag = $q$Zephyrine$q$ where id = 2"),
        (
            "wait",
            "do $$ begin update crate set tag = 'Zephyrine' where id = 1 and kg <> 8675309; end $$",
        ),
        ("wait2", "select pg_advisory_lock(8675309) -- Quillfeather"),
    ],
    "mariadb": [
        ("one", "update crate set tag = 'Zephyrine', kg = 8675309 where id = 1"),
        ("two", "select get_lock('Quillfeather', 1)"),
        ("two", '/* for Quillfeather */ update crate set tag = "Zephyrine" where id = 2'),
        (
            "wait",
            "update crate set tag = 'Zephyrine' where id = 1 and kg <> 8675309 # Quillfeather",
        ),
        ("wait2", "select get_lock('Quillfeather', 60)"),
    ],
}


MASKED["mysql"] = MASKED["mariadb"]


@pytest.mark.parametrize("port", EACH, indirect=True)
def test_with_mask_no_value_is_left_anywhere_and_ids_are(port: Port, start, call, tmp_path):
    """Output, JSON, store, recordings, charts, what ``--run`` gets, the hand-over: searched for the
    values.
    """
    if port.server != "postgresql":
        prints_deadlocks(port)
        log = port.folder / "error.log"
    else:
        (log,) = sorted((port.folder / "data" / "log").glob("*.csv"))[-1:]
    watch = start("watch", "--target", port.url, "--log", log, "--every", "200ms", "--store", "s.sqlite", "--mask",
                  "--json", "--longer-than", "500ms", "--run", f"sh -c 'cat >> {tmp_path}/alerts'")  # fmt: skip
    until(
        lambda: (tmp_path / "s.sqlite").exists() and _has_looked(tmp_path / "s.sqlite"),
        "it has looked",
    )
    for role, statement in MASKED[port.server]:
        (port.waits if role.startswith("wait") else port.does)(role, statement)
    shown = [
        call("now", "--target", port.url, "--mask", *words).out
        for words in ((), ("--json",), ("--locks",))
    ]
    call("now", "--target", port.url, "--mask", "--save", "moment.json")
    until(
        lambda: (tmp_path / "alerts").exists() and (tmp_path / "alerts").stat().st_size, "an alert"
    )
    numbers = [port.number(role) for role in ("one", "wait")]
    port.rolls_back("one")
    until(lambda: not port.runs("wait"), "it goes on")
    for role in ("wait", "two"):
        port.rolls_back(role)
    # A deadlock over a row whose values would be in its report.
    port.does("one", "update crate set kg = 8675309, tag = 'Zephyrine' where id = 1")
    port.does("three", "update crate set kg = 8675309, tag = 'Zephyrine' where id = 7")
    port.waits("one", "update crate set tag = 'Zephyrine' where id = 7")
    with contextlib.suppress(psycopg.Error, pymysql.Error):
        port.does("three", "update crate set tag = 'Zephyrine' where id = 1")
    until(lambda: _reports(tmp_path / "s.sqlite"), "its report")
    watch.terminate()
    shown += [
        *watch.communicate(timeout=30),
        (tmp_path / "alerts").read_text(),
        (tmp_path / "moment.json").read_text(),
    ]
    words = ("list", "deadlocks", "report", "releases")
    shown += [
        call("history", *word, "--store", "s.sqlite").out
        for word in ((), *((one,) for one in words))
    ]
    shown += [
        call("history", "show", row[0], "--store", "s.sqlite").out
        for row in _rows(tmp_path / "s.sqlite", "select id from incident")
    ]
    shown += _everything(tmp_path / "s.sqlite")
    text = "\n".join(shown)
    assert {secret: text.count(secret) for secret in SECRET} == dict.fromkeys(SECRET, 0)
    assert all(number in text for number in numbers)
    reports = "\n".join(_reports(tmp_path / "s.sqlite"))
    assert str(port.number("one")) in reports
    assert "crate" in reports


def _everything(store: Path) -> list[str]:
    """All that a store has, recordings unpacked."""
    tables = [
        name for (name,) in _rows(store, "select name from sqlite_master where type = 'table'")
    ]
    values = [
        value for table in tables for row in _rows(store, f"select * from {table}") for value in row
    ]
    assert values
    return [zlib.decompress(v).decode() if isinstance(v, bytes) else str(v) for v in values]
