"""The samples on a real MariaDB, and what is InnoDB's own."""

from __future__ import annotations

import contextlib
import json
import signal
import threading
import time

import pymysql
import pytest

from catenum.core.logs.innodb_fields import decode
from catenum.core.logs.innodb_status import latest_deadlock, transactions
from catenum.core.record.recording_file import from_json, without_times_and_ids
from catenum.core.scenario.model import Scenario
from catenum.engines.innodb.control import arguments_of
from catenum.engines.mariadb.engine import connect
from catenum.engines.monitor import SOMEBODY
from catenum.lab.run.play import PlayOptions, play
from conftest import over_socket, sample, until

# One private MariaDB serves all of these; where there are no programs for it, they are skipped and
# say why.
pytestmark = pytest.mark.usefixtures("kept_mariadb")

TARGET = ("--target", "local:mariadb")
SAMPLES = [
    # sample, outcome, exit code, findings
    ("berth-swap", "deadlock", 1, ["opposite-order"]),
    ("tug-upgrade", "deadlock", 1, ["lock-upgrade"]),
    ("crane-standby", "clean", 1, []),
    ("left-open", "stuck", 1, ["left-open"]),
    ("yard-rebuild", "waited", 0, ["schema-change"]),
    ("call-cancel", "deadlock", 1, ["foreign-key"]),
    ("gap-insert", "deadlock", 1, ["gap-locks"]),
    ("gate-queue", "waited", 0, ["want-of-index"]),
    ("yard-lookup", "waited", 0, []),
]


@pytest.fixture
def admin(kept_mariadb):
    connection = over_socket(unix_socket=kept_mariadb, user="root", autocommit=True)
    yield connection
    connection.close()


def ask(connection, query: str, *values: object) -> list:
    with connection.cursor() as cursor:
        cursor.execute(query, values or None)
        return list(cursor.fetchall())


def leftovers(connection) -> tuple[list, list]:
    schemas = ask(
        connection,
        "select schema_name from information_schema.schemata where schema_name like 'catenum%'",
    )
    sessions = ask(
        connection, "select id from information_schema.processlist where db like 'catenum%'"
    )
    return schemas, sessions


@pytest.mark.parametrize(("name", "kind", "code", "findings"), SAMPLES)
def test_a_sample_comes_out_as_it_should(call, admin, name, kind, code, findings, tmp_path):
    done = call("play", name, *TARGET, "--locks", "waits", "--save", "rec.json")
    recording = from_json((tmp_path / "rec.json").read_bytes(), "rec.json")
    assert (recording.outcome.kind, done.code) == (kind, code)
    assert [finding.id for finding in recording.findings] == findings
    assert recording.target.server == "mariadb"
    assert leftovers(admin) == ([], [])


@pytest.mark.parametrize(
    "name", [entry[0] for entry in SAMPLES if entry[0] not in ("gate-queue", "yard-lookup")]
)
def test_repeated_runs_give_identical_recordings(mariadb, name):
    scenario = sample(name).scenario
    runs = [
        without_times_and_ids(play(mariadb, scenario, PlayOptions(locks="full"))) for _ in range(8)
    ]
    for recording in runs[1:]:
        assert recording == runs[0]


def test_the_server_s_report_gives_the_cycle_and_agrees(mariadb):
    recording = play(mariadb, sample("berth-swap").scenario, PlayOptions())
    (cycle,) = recording.deadlocks
    assert [(m.transaction, m.waits_for, m.resource.text, m.holds) for m in cycle.members] == [
        ("early", "late", "berth(id=7)", ("berth(id=3) X record",)),
        ("late", "early", "berth(id=3)", ("berth(id=7) X record",)),
    ]
    assert cycle.agreed
    assert cycle.victim == "late"
    assert "WE ROLL BACK TRANSACTION" in cycle.server_report
    assert recording.rows["berth"].rows == (("3", "Oriel", "1"), ("7", "Halcyon", "1"))


def test_a_read_only_transaction_that_waits_is_not_lost(mariadb):
    """InnoDB gives it no number until it writes."""
    recording = play(
        mariadb,
        sample("tug-upgrade").scenario,
        PlayOptions(order=("inbound", "inbound", "outbound")),
    )
    wait = recording.waits[0]
    assert (wait.waiter, wait.holder, str(wait.wanted), str(wait.held)) == (
        "outbound",
        "inbound",
        "S record",
        "X record",
    )


def test_locks_full_shows_gaps_records_index_names_and_metadata(mariadb):
    recording = play(mariadb, sample("gap-insert").scenario, PlayOptions(locks="full"))
    first = {(k.resource.text, str(k.mode)) for k in recording.pictures[0].locks}
    assert {
        ("reserved: the gap before (slot=20)", "X gap"),
        ("reserved", "IX"),
        ("reserved (metadata)", "MDL_SHARED_WRITE"),
    } <= first


def test_a_lock_timeout_undoes_the_statement_only_and_says_so(call, tmp_path):
    done = call("trial", "berth-swap", *TARGET, "--remedy", "give up waiting", "--json")
    run = done.json["variants"][1]["recordings"][0]
    (failed,) = [e["error"] for e in run["events"] if e["error"]]
    assert (failed["kind"], failed["undone"], failed["code"]) == ("timeout", "statement", "1205")
    assert "200 ms was rounded up" in run["notes"][0]
    # early gave up and was rolled back whole, its first statement too; only late's changes are
    # there
    assert run["rows"]["berth"]["rows"] == [["3", "Halcyon", "1"], ["7", "Oriel", "1"]]


def test_a_cycle_that_only_catenum_sees_is_reported_and_ended(call, admin):
    ask(admin, "set global innodb_deadlock_detect = off")
    try:
        done = call("play", "berth-swap", *TARGET, "--json")
    finally:
        ask(admin, "set global innodb_deadlock_detect = on")
    (cycle,) = done.json["deadlocks"]
    assert done.json["outcome"]["kind"] == "deadlock"
    assert (cycle["agreed"], cycle["verdict_ms"]) == (False, None)
    assert "ended by Catenum" in cycle["rule"]
    assert leftovers(admin) == ([], [])


ODD = """scenario: odd-names
data: |
  create table `Liege platz` (`Nr "x"` varbinary(4) primary key, `название` varchar(20), n int, key `по имени` (`название`));
  insert into `Liege platz` values (x'00ff', 'Гавань', 1), (x'01', null, 2), (x'02', 'Ufer', 3)
transactions:
  a: {statements: ["select n from `Liege platz` where `название` is null for update"]}
  b: {statements: ["select n from `Liege platz` where `название` is null lock in share mode"]}
order: a b
"""


def test_odd_identifiers_binary_keys_and_null_are_read(call, tmp_path):
    (tmp_path / "s.yaml").write_text(ODD)
    done = call("play", "s.yaml", *TARGET, "--json")
    (wait,) = done.json["waits"]
    assert wait["resource"]["text"] == 'Liege platz(название=NULL, Nr "x"=0x01) in index по имени'
    assert wait["resource"]["index"] == "по имени"


def test_a_table_of_another_storage_engine_is_told(call, tmp_path):
    (tmp_path / "s.yaml").write_text(
        "scenario: s\ndata: create table quay (id int primary key) engine=MyISAM\n"
        "transactions: {a: {statements: [insert into quay values (1)]}}\n"
    )
    assert "quay is a table of MyISAM, which has no row locks" in " ".join(
        call("play", "s.yaml", *TARGET).out.split()
    )


def test_a_statement_with_several_results_is_over_when_all_have_come(call, tmp_path):
    (tmp_path / "s.yaml").write_text(
        "scenario: s\ndata:\n  mariadb: create procedure look() begin select 1; select 2; end\n"
        "transactions: {a: {statements: [call look(), select 3]}}\n"
    )
    done = call("play", "s.yaml", *TARGET, "--json")
    assert done.json["outcome"]["kind"] == "clean"
    assert [
        e["result"]["rows"] for e in done.json["events"] if e["what"] == "done" and e["result"]
    ] == [[["1"]], [["3"]]]


def test_a_login_without_the_right_to_innodb_s_status_is_told_what_to_ask_for(
    call, admin, kept_mariadb
):
    ask(admin, "create or replace user clerk identified by 'secret-word'")
    ask(admin, "grant all on `catenum\\_%`.* to clerk")
    with pytest.raises(Exception, match="PROCESS") as raised:
        connect(
            {"unix_socket": kept_mariadb, "user": "clerk", "password": "secret-word"},
            "mariadb://clerk@quay",
        )
    assert "grant process on *.* to the login" in str(raised.value)
    ask(admin, "grant process on *.* to clerk")
    made = connect(
        {"unix_socket": kept_mariadb, "user": "clerk", "password": "secret-word"},
        "mariadb://clerk@quay",
    )
    try:
        made.make_scratch()
        assert play(made, sample("berth-swap").scenario, PlayOptions()).outcome.kind == "deadlock"
    finally:
        made.close()


def test_where_held_locks_are_not_listed_the_cached_tables_serve(admin, kept_mariadb):
    ask(admin, "set global innodb_status_output_locks = off")
    made = connect({"unix_socket": kept_mariadb, "user": "root"}, "kept", private=True)
    try:
        made.make_scratch()
        recording = play(made, sample("left-open").scenario, PlayOptions())
    finally:
        made.close()
        ask(admin, "set global innodb_status_output_locks = on")
    assert recording.outcome.kind == "stuck"
    assert ("loader", "clerk", "manifest(id=12)") in {
        (w.waiter, w.holder, w.resource.text) for w in recording.waits
    }


def test_what_a_killed_run_left_is_cleared_by_the_next(start, run, admin, tmp_path):
    (tmp_path / "s.yaml").write_text(
        "scenario: s\ndata: create table tug (id int primary key)\n"
        "transactions: {a: {statements: [insert into tug values (1), select sleep(60)]}}\n"
    )
    process = start("play", "s.yaml", *TARGET)
    until(
        lambda: ask(
            admin, "select 1 from information_schema.processlist where info = 'select sleep(60)'"
        ),
        "it sleeps",
    )
    process.send_signal(signal.SIGKILL)
    process.wait()
    assert leftovers(admin)[0]
    until(
        lambda: "Dropped the scratch space catenum_" in run("play", "berth-swap", *TARGET).err,
        "the next run says so",
    )
    until(lambda: leftovers(admin) == ([], []), "all is gone")


@pytest.mark.parametrize("number", [signal.SIGINT])
@pytest.mark.soak
def test_churn_finds_what_only_timing_does_and_says_how_often(run, start, admin, tmp_path, number):
    done = run(
        "churn",
        "yard-lookup",
        *TARGET,
        "--for",
        "60s",
        "--until",
        "deadlock",
        "--save",
        "cycles",
        "--json",
    )
    assert done.code == 1
    assert done.json["failures"]["deadlock"]["count"] >= 1
    assert done.json["failures"]["deadlock"]["low"] > 0
    (cycle, *_) = done.json["cycles"]
    assert cycle["findings"] == ["index-path"]
    reported = " ".join(run("explain", done.json["files"][0]).out.split())
    assert "create index slot_block_box on slot (block, box);" in reported
    assert "locks an entry of slot_block, then its row, one after the other" in reported
    assert run("draw", done.json["files"][0]).code == 0
    process = start("churn", "yard-lookup", *TARGET, "--for", "60s")
    until(lambda: len(leftovers(admin)[1]) >= 2, "the loops are connected")
    time.sleep(1)
    process.send_signal(number)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 130
    assert "iterations in" in out
    assert "these are the figures so far" in err
    until(lambda: leftovers(admin) == ([], []), "all is gone")


def test_a_conflict_that_never_came_is_told_with_its_bound(call):
    done = call("churn", "gate-queue", "--for", "1s")
    assert done.code == 0
    assert "none in" in done.out
    assert "at 95%)" in done.out


def test_an_index_that_the_server_refuses_is_not_proposed(run, admin, tmp_path):
    (tmp_path / "s.yaml").write_text(
        "scenario: s\n"
        "data: create table slot (id int primary key, hull varchar(900), keel varchar(900), moved int)\n"
        "fill: {slot: {rows: 400, columns: {id: {sequence: 1}, hull: {constant: a}}}}\n"
        "transactions:\n"
        "  north: {statements: [\"update slot set moved = 1 where hull = 'x' and keel = 'y'\"]}\n"
        "  south: {statements: [update slot set moved = 2 where id = 7]}\n"
        "order: north south north south\n"
    )
    reported = " ".join(run("play", "s.yaml", *TARGET).out.split())
    assert (
        "the server refuses create index slot_hull_keel on slot (hull, keel): Specified key was too long"
        in reported
    )
    assert "To try it: a remedy with index" not in reported


@pytest.mark.parametrize(
    "target", [pytest.param(["--target", "local:postgresql"], marks=pytest.mark.soak), TARGET]
)
def test_one_kind_of_deadlock_is_one_cycle(run, kept, target):
    done = run("churn", "berth-swap", *target, "--for", "3s", "--copies", "early=3", "--json")
    assert done.code == 1
    found, deadlocks = done.json["cycles"], done.json["failures"]["deadlock"]["count"]
    assert sum(cycle["times"] for cycle in found) + done.json["cycles_not_read"] == deadlocks
    # Two copies of the same transaction never close a cycle by themselves, and nobody waits in its
    # commit.
    assert all("late 2 (waits over berth" in cycle["cycle"] for cycle in found)
    unseen = [
        cycle for cycle in found if "was not seen" in cycle["cycle"]
    ]  # on a machine that is busy with other things
    assert sum(cycle["times"] for cycle in unseen) <= 1 + deadlocks // 20
    seen = [cycle["cycle"] for cycle in found if cycle not in unseen]
    assert not [cycle for cycle in seen if "the end of" in cycle or "transaction " in cycle]
    # Queues make cycles of more members on PostgreSQL; on InnoDB whoever queues is not between two
    # that hold.
    assert len(seen) <= (2 if target == TARGET else 8)
    assert done.json["transactions"]["early"]["p95_ms"] > 0


def test_a_killed_connection_in_a_loop_is_told(start, admin):
    process = start("churn", "gate-queue", *TARGET, "--for", "60s")
    until(lambda: len(leftovers(admin)[1]) >= 3, "the loops are connected")
    time.sleep(1.5)
    newest = max(
        thread for (thread,) in leftovers(admin)[1]
    )  # a loop: the control connection came first
    with contextlib.suppress(pymysql.Error):
        ask(admin, f"kill connection {newest}")
    _, err = process.communicate(timeout=60)
    assert process.returncode == 3
    assert "lost its connection" in err or "went away" in err
    until(lambda: leftovers(admin) == ([], []), "all is gone")


@pytest.mark.soak
def test_the_covering_index_wins_under_load_on_measured_grounds(call):
    for length in (
        "6s",
        "15s",
        "40s",
    ):  # on a slow machine few iterations fit into six seconds, too few to tell
        done = call("trial", "yard-lookup", "--churn", *TARGET, "--for", length, "--json")
        if done.json["best"] is not None:
            break
    by_name = {variant["name"]: variant for variant in done.json["variants"]}
    assert done.json["best"] == "covering index"
    assert by_name["as it is"]["deadlocks"]["events"] > 0
    assert by_name["covering index"]["deadlocks"]["events"] == 0
    assert by_name["covering index"]["locks"] < by_name["as it is"]["locks"]


@pytest.mark.parametrize(
    ("value", "kind", "text"),
    [
        ("80000007", "int(11)", "7"),
        ("7ffffff9", "int(11)", "-7"),
        ("00000007", "int(10) unsigned", "7"),
        ("c3a4", "varchar(20)", "ä"),
        ("6162202020", "char(5)", "ab"),
        ("8fcd77", "date", "2022-11-23"),
        ("80000000000007d0", "bigint(20)", "2000"),
        ("8000000c22", "decimal(10,2)", "12.34"),
        ("7ffffff3dd", "decimal(10,2)", "-12.34"),
        ("99ae6f1234", "datetime", None),
        ("00ff", "varbinary(4)", "0x00ff"),
        ("0005", "bit(12)", "5"),
        ("02", "enum('red','it''s')", "it's"),
    ],
)  # fmt: skip
def test_record_fields_are_decoded_by_their_type(value, kind, text):
    reported = decode(value, kind) or ""
    assert reported == text if text is not None else reported.startswith("20")


def test_texts_that_are_no_status_give_nothing():
    assert transactions("") == []
    assert latest_deadlock("no deadlock here") is None


def test_decoding_agrees_with_the_server_itself(call, tmp_path):
    """Every type of key: what the lock's dump decodes to is what the row holds."""
    (tmp_path / "s.yaml").write_text(
        "scenario: s\ndata: |\n  create table berth (a int, b bigint unsigned, c decimal(12,3), d date, e datetime, f varchar(9), "
        "primary key (a, b, c, d, e, f));\n"
        "  insert into berth values (-5, 18000000000000000000, -1234.5, '1999-02-28', '2026-11-23 07:40:59', 'Öl')\n"
        "transactions:\n  x: {statements: [select 1 from berth for update]}\n  y: {statements: [select 1 from berth for update]}\n"
        "order: x y\n"
    )
    done = call("play", "s.yaml", *TARGET, "--json")
    key = "a=-5, b=18000000000000000000, c=-1234.500, d=1999-02-28, e=2026-11-23 07:40:59, f=Öl"
    assert done.json["waits"][0]["resource"]["text"] == f"berth({key})"


def blind(admin: pymysql.Connection) -> None:
    """The server lists no metadata locks any more."""
    ask(admin, "uninstall soname 'metadata_lock_info'")
    ask(
        admin,
        "update performance_schema.setup_instruments set enabled = 'NO' where name = 'wait/lock/metadata/sql/mdl'",
    )


def test_without_the_plugin_the_statements_tell_who_holds_up_a_change_of_tables(own_mariadb, call):
    """A server as it comes has no list of metadata locks; the run knows what its own transactions
    have touched.
    """
    where = arguments_of(own_mariadb.url)
    words = ("play", "yard-rebuild", "--target", own_mariadb.url, "--json")
    admin = over_socket(**where, autocommit=True)

    def waits() -> set[tuple[object, ...]]:
        found = call(*words).json["waits"]
        return {
            (w["waiter"], w["holder"], w["resource"]["text"], w["wanted"], w["held"], w["queued"])
            for w in found
        }

    with_it = waits()
    assert ("change", "report", "slot", "MDL_EXCLUSIVE", "MDL_SHARED_READ", False) in with_it
    blind(admin)
    assert waits() == with_it


@pytest.mark.parametrize("listed", [True, False])
def test_a_wait_for_whoever_keeps_everybody_out_is_a_wait(own_mariadb, listed):
    """FLUSH TABLES WITH READ LOCK of another session holds up every change: that is no statement
    that takes long.
    """
    where = arguments_of(own_mariadb.url)
    other = over_socket(**where, autocommit=True)
    if not listed:
        blind(other)
    made, reported = connect(where, "own"), f"session {other.thread_id()}" if listed else SOMEBODY
    made.make_scratch()

    def announce(move) -> None:
        if move.move == 2:
            ask(other, "flush tables with read lock")

    try:
        recording = play(
            made, sample("berth-swap").scenario, PlayOptions(announce=announce, limit_ms=20_000)
        )
    finally:
        ask(other, "unlock tables")
        made.close()
    assert recording.outcome.kind == "stuck"
    assert {(wait.waiter, wait.holder) for wait in recording.waits} >= {("late", reported)}
    assert "backup lock" in recording.waits[-1].resource.text


NO_LIST = "update performance_schema.setup_instruments set enabled = 'NO' where name = 'wait/lock/metadata/sql/mdl'"


@pytest.mark.parametrize("listed", [True, False])
def test_a_running_server_s_sessions_that_a_backup_keeps_out_are_seen_to_wait(
    own_mariadb, call, listed
):
    """Nobody stands in InnoDB's lists then; to say that nobody waits would be wrong."""
    where = arguments_of(own_mariadb.url)
    restorer, clerk = (over_socket(**where, autocommit=True) for _ in range(2))
    ask(restorer, "create database harbour")
    ask(restorer, "create table harbour.crane (id int primary key)")
    if not listed:
        ask(restorer, "uninstall soname 'metadata_lock_info'")
        ask(restorer, NO_LIST)
    ask(restorer, "flush tables with read lock")
    waiter = threading.Thread(target=ask, args=(clerk, "insert into harbour.crane values (1)"))
    waiter.start()
    try:
        until(
            lambda: call("now", "--target", own_mariadb.url, "--json").json["waits"],
            "it is seen to wait",
        )
        (wait,) = call("now", "--target", own_mariadb.url, "--json").json["waits"]
        reported = " ".join(call("now", "--target", own_mariadb.url).out.split())
    finally:
        ask(restorer, "unlock tables")
        waiter.join()
    holder = str(restorer.thread_id()) if listed else SOMEBODY
    assert (wait["waiter"], wait["holder"], wait["over"]) == (
        str(clerk.thread_id()),
        holder,
        "the server's backup lock",
    )
    assert f"Head blocker: {'session ' if listed else ''}{holder} blocks 1 directly" in reported
    assert ("install soname 'metadata_lock_info'" in reported) != listed


KEYS = {
    "year": ("'2024'", "2024"),
    "timestamp": ("'2026-03-01 10:00:00'", "2026-03-01 10:00:00+00"),
    "timestamp(6)": ("'2026-03-01 10:00:00.125'", "2026-03-01 10:00:00.125000+00"),
    "time": ("'-10:30:05'", "-10:30:05"),
    "time(3)": ("'-10:30:05.25'", "-10:30:05.250"),
    "datetime(6)": ("'2026-03-01 10:00:00.5'", "2026-03-01 10:00:00.500000"),
    "enum('red','green')": ("'green'", "green"),
    "set('a','b','c')": ("'a,c'", "a,c"),
    "bit(12)": ("b'101'", "5"),
    "float": ("1.5", "1.5"),
    "double": ("-2.25", "-2.25"),
    "binary(3)": ("x'0102ff'", "0x0102ff"),
    "varchar(20) character set latin1": ("'Ångström'", "Ångström"),
    "varchar(20) character set utf16": ("'Ölçü'", "Ölçü"),
    "varchar(60)": ("repeat('Tern', 9)", "TernTernTernTernTernTernTernTe…"),
    "varchar(60) character set utf8mb4": ("repeat('Ø', 20)", "ØØØØØØØØØØØØØØØ…"),
    "varchar(20) character set utf8mb3": ("concat('x', repeat('Ø', 15))", "xØØØØØØØØØØØØØØ…"),
    "uuid": ("'123e4567-e89b-12d3-a456-426655440000'", "123e4567-e89b-12d3-a456-426655440000"),
    "inet6": ("'2001:db8::ff00:42:8329'", "2001:db8::ff00:42:8329"),
}


def test_keys_of_every_type_are_told_as_the_server_tells_the_value(mariadb):
    """The key that a session waits for, from the bytes in InnoDB's status."""
    reported = {}
    for number, (kind, (literal, _)) in enumerate(KEYS.items()):
        table = f"slot{number}"
        parts = {
            name: {"statements": [f"update {table} set n = n + 1"]} for name in ("gate", "tower")
        }
        data = f"create table {table} (k {kind} primary key, n int); insert into {table} values ({literal}, 0)"
        order = ["gate", "tower", "gate", "tower"]
        plain = {"scenario": "keys", "data": data, "transactions": parts, "order": order}
        recording = play(mariadb, Scenario.model_validate(plain), PlayOptions())
        reported[kind] = recording.waits[0].resource.text
    assert reported == {
        kind: f"slot{n}(k={text})" for n, (kind, (_, text)) in enumerate(KEYS.items())
    }


@pytest.mark.parametrize("listed", ["performance schema", "plugin", "nothing"])
def test_only_who_really_holds_a_table_s_definition_is_named_and_released(
    own_mariadb, call, listed
):
    """Tables with like names, the same name in another schema, a lock of a mode that lets the
    waiter by.
    """
    where = arguments_of(own_mariadb.url)
    made = [over_socket(**where, autocommit=False) for _ in range(6)]
    admin, archive, elsewhere, lookup, holder, alter = made
    for sql in (
        *("create database harbour", "create database other"),
        *(
            "create table harbour.crate (id int primary key)",
            "create table harbour.crate_archive (id int)",
        ),
        *("create table other.crate (id int)", "insert into harbour.crate values (1)"),
    ):
        ask(admin, sql)
    if listed != "plugin":
        ask(admin, "uninstall soname 'metadata_lock_info'")
    if listed != "performance schema":
        ask(admin, NO_LIST)
    admin.commit()
    ask(archive, "insert into harbour.crate_archive values (1)")
    ask(elsewhere, "insert into other.crate values (1)")
    ask(lookup, "start transaction with consistent snapshot")
    ask(holder, "select * from harbour.crate")
    waiter = threading.Thread(
        target=ask, args=(alter, "alter table harbour.crate add column boxes int")
    )
    waiter.start()
    target = ("--target", own_mariadb.url)
    number, innocent = str(holder.thread_id()), str(archive.thread_id())
    try:
        until(lambda: call("now", *target, "--json").json["waits"], "it is seen to wait")
        seen = call("now", *target, "--json").json
        (wait,) = seen["waits"]
        if listed == "nothing":
            assert wait["holder"] == SOMEBODY
            assert number in {suspect["session"] for suspect in seen["suspects"]}
            refused = call("release", innocent, *target, "--yes", "--end")
            assert (refused.code, "is only suspected" in refused.err) == (1, True)
            assert ask(archive, "select count(*) from harbour.crate_archive") == [(1,)]
        else:
            assert (wait["holder"], wait["over"], seen["suspects"]) == (number, "harbour.crate", [])
        done = call(
            "release",
            number,
            *target,
            "--yes",
            "--end",
            *(["--suspect"] if listed == "nothing" else []),
        )
        assert (done.code, "of 1 that waited 1 went on" in " ".join(done.out.split())) == (
            0,
            True,
        ), done.out
    finally:
        holder.close()
        waiter.join(20)
        for connection in made:
            with contextlib.suppress(Exception):
                connection.close()


def test_where_holders_are_not_listed_all_who_may_hold_it_are_suspected_and_nobody_else(
    own_mariadb, call
):
    """A change of rows waits behind LOCK TABLES: a transaction that has only read or written cannot
    be in its way.
    """
    where = arguments_of(own_mariadb.url)
    admin, reader, locker, waiter = (over_socket(**where, autocommit=True) for _ in range(4))
    idle = [over_socket(**where) for _ in range(7)]
    for sql in ("create database harbour", "create table harbour.crate (id int primary key)"):
        ask(admin, sql)
    blind(admin)
    ask(reader, "begin")
    ask(reader, "select * from harbour.crate")
    ask(locker, "lock tables harbour.crate read")
    thread = threading.Thread(
        target=ask, args=(waiter, "insert into harbour.crate values (7)"), daemon=True
    )
    thread.start()
    target = ("--target", own_mariadb.url)
    try:
        until(lambda: call("now", *target, "--json").json["waits"], "it is seen to wait")
        suspects = {
            one["session"]: one["why"] for one in call("now", *target, "--json").json["suspects"]
        }
        assert set(suspects) == {str(one.thread_id()) for one in (admin, reader, locker, *idle)}
        assert all("LOCK TABLES" in why for why in suspects.values())
        assert "and 5 other sessions" in " ".join(call("now", *target).out.split())
    finally:
        for one in (locker, reader, admin, *idle):
            one.close()
        thread.join(20)
        waiter.close()


@pytest.mark.parametrize(
    ("target", "quote"), [(["--target", "local:postgresql"], '"'), (TARGET, "`")]
)
def test_names_with_quotes_and_literals_with_quotes_and_tabs(run, kept, tmp_path, target, quote):
    table, column = (
        f"{quote}{name.replace(quote, quote * 2)}{quote}" for name in ('ber"th', 'mo"ved')
    )
    lines = [
        f"create table {table} (id int primary key, note text, {column} int)",
        f"insert into {table} values (1, 'a', 0), (2, 'b\"', 0)",
    ]
    statements = [f"update {table} set {column} = 1 where id = {number}" for number in (1, 2, 1)]
    statements.append(f"update {table} set {column} = 2 where note = 'b\"\t'")
    north, south = [*statements[:2], statements[3]], statements[1:3]
    scenario = {
        "scenario": "quoted",
        "data": "; ".join(lines),
        "transactions": {"north": {"statements": north}, "south": {"statements": south}},
        "holds": {"few": f"select count(*) < 5 from {table}"},
    }
    (tmp_path / "s.yaml").write_text(json.dumps(scenario))
    played = run(
        "play", "s.yaml", *target, "--order", "north south north south", "--locks", "full", "--json"
    )
    assert played.code == 1, played.err
    assert 'ber"th(id=1)' in {wait["resource"]["text"] for wait in played.json["waits"]}
    explored = run("explore", "s.yaml", *target, "--json")
    assert (explored.code, explored.json["reach"]["complete"]) == (1, True), explored.err
    assert any(entry["kind"] == "deadlock" for entry in explored.json["outcomes"])
