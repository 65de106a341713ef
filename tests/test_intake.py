"""Conflicts read from servers' own logs, and staged again: each made on a real server first."""

from __future__ import annotations

import contextlib
import csv
import gzip
import json
import os
import re
import shutil
import subprocess
import tempfile
import threading
from pathlib import Path

import psycopg
import pymysql
import pytest

from capturing import (
    FORMS,
    KINDS,
    TABLES,
    Captured,
    captured,
    logging_server,
    other_kinds,
    pairs_of,
)
from catenum.core.logs.conflicts import CapturedWait, Conflict, Member
from catenum.core.logs.histories import Histories
from catenum.core.logs.postgresql_statements import with_values
from catenum.core.logs.restage import restaged
from catenum.core.logs.servers import log_rules_of
from catenum.core.logs.tables import read_schema
from catenum.core.scenario.reader import read_scenario
from catenum.core.servers import rules_of
from conftest import needs, over_socket, until

SERVERS = ("postgresql", "mariadb", "mysql")


def plain(sql: str | None) -> str:
    return " ".join((sql or "").split())


@pytest.mark.parametrize("statements", [False, True])
@pytest.mark.parametrize(
    ("server", "form"), [(server, form) for server in SERVERS for form in FORMS[server]]
)
def test_intake_says_who_took_part_with_what_over_what_and_who_fell(
    call, logs, server, form, statements
):
    found = logs(server, statements)
    files = [found.folder / form]
    if statements and server != "postgresql":
        files.append(found.folder / "general.log")
    done = call("intake", *files, "--json")
    assert done.code == 1
    conflicts = done.json["conflicts"]
    assert [one["kind"] for one in conflicts] == ["deadlock"] * len(found.made)
    for reported, made in zip(conflicts, found.made, strict=True):
        assert {member["session"] for member in reported["members"]} == set(made.sessions), (
            made.title
        )
        assert reported["victim"] == made.victim
        assert set(reported["relations"]) == made.over
        assert {(wait["waiter"], wait["holder"]) for wait in reported["waits"]} == {
            made.sessions,
            made.sessions[::-1],
        }
        for member in reported["members"]:
            place = made.sessions.index(member["session"])
            assert plain(member["statement"]) == plain(made.then[place])
            if statements:
                assert [plain(sql) for sql in member["history"]] == [
                    plain(made.first[place]),
                    plain(made.then[place]),
                ]
                assert member["provenance"]["history"] == "recovered"
            else:
                assert (member["history"], member["provenance"]["history"]) == (None, "unknown")
            if server == "postgresql" and form != "port.log":
                assert member["application"] == f"{made.title.split()[0]}-{place + 1}"


@pytest.mark.parametrize("statements", [False, True])
@pytest.mark.parametrize("server", SERVERS)
def test_each_captured_deadlock_comes_again(request, call, logs, server, statements):
    request.getfixturevalue(
        {"postgresql": "kept", "mariadb": "kept_mariadb", "mysql": "kept_mysql"}[server]
    )
    found = logs(server, statements)
    files = [found.folder / FORMS[server][-1], *([found.folder / "general.log"] if statements and server != "postgresql" else [])]  # fmt: skip
    came = {}
    for number, made in enumerate(found.made, 1):
        done = call("restage", *files, "--pick", number, "--json")
        came[made.title] = (done.code, done.json["same"] if done.out else done.err)
        text = done.json["scenario"]
        read_scenario(text.encode(), "restaged")
        assert ("a placeholder: the log does not have" in text) is (not statements), made.title
        assert ("ASSUMED: the tables are inferred" in text) is bool(made.over)
    assert came == dict.fromkeys(pairs_of(server), (0, True))


def test_a_scenario_that_was_staged_again_can_be_played_as_any_other(call, logs, tmp_path):
    found = logs("postgresql", False)
    done = call(
        "restage", found.folder / "port.csv", "--pick", 1, "--no-play", "--name", "last-night"
    )
    assert done.code == 0
    (tmp_path / "last-night.yaml").write_text(done.out)
    assert call("play", "last-night.yaml", "--quiet", "--expect", "deadlock").code == 0
    assert call("explore", "last-night.yaml", "--quiet").code == 1


@pytest.mark.parametrize("server", SERVERS)
def test_one_conflict_is_told_as_a_story_and_says_where_each_fact_comes_from(
    call, logs, server, tmp_path
):
    found = logs(server, False)
    file = found.folder / FORMS[server][-1]
    done = call("intake", file, "--pick", 1, "--save", "rec.json")
    assert done.code == 1
    assert "Deadlock, not just a block" in done.out
    assert re.search(r"captured \(in the report itself\): .*victim", done.out)
    assert "unknown: " in done.out
    # nobody knows which statement took the locks, so none is blamed
    assert not re.search(r"1 took .* \(derived from its text\)", done.out)
    assert call("explain", "rec.json").out.startswith("deadlock:")
    assert call("draw", "rec.json", "--only", "graph").code == 0
    assert call("intake", file, "--since", "2999-01-01 00:00:00").code == 0
    assert call("intake", file, "--until", "2999-01-01 00:00:00").code == 1


def test_conflicts_of_one_shape_are_one_kind_whatever_their_values(call, logs, tmp_path):
    text = (logs("postgresql", False).folder / "port.json").read_text()
    again = text.replace("where id = 3", "where id = 33").replace("where id = 7", "where id = 77")
    (tmp_path / "twice.json").write_text(text + again)
    done = call("intake", "twice.json", "--json")
    made = len(pairs_of("postgresql"))
    assert len(done.json["conflicts"]) == 2 * made
    assert sum(group["count"] for group in done.json["groups"]) == 2 * made
    pair = next(group for group in done.json["groups"] if 1 in group["conflicts"])
    assert {1, made + 1} <= set(pair["conflicts"])


@pytest.mark.parametrize("form", ["gz", "folder", "stdin"])
def test_logs_come_packed_in_folders_or_through_a_pipe(run, logs, tmp_path, form):
    log = logs("postgresql", False).folder / "port.csv"
    wanted = run("intake", log, "--json").json["conflicts"]
    if form == "gz":
        (tmp_path / "port.csv.gz").write_bytes(gzip.compress(log.read_bytes()))
        done = run("intake", "port.csv.gz", "--json")
    elif form == "folder":
        (tmp_path / "logs").mkdir()
        (tmp_path / "logs" / "port.csv").write_bytes(log.read_bytes())
        (tmp_path / "logs" / "notes").write_text("nothing of the kind")
        done = run("intake", "logs", "--json")
    else:
        done = run("intake", "-", "--json", input=log.read_text())
    assert [one["members"] for one in done.json["conflicts"]] == [one["members"] for one in wanted]


@pytest.mark.parametrize("server", ["mariadb", "mysql"])
def test_a_report_is_found_in_a_status_text_with_anything_around_it(call, logs, server, tmp_path):
    found = logs(server, False)
    last = found.made[-1]
    for name, change in (
        ("as it is", lambda text: text),
        ("quoted", lambda text: text.replace("\n", "\n> ")),
    ):
        (tmp_path / "mail.txt").write_text(change((found.folder / "status.txt").read_text()))
        (reported,) = call("intake", "mail.txt", "--json").json["conflicts"]
        assert (reported["victim"], set(reported["relations"])) == (last.victim, last.over), name
        assert {plain(member["statement"]) for member in reported["members"]} == {
            plain(sql) for sql in last.then
        }


@pytest.mark.parametrize("server", SERVERS)
def test_with_mask_no_value_of_a_log_is_left(request, call, logs, server):
    request.getfixturevalue(
        {"postgresql": "kept", "mariadb": "kept_mariadb", "mysql": "kept_mysql"}[server]
    )
    found = logs(server, server == "postgresql")
    file = found.folder / FORMS[server][-1]
    words = [
        ("intake", file, "--mask"),
        ("intake", file, "--mask", "--json"),
        ("intake", file, "--mask", "--pick", 1),
    ]
    for one in words:
        out = call(*one).out
        assert not {"Halcyon", "Oriel", "id = 7", "id = 3"} & {
            w for w in ("Halcyon", "Oriel", "id = 7", "id = 3") if w in out
        }
    assert found.made[0].victim in call(*words[1]).out
    done = call("restage", file, "--pick", 1, "--mask", "--json")
    assert (done.code, done.json["same"]) == (0, True)
    assert "Halcyon" not in done.json["scenario"]


def test_with_the_prefix_a_plain_log_tells_the_applications(call, logs):
    log = logs("postgresql", False).folder / "port.log"
    (reported, *_) = call("intake", log, "--prefix", "%m [%p] %a ", "--json").json["conflicts"]
    assert {member["application"] for member in reported["members"]} == {"opposite-1", "opposite-2"}


def test_terse_and_verbose_logs_are_read_for_what_they_have(call, logs, tmp_path):
    plain_log = (logs("postgresql", False).folder / "port.log").read_text()
    terse = "\n".join(
        line
        for line in plain_log.split("\n")
        if not line.startswith("\t") and "DETAIL:" not in line
    )
    (tmp_path / "terse.log").write_text(terse)
    reported = call("intake", "terse.log", "--json").json["conflicts"]
    fallen = [one for one in reported if one["kind"] == "deadlock"]
    assert len(fallen) == len(pairs_of("postgresql"))
    assert all(len(one["members"]) == 1 and "terse" in one["notes"][0] for one in fallen)
    assert "two members" in call("restage", "terse.log", "--pick", fallen[0]["number"]).err


def make_locale(request, monkeypatch, language: str) -> None:
    """Where a server finds it that the test starts."""
    needs("postgresql")
    place = Path(
        tempfile.mkdtemp(prefix="catenum-locale-")
    )  # where the server's own user can read it
    place.chmod(0o755)
    request.addfinalizer(lambda: shutil.rmtree(place, ignore_errors=True))
    made_locale = subprocess.run(
        ["localedef", "-i", language, "-f", "UTF-8", place / f"{language}.UTF-8"],
        capture_output=True,
        check=False,
    )
    if made_locale.returncode not in (0, 1):  # 1: with warnings
        pytest.skip(f"the system cannot make the locale {language}: {made_locale.stderr.decode()}")
    monkeypatch.setenv("LOCPATH", str(place))


def test_one_log_in_several_forms_has_each_conflict_once(call, logs, tmp_path):
    found = logs("postgresql", True)
    done = call("intake", *(found.folder / form for form in FORMS["postgresql"]), "--json")
    assert [one["kind"] for one in done.json["conflicts"]] == ["deadlock"] * len(found.made)
    assert "stand in more than one of these files" in done.err


def another_server(found: Captured) -> str:
    """The csvlog of a server where the same processes did the same at the same time, to other
    tables.
    """
    text = (found.folder / "port.csv").read_text()
    return text.replace("berth", "crane").replace("crate", "hoist")


def test_what_two_servers_logged_at_one_time_is_kept_apart(call, logs, tmp_path):
    found = logs("postgresql", True)
    other, mixed = tmp_path / "other.csv", tmp_path / "mixed.csv"
    other.write_text(another_server(found))
    done = call("intake", found.folder / "port.csv", other, "--json")
    assert "cover the same time" in done.err or "more than one" in done.err
    for one in done.json["conflicts"]:
        reported = " ".join(sql for member in one["members"] for sql in member["history"])
        assert ("berth" in reported or "crate" in reported) != (
            "crane" in reported or "hoist" in reported
        ) or not one["relations"]
    with (found.folder / "port.csv").open(newline="") as first, other.open(newline="") as second:
        pairs = list(zip(csv.reader(first), csv.reader(second), strict=True))
    with mixed.open("w", newline="") as stream:
        for row, alike in pairs:
            csv.writer(stream).writerows([row, [*alike[:5], f"0{alike[5]}", *alike[6:]]])
    for one in call("intake", mixed, "--json").json["conflicts"]:
        assert not [
            member for member in one["members"] if member["history"] and len(member["history"]) > 1
        ]
        assert any("it is of two servers" in note for note in one["notes"])


def test_a_rotated_log_is_read_in_the_order_of_its_times(call, logs, tmp_path):
    found = logs("postgresql", True)
    lines = (found.folder / "port.csv").read_text().splitlines(keepends=True)
    at = next(place for place, line in enumerate(lines) if "deadlock detected" in line)
    (tmp_path / "a.csv").write_text("".join(lines[at:]))
    (tmp_path / "b.csv").write_text("".join(lines[:at]))
    reported = call("intake", tmp_path / "a.csv", tmp_path / "b.csv", "--json").json["conflicts"]
    assert [one["kind"] for one in reported] == ["deadlock"] * len(found.made)
    assert all(len(member["history"]) == 2 for one in reported for member in one["members"])


@pytest.mark.parametrize("language", ["de_DE", pytest.param("ja_JP", marks=pytest.mark.soak)])
def test_a_log_in_another_language_tells_the_same(request, call, tmp_path, monkeypatch, language):
    needs("postgresql")
    make_locale(request, monkeypatch, language)
    folder = tmp_path / "logs"
    folder.mkdir()
    found = captured("postgresql", folder, statements=True, messages=f"{language}.UTF-8")
    if "deadlock detected" in (folder / "port.csv").read_text().replace(
        "ERROR:  deadlock detected", ""
    ):
        pytest.skip(f"the server has no messages in {language}")
    for form in FORMS["postgresql"]:
        reported = call("intake", folder / form, "--json").json["conflicts"]
        assert [one["kind"] for one in reported] == ["deadlock"] * len(found.made), form
        for one, made in zip(reported, found.made, strict=True):
            assert (one["victim"], set(one["relations"])) == (made.victim, made.over), (
                form,
                made.title,
            )
            assert {plain(member["statement"]) for member in one["members"]} == {
                plain(sql) for sql in made.then
            }
            assert all(len(member["history"]) == 2 for member in one["members"])
        masked = call("intake", folder / form, "--mask", "--json").out
        assert not [word for word in ("Halcyon", "Oriel", "id = 7") if word in masked]


@pytest.mark.parametrize(
    "language",
    ["C", "ko_KR", *(pytest.param(one, marks=pytest.mark.soak) for one in ("de_DE", "uk_UA"))],
)
def test_waits_timeouts_and_refusals_are_known_in_any_language(
    request, call, tmp_path, monkeypatch, language
):
    needs("postgresql")
    if language != "C":
        make_locale(request, monkeypatch, language)
    other_kinds(tmp_path, language if language == "C" else f"{language}.UTF-8")
    for form in ("port.csv", "port.json"):
        reported = call("intake", tmp_path / form, "--json").json["conflicts"]
        assert [one["kind"] for one in reported] == KINDS
        assert all(one["relations"] == ["berth"] for one in reported)
        logged = [one for one in reported if one["kind"] != "refused"]
        assert all(wait["holder"] for one in logged for wait in one["waits"])
    reported = call("intake", tmp_path / "port.log", "--json").json["conflicts"]
    if language == "C" or "lock timeout" in (tmp_path / "port.log").read_text():
        assert [one["kind"] for one in reported] == KINDS
        return
    # without a code, a message in another language does not say why a statement failed
    assert [one["kind"] for one in reported] == ["wait"] * 5
    failed = [any("then failed" in note for note in one["notes"]) for one in reported]
    assert failed == [False, True, False, True, True]
    story = call("intake", tmp_path / "port.log", "--pick", 2).out
    assert "waited, and then failed" in story
    assert "continued" not in story


@pytest.mark.parametrize(
    ("content", "reported"),
    [
        (b"", "there is nothing in this file"),
        (b"The tide tables of Marrowgate Harbour\nhigh water 04:12\n", "does not read like a log"),
        (b"\x1f\x8b\x08\x00cut", "cannot be read"),
        (b"\x00\xff\xfe" * 300, "does not read like a log"),
    ],
)
def test_what_is_no_log_is_refused(call, tmp_path, content, reported):
    (tmp_path / "port.log").write_bytes(content)
    done = call("intake", "port.log")
    assert (done.code, reported in done.err, done.out) == (2, True, "")


def test_other_wrong_calls_are_refused(call, logs, tmp_path):
    log = logs("postgresql", False).folder / "port.csv"
    assert "no such file" in call("intake", "nowhere.log").err
    assert "--pick 99: there are" in call("intake", log, "--pick", 99).err
    assert "--pick N says which" in call("restage", log).err
    assert "is no time" in call("intake", log, "--since", "some day").err
    other = logs("mariadb", False).folder / "error.log"
    assert "logs of different servers" in call("intake", log, other).err
    (tmp_path / "empty.sql").write_text("select 1;")
    assert (
        "no definition of a table" in call("restage", log, "--pick", 1, "--schema", "empty.sql").err
    )


def test_a_dump_without_data_serves_as_schema_file(call, logs, own_server, tmp_path):
    with own_server.admin() as admin:
        admin.execute(
            "create schema port; create type port.state as enum ('in', 'out'); create table port.berth (id serial "
            "primary key, vessel text not null unique, moved int not null default 0, st port.state not null); "
            "create table port.crate (id int primary key, berth int not null references port.berth (id)); "
            "comment on table port.berth is 'x'; grant select on port.berth to guest"
        )
    dumped = subprocess.run(
        ["pg_dump", "--schema-only", f"--dbname={own_server.conninfo}"],
        capture_output=True,
        text=True,
        check=True,
    )
    (tmp_path / "schema.sql").write_text(dumped.stdout)
    log = logs("postgresql", False).folder / "port.csv"
    done = call("restage", log, "--pick", 1, "--schema", "schema.sql", "--json")
    assert (done.code, done.json["same"]) == (0, True), done.err
    text = done.json["scenario"]
    assert "Dropped from the definitions" in text
    assert "CREATE TYPE state" in text
    assert "port.berth" not in text
    assert "CREATE TABLE crate" not in text  # nothing of the deadlock refers to it


@pytest.mark.parametrize(
    ("server", "script", "table", "primary", "parents"),
    [
        ("postgresql", "CREATE TABLE public.crate (id integer NOT NULL, berth integer);\n"
         "ALTER TABLE ONLY public.crate ADD CONSTRAINT k PRIMARY KEY (id);\n"
         "ALTER TABLE ONLY public.crate ADD CONSTRAINT f FOREIGN KEY (berth) REFERENCES public.berth(id);",
         "crate", ("id",), ["berth"]),
        ("mysql", "DROP TABLE IF EXISTS `crate`;\n/*!40101 SET character_set_client = utf8 */;\nCREATE TABLE `crate` (\n"
         "  `quay` varchar(9) NOT NULL,\n  `no` int NOT NULL,\n  `berth` int DEFAULT NULL,\n  PRIMARY KEY (`quay`,`no`),\n"
         "  CONSTRAINT `f` FOREIGN KEY (`berth`) REFERENCES `berth` (`id`)\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;\n"
         "LOCK TABLES `crate` WRITE;", "crate", ("quay", "no"), ["berth"]),
    ],
)  # fmt: skip
def test_keys_and_references_are_read_from_dumps(server, script, table, primary, parents):
    schema = read_schema(script, rules_of(server))
    info = schema.tables[table]
    assert info.primary == primary
    assert [parent for _, parent, _ in info.references] == parents


@pytest.mark.parametrize(
    ("texts", "history", "isolation"),
    [
        (["begin", "update a", "update b"], ["update a", "update b"], None),
        (["begin", "update a", "commit", "update b"], ["update b"], None),
        (["begin isolation level serializable; update a; update b"], ["update a", "update b"], "serializable"),
        (["start transaction", "savepoint s", "update a", "rollback to s", "update b"],
         ["savepoint s", "update a", "rollback to s", "update b"], None),
        (["SET AUTOCOMMIT = 0", "update a", "update b", "COMMIT", "update c", "update d"], ["update c", "update d"], None),
        (["set session transaction isolation level read committed", "begin", "update a"], ["update a"], "read committed"),
    ],
)  # fmt: skip
def test_a_transaction_is_rebuilt_from_what_its_session_ran(texts, history, isolation):
    histories = Histories(rules_of("mariadb"))
    for text in texts:
        histories.ran("7", text)
    found = histories.open_transaction("7")
    assert found is not None
    assert (found.statements, found.isolation) == (history, isolation)


@pytest.mark.parametrize("server", ["postgresql", "mariadb", "mysql"])
def test_tables_and_rows_come_from_a_server_that_is_only_read(request, call, logs, server):
    kept = request.getfixturevalue(
        {"postgresql": "kept", "mariadb": "kept_mariadb", "mysql": "kept_mysql"}[server]
    )
    name = f"harbour_{os.getpid()}"
    tables = [
        "create table quay (id int primary key, name varchar(20) not null)",
        "create table berth (id int primary key, vessel varchar(90) not null, quay int not null, moved int not null "
        "default 0, twice int generated always as (moved * 2) stored, foreign key (quay) references quay (id))",
        "insert into quay values (5, 'East')",
        "insert into berth (id, vessel, quay, moved) values (3, 'Selkie', 5, 12), (7, 'Gannet', 5, 4)",
    ]
    if server == "postgresql":
        with psycopg.connect(kept, autocommit=True) as admin:
            for sql in (f"create schema {name}", f"set search_path = {name}", *tables):
                admin.execute(sql)
            place = admin.info.host
        url = f"postgresql://catenum@/marrowgate?host={place}&options=-csearch_path%3D{name}"
    else:
        admin = over_socket(unix_socket=kept, user="root", autocommit=True)
        for sql in (f"create database {name}", f"use {name}", *tables):
            admin.cursor().execute(sql)
        url = f"{server}://root@localhost/{name}?unix_socket={kept}"
    try:
        log = logs(server, False).folder / FORMS[server][-1]
        done = call("restage", log, "--pick", 1, "--target", url, "--json")
        assert (done.code, done.json["same"]) == (0, True), done.err
        text = done.json["scenario"]
        assert "insert into quay (id, name) values (5, 'East');" in text
        assert re.search(
            r"insert into berth \(id, vessel, quay, moved\) values \(3, 'Selkie', 5, 12\);", text
        )
        assert "rows are as they stand on the server now" in text
    finally:
        if server == "postgresql":
            with psycopg.connect(kept, autocommit=True) as admin:
                admin.execute(f"drop schema {name} cascade")
        else:
            admin.cursor().execute(f"drop database {name}")
            admin.close()


def test_keys_of_an_innodb_report_are_read_by_the_types_of_a_schema_file(call, logs, tmp_path):
    log = logs("mariadb", False).folder / "error.log"
    plain_told = call("intake", log, "--json").json["conflicts"][0]["waits"]
    assert {wait["object"] for wait in plain_told} == {"berth(3)", "berth(7)"}
    assert {wait["provenance"]["object"] for wait in plain_told} == {"assumed"}
    (tmp_path / "schema.sql").write_text(
        "CREATE TABLE `berth` (\n `id` int NOT NULL,\n PRIMARY KEY (`id`)\n);"
    )
    reported = call("intake", log, "--schema", "schema.sql", "--json").json["conflicts"][0]["waits"]
    assert {wait["object"] for wait in reported} == {"berth(id=3)", "berth(id=7)"}
    assert {wait["provenance"]["object"] for wait in reported} == {"recovered"}


def test_deadlocks_of_a_watch_s_store_are_taken_as_those_of_a_log(call, logs, tmp_path):
    log = logs("postgresql", False).folder / "port.csv"
    assert call("history", "take", log, "--store", "night.sqlite", "--server", "port").code in (
        0,
        1,
    )
    reported = call("intake", "night.sqlite", "--json").json["conflicts"]
    wanted = call("intake", log, "--json").json["conflicts"]
    assert [one["victim"] for one in reported] == [one["victim"] for one in wanted]
    assert [[m["statement"] for m in one["members"]] for one in reported] == [
        [m["statement"] for m in one["members"]] for one in wanted
    ]


@pytest.mark.parametrize(
    ("server", "samples"),
    [
        ("postgresql", ["berth-swap", "tug-upgrade"]),
        ("mariadb", ["berth-swap", "tug-upgrade", "gap-insert"]),
        ("mysql", ["berth-swap", "tug-upgrade", "gap-insert"]),
    ],
)
def test_a_sample_s_own_deadlock_is_staged_again_from_its_recording(
    request, call, server, samples, tmp_path
):
    request.getfixturevalue(
        {"postgresql": "kept", "mariadb": "kept_mariadb", "mysql": "kept_mysql"}[server]
    )
    for name in samples:
        assert (
            call("play", name, "--target", f"local:{server}", "--save", "rec.json", "--quiet").code
            == 1
        )
        done = call("restage", "rec.json", "--json")
        assert (name, done.code, done.json["same"]) == (name, 0, True), done.err
        assert "a stand-in" not in done.json["scenario"]
        assert "ASSUMED" not in done.json["scenario"]


def test_waits_of_a_recording_are_a_conflict_that_is_staged_again(kept, call):
    for name, held in (("left-open", {"clerk", "loader"}), ("yard-rebuild", {"report", "change"})):
        call("play", name, "--save", "rec.json", "--quiet")
        (reported,) = call("intake", "rec.json", "--json").json["conflicts"]
        assert reported["kind"] == "wait"
        assert held <= {member["session"] for member in reported["members"]}
        done = call("restage", "rec.json", "--json")
        assert (name, done.code, done.json["same"]) == (name, 0, True), done.err
    call("play", "left-open", "--save", "rec.json", "--quiet")
    masked = call("restage", "rec.json", "--mask", "--no-play").out
    assert "update" in masked
    assert not [
        word for word in ("239", "Halcyon", "MGHU", "clerk opens", "id = 12") if word in masked
    ]


def test_only_places_for_values_are_filled_and_not_what_looks_like_one():
    rules = rules_of("postgresql")
    sql = """update berth set vessel = '$1 ?', "a$2" = $1 where tags ? 'x' and id = $2"""
    assert with_values(sql, {1: "'7'", 2: "'3'"}).endswith(
        """= '7' where tags ? 'x' and id = '3'"""
    )
    for server, text in (
        ("postgresql", sql),
        ("mysql", "update berth set vessel = '?' where id = ?"),
    ):
        members = tuple(Member(session=name, statement=text) for name in ("1", "2"))
        conflict = Conflict(kind="deadlock", server=server, at=None, members=members, waits=(), victim=None,
                            relations=(), report="")  # fmt: skip
        filled = restaged(conflict).transactions["s1"]["statements"][-1]
        assert filled == text.replace("= $1", "= 1").replace("= $2", "= 1").replace(
            "id = ?", "id = 1"
        )
    assert log_rules_of(rules.name).place_of_value.search("tags ? 'x'") is None


def test_what_a_statement_log_shows_to_be_all_gets_no_stand_in():
    def member(session: str, sql: str, history: tuple[str, ...] | None) -> Member:
        return Member(session=session, statement=sql, history=history, whole=history is not None)

    read, delete = (
        "select box from slot where block = 7 lock in share mode",
        "delete from slot where id = 1",
    )
    waits = (
        CapturedWait(
            waiter="7", holder="8", object="slot(1)", mode="S record", table="slot", index="PRIMARY"
        ),
        CapturedWait(
            waiter="8",
            holder="7",
            object="slot(7, 1)",
            mode="X record",
            table="slot",
            index="slot_block",
        ),
    )
    for known in (True, False):
        members = (
            member("7", read, (read,) if known else None),
            member("8", delete, (delete,) if known else None),
        )
        conflict = Conflict(kind="deadlock", server="mariadb", at=None, members=members, waits=waits, victim="7",
                            relations=("slot",), report="")  # fmt: skip
        staged = restaged(conflict)
        made_up = [
            one
            for part in staged.transactions.values()
            for one in part["statements"]
            if isinstance(one, dict)
        ]
        assert len(made_up) == (0 if known else 2)
        assert staged.order == (["s8", "s7"] if known else ["s7", "s8", "s8", "s7"])
        assert staged.victim is None  # InnoDB chooses by weight alone


def test_rows_of_a_general_log_or_of_statement_history_tell_what_ran_before(call, logs, tmp_path):
    found = logs("mysql", False)
    made = found.made[0]
    rows = [
        {"THREAD_ID": int(made.sessions[place]), "EVENT_TIME": f"2026-11-26 07:00:0{n}", "COMMAND_TYPE": "Query", "ARGUMENT": sql}
        for n, (place, sql) in enumerate([(0, "begin"), (0, made.first[0]), (1, "begin"), (1, made.first[1]),
                                          (0, made.then[0]), (1, made.then[1])])
    ]  # fmt: skip
    history = [
        {"PROCESSLIST_ID": row["THREAD_ID"], "EVENT_ID": n + 1, "SQL_TEXT": row["ARGUMENT"]} for n, row in enumerate(rows)
    ]  # fmt: skip
    for name, content in (("general.json", rows), ("history.json", history)):
        (tmp_path / name).write_text(json.dumps(content))
        reported = call("intake", found.folder / "error.log", name, "--json").json["conflicts"][0][
            "members"
        ]
        for member in reported:
            place = made.sessions.index(member["session"])
            assert member["history"] == [made.first[place], made.then[place]], name


def test_the_performance_schema_s_history_of_transactions_tells_where_they_began_and_their_levels(
    call, tmp_path
):
    needs("mysql")
    rows = "select t.processlist_id, s.* from performance_schema.{} s join performance_schema.threads t using (thread_id)"
    views = {"s.json": ["events_statements_history"],
             "t.json": ["events_transactions_history", "events_transactions_current"]}  # fmt: skip
    with logging_server("mysql", tmp_path, statements=False) as (url, _):
        where = {"unix_socket": url.partition("unix_socket=")[2], "user": "root"}
        admin = over_socket(**where, autocommit=True)
        for sql in (
            "create database port",
            "use port",
            *TABLES[:1],
            "insert into berth (id) values (3), (7)",
        ):
            admin.cursor().execute(sql)
        early, late = (over_socket(**where, database="port", autocommit=False) for _ in range(2))
        for session, own in ((early, 3), (late, 7)):
            session.cursor().execute("set session transaction isolation level read committed")
            session.cursor().execute("select count(*) from berth")
            session.commit()
            session.cursor().execute(
                "select vessel from berth where id = 9"
            )  # begins the transaction
            session.cursor().execute(f"update berth set moved = 1 where id = {own}")
        other = threading.Thread(
            target=lambda: early.cursor().execute("update berth set moved = 2 where id = 7")
        )
        other.start()
        until(lambda: count(admin, "performance_schema.data_lock_waits") == 1, "early waits")
        with contextlib.suppress(pymysql.Error):
            late.cursor().execute("update berth set moved = 2 where id = 3")
        other.join()
        last = "performance_schema.events_statements_history where sql_text like 'update berth set moved = 2%'"
        until(
            lambda: count(admin, last) == 2,
            "both are in the history, which is written after the answer is sent",
        )
        for name, saved in views.items():
            cursor = admin.cursor(pymysql.cursors.DictCursor)
            cursor.execute(" union all ".join(rows.format(view) for view in saved))
            (tmp_path / name).write_text(json.dumps(cursor.fetchall(), default=str))
        numbers = {"early": str(early.thread_id()), "late": str(late.thread_id())}
    log = next(tmp_path.glob("error.log"))
    (only,) = call("intake", log, "s.json", "t.json", "--json").json["conflicts"]
    reported = {member["session"]: member for member in only["members"]}
    for name, first, then in (("early", 3, 7), ("late", 7, 3)):
        member = reported[numbers[name]]
        assert member["history"] == [
            "select vessel from berth where id = 9",
            f"update berth set moved = 1 where id = {first}",
            f"update berth set moved = 2 where id = {then}",
        ]
        assert (member["isolation"], member["whole"]) == ("read committed", True)
    (alone,) = call("intake", log, "s.json", "--json").json["conflicts"]
    assert not [member for member in alone["members"] if member["isolation"]]


def count(session: pymysql.Connection, table: str) -> int:
    cursor = session.cursor()
    cursor.execute(f"select count(*) from {table}")
    return cursor.fetchone()[0]


def test_a_report_s_headings_alone_name_nobody(call, tmp_path):
    data = ["Transactions deadlock detected, dumping detailed information.", "*** (1) TRANSACTION:",
            "*** (2) TRANSACTION:", "*** WE ROLL BACK TRANSACTION (2)"]  # fmt: skip
    rows = [{"LOGGED": "2026-11-26 07:27:51.2", "THREAD_ID": 0, "PRIO": "Note", "ERROR_CODE": "MY-012468",
             "SUBSYSTEM": "InnoDB", "DATA": text} for text in data]  # fmt: skip
    (tmp_path / "rows.json").write_text(json.dumps(rows))
    (reported,) = call("intake", "rows.json", "--json").json["conflicts"]
    assert (reported["members"], reported["victim"], reported["provenance"]["victim"]) == (
        [],
        None,
        "unknown",
    )
    assert "headings" in reported["notes"][0]


#: A row's holder, one that only waits for it, one behind that which holds what the first waits for.
QUEUE = '''\
2026-11-26 10:41:29.239 UTC,"port","port",808,"[local]",6b080cd8.64d0,2,"UPDATE",2026-11-26 10:41:28 UTC,3/4,725,ERROR,40P01,"deadlock detected","Process 808 waits for ShareLock on transaction 726; blocked by process 810.
Process 810 waits for ExclusiveLock on tuple (0,1) of relation 16384 of database 5; blocked by process 809.
Process 809 waits for ShareLock on transaction 725; blocked by process 808.
Process 808: update berth set moved=4 where id=7
Process 810: update berth set moved=3 where id=3
Process 809: update berth set moved=2 where id=3","See server log for query details.",,,"while updating tuple (0,2) in relation ""berth""","update berth set moved=4 where id=7",,,"crane","client backend",,0
'''


def test_who_only_stood_in_the_queue_is_left_out(kept, call, tmp_path):
    (tmp_path / "port.csv").write_text(QUEUE)
    (reported,) = call("intake", "port.csv", "--json").json["conflicts"]
    assert len(reported["members"]) == 3
    done = call("restage", "port.csv", "--pick", 1, "--json")
    assert (done.code, done.json["same"]) == (0, True)
    staged = read_scenario(done.json["scenario"].encode(), "restaged").scenario
    assert set(staged.transactions) == {"crane", "s810"}
    assert "s809 only stood in the queue" in done.json["scenario"]


#: Samples whose deadlock one schedule brings, on the servers where it does.
SAMPLES = {
    "postgresql": ("berth-swap", "tug-upgrade"),
    "mariadb": ("berth-swap", "tug-upgrade", "gap-insert", "call-cancel"),
    "mysql": ("berth-swap", "tug-upgrade", "gap-insert"),
}


@pytest.mark.parametrize("statements", [False, True])
@pytest.mark.parametrize("server", SERVERS)
def test_the_log_of_a_server_on_which_a_sample_was_played_gives_the_sample_s_outcome(
    request, call, tmp_path, server, statements
):
    request.getfixturevalue(
        {"postgresql": "kept", "mariadb": "kept_mariadb", "mysql": "kept_mysql"}[server]
    )
    with logging_server(server, tmp_path, statements=statements) as (url, logs):
        for name in SAMPLES[server]:
            done = call("play", name, "--target", url, "--json")
            if (server, name) == ("mariadb", "call-cancel") and done.json["outcome"][
                "kind"
            ] != "deadlock":
                continue  # 11.8 lets who shares the row go first
            assert done.json["outcome"]["kind"] == "deadlock", name
            until(lambda: call("intake", *logs(), "--json").code == 1, "the report is written")
        conflicts = call("intake", *logs(), "--json").json["conflicts"]
    for conflict in (one for one in conflicts if one["kind"] == "deadlock"):
        done = call("restage", *logs(), "--pick", conflict["number"], "--json")
        assert (done.code, done.json["same"]) == (0, True), (
            conflict["relations"],
            done.json["tried"],
        )


@pytest.mark.parametrize("inspects", [None, "pageinspect", "pg_walinspect"])
def test_the_rows_behind_addresses_are_named_where_the_server_still_tells(call, tmp_path, inspects):
    with logging_server("postgresql", tmp_path, statements=False) as (url, logs):
        folder = url.partition("host=")[2]
        sessions = [
            psycopg.connect(f"host={folder} user=catenum dbname=postgres") for _ in range(3)
        ]
        admin, one, other = sessions
        admin.autocommit = True
        admin.execute("create table berth (id int primary key, moved int default 0)")
        admin.execute("insert into berth values (3), (7)")
        if inspects:
            if not admin.execute(
                "select 1 from pg_available_extensions where name = %s", [inspects]
            ).fetchall():
                pytest.skip(f"this server was packed without {inspects}")
            admin.execute(f"create extension {inspects}")
        one.execute("update berth set moved = 1 where id = 3")
        other.execute("select * from berth where id = 7 for update")

        def survives() -> None:
            one.execute("update berth set moved = 2 where id = 7")
            one.commit()

        waiting = threading.Thread(target=survives)
        waiting.start()
        until(
            lambda: "still waiting" in logs()[0].read_text(), "it has looked for a cycle, and waits"
        )
        with pytest.raises(psycopg.errors.DeadlockDetected):
            other.execute("update berth set moved = 3 where id = 3")
        other.rollback()
        waiting.join()
        until(lambda: call("intake", *logs(), "--json").code == 1, "the report is written")
        if inspects == "pg_walinspect":  # the page tells nothing any more
            admin.execute("update berth set moved = 9 where id = 7")
            admin.execute("vacuum berth")
        done = call("intake", *logs(), "--pick", 1, "--target", url, "--json")
        story = call("intake", *logs(), "--pick", 1, "--target", url).out
        masked = call("intake", *logs(), "--pick", 1, "--target", url, "--mask").out
        for session in sessions:
            session.close()
    (reported,) = done.json["conflicts"]
    rows = {wait["object"]: wait["provenance"]["object"] for wait in reported["waits"]}
    if inspects:
        assert rows == {"berth(id=3)": "recovered", "berth(id=7)": "recovered"}
        assert ("by the page" if inspects == "pageinspect" else "by the write-ahead log") in story
    else:
        assert all("row at" in row for row in rows)
        for extension in ("pageinspect", "pg_walinspect"):
            assert any(f"{extension}, which would show" in note for note in reported["notes"])
        assert any("there stands berth(id=3), berth(id=7)" in note for note in reported["notes"])
    assert "id=3" not in masked


def test_what_is_new_since_a_baseline_and_when_it_happens(call, logs, tmp_path):
    captured = logs("postgresql", True)
    whole = (captured.folder / "port.log").read_text()
    (tmp_path / "all.log").write_text(whole)
    (tmp_path / "some.log").write_text(whole[: whole.index("deadlock detected")])
    old = call("intake", "some.log", "--json")
    (tmp_path / "old.json").write_text(old.out)
    now = call("intake", "all.log", "--json").json
    new = call("intake", "all.log", "--json", "--baseline", "old.json")
    kinds = lambda value: {(g["kind"], *g["statements"]) for g in value["groups"]}  # noqa: E731
    assert new.code == 1
    assert kinds(new.json) == kinds(now) - kinds(old.json)
    assert kinds(new.json)
    (tmp_path / "now.json").write_text(call("intake", "all.log", "--json").out)
    again = call("intake", "all.log", "--baseline", "now.json")
    assert (again.code, "Nothing new since now.json" in again.out) == (0, True)
    assert call("intake", "all.log", "--baseline", "all.log").code == 2
    for side in ("hour", "day", "application", "pair"):
        rows = call("intake", "all.log", "--by", side, "--json").json["rows"]
        assert {row["kind"] for row in rows} == {one["kind"] for one in now["conflicts"]}
        if side != "application":
            assert sum(row["count"] for row in rows) == len(now["conflicts"])
    table = call("intake", "all.log", "--csv").out.splitlines()
    assert table[0] == "hour,kind,count,first,last"


def test_a_scenario_of_each_kind_is_written(call, logs, tmp_path):
    """What cannot be restaged is told, with why."""
    log = logs("postgresql", False).folder / "port.log"
    done = call("restage", log, "--all", "kinds", "--no-play", "--json")
    rows = done.json["scenarios"]
    assert len(rows) == len(call("intake", log, "--json").json["groups"])
    written = sorted((tmp_path / "kinds").iterdir())
    assert sorted(row["file"] for row in rows if row["file"]) == [
        f"kinds/{path.name}" for path in written
    ]
    assert all(row["file"] or row["why"] for row in rows)
    assert call("lint", *written, "--server", "postgresql").code == 0
    assert call("restage", log, "--all", "kinds").code == 2  # nothing is written over
    deadlocks = [path.read_text() for path in written if "deadlock" in path.name]
    assert any("placeholder: true" in text for text in deadlocks)


def test_a_placeholder_is_said_to_be_one(kept, call, tmp_path):
    early = {"sql": "select * from berth where id = 1 for update", "placeholder": True}
    plain = {
        "scenario": "placed",
        "data": "create table berth (id int primary key, n int); insert into berth values (1, 0), (2, 0);",
        "transactions": {
            "early": {"statements": [early, "update berth set n = 1 where id = 2"]},
            "late": {
                "statements": [
                    "update berth set n = 1 where id = 2",
                    "update berth set n = 1 where id = 1",
                ]
            },
        },
    }
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    assert "early 1: a placeholder, not a statement of the application" in " ".join(
        call("play", "s.yaml").out.split()
    )
    proposed = call("propose", "s.yaml", "--json", "--for", "3s")
    assert proposed.json["placeholders"] == ["early 1"]
