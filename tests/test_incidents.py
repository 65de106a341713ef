"""What a watch makes of many looks: incidents, hours seen, the hand-over; several servers at once,
and what goes across.
"""

from __future__ import annotations

import contextlib
import json
import os
import signal
import sqlite3
import threading
import time
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import psycopg
import pymysql
import pytest
from hypothesis import given
from hypothesis import strategies as st

from catenum.cli.commands.watch import LEAST_LINES, shares
from catenum.core.errors import SaveError
from catenum.core.logs.postgresql import PostgresqlLog
from catenum.core.logs.servers import log_rules_of
from catenum.core.logs.waits import piles, waits_of
from catenum.core.record.recording_file import to_plain
from catenum.core.record.waits import Resource
from catenum.core.report.lines import tree_lines
from catenum.core.servers import rules_of
from catenum.core.snapshot.across import Link, Place, links, look_across, standing, together
from catenum.core.snapshot.alarms import Thresholds
from catenum.core.snapshot.groups import groups_of
from catenum.core.snapshot.incidents import IncidentTracker
from catenum.core.snapshot.own import without_runs
from catenum.core.snapshot.rates import AROUND_MS, Counted, RateLog, Step
from catenum.core.snapshot.sample import Sample
from catenum.core.snapshot.story import tell_sample
from catenum.core.text import harmless
from catenum.engines import clock
from catenum.engines.innodb.monitor import InnodbMonitor
from catenum.live import follow
from catenum.live.events import event_value
from catenum.live.follow import Sighting
from catenum.live.watch import Watch, WatchOptions
from catenum.store import queries
from catenum.store.coverage import coverage
from catenum.store.spans import Span
from catenum.store.store import Store, writer
from conftest import over_socket, until
from test_live import moment

NOON = datetime(2026, 11, 20, 12, tzinfo=UTC)


def at(seconds: float) -> str:
    return (
        (NOON + timedelta(seconds=seconds))
        .isoformat(timespec="milliseconds")
        .replace("+00:00", "Z")
    )


@given(
    st.lists(
        st.tuples(st.integers(0, 9), st.integers(0, 9)).filter(lambda p: p[0] != p[1]), max_size=12
    )
)
def test_groups_are_what_hangs_together_and_each_session_is_in_one(pairs):
    sample = moment("t", *((f"s{a}", f"s{b}") for a, b in pairs))
    groups = groups_of(sample)
    members = [name for group in groups for name in group.members | {e.holder for e in group.roots}]
    assert set(members) == {name for edge in sample.edges for name in (edge.waiter, edge.holder)}
    for one, other in ((a, b) for a in groups for b in groups if a is not b):
        assert not one.waiting & other.waiting
    for edge in sample.edges:  # nobody waits for one of another group
        (own,) = [group for group in groups if edge.waiter in group.waiting]
        assert all(edge.holder not in group.waiting for group in groups if group is not own)
    assert any(group.cycle for group in groups) == bool(sample.graph.cycles())


def test_of_many_that_wait_alike_a_few_are_told_and_the_others_by_number():
    sample = moment("t", *((f"gate{n:03}", "lift") for n in range(300)), ("tug", "gate007"))
    lines = list(tree_lines(sample.graph.tree("lift"), lambda branch: branch.name))
    assert len(lines) < 10
    assert "and 296 more like these" in lines[-1].text
    assert [line.text.strip("└├─│ ") for line in lines if "tug" in line.text] == ["tug"]


def test_what_could_not_be_stored_is_a_gap_and_what_became_of_its_incidents_is_not_lost(
    tmp_path, monkeypatch
):
    store, reported = writer(tmp_path / "s.sqlite"), []
    watch = Watch({"harbour": lambda: None}, WatchOptions(at_least_ms=0.0), store, reported.append)
    looks = [
        moment(at(0), ("b", "a")),
        moment(at(1), ("b", "a")),
        moment(at(2)),
        moment(at(3)),
        moment(at(4)),
    ]
    whole = Store.write

    def full(self, name, sample, *rest):
        if sample.at in (at(1), at(2)):
            raise SaveError("cannot write: disk full")
        whole(self, name, sample, *rest)

    monkeypatch.setattr(Store, "write", full)
    for sample in looks:
        watch.take(Sighting("harbour", sample.at, sample=sample))
    assert [line.what for line in reported] == ["began", "store", "ended", "store"]
    (gap,) = store.rows("select since, until, why from gap where why like '%store%'")
    assert gap == {"since": at(0), "until": at(3), "why": "the store could not be written to"}
    (incident,) = queries.incidents(store, Span())
    assert (incident["ended"], incident["first"]) == (at(2), at(0))
    store.close()


def test_after_a_full_disk_everything_is_stored_again(tmp_path):
    """With what began while it was full, and the deadlocks of that time: no id of a row that was
    rolled back is used.
    """
    store, reported = writer(tmp_path / "s.sqlite"), []
    watch = Watch({"harbour": lambda: None}, WatchOptions(at_least_ms=0.0), store, reported.append)
    large = " ".join(f"v{n} = {n}" for n in range(20_000))
    # no look comes too late, however slow the machine is
    in_time = clock.Source(lambda: float(second), lambda: datetime.now(UTC), lambda _: None)
    looks = [moment(at(second), *([("b", "a")] if 1 <= second <= 4 else [])) for second in range(8)]
    for second, sample in enumerate(looks):
        if second == 1:
            (pages,) = store.database.connection.execute("pragma page_count").fetchone()
            store.database.connection.execute(f"pragma max_page_count = {pages + 1}")
            sample = replace(
                sample,
                sessions=tuple(replace(s, statement=large) for s in sample.sessions),
                by_id={},
            )
        if second == 3:
            store.database.connection.execute("pragma max_page_count = 1000000")
        with clock.replaced_by(in_time):
            watch.take(
                Sighting(
                    "harbour",
                    sample.at,
                    sample=replace(sample, deadlocks=int(second >= 2), by_id={}),
                )
            )
    assert [line.what for line in reported if line.what in ("store", "began", "ended", "deadlock")] == [
        "store", "began", "deadlock", "store", "ended"]  # fmt: skip
    (incident,) = queries.incidents(store, Span())
    assert (incident["first"], incident["ended"], incident["head"]) == (at(1), at(5), "a")
    assert store.rows("select count(*) n, max(recording is not null) kept from incident") == [
        {"n": 1, "kept": 1}
    ]
    assert store.rows("select sum(count) n from deadlock") == [{"n": 1}]
    (gap,) = store.rows("select since, until, blind from gap where why like '%store%'")
    assert gap == {"since": at(0), "until": at(3), "blind": 1}
    store.close()


def test_masking_changes_what_is_shown_and_never_what_an_incident_is(tmp_path):
    """Two rows of one table that two heads hold are two incidents, masked or not."""

    def row(second: float, *ids: int) -> Sample:
        sample = moment(at(second), *((f"gate{n}", f"lift{n}") for n in ids))
        edges = tuple(
            replace(
                edge,
                resource=Resource(
                    kind="row", text=f"slot(id={n})", table="slot", key=(("id", str(n)),)
                ),
            )
            for edge, n in zip(sample.edges, ids, strict=True)
        )
        sql = "update slot set box = 'secret' where id = 4711"
        return replace(
            sample,
            edges=edges,
            sessions=tuple(replace(s, statement=sql) for s in sample.sessions),
            by_id={},
        )

    looks = [row(0, 1), row(1, 1, 2), row(2, 2), row(3, 2), row(4)]
    found = {}
    for mask in (False, True):
        store, reported = writer(tmp_path / f"{mask}.sqlite"), []
        watch = Watch(
            {"harbour": lambda: None},
            WatchOptions(at_least_ms=0.0, mask=mask),
            store,
            reported.append,
        )
        for sample in looks:
            watch.take(Sighting("harbour", sample.at, sample=sample))
        rows = queries.incidents(store, Span())
        found[mask] = (
            [(line.what, line.at) for line in reported],
            [(r["first"], r["ended"], r["head"]) for r in rows],
        )
        shown = repr(
            [(line.text, line.incident and line.incident.masked) for line in reported]
        ) + repr(rows)
        assert ("id=1" in shown) != mask
        assert ("4711" in repr(rows)) != mask
        text = repr([to_plain(store.recording(row["id"])) for row in rows])
        assert ("secret" in text, "id=2" in text) == (not mask, not mask)
        store.close()
    assert found[True] == found[False]
    assert len(found[True][1]) == 2


def test_a_watch_that_nobody_looks_for_any_more_ends_and_says_so(monkeypatch):
    monkeypatch.setattr("catenum.live.follow.Follower.run", lambda self: None)
    watch = Watch({"harbour": lambda: None}, WatchOptions(), None, lambda reported: None)
    watch.run()
    assert watch.abandoned


def test_the_hours_of_a_server_are_told_with_how_much_of_them_was_seen(tmp_path):
    store = writer(tmp_path / "s.sqlite")
    for second in range(0, 5400, 10):
        store.write("harbour", moment(at(second)), [])
    store.missed("harbour", at(600), at(1500), "no answer for 7 s")
    found = coverage(store, Span(at(-3600), at(7200)))
    assert [(hour["hour"][11:13], round(hour["seen_s"] / 60), hour["looks"]) for hour in found] == [
        ("11", 0, 0), ("12", 45, 360), ("13", 30, 180)]  # fmt: skip
    assert all(hour["of_s"] == 3600 for hour in found)
    store.close()


def test_the_hand_over_tells_what_was_who_did_what_and_what_is_open(tmp_path, call):
    store = writer(tmp_path / "s.sqlite")
    tracker = IncidentTracker()
    for second, waits in ((0, [("b", "a")]), (60, [("b", "a")]), (120, []), (180, [("d_*", "c")])):
        sample = moment(at(second), *waits)
        change = tracker.update(sample, since_last_ms=1000)
        store.write(
            "harbour",
            sample,
            [*change.began, *change.went_on, *change.ended],
            deadlocks=int(second == 120),
        )
    session = moment("t", ("b", "a")).session("a")
    store.release("harbour", session, "end", 1, 1, "ended; 1 went on")
    store.note(1, "the clerk was at lunch | <b>")
    store.close()
    reported = call(
        "history", "report", "--store", "s.sqlite", "--since", at(-60), "--until", at(3600)
    ).out
    flat = " ".join(reported.split())
    assert "2 incidents of waiting" in flat
    assert "note: the clerk was at lunch | <b>" in flat
    assert flat.index("Still open") < flat.index("session c") < flat.index("Incidents")
    marked = call(
        "history",
        "report",
        "--store",
        "s.sqlite",
        "--since",
        at(-60),
        "--until",
        at(3600),
        "--markdown",
    ).out
    assert "\\| \\<b\\>" in marked
    assert marked.startswith("# Hand-over")
    value = call(
        "history",
        "report",
        "--store",
        "s.sqlite",
        "--since",
        at(-60),
        "--until",
        at(3600),
        "--json",
    ).json
    assert (len(value["open"]), len(value["incidents"]), len(value["deadlocks"])) == (1, 1, 1)
    assert "ended; 1 went on" in call("history", "report", "--store", "s.sqlite").out


@given(st.lists(st.integers(1, 80), min_size=1, max_size=8), st.integers(1, 120))
def test_every_server_has_its_share_of_the_screen(wanted, room):
    found = shares(wanted, room)
    assert all(0 < part <= want for part, want in zip(found, wanted, strict=True))
    assert sum(found) <= max(room, sum(min(LEAST_LINES, want) for want in wanted))
    if sum(found) < min(
        room, sum(wanted)
    ):  # what is left over is less than a line for each that wants more
        assert room - sum(found) < len(wanted)


@given(st.text())
def test_nothing_that_a_terminal_acts_on_is_left_in_a_text(text):
    shown = harmless(text)
    assert len(shown) == len(text)
    assert not any(
        (ord(sign) < 32 and sign not in "\n\t") or 0x7F <= ord(sign) < 0xA0 for sign in shown
    )


def test_a_log_s_waits_are_put_together_with_who_held_the_lock():
    log = PostgresqlLog()
    lines = """2026-11-26 10:00:01.000 UTC [11] LOG:  process 11 still waiting for ShareLock on transaction 788 after 1000.100 ms
2026-11-26 10:00:01.000 UTC [11] DETAIL:  Process holding the lock: 10. Wait queue: 11.
2026-11-26 10:00:01.000 UTC [11] CONTEXT:  while updating tuple (0,2) in relation "crate"
2026-11-26 10:00:01.000 UTC [11] STATEMENT:  update crate set note = 'ERROR:  deadlock detected'
2026-11-26 10:00:02.500 UTC [12] LOG:  process 12 still waiting for ExclusiveLock on tuple (0,2) of relation 16385 of database 5 after 1000.200 ms
2026-11-26 10:00:02.500 UTC [12] DETAIL:  Process holding the lock: 11. Wait queue: 12.
2026-11-26 10:00:05.000 UTC [11] LOG:  process 11 acquired ShareLock on transaction 788 after 5000.100 ms
2026-11-26 10:09:00.000 UTC [15] ERROR:  deadlock detected
2026-11-26 10:09:00.000 UTC [15] DETAIL:  Process 15 waits for ShareLock on transaction 9; blocked by process 16.
"""
    entries = [*log.feed(lines), *log.finish()]
    assert [entry.is_deadlock for entry in entries] == [False, False, False, True]
    reader = log_rules_of("postgresql").conflict_reader()
    (pile,) = piles(waits_of([*reader.read(entries), *reader.finish()]))
    assert (pile.head, pile.at_once, pile.over_yet) == ("10", 2, False)
    assert pile.waits[0].over == "crate row at (0,2)"
    assert round(pile.waits[0].waited_ms) == 5000


# -- several servers -----------------------------------------------------------------------------------------------------


def test_now_shows_every_server_a_line_first_and_one_that_is_down_does_not_hide_the_others(
    kept, kept_mariadb, call
):
    both = ("--target", "local:postgresql", "--target", "local:mariadb")
    done = call("now", *both)
    first = done.out.splitlines()[:2]
    assert [line.split()[0] for line in first] == ["local:postgresql", "local:mariadb"]
    down = ("--target", "postgresql://nobody@127.0.0.1:1/none")
    done = call("now", *both, *down)
    assert done.code == 3
    assert "not seen" in done.out
    value = call("now", *both, *down, "--json").json
    assert [("error" in one) for one in value["servers"]] == [False, False, True]
    with psycopg.connect(kept) as head, psycopg.connect(kept) as waiter:
        head.execute("select pg_advisory_xact_lock(77)")
        waiter.pgconn.send_query(b"begin; select pg_advisory_xact_lock(77)")
        until(
            lambda: call("now", *both, *down, "--json").code == 1,
            "who waits is found, whatever is down",
        )
        waiter.pgconn.finish()
        head.rollback()


def remote(sample, name: str, **changes):
    """A sample with one of its sessions changed."""
    sessions = tuple(replace(s, **changes) if s.id == name else s for s in sample.sessions)
    return replace(sample, sessions=sessions, by_id={})


def test_sessions_of_two_servers_are_linked_only_where_no_other_can_be_meant():
    harbour = moment("t", ("202", "101"), ("303", "101"))
    yard = remote(moment("t", ("62", "61")), "62", application="fdw 202")
    assert links({"harbour": harbour, "yard": yard}) == [
        Link(Place("harbour", "202"), Place("yard", "62"), "application name")
    ]
    other = moment("t", ("202", "5"))  # a third server has a session of that number too
    assert links({"harbour": harbour, "yard": yard, "quay": other}) == []
    older = remote(harbour, "202", started="2026-11-26T10:00:00Z")
    younger = remote(
        yard, "62", started="2026-11-26T09:00:00Z"
    )  # begun before the one that would have begun it
    assert links({"harbour": older, "yard": younger}) == []
    reached = remote(moment("t", ("62", "61")), "61", host="127.0.0.1", port=5000)
    assert [
        link.by for link in links({"harbour": harbour, "yard": reached}, {("127.0.0.1", 5000): 303})
    ] == ["connection"]
    trace = (
        "/* traceparent='00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01' */ update crate"
    )
    traced = {
        "harbour": remote(harbour, "101", statement=trace),
        "yard": remote(yard, "62", application=None, statement=trace),
    }
    assert [link.by for link in links(traced)] == ["traceparent"]


def test_a_wait_across_servers_stands_only_where_two_looks_show_it():
    harbour = remote(
        moment("t", ("202", "101"), over="berth"), "101", state="idle in a transaction"
    )
    yard = remote(
        moment("t", ("62", "61")),
        "61",
        application="fdw 202",
        state="idle in a transaction",
        state_ms=900.0,
    )
    samples = {"harbour": harbour, "yard": yard}
    whole = look_across(samples, dict)
    assert whole is not None
    assert whole.graph.longest_chain() == 3  # 62 waits for 61, whose owner 202 waits for 101
    assert whole.graph.heads() == ["harbour session 101"]
    assert standing(None, whole) is None
    assert standing(whole, whole).edges == whole.edges
    another = replace(
        whole, sessions=tuple(replace(s, transaction="another") for s in whole.sessions), by_id={}
    )
    assert standing(whole, another) is None
    assert together(samples, []) is None


def test_a_deadlock_over_two_servers_through_a_foreign_table_is_found_and_told(
    own_server, kept, start, call, tmp_path
):
    """Two sessions of one server, each with its own session on the other: neither server sees the
    cycle.
    """
    with own_server.admin() as admin:
        admin.execute("create table berth (id int primary key, n int)")
        admin.execute("insert into berth values (1, 0)")
    url = own_server.url("catenum")
    with own_server.admin() as admin:
        admin.execute("alter role catenum password 'secret-word'")
    with psycopg.connect(kept, autocommit=True) as here:
        try:
            here.execute("create extension if not exists postgres_fdw")
        except psycopg.Error:
            pytest.skip("this server has no postgres_fdw")
        here.execute("drop schema if exists across cascade; create schema across")
        here.execute(
            "create table across.slot (id int primary key, n int); insert into across.slot values (42, 0)"
        )
        here.execute(
            f"create server over_there foreign data wrapper postgres_fdw options (host '127.0.0.1', port '{own_server.port}', "
            "dbname 'harbour', application_name 'lift %p')"
        )
        here.execute(
            "create user mapping for current_user server over_there options (user 'catenum', password 'secret-word')"
        )
        here.execute(
            "create foreign table across.berth (id int, n int) server over_there options (schema_name 'public')"
        )
        one, two = (psycopg.connect(kept, application_name=name) for name in ("tug one", "tug two"))
        try:
            one.execute("update across.slot set n = 1 where id = 42")
            two.execute("update across.berth set n = 1 where id = 1")
            for session, sql in (
                (one, "update across.berth set n = 2 where id = 1"),
                (two, "update across.slot set n = 2"),
            ):
                threading.Thread(target=_quietly, args=(session, sql), daemon=True).start()
            targets = ("--target", "local:postgresql", "--target", url)
            found = until(
                lambda: (f := call("now", *targets, "--json").json["across"]) and f["cycles"] and f,
                "the cycle is found",
            )
            (cycle,) = found["cycles"]
            assert len(cycle) == 4
            assert {name.split(" session ")[0] for name in cycle} == {
                "local:postgresql",
                call("now", *targets, "--json").json["servers"][1]["name"],
            }
            assert "A cycle across servers" in call("now", *targets).out
            watch = start(
                "watch",
                *targets,
                "--every",
                "300ms",
                "--store",
                "s.sqlite",
                "--json",
                "--run",
                f"sh -c 'cat >> {tmp_path}/alert'",
            )
            events = []
            while not any(e["event"] == "deadlock" for e in events):
                events.append(json.loads(watch.stdout.readline()))
            assert "a deadlock across servers, which none of them ends" in events[-1]["text"]
            two.pgconn.finish()
            until(lambda: (tmp_path / "alert").exists(), "the alert")
            watch.terminate()
            assert watch.wait(30) == 0
            across = [
                i
                for i in call("history", "list", "--store", "s.sqlite", "--json").json["incidents"]
                if i["source"] == "across"
            ]
            assert [i["cycle"] for i in across] == [1]
        finally:
            for session in (one, two):
                session.close()
            time.sleep(0.2)
            here.execute(
                "select pg_terminate_backend(pid) from pg_stat_activity where application_name like 'tug %'"
            )
            here.execute("drop server over_there cascade; drop schema across cascade")


def _quietly(session: psycopg.Connection, sql: str) -> None:
    with contextlib.suppress(psycopg.Error):
        session.execute(sql)


def test_the_head_s_earlier_statements_are_told_where_mariadb_keeps_them(own_mariadb, call):
    url = own_mariadb.url
    socket = url.partition("unix_socket=")[2]
    clerk, gate = (
        over_socket(unix_socket=socket, user="root", program_name=n) for n in ("clerk", "gate")
    )
    for sql in ("update performance_schema.setup_consumers set enabled = 'YES'",
                "update performance_schema.setup_instruments set enabled = 'YES', timed = 'YES' where name like 'statement/%'",
                "create database if not exists yard", "use yard", "create table slot (id int primary key, n int)",
                "insert into slot values (42, 0)", "commit"):  # fmt: skip
        clerk.cursor().execute(sql)
    gate.select_db("yard")
    clerk.close()
    clerk = over_socket(unix_socket=socket, user="root", database="yard", program_name="clerk")
    for sql in (
        "update slot set n = 1 where id = 42",
        "rollback",
        "begin",
        "select n from slot",
        "update slot set n = 2 where id = 42",
        "select 7",
    ):
        clerk.cursor().execute(sql)
    threading.Thread(
        target=_ignoring, args=(gate, "update slot set n = 3 where id = 42"), daemon=True
    ).start()
    found = until(
        lambda: (f := call("now", "--target", url, "--json").json)["waiting"] and f, "gate waits"
    )
    head = {s["id"]: s for s in found["sessions"]}[str(clerk.thread_id())]
    assert head["earlier"] == [
        "begin",
        "select n from slot",
        "update slot set n = 2 where id = 42",
        "select 7",
    ]
    assert "before that in its transaction, as the server has it" in " ".join(
        call("now", "--target", url).out.split()
    )
    assert "= 2" not in call("now", "--target", url, "--mask", "--json").out
    clerk.rollback()


def _ignoring(session: pymysql.Connection, sql: str) -> None:
    with contextlib.suppress(pymysql.Error, sqlite3.Error):
        session.cursor().execute(sql)


@pytest.mark.parametrize(("jump_s", "gaps"), [(3600, 1), (-3600, 0)])
def test_a_clock_that_jumps_ends_what_was_open_and_is_a_gap_if_time_was_passed_over(
    tmp_path, jump_s, gaps
):
    store, reported = writer(tmp_path / "s.sqlite"), []
    watch = Watch({"harbour": lambda: None}, WatchOptions(at_least_ms=0), store, reported.append)
    for second in (0, 1, 2 + jump_s, 3 + jump_s):
        watch.take(Sighting("harbour", at(second), sample=moment(at(second), ("b", "a"))))
    assert [one.what for one in reported] == ["began", "note", "ended", "began"]
    assert "the clock of this machine went" in reported[1].text
    found = store.rows("select since, until, blind from gap")
    assert found == [{"since": at(1), "until": at(2 + jump_s), "blind": 0}] * gaps
    rows = store.rows("select first_seen, last_seen, ended from incident order by id")
    assert all(row["last_seen"] >= row["first_seen"] for row in rows)
    assert rows[0]["ended"] == at(1)
    store.close()


def test_runs_of_catenum_are_no_incidents_and_what_others_wait_for_in_them_is():
    sample = moment("t", ("b", "a"), ("c", "b"))
    named = {"a": "catenum 0a1b2c3d gate", "b": "catenum 0a1b2c3d tower", "c": "crane"}
    sample = replace(
        sample,
        sessions=tuple(replace(s, application=named[s.id]) for s in sample.sessions),
        by_id={},
    )
    assert [(edge.waiter, edge.holder) for edge in without_runs(sample).edges] == [("c", "b")]
    other = replace(sample.session("a"), application="catenum ffffffff gate")
    mixed = replace(sample, sessions=(other, *sample.sessions[:1], *sample.sessions[2:]), by_id={})
    assert len(without_runs(mixed).edges) == 2


def test_one_alarm_an_incident_with_its_fields(tmp_path):
    """Whichever head comes to hold: one command is started, and what it needs stands in fields."""
    reported = []
    options = WatchOptions(at_least_ms=0, thresholds=Thresholds(longer_than_ms=400))
    watch = Watch({"harbour": lambda: None}, options, None, reported.append)
    for second, (waiter, head) in enumerate([("x", "a"), ("x", "b"), ("x", "c"), ("x", "d")]):
        watch.take(
            Sighting("harbour", at(second), sample=moment(at(second), (waiter, head), ("y", head)))
        )
    (alarm,) = [event_value(one) for one in reported if one.what == "long"]
    assert alarm["alarm"] == {
        "id": f"harbour/long/{at(0)}/a",
        "sessions": ["a"],
        "age_ms": 500.0,
        "count": 2,
        "limit": 400,
    }


@pytest.mark.parametrize(
    ("texts", "took", "shape"),
    [
        (
            ("select 1", "update quay set boxes = 1", "select boxes from quay"),
            None,
            "update quay set boxes = ?",
        ),
        (
            ("select 1", "select boxes from quay where id = 1"),
            None,
            "(a statement that was not seen, on quay)",
        ),
        (("select 1",), "delete from quay where id = 1", "delete from quay where id = ?"),
    ],
)
def test_an_incident_is_counted_under_the_statement_that_took_the_lock(
    tmp_path, texts, took, shape
):
    store = writer(tmp_path / "s.sqlite")
    watch = Watch(
        {"harbour": lambda: None}, WatchOptions(at_least_ms=0), store, lambda reported: None
    )
    for second, text in enumerate(texts):
        sample = moment(at(second), ("b", "a"), age=5000 + second * 1000, statement=text)
        sessions = tuple(replace(s, took=took) if s.id == "a" else s for s in sample.sessions)
        watch.take(
            Sighting("harbour", at(second), sample=replace(sample, sessions=sessions, by_id={}))
        )
    assert [
        group["statement"] for group in queries.grouped(store, "statement", Span(None, None))
    ] == [shape]
    (pair,) = queries.pairs(store, Span(None, None))
    assert pair["holder"] == (
        shape if "not seen" not in shape else "(a statement that was not seen)"
    )
    store.close()


def test_who_waits_behind_a_cycle_of_two_is_shown():
    sample = moment("t", ("a", "b"), ("b", "a"), ("c", "a"), ("d", "c"))
    text = "\n".join(line.text for section in tell_sample(sample) for line in section.lines)
    assert "c waits behind the cycle, for a" in text
    assert "d waits behind the cycle, for c" in text


def test_a_rollback_under_way_is_not_doing_nothing():
    sample = moment("t", ("b", "a"))
    idle = tuple(
        replace(s, state="idle in a transaction", undoing=s.id == "a") for s in sample.sessions
    )
    assert [session.id for session in replace(sample, sessions=idle, by_id={}).idle_open] == ["b"]


def test_rates_are_given_of_what_takes_part_with_what_was_before_it():
    tracker, log = IncidentTracker(), RateLog(rules_of("mysql").sql.shape)

    def answer(n):
        return {
            "UPDATE `quay` SET `boxes` = ?": Counted(n, 2.0 * n, 1.0 * n),
            "SELECT ?": Counted(n, n, 0.0),
        }

    for second in (0, 10):
        log.take(at(second), second * 1000, answer(second))
        assert log.steps(second * 1000) == []
    tracker.update(moment(at(15), ("b", "a")), since_last_ms=1000)
    log.want(tracker.open, 15_000)
    log.take(at(20), 20_000, answer(50))
    log.take(at(30), 30_000, answer(7))  # the counters began anew
    shape = "update quay set boxes = ?"
    assert log.steps(30_000) == [
        Step(shape, at(0), at(10), 10, 20.0, 10.0), Step(shape, at(10), at(20), 40, 80.0, 40.0),
    ]  # fmt: skip
    assert log.steps(30_000) == []
    log.take(at(40), 40_000, answer(8))
    assert log.steps(40_000) == [Step(shape, at(30), at(40), 1, 2.0, 1.0)]
    assert log.steps(15_000 + AROUND_MS + 1) == []


def test_whether_a_statement_was_called_more_or_got_slower_is_shown(
    kept_mysql, call, monkeypatch, tmp_path
):
    monkeypatch.setattr(follow, "STATISTICS_EVERY_MS", 500.0)
    monkeypatch.setattr(follow, "CHEAP_MS", 60_000.0)  # a busy machine may take its time
    asked: list[object] = []
    rates = InnodbMonitor.rates
    monkeypatch.setattr(InnodbMonitor, "rates", lambda self: asked.append(1) or rates(self))
    where = {"unix_socket": kept_mysql, "user": "root", "autocommit": True}
    head, crane = over_socket(**where), over_socket(**where)
    for sql in ("create database tide", "create table tide.berth (id int primary key, moved int)",
                "insert into tide.berth values (7, 0)"):  # fmt: skip
        head.cursor().execute(sql)
    done = threading.Event()

    def work():
        with contextlib.suppress(pymysql.Error):
            while not done.is_set():
                crane.cursor().execute("update tide.berth set moved = moved + 1 where id = 7")

    def asked_again(times: int) -> None:
        """So many answers more, of which the last was told with a check."""
        enough = len(asked) + times + 1
        until(lambda: len(asked) > enough, "the statistics")

    def hold():
        try:
            asked_again(3)
            head.cursor().execute("begin")
            head.cursor().execute("update tide.berth set moved = 0")
            asked_again(4)
            head.cursor().execute("commit")
            asked_again(2)
        finally:
            os.kill(os.getpid(), signal.SIGTERM)

    threads = [threading.Thread(target=one) for one in (work, hold)]
    try:
        for thread in threads:
            thread.start()
        call("watch", "--target", "local:mysql", "--every", "200ms", "--store", "s.sqlite")
        (row,) = call("history", "list", "--store", "s.sqlite", "--json").json["incidents"]
        (rate,) = [one for one in row["rates"] if "moved +" in one["statement"]]
        assert rate["before"]["calls_per_s"] > rate["during"]["calls_per_s"]
        assert rate["during"]["lock_ms"] > rate["before"]["lock_ms"]
        assert (
            "how often it ran: update tide.berth"
            in call("history", "show", row["id"], "--store", "s.sqlite").out
        )
        assert (
            call("history", "show", row["id"], "--store", "s.sqlite", "--chart", "r.svg").code == 0
        )
        assert "slower, or called more often" in (tmp_path / "r.svg").read_text()
    finally:
        done.set()
        for thread in threads:
            thread.join(20)
        head.cursor().execute("drop database tide")
        head.close()
        crane.close()
