"""Running servers, watched: real waits between connections that are not Catenum's own."""

from __future__ import annotations

import contextlib
import json
import os
import resource
import signal
import sqlite3
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import psycopg
import pymysql
import pytest

from catenum.core.record.modes import NO_MODE
from catenum.core.record.recording import TargetInfo
from catenum.core.record.waits import Edge, Resource
from catenum.core.servers import rules_of
from catenum.core.snapshot.alarms import Alarms, Thresholds
from catenum.core.snapshot.incidents import IncidentTracker
from catenum.core.snapshot.sample import Held, Sample, SessionInfo
from catenum.live.logfile import LogFile
from catenum.store.store import reader, writer
from conftest import SCRIPT, has_looked, looks, over_socket, until


class Quay:
    """A table in a server in use, and sessions that hold and wait."""

    def __init__(self, conninfo: str) -> None:
        self.conninfo = conninfo
        self.sessions: list[psycopg.Connection] = []
        with psycopg.connect(conninfo) as connection:
            connection.execute("drop table if exists quay")
            connection.execute("create table quay (id int primary key, boxes int not null)")
            connection.execute("insert into quay select n, 0 from generate_series(1, 60) n")

    def session(self, name: str) -> psycopg.Connection:
        made = psycopg.connect(self.conninfo, application_name=name)
        self.sessions.append(made)
        return made

    def holds(self, name: str, number: int) -> psycopg.Connection:
        made = self.session(name)
        made.execute("update quay set boxes = boxes + 1 where id = %s", [number])
        return made

    def waits(self, connection: psycopg.Connection, number: int) -> None:
        """Without waiting for it here."""
        connection.pgconn.send_query(f"update quay set boxes = 77 where id = {number}".encode())
        pid = connection.info.backend_pid

        def waiting() -> bool:
            with psycopg.connect(self.conninfo) as control:
                return bool(control.execute("select pg_blocking_pids(%s)", [pid]).fetchone()[0])

        until(waiting, f"{pid} waits")

    def chain(self, depth: int) -> list[psycopg.Connection]:
        """Each waits for the one before."""
        made = [self.holds(f"crane{n}", n + 1) for n in range(depth + 1)]
        for n, connection in enumerate(made[1:], 1):
            self.waits(connection, n)
        return made

    def close(self) -> None:
        for connection in self.sessions:
            with contextlib.suppress(psycopg.Error):
                connection.pgconn.finish()
        with psycopg.connect(self.conninfo, autocommit=True) as control:
            control.execute(
                "select pg_terminate_backend(pid, 2000) from pg_stat_activity "
                "where application_name ~ '^(crane|gate|yard)' and pid <> pg_backend_pid()"
            )
            control.execute("drop table if exists quay")


@pytest.fixture
def quay(kept: str) -> Iterator[Quay]:
    made = Quay(kept)
    yield made
    made.close()


def test_now_tells_the_tree_under_the_head_blocker_and_who_everybody_is(quay, call):
    head, middle, last = quay.chain(2)
    idle = quay.holds("yard", 50)
    done = call("now")
    out = " ".join(done.out.split())
    pids = [connection.info.backend_pid for connection in (head, middle, last)]
    assert done.code == 1
    assert "2 sessions wait for locks under 1 head blocker" in out
    assert f"Head blocker: session {pids[0]} blocks 1 directly, 2 in all" in out
    assert "application crane0, from local, in marrowgate, since 20" in out
    assert "idle in its open transaction" in out
    assert "isolation level not reported" in out
    assert f"└─ session {pids[1]} (catenum, crane1, local) waits" in out
    assert "over quay(id=1): wants FOR NO KEY UPDATE; blocks 1 itself" in out
    assert f"session {idle.info.backend_pid} (catenum, yard, local): open for" in out
    assert "nobody on this server waits for it yet" in " ".join(out.split())
    assert "this check took" in out
    found = call("now", "--json").json
    assert [(h["session"], h["directly"], h["in_all"]) for h in found["heads"]] == [
        (str(pids[0]), 1, 2)
    ]
    assert [b["depth"] for b in found["heads"][0]["waiting"]] == [1, 2]
    assert {s["id"]: s["state"] for s in found["sessions"]}[str(pids[1])] == "waits for a lock"
    assert call("now", "--longer-than", "1h").code == 0


def test_locks_are_listed_for_the_sessions_of_a_chain_only(quay, call):
    quay.chain(1)
    quay.holds("yard", 50)
    cheap, full = call("now", "--json").json, call("now", "--locks", "--json").json
    assert cheap["locks"] == []
    members = {name for wait in full["waits"] for name in (wait["waiter"], wait["holder"])}
    assert {lock["session"] for lock in full["locks"]} == members
    assert any(not lock["granted"] for lock in full["locks"])


def test_a_chain_of_fifty_is_told_whole(quay, call):
    made = quay.chain(50)
    found = call("now", "--json").json
    assert (found["longest_chain"], found["waiting"]) == (50, 50)
    assert found["heads"][0]["waiting"][-1] == {
        "session": str(made[-1].info.backend_pid),
        "depth": 50,
    }
    assert call("now").out.count("└─") == 50


def test_a_cycle_that_stands_between_two_looks_is_told_as_one(quay, call):
    one, two = quay.session("crane1"), quay.session("crane2")
    for connection, number in ((one, 1), (two, 2)):
        connection.execute("set deadlock_timeout = '30s'")
        connection.execute("update quay set boxes = 1 where id = %s", [number])
    quay.waits(one, 2)
    quay.waits(two, 1)
    done = call("now")
    assert "A cycle: a deadlock that the server has not ended yet" in done.out
    assert sorted(call("now", "--json").json["cycles"][0]) == sorted(
        str(c.info.backend_pid) for c in (one, two)
    )


def test_literals_are_masked_everywhere(quay, call, tmp_path):
    quay.chain(1)
    for words in (["now"], ["now", "--json"], ["now", "--locks", "--json"]):
        out = call(*words, "--mask", "--save", "moment.json").out
        reported = [line for line in out.splitlines() if "quay" in line]
        assert reported
        assert not any("77" in line.partition("quay")[2] for line in reported)
    text = (tmp_path / "moment.json").read_text()
    assert "boxes = ?" in text
    assert "boxes = 77" not in text
    assert call("watch", "--for", "2s", "--mask", "--store", "s.sqlite", "--json").code == 0
    assert "boxes = 77" not in call("history", "show", "1", "--store", "s.sqlite", "--json").out


def test_a_moment_is_a_recording_that_is_explained_and_drawn(quay, call):
    head, *_ = quay.chain(2)
    call("now", "--save", "moment.json")
    out = call("explain", "moment.json").out
    assert f"{head.info.backend_pid}   head blocker: blocks 1 directly, 2 in all" in out
    assert "Transaction left open" in out
    assert call("draw", "moment.json").code == 0


def test_statement_text_that_the_server_cut_is_said_to_be_cut(quay, call):
    quay.holds("gate", 1)
    waiter = quay.session("crane1")
    waiter.pgconn.send_query(
        ("/* " + "x" * 20_000 + " */ update quay set boxes = 5 where id = 1").encode()
    )
    found = until(
        lambda: [s for s in call("now", "--json").json["sessions"] if s["application"] == "crane1"],
        "it waits",
    )
    assert found[0]["cut"]


def test_a_login_that_sees_only_its_own_sessions_says_so(own_server, call):
    done = call("now", "--target", own_server.url("guest"))
    assert "the login guest sees its own sessions only" in " ".join(done.out.split())
    assert 'grant pg_read_all_stats to "guest";' in " ".join(done.out.split())
    checks = {
        c["what"]: c
        for c in call("preflight", "--target", own_server.url("guest"), "--json").json["checks"]
    }
    assert checks["login may see all sessions"]["state"] == "off"
    assert "secret-word" not in done.out + done.err.replace("the password in --target", "")


def test_a_server_without_a_free_connection_is_told_and_the_watch_goes_on(
    own_server, call, start, tmp_path
):
    url = own_server.url("master")
    with own_server.admin() as admin:
        admin.execute("alter role master connection limit 1")
        admin.execute("grant pg_read_all_stats to master")
    taken = psycopg.connect(url)
    done = call("now", "--target", url)
    assert done.code == 3
    assert "too many connections" in done.err
    process = start("watch", "--target", url, "--store", "s.sqlite", "--json")
    assert json.loads(process.stdout.readline())["event"] == "lost"
    taken.close()
    assert json.loads(process.stdout.readline())["event"] == "back"
    process.terminate()
    assert process.wait(60) == 0


def test_five_hundred_connections_and_then_none_left(own_server, call):
    url = own_server.url("master")
    made = [psycopg.connect(url) for _ in range(500)]
    found = call("now", "--target", url, "--json").json
    assert 500 <= found["connected"] <= 502
    assert found["waiting"] == 0
    with contextlib.suppress(psycopg.OperationalError):
        while len(made) < 600:
            made.append(psycopg.connect(url))
    done = call("now", "--target", url)
    for connection in made:
        connection.close()
    assert done.code == 3
    assert "slots are reserved" in done.err or "too many clients" in done.err


# -- watch ---------------------------------------------------------------------------------------------------------------


def lines_of(process, until_event: str) -> list[dict]:
    """The JSON lines of a watch up to an event."""
    found = []
    for line in process.stdout:
        found.append(json.loads(line))
        if found[-1]["event"] == until_event:
            return found
    raise AssertionError(f"{until_event} never came: {found} {process.stderr.read()}")


def test_a_watch_keeps_an_incident_from_its_beginning_to_its_end(quay, start, call, tmp_path):
    process = start("watch", "--every", "200ms", "--store", "s.sqlite", "--longer-than", "1s", "--json",
                    "--run", f"sh -c 'cat > {tmp_path}/alert.json'")  # fmt: skip
    until(lambda: looks(quay.conninfo), "it has looked once")
    head = quay.holds("gate", 1)
    time.sleep(0.5)  # so that a look falls between the two statements of the head
    head.execute("update quay set boxes = 9 where id = 40")
    waiter = quay.holds("crane1", 2)
    quay.waits(waiter, 1)
    lines_of(process, "long")
    alert = json.loads(
        until(
            lambda: (tmp_path / "alert.json").exists() and (tmp_path / "alert.json").read_text(),
            "an alert",
        )
    )
    assert (alert["event"], alert["incident"]["head"]["application"]) == ("long", "gate")
    assert alert["recording"]["format"] == "catenum-recording/1"
    head.rollback()
    ended = None
    for line in process.stdout:
        with contextlib.suppress(json.JSONDecodeError):
            reported = json.loads(line)
            if reported["event"] == "ended":
                ended = reported
                break
    assert ended["incident"]["waiting"] == 1
    assert ended["incident"]["longest_ms"] > 1000
    assert ended["incident"]["statements"][-1] == "update quay set boxes = 9 where id = 40"
    process.terminate()
    assert process.wait(60) == 0
    found = call("history", "--store", "s.sqlite", "--json").json
    assert (found["incidents"], found["waiting"]) == (1, 1)
    # the one that took the lock, not the one that the head showed last
    assert found["groups"][0]["statement"] == "update quay set boxes = boxes + ? where id = ?"
    assert found["pairs"][0]["times"] == 1
    assert (
        call("history", "note", "1", "a truck stood in the gate", "--store", "s.sqlite").code == 0
    )
    assert "a truck stood in the gate" in call("history", "list", "--store", "s.sqlite").out
    assert call("history", "note", "9", "x", "--store", "s.sqlite").code == 2
    assert call("history", "--chart", "c.png", "--store", "s.sqlite").code == 0
    assert (tmp_path / "c.png").read_bytes().startswith(b"\x89PNG")
    assert (
        call("history", "--csv", "--by", "application", "--store", "s.sqlite")
        .out.splitlines()[1]
        .startswith("gate,1,")
    )
    assert call("history", "--until", "2001-01-01", "--store", "s.sqlite").out.startswith(
        "Nothing was seen"
    )


def test_a_deadlock_is_told_at_once_with_its_report_from_the_log(quay, start, call, tmp_path, kept):
    log = tmp_path / "server.log"
    log.write_text("")
    process = start(
        "watch", "--every", "200ms", "--store", "s.sqlite", "--log", "server.log", "--json"
    )
    until(lambda: looks(kept), "it has looked once")
    one, two = quay.session("crane1"), quay.holds("crane2", 2)
    one.execute("set deadlock_timeout = '30s'")  # so that the other one looks first
    one.execute("update quay set boxes = 3 where id = 1")
    quay.waits(one, 2)
    with pytest.raises(psycopg.errors.DeadlockDetected) as caught:
        two.execute("update quay set boxes = 3 where id = 1")
    two.rollback()  # the server counts a deadlock when its victim has ended
    log.write_text(
        f"LOG:  before\nERROR:  deadlock detected\nDETAIL:  {caught.value.diag.message_detail}\nLOG:  after\n"
    )
    reported = lines_of(process, "deadlock")[-1]
    if "report" not in reported:  # the server counts a moment before the log is read
        reported = lines_of(process, "report")[-1]
    assert "waits for ShareLock on transaction" in reported["report"]
    process.terminate()
    process.wait(60)
    assert "waits for ShareLock" in call("history", "deadlocks", "--store", "s.sqlite").out


def test_a_watch_that_is_killed_loses_no_more_than_the_last_sample(quay, start, call):
    process = start("watch", "--every", "200ms", "--store", "s.sqlite", "--json")
    quay.chain(1)
    lines_of(process, "began")
    seen = lambda: call("history", "list", "--store", "s.sqlite", "--json").json["incidents"]  # noqa: E731
    before = until(
        lambda: [e["wait_ms"] for e in seen() if e["wait_ms"] > 500],
        "half a second is written down",
    )
    process.send_signal(signal.SIGKILL)
    process.wait()
    (found,) = seen()
    assert (found["waiting"], found["ended"]) == (1, None)
    assert found["wait_ms"] >= before[0]


def test_a_restart_of_the_server_is_survived_and_the_hole_is_recorded(own_server, start, call):
    with own_server.admin() as admin:
        admin.execute("grant pg_read_all_stats to master")
    process = start(
        "watch",
        "--every",
        "200ms",
        "--target",
        own_server.url("master"),
        "--store",
        "s.sqlite",
        "--json",
    )
    until(lambda: sessions_of(own_server), "it watches")
    own_server.kill()
    assert lines_of(process, "lost")
    own_server.restart()
    assert lines_of(process, "back")
    process.terminate()
    assert process.wait(60) == 0
    (hole,) = call("history", "--store", "s.sqlite", "--json").json["gaps"]
    assert hole["until"] > hole["since"]


def sessions_of(server) -> bool:
    with contextlib.suppress(psycopg.Error), server.admin() as admin:
        return (
            admin.execute(
                "select 1 from pg_stat_activity where application_name = 'catenum watch'"
            ).fetchone()
            is not None
        )
    return False


def test_two_servers_are_told_apart_and_two_watches_do_not_share_a_store(
    quay, start, call, kept, kept_mariadb, tmp_path
):
    process = start(
        "watch",
        "--target",
        "local:postgresql",
        "--target",
        "local:mariadb",
        "--store",
        "s.sqlite",
        "--json",
    )
    quay.chain(1)
    assert lines_of(process, "began")[-1]["server"] == "local:postgresql"
    done = call("watch", "--store", "s.sqlite", "--for", "1s")
    assert (done.code, "another watch writes to s.sqlite" in done.err) == (2, True)
    process.terminate()
    process.wait(60)


def test_a_full_disk_is_told_and_the_watch_goes_on(quay, tmp_path, kept):
    def limit() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (120_000, 120_000))

    reported = (tmp_path / "reported").open("w+")
    process = subprocess.Popen(
        [SCRIPT, "watch", "--every", "100ms", "--at-least", "1ms", "--store", "s.sqlite", "--json"],
        cwd=tmp_path, stdout=reported, stderr=subprocess.PIPE, text=True, preexec_fn=limit,
    )  # fmt: skip

    def events() -> list[str]:
        return [
            json.loads(line)["event"] for line in (tmp_path / "reported").read_text().splitlines()
        ]

    try:
        for _ in range(60):
            head = quay.holds("gate", 1)
            waiter = quay.session("crane1")
            quay.waits(waiter, 1)
            time.sleep(0.25)
            head.rollback()
            waiter.pgconn.finish()
            if "store" in events() and "began" in events()[events().index("store") :]:
                break
    finally:
        process.terminate()
        _, err = process.communicate(timeout=60)
        reported.close()
    lines = [json.loads(line) for line in (tmp_path / "reported").read_text().splitlines()]
    failed = [n for n, line in enumerate(lines) if line["event"] == "store"]
    assert failed, err
    assert "what is seen is reported, but not stored" in lines[failed[0]]["text"]
    if len(failed) % 2:  # it had not become possible again
        assert process.returncode == 3
        assert "the last of what was seen is not stored in s.sqlite" in err
    assert any(line["event"] == "began" for line in lines[failed[0] :])


def test_a_damaged_store_is_set_aside_and_one_of_another_version_is_left_alone(call, tmp_path):
    path = tmp_path / "old.sqlite"
    path.write_bytes(b"this is no database" * 500)
    store = writer(path)
    assert store.set_aside is not None
    assert store.set_aside.read_bytes().startswith(b"this is no database")
    store.close()
    assert call("history", "--store", "old.sqlite").out.startswith("Nothing was seen")
    path.write_bytes(b"this is no database" * 500)
    assert call("history", "--store", "old.sqlite").code == 2
    other = sqlite3.connect(tmp_path / "other.sqlite")
    other.execute("pragma user_version = 99")
    other.close()
    before = (tmp_path / "other.sqlite").read_bytes()
    done = call("watch", "--store", "other.sqlite", "--for", "1s")
    assert (done.code, "is of version 99, this Catenum writes version 3" in done.err) == (2, True)
    assert (tmp_path / "other.sqlite").read_bytes() == before


def test_a_store_is_kept_within_its_age_and_size(tmp_path):
    store = writer(tmp_path / "s.sqlite")
    for day in range(1, 29):
        tracker = IncidentTracker()
        change = tracker.update(
            moment(f"2026-01-{day:02d}T00:00:00.000Z", ("b", "a")), since_last_ms=1000
        )
        store.write("port", moment(f"2026-01-{day:02d}T00:00:00.000Z", ("b", "a")), change.began)
    store.trim(1e15, 10)
    left = store.rows("select count(*) n from incident")[0]["n"]
    assert 0 <= left < 28
    store.trim(1000.0, 10**9)
    assert store.rows("select count(*) n from incident")[0]["n"] == 0
    store.close()


# -- release -------------------------------------------------------------------------------------------------------------


def test_release_shows_asks_and_says_whether_the_chain_is_gone(quay, call, tmp_path):
    head, waiter = quay.chain(1)
    pid = head.info.backend_pid
    done = call("release", pid)
    assert (done.code, "Use --yes" in done.err) == (2, True)
    dry = call("release", pid, "--dry-run", "--end")
    assert "blocks 1 directly, 1 in all" in dry.out
    assert "would be undone" in dry.out
    assert "Nothing was done." in dry.out
    cancelled = call("release", pid, "--yes")
    assert cancelled.code == 1
    assert "it runs no statement, so cancelling has nothing to end" in cancelled.out
    assert "1 still wait for it; --end ends the session itself" in " ".join(cancelled.out.split())
    assert "Nothing was sent" in cancelled.out
    ended = call("release", pid, "--yes", "--end", "--store", "s.sqlite")
    assert (ended.code, "the session is gone; nobody waits for it any more" in ended.out) == (
        0,
        True,
    )
    assert "of 1 that waited 1 went on" in " ".join(ended.out.split())
    (kept,) = sqlite3.connect(tmp_path / "s.sqlite").execute(
        "select session, way, waiting, went_on from release"
    )
    assert kept == (str(pid), "end", 1, 1)
    assert waiter.info.backend_pid != pid


def test_release_cancels_a_statement_that_waits(quay, call):
    _, waiter = quay.chain(1)
    done = call("release", waiter.info.backend_pid, "--yes", "--json").json
    assert done["result"]["way"] == "cancel"
    assert (done["result"]["gone"], done["result"]["left"]) == (False, 0)
    assert call("now", "--json").json["waiting"] == 0


def test_release_refuses_the_server_itself_and_those_who_are_not_there(call, kept):
    with psycopg.connect(kept) as connection:
        query = "select pid from pg_stat_activity where backend_type = 'checkpointer'"
        (pid,) = connection.execute(query).fetchone()
    done = call("release", pid, "--yes", "--end")
    assert (done.code, "a process of the server itself" in done.err) == (1, True)
    assert "there is no session 999999" in call("release", "999999", "--yes").err


def test_release_refuses_an_id_that_belongs_to_another_session_by_now(quay, kept):
    from dataclasses import replace

    from catenum.engines.postgresql.monitor import open_monitor
    from catenum.live.release import Refused, blocker, release

    head, _ = quay.chain(1)
    monitor = open_monitor(kept, "kept")
    shown = blocker(monitor, str(head.info.backend_pid))
    before = replace(shown, session=replace(shown.session, started="2026-01-01T00:00:00.000Z"))
    with pytest.raises(Refused, match="is another one by now"):
        release(monitor, before, "end")
    assert head.execute("select 1").fetchone() == (1,)
    head.execute("rollback")
    head.execute("begin; select 1")
    for way in ("cancel", "end"):
        with pytest.raises(Refused, match="is in another transaction by now"):
            release(monitor, shown, way)
    # The server compares too, as it takes the order: what comes between is met there.
    assert monitor.end(shown.session) is False
    assert monitor.end(monitor.session(shown.session.id)) is True
    monitor.close()


@pytest.mark.parametrize("server", ["mariadb", "mysql"])
def test_release_tells_two_transactions_of_one_second_apart(request, server):
    """InnoDB tells the beginning of a transaction in whole seconds."""
    from catenum.engines.drivers import server_module
    from catenum.live.release import Refused, blocker, release

    where = {"unix_socket": request.getfixturevalue(f"kept_{server}"), "user": "root"}
    head = over_socket(**where, autocommit=True)
    monitor = server_module(server, ".monitor").open_monitor(where, "kept")
    try:
        with head.cursor() as cursor:
            cursor.execute("create database slip")
            cursor.execute("create table slip.berth (id int primary key, moved int)")
            cursor.execute("insert into slip.berth values (7, 0)")
            for _ in range(3):
                cursor.execute("begin")
                cursor.execute("update slip.berth set moved = moved + 1")
                shown = blocker(monitor, str(head.thread_id()))
                cursor.execute("commit")
                cursor.execute("begin")
                cursor.execute("update slip.berth set moved = moved + 1")
                with pytest.raises(
                    Refused, match=r"another transaction by now|another statement since"
                ):
                    release(monitor, shown, "end")
                assert monitor.end(shown.session) is False
                cursor.execute("rollback")
            cursor.execute("begin")
            cursor.execute("update slip.berth set moved = moved + 1")
            assert release(monitor, blocker(monitor, str(head.thread_id())), "end").gone
    finally:
        monitor.close()
        with contextlib.suppress(pymysql.Error):
            head.close()
        with over_socket(**where) as admin:
            admin.cursor().execute("drop database slip")


@pytest.mark.parametrize(("server", "own"), [("mariadb", False), ("mysql", True)])
def test_now_says_what_would_be_undone_and_whether_the_waiter_s_timeout_comes_first(
    request, call, server, own
):
    where = {
        "unix_socket": request.getfixturevalue(f"kept_{server}"),
        "user": "root",
        "autocommit": True,
    }
    head, waiter = over_socket(**where), over_socket(**where)
    try:
        for sql in ("create database slip", "create table slip.berth (id int primary key, moved int)",
                    "insert into slip.berth values (1, 0), (2, 0)", "begin", "update slip.berth set moved = 1"):  # fmt: skip
            head.cursor().execute(sql)
        waiter.cursor().execute("set innodb_lock_wait_timeout = 30")
        threading.Thread(
            target=_ignoring, args=(waiter, "delete from slip.berth where id = 2"), daemon=True
        ).start()
        found = until(
            lambda: (f := call("now", "--target", f"local:{server}", "--json").json)["waits"] and f,
            "it waits",
        )
        (timeout,) = found["timeouts"]
        assert timeout == {
            "session": str(waiter.thread_id()),
            "ms": 30_000 if own else 50_000,
            "own": own,
        }
        (session,) = [one for one in found["sessions"] if one["id"] == str(head.thread_id())]
        assert session["process"] == str(os.getpid())
        assert session["transaction_since"] < found["at"]
        out = " ".join(call("now", "--target", f"local:{server}").out.split())
        assert "(2 changed rows to undo, less than 1 s if in memory): catenum release" in out
        assert ("if it has no other setting" in out) is not own
        dry = call("release", head.thread_id(), "--target", f"local:{server}", "--dry-run", "--end")
        assert "2 changed rows to undo" in dry.out
        assert (
            f"the first of their timeouts, of session {waiter.thread_id()}, ends its wait within"
            in dry.out
        )
    finally:
        head.close()
        waiter.close()
        with over_socket(**where) as admin:
            admin.cursor().execute("drop database slip")


# -- MariaDB -------------------------------------------------------------------------------------------------------------


@pytest.fixture
def pier(kept_mariadb) -> Iterator[Callable[[], pymysql.Connection]]:
    made: list[pymysql.Connection] = []

    def session() -> pymysql.Connection:
        made.append(
            over_socket(unix_socket=kept_mariadb, user="root", database="pier" if made else None)
        )
        return made[-1]

    first = session()
    with first.cursor() as cursor:
        cursor.execute("create database if not exists pier")
        cursor.execute("use pier")
        cursor.execute("create or replace table quay (id int primary key, boxes int not null)")
        cursor.execute("insert into quay values (1, 0), (2, 0), (3, 0)")
    first.commit()
    yield session
    for connection in made[1:]:
        with contextlib.suppress(Exception):
            first.kill(connection.thread_id())
    first.rollback()
    with first.cursor() as cursor:
        cursor.execute("drop database pier")
    first.close()


def test_mariadb_is_watched_and_its_blockers_are_released(pier, call, kept_mariadb):
    target = ("--target", "local:mariadb")
    head, waiter, alter = pier(), pier(), pier()
    head.cursor().execute("update quay set boxes = 1 where id = 1")
    for connection, sql in (
        (waiter, "update quay set boxes = 2 where id = 1"),
        (alter, "alter table quay add column x int"),
    ):
        threading.Thread(target=_ignoring, args=(connection, sql), daemon=True).start()
    found = until(
        lambda: (f := call("now", *target, "--json").json)["waiting"] == 2 and f, "both wait"
    )
    sessions = {s["id"]: s for s in found["sessions"]}
    holder = sessions[str(head.thread_id())]
    assert (holder["state"], holder["isolation"], holder["rows_changed"]) == (
        "idle in a transaction",
        "repeatable read",
        1,
    )
    kinds = {w["waiter"]: w["kind"] for w in found["waits"]}
    assert (kinds[str(waiter.thread_id())], kinds[str(alter.thread_id())]) == ("row", "table")
    assert "by all that capture needs" not in call("preflight", *target).out
    from catenum.engines.mariadb.monitor import open_monitor

    monitor = open_monitor({"unix_socket": kept_mariadb, "user": "root"}, "kept")
    shown = monitor.session(str(head.thread_id()))
    assert monitor.end(replace(shown, transaction="2026-01-01 00:00:00")) is False
    monitor.close()
    done = call("release", head.thread_id(), *target, "--yes", "--end")
    assert (done.code, "the session is gone" in done.out) == (0, True), done.out + done.err


def _ignoring(connection: pymysql.Connection, sql: str) -> None:
    with contextlib.suppress(Exception):
        connection.cursor().execute(sql)


def test_mariadb_s_own_deadlock_report_is_kept(pier, start, tmp_path):
    process = start(
        "watch", "--target", "local:mariadb", "--every", "200ms", "--store", "s.sqlite", "--json"
    )
    until(lambda: has_looked(tmp_path / "s.sqlite"), "it has looked once")
    one, two = pier(), pier()
    one.cursor().execute("update quay set boxes = 1 where id = 1")
    two.cursor().execute("update quay set boxes = 1 where id = 2")
    waiting = threading.Thread(
        target=_ignoring, args=(one, "update quay set boxes = 1 where id = 2"), daemon=True
    )
    waiting.start()
    time.sleep(0.5)
    _ignoring(two, "update quay set boxes = 1 where id = 1")
    reported = lines_of(process, "deadlock")[-1]
    assert "WE ROLL BACK TRANSACTION" in reported["report"]
    process.terminate()
    process.wait(60)


# -- the core of it ------------------------------------------------------------------------------------------------------


def moment(
    at: str,
    *waits: tuple[str, str],
    age: float = 5000.0,
    statement: str = "update quay set boxes = 1",
    over: str = "quay",
    key: str | None = "1",
    waited: float = 500.0,
) -> Sample:
    """A sample in which the first of each pair waits for the second."""
    names = dict.fromkeys(name for pair in waits for name in pair)
    named = (("id", key),) if key else None
    some = Resource(
        kind="row",
        text=f"{over}(id={key})" if key else f"{over} row at {at}",
        table=over,
        key=named,
    )
    return Sample(
        at=at,
        target=TargetInfo(server="postgresql", version="15", url="scripted", standin=True),
        sessions=tuple(
            SessionInfo(id=n, started="s", transaction_ms=age, statement=statement) for n in names
        ),
        edges=tuple(
            Edge(waiter=a, holder=b, resource=some, wanted=NO_MODE, held=None, since_ms=-waited)
            for a, b in waits
        ),
        connected=9,
        cost_ms=1.0,
        rows_read=3,
    )


def test_an_incident_is_over_when_nobody_waits_over_its_thing_and_keeps_its_worst_moment():
    tracker = IncidentTracker()
    (incident,) = tracker.update(moment("t1", ("b", "a")), since_last_ms=1000).began
    tracker.update(moment("t2", ("b", "a"), ("c", "b")), since_last_ms=1000)
    tracker.update(moment("t3", ("c", "a")), since_last_ms=1000)
    change = tracker.update(moment("t4", ("d", "e"), over="crane"), since_last_ms=1000)
    assert change.ended == [incident]
    assert (incident.first_seen, incident.last_seen, incident.ended) == ("t1", "t3", "t4")
    assert (incident.worst.at, incident.worst_waiting, incident.chain) == ("t2", 2, 2)
    assert [began.head.id for began in change.began] == ["e"]


@pytest.mark.parametrize("key", ["1", None])
def test_a_pile_is_one_incident_however_many_heads_it_has(key):
    tracker, gates = IncidentTracker(500), [f"gate{n}" for n in range(12)]
    began = []
    for look in range(30):
        head = gates[look % 12]
        waits = [(gate, head) for gate in gates if gate != head]
        sample = moment(f"t{look:02}", *waits, age=200.0, waited=100.0, key=key)
        sample = replace(sample, held=(Held(session=head, ms=100.0, exact=True),), by_id={})
        change = tracker.update(sample, since_last_ms=1000)
        began += change.began
        assert change.ended == []
    (incident,) = began
    assert (incident.head_count, incident.worst_waiting, incident.chain) == (12, 11, 1)
    assert incident.typical_ms == 100.0  # each is seen more than once
    assert "quay" in incident.over
    for look in (30, 31):
        change = tracker.update(moment(f"t{look:02}"), since_last_ms=1000)
    assert (change.ended, incident.ended) == ([incident], "t30")


def test_waits_over_other_rows_and_later_holds_of_one_session_are_incidents_of_their_own():
    tracker = IncidentTracker(500)
    both = moment("t1", ("b", "a"))
    other = moment("t1", ("d", "c"), key="2")
    sample = replace(
        both,
        sessions=(*both.sessions, *other.sessions),
        edges=(*both.edges, *other.edges),
        by_id={},
    )
    assert len(tracker.update(sample, since_last_ms=1000).began) == 2
    assert len(tracker.update(moment("t2", ("b", "a"), waited=1500), since_last_ms=1000).ended) == 1
    assert len(tracker.update(moment("t3"), since_last_ms=1000).ended) == 1
    assert len(tracker.update(moment("t4", ("b", "a"), waited=900), since_last_ms=1000).began) == 1


def test_who_came_to_hold_a_thing_a_moment_ago_is_not_blamed_for_what_the_others_waited():
    tracker = IncidentTracker(500)
    for n in range(14):
        tracker.update(
            moment(f"t{n:02}", ("b", "a"), ("c", "a"), age=n * 1e3, waited=n * 1e3),
            since_last_ms=1000,
        )
    tracker.update(moment("t14", ("c", "b"), age=14e3, waited=14e3), since_last_ms=1000)
    (incident,) = tracker.open
    assert (incident.longest_held.session.id, incident.longest_held.held_ms) == ("a", 13e3)
    (late,) = [head for head in incident.heads.values() if head.session.id == "b"]
    assert late.held_ms == 1000.0, "it waited itself at the look before"
    reported = list(
        Alarms(Thresholds(longer_than_ms=10_000)).take(moment("t15"), tracker.open, 0, 0.0)
    )
    assert [(alarm.what, "session a has held" in alarm.text) for alarm in reported] == [
        ("long", True)
    ]


def test_each_threshold_is_told_once_and_when_all_is_over():
    alarms = Alarms(Thresholds(waiting=2, idle_ms=5_000, deadlocks=3))
    calm, full = moment("t"), moment("t", ("b", "a"), ("c", "a"))
    idle = moment("t", ("b", "a"))
    idle = replace(
        idle,
        sessions=tuple(replace(s, state="idle in a transaction") for s in idle.sessions),
        by_id={},
    )
    steps = [(calm, 0), (full, 2), (full, 1), (idle, 0), (calm, 0), (calm, 0), (full, 0)]
    found = [
        [one.what for one in alarms.take(s, [], n, i * 30_000.0)] for i, (s, n) in enumerate(steps)
    ]
    assert found == [[], ["many"], ["deadlocks"], ["idle"], [], ["clear"], ["many"]]


def test_the_statements_of_one_transaction_are_not_those_of_the_next():
    tracker = IncidentTracker()
    tracker.update(
        moment("t1", ("b", "a"), age=1000, statement="insert into quay values (1)"),
        since_last_ms=1000,
    )
    tracker.update(
        moment("t2", ("b", "a"), age=2000, statement="delete from quay"), since_last_ms=1000
    )
    assert tracker.statements_of(moment("t", ("b", "a")).session("a")) == (
        "insert into quay values (1)",
        "delete from quay",
    )
    tracker.update(moment("t3", ("b", "a"), age=10, statement="select 1"), since_last_ms=1000)
    assert tracker.statements_of(moment("t", ("b", "a")).session("a")) == ("select 1",)


@pytest.mark.parametrize(
    ("sql", "without", "kind"),
    [
        ("update berth set vessel = 'Halcyon' where id in (3, 7)", "update berth set vessel = ? where id in (?, ?)", "update berth set vessel = ? where id in (?, … )"),
        ("insert into box values (1, 'a'), (2, 'b')", "insert into box values (?, ?), (?, ?)", "insert into box values (?, … ), …"),
        ("select 1 /* pilot Ines */ -- and more", "select ?", "select ?"),
        ("select * from pilot where name = 'cut off he", "select * from pilot where name = ?", "select * from pilot where name = ?"),
    ],
)  # fmt: skip
def test_statements_are_told_without_their_literals(sql, without, kind):
    assert rules_of("postgresql").sql.masked(sql).strip() == without
    assert rules_of("postgresql").sql.shape(sql) == kind


def deadlocks_in(log: LogFile) -> list[str]:
    return [one.report for one in log.conflicts() if one.kind == "deadlock"]


def test_a_log_is_read_from_where_it_stood_and_from_its_start_when_it_is_a_new_one(tmp_path: Path):
    path = tmp_path / "log"
    path.write_text("ERROR:  deadlock detected\nDETAIL:  old news\n")
    log = LogFile(path, "postgresql")
    assert list(deadlocks_in(log)) == []
    with path.open("a") as stream:
        stream.write(
            "LOG:  x\nERROR:  deadlock detected\nDETAIL:  Process 7 waits\n\tProcess 9 waits\nHINT:  see\n"
        )
    found = [*deadlocks_in(log), *deadlocks_in(log)]
    assert found == [
        "ERROR:  deadlock detected\nDETAIL:  Process 7 waits\n\tProcess 9 waits\nHINT:  see"
    ]
    os.replace(path, tmp_path / "log.1")
    path.write_text("ERROR:  deadlock detected\nDETAIL:  in the new file\n")
    assert ["in the new file" in report for report in [*deadlocks_in(log), *deadlocks_in(log)]] == [
        True
    ]


def test_a_store_can_be_read_while_it_is_written(tmp_path):
    store = writer(tmp_path / "s.sqlite")
    store.write("port", moment("2026-01-01T00:00:00.000Z", ("b", "a")), [])
    other = reader(tmp_path / "s.sqlite")
    assert other.rows("select name from server") == [{"name": "port"}]
    other.close()
    store.close()


def test_a_statement_in_another_encoding_is_shown_and_does_not_end_a_look(
    quay, call, kept, kept_mariadb
):
    head, _ = quay.chain(1)
    with psycopg.connect(kept, autocommit=True) as admin:
        admin.execute(
            "create database ascii_quay encoding 'SQL_ASCII' template template0 locale 'C'"
        )
    other = psycopg.connect(
        kept.replace("dbname=marrowgate", "dbname=ascii_quay"), client_encoding="sql_ascii"
    )
    other.pgconn.exec_(b"begin; select 'Caf\xe9'")
    other.pgconn.exec_(b"select 'Caf\xe9'")
    try:
        for database in ("marrowgate", "ascii_quay"):
            done = call(
                "now", "--json", "--target", f"postgresql://catenum@/{database}?{kept.split()[0]}"
            )
            (shown,) = [s for s in done.json["sessions"] if s["id"] == str(other.info.backend_pid)]
            assert shown["statement"] == "select 'Caf\\xe9'"
            assert done.json["heads"][0]["session"] == str(head.info.backend_pid)
    finally:
        other.close()
        with psycopg.connect(kept, autocommit=True) as admin:
            admin.execute("drop database ascii_quay with (force)")
    latin = over_socket(unix_socket=kept_mariadb, user="root", charset="latin1", autocommit=False)
    latin.cursor().execute("start transaction with consistent snapshot")
    thread = threading.Thread(
        target=_ignoring, args=(latin, "select sleep(3), 'Caf\xe9'"), daemon=True
    )
    thread.start()
    try:
        found = until(
            lambda: [
                s
                for s in call("now", "--json", "--target", "local:mariadb").json["sessions"]
                if s["id"] == str(latin.thread_id()) and "sleep" in str(s["statement"])
            ],
            "it is listed",
        )
        assert found[0]["statement"].startswith(
            "select sleep(3), 'Caf"
        )  # the server writes ? for the letter
    finally:
        thread.join()
        latin.close()


def test_a_look_that_takes_long_makes_the_next_ones_rarer_and_says_so():
    from catenum.live.follow import Follower

    follower = Follower("kept", lambda: None, 1.0, None)
    assert follower._pace(1000.0, 12.0) is None
    assert (
        follower._pace(10_000.0, 400.0)
        == "a check takes 400 ms: the next ones come every 10.0 s or so"
    )
    assert follower._pace(9_000.0, 360.0) is None
    assert follower._pace(1000.0, 12.0) == "checks are quick again: one every 1.0 s"


#: What a session runs while another has written a row, and what it then really waits for.
BEHIND = {
    "a foreign key": ("insert into crate values (1, 7)", "vessel row at", "FOR KEY SHARE"),
    "a trigger": ("insert into visit values (1)", "vessel row at", "FOR NO KEY UPDATE"),
    "code that worked before": (
        "do $$ begin perform pg_sleep(1.5); update vessel set calls = 3 where id = 7; end $$",
        "vessel row at",
        "FOR NO KEY UPDATE",
    ),
    "its own statement": (
        "update vessel set calls = 3 where id = 7",
        "vessel(id=7)",
        "FOR NO KEY UPDATE",
    ),
    "a table": ("alter table vessel add column x int", "vessel", "AccessExclusiveLock"),
}


@pytest.mark.parametrize("why", BEHIND)
def test_what_is_waited_for_and_since_when_is_the_server_s_word(kept, call, why):
    sql, over, mode = BEHIND[why]
    head, waiter, admin = (psycopg.connect(kept, autocommit=True) for _ in range(3))
    admin.execute(
        "create schema pool; set search_path = pool; create table vessel (id int primary key, calls int);"
        "insert into vessel values (7, 0); create table crate (id int, vessel int references vessel);"
        "create table visit (id int); create function count_call() returns trigger language plpgsql as "
        "$f$ begin update pool.vessel set calls = calls + 1 where id = 7; return new; end $f$;"
        "create trigger t before insert on visit for each row execute function count_call()"
    )
    try:
        head.execute("set search_path = pool; begin; delete from vessel where id = 7")
        waiter.execute("set search_path = pool")
        thread = threading.Thread(target=_quietly, args=(waiter, sql))
        thread.start()
        find = "select extract(epoch from clock_timestamp() - waitstart) * 1000 from pg_locks where pid = %s and not granted"
        until(lambda: admin.execute(find, [waiter.info.backend_pid]).fetchone(), "it waits")
        before = admin.execute(find, [waiter.info.backend_pid]).fetchone()[0]
        (wait,) = call("now", "--json").json["waits"]
        after = admin.execute(find, [waiter.info.backend_pid]).fetchone()[0]
        assert wait["over"].startswith(f"pool.{over}")
        assert wait["wanted"] == mode
        assert float(before) <= wait["waited_ms"] <= float(after)
        assert wait["holder"] == str(head.info.backend_pid)
    finally:
        head.execute("rollback")
        thread.join(20)
        admin.execute("drop schema pool cascade")
        for connection in (head, waiter, admin):
            connection.close()


def _quietly(connection: psycopg.Connection, sql: str) -> None:
    with contextlib.suppress(psycopg.Error):
        connection.execute(sql)


def test_a_prepared_transaction_in_the_way_is_named_with_the_statement_that_undoes_it(
    own_server, pier, call
):
    own_server.kill()
    own_server.restart("-c", "max_prepared_transactions=5")
    with contextlib.closing(own_server.admin()) as db:
        db.execute(
            "create table quay (id int primary key, boxes int); insert into quay values (1, 0)"
        )
        db.execute("begin; update quay set boxes = 1; prepare transaction 'crane''s'")
        url = f"postgresql://catenum@/harbour?host={own_server.sockets}&port={own_server.port}"
        waiter = own_server.admin()
        thread = threading.Thread(target=_quietly, args=(waiter, "update quay set boxes = 2"))
        thread.start()
        seen = until(
            lambda: (f := call("now", "--target", url, "--json").json)["waits"] and f, "it waits"
        )
        assert seen["waits"][0]["holder"] == "prepared transaction crane's"
        assert any("to undo it: rollback prepared 'crane''s';" in note for note in seen["notes"])
        db.execute("rollback prepared 'crane''s'")
        thread.join(20)
        waiter.close()
    gone, behind = pier(), pier()
    for sql in (
        "xa start 'north'",
        "update quay set boxes = 1 where id = 1",
        "xa end 'north'",
        "xa prepare 'north'",
    ):
        gone.cursor().execute(sql)
    gone.close()
    thread = threading.Thread(
        target=_ignoring, args=(behind, "update quay set boxes = 2 where id = 1"), daemon=True
    )
    thread.start()
    target = ("--target", "local:mariadb")
    try:
        seen = until(lambda: (f := call("now", *target, "--json").json)["waits"] and f, "it waits")
        assert seen["waits"][0]["holder"].startswith("a prepared transaction, number ")
        assert any("xa rollback 'north';" in note for note in seen["notes"])
        assert "blocks 1 directly" in call("now", *target).out
    finally:
        other = pier()
        other.autocommit(True)
        other.cursor().execute("xa rollback 'north'")
        thread.join(20)


def test_time_in_which_no_watch_ran_is_a_gap_and_nothing_is_not_said_of_it(call, tmp_path):
    path = tmp_path / "s.sqlite"
    for start in ("2026-11-20T10:00", "2026-11-20T12:30"):
        store = writer(path)  # the first is killed: nothing is written at its end
        for second in range(3):
            store.write("kept", moment(f"{start}:0{second}.000Z"), [])
        store.close()
    reported = call("history", "--store", "s.sqlite", "--json").json
    (gap,) = reported["gaps"]
    assert (gap["since"], gap["until"]) == ("2026-11-20T10:00:02.000Z", "2026-11-20T12:30:00.000Z")
    assert "6 checks; not all of that time was seen" in call("history", "--store", "s.sqlite").out
    within = call(
        "history",
        "--store",
        "s.sqlite",
        "--since",
        "2026-11-20T11:00",
        "--until",
        "2026-11-20T11:30",
    ).out
    assert within.startswith("Nothing was seen in that time: no watch looked.")
    assert "no watch ran" in " ".join(within.split())


def test_a_store_damaged_at_rest_is_told_as_such_and_set_aside_by_the_next_watch(call, tmp_path):
    path = tmp_path / "s.sqlite"
    store = writer(path)
    for number in range(400):
        store.missed(f"server {number}", "2026-11-20T10:00", "2026-11-20T10:01", "no answer " * 20)
    store.database.connection.execute("pragma wal_checkpoint(truncate)")
    store.close()
    raw = bytearray(path.read_bytes())
    for page in range(3, len(raw) // 4096):
        raw[page * 4096 : page * 4096 + 64] = b"\xff" * 64
    path.write_bytes(raw)
    done = call("history", "--store", "s.sqlite")
    assert (done.code, "is damaged" in done.err, "Traceback" in done.err) == (2, True, False)
    store = writer(path)
    assert store.set_aside is not None
    assert store.set_aside.read_bytes()[3 * 4096 :] == bytes(raw)[3 * 4096 :]
    store.close()
