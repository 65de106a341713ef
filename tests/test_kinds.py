"""What is proven rests on all state, and on what is certain: cases by kind, each beside an
independent account.
"""

from __future__ import annotations

from pathlib import Path

import pytest
import yaml

from catenum.core.space.search import Space
from enumerating.compare import as_json, compared
from enumerating.sessions import Bench, bench_on, kept_sockets
from enumerating.walk import Case, Part

pytestmark = pytest.mark.checked_twice

KEPT = {"postgresql": "kept", "mariadb": "kept_mariadb", "mysql": "kept_mysql"}
CASES = yaml.safe_load(Path(__file__).with_suffix(".yaml").with_stem("kinds").read_text())
#: ``also``: the servers on which it can hardly go wrong in its own way.
ON = [
    *((server, title) for title, case in CASES.items() for server in case["servers"]),
    *(
        pytest.param(s, title, marks=pytest.mark.soak)
        for title, case in CASES.items()
        for s in case.get("also", ())
    ),
]


def case_of(title: str, server: str) -> Case:
    reported = CASES[title]
    data = reported["data"] if isinstance(reported["data"], str) else reported["data"][server]
    parts = {
        name: Part(tuple(texts), reported.get("level")) for name, texts in reported["parts"].items()
    }
    return Case(data, parts, reported.get("holds", {}), reported.get("made", {}))


@pytest.mark.parametrize(("server", "title"), ON)
def test_the_reduced_walk_finds_what_a_walk_of_every_order_finds(
    request, call, tmp_path, server, title
):
    request.getfixturevalue(KEPT[server])

    def explore(path):
        found = call("explore", path, "--target", f"local:{server}", "--check-orders", 0, "--json")
        assert found.out, found.err
        return as_json(found.out)

    bench: Bench = bench_on(server, kept_sockets(server), 3)
    try:
        assert not compared(case_of(title, server), bench, explore, tmp_path)
    finally:
        bench.close()


SWAP = """
scenario: swap
data: create table berth (id int primary key, moved int not null); insert into berth values (1, 0), (2, 0)
transactions:
  early: {statements: [update berth set moved = 1 where id = 1, update berth set moved = 1 where id = 2]}
  late: {statements: [update berth set moved = 2 where id = 2, update berth set moved = 2 where id = 1]}
"""


def test_every_order_is_run_as_well_where_they_are_few_and_counts_where_the_walk_was_wrong(
    call, tmp_path, kept, monkeypatch
):
    (tmp_path / "swap.yaml").write_text(SWAP)
    found = call("explore", "swap.yaml", "--json").json
    assert found["reach"]["all_orders"] == 8
    assert not found["reach"]["every"]
    assert (
        call("explore", "swap.yaml", "--json", "--check-orders", 0).json["reach"]["all_orders"]
        is None
    )
    assert call("explore", "swap.yaml", "--json", "--workers", 2).json["reach"]["all_orders"] == 8
    monkeypatch.setattr(Space, "independent", lambda self, a, b, waits: True)
    wrong = call("explore", "swap.yaml", "--json").json
    assert any("please report" in note for note in wrong["notes"])
    assert {row["kind"] for row in wrong["outcomes"]} == {"deadlock", "waited", "clean"}


def test_no_claim_depends_on_the_seed_and_special_pairs_are_all_swapped(call, tmp_path, kept):
    (tmp_path / "swap.yaml").write_text(SWAP)
    one, two = (
        call("explore", "swap.yaml", "--json", "--check-orders", 0, "--seed", n).json
        for n in (1, 77)
    )
    assert one["claims"] == two["claims"]
    assert one["counts"]["special"]
    assert all(one["counts"]["special"].values())


# -- what is compared --------------------------------------------------------------------------------------------------

TANK = """
scenario: tank
data:
  postgresql: create table tank (id int primary key, v int); insert into tank values (1, 5); create sequence reading;
  mariadb: create table tank (id int primary key, v int); insert into tank values (1, 5); create sequence reading;
transactions:
  north:
    statements:
      - {sql: select v from tank where id = 1, keep: {v: v}}
      - update tank set v = :v + 1 where id = 1
      - {postgresql: "insert into tank values (9, nextval('reading'))", mariadb: "insert into tank values (9, nextval(reading))"}
  south:
    statements:
      - {sql: select v from tank where id = 1, keep: {v: v}}
      - update tank set v = :v + 2 where id = 1
"""


@pytest.mark.parametrize("server", ["postgresql", "mariadb"])
def test_a_number_is_left_out_and_not_its_column(request, call, tmp_path, server):
    request.getfixturevalue(KEPT[server])
    (tmp_path / "tank.yaml").write_text(TANK)
    found = call("explore", "tank.yaml", "--target", f"local:{server}", "--json").json
    assert {row["anomaly"] for row in found["outcomes"]} == {"lost update", None}
    assert list(found["ignored"]) == ["tank.v of new rows"]
    right = TANK.replace(
        "select v from tank where id = 1,", "select v from tank where id = 1 for update,"
    )
    (tmp_path / "tank.yaml").write_text(right)
    found = call(
        "explore", "tank.yaml", "--target", f"local:{server}", "--expect", "no anomaly", "--quiet"
    )
    assert found.code == 0
    assert "apart from tank.v of new rows" in found.err
    assert "apart from tank.v of new rows" in found.out
    (data,) = [
        c
        for c in call("explore", "tank.yaml", "--target", f"local:{server}", "--json").json[
            "claims"
        ]
        if c["about"] == "data"
    ]
    assert data["apart"] == ["tank.v of new rows"]
    assert data["text"].endswith("apart from tank.v of new rows")


HANDLER = """
scenario: handler
data:
  common: create table berth (id int primary key, moved int not null); insert into berth values (1, 0), (2, 0);
  mariadb: |
    create procedure move(in b int) begin declare continue handler for sqlexception begin end;
      update berth set moved = moved + 1 where id = b; end;
  mysql: |
    create procedure move(in b int) begin declare continue handler for 1213 begin end;
      update berth set moved = moved + 1 where id = b; end;
  postgresql: |
    create procedure move(b int) language plpgsql as $$ begin update berth set moved = moved + 1 where id = b;
      exception when others then null; end $$;
transactions:
  early: {statements: [update berth set moved = moved + 1 where id = 1, call move(2)]}
  late: {statements: [update berth set moved = moved + 1 where id = 2, call move(1)]}
"""


SWALLOWING = """
scenario: swallowing
data:
  common: create table berth (id int primary key, moved int not null); insert into berth values (1, 0), (2, 0);
  mariadb: &shift |
    create procedure shift() begin declare continue handler for 1205 begin end;
      update berth set moved = 1 where id = 1; update berth set moved = 1 where id = 2; end;
  mysql: *shift
  postgresql: |
    create procedure shift() language plpgsql as $$ begin update berth set moved = 1 where id = 1;
      exception when lock_not_available then update berth set moved = 1 where id = 2; end $$;
transactions:
  clerk: {timeout: 1s, statements: [call shift()]}
  pilot: {statements: [update berth set moved = 4 where id = 1]}
"""


@pytest.mark.parametrize("server", list(KEPT))
def test_a_timeout_that_a_routine_catches_is_one(request, call, tmp_path, server):
    request.getfixturevalue(KEPT[server])
    (tmp_path / "swallowing.yaml").write_text(SWALLOWING)
    target = ("--target", f"local:{server}")
    found = call("explore", "swallowing.yaml", *target, "--json").json
    assert {row["kind"] for row in found["outcomes"]} == {"timeout", "waited", "clean"}
    order = ("--order", "pilot clerk clerk pilot")
    played = call("play", "swallowing.yaml", *target, *order, "--json").json
    assert (played["outcome"]["kind"], played["waits"][0]["ended"]) == ("timeout", "caught")
    assert "caught-timeout" in {finding["id"] for finding in played["findings"]}
    refused = call("play", "swallowing.yaml", *target, "--timeouts", "by-order")
    assert refused.code == 2
    assert "a wait is ended by cancelling its statement, which no handler catches" in refused.err


@pytest.mark.parametrize("server", list(KEPT))
def test_a_deadlock_that_a_routine_catches_is_one(request, call, tmp_path, server):
    request.getfixturevalue(KEPT[server])
    (tmp_path / "handler.yaml").write_text(HANDLER)
    target = ("--target", f"local:{server}")
    found = call("explore", "handler.yaml", *target, "--json").json
    assert any(row["kind"] == "deadlock" and row["hidden"] for row in found["outcomes"])
    assert not any(c["about"] == "deadlock" and c["good"] for c in found["claims"])
    assert any("move catches" in note for note in found["notes"])
    played = call(
        "play", "handler.yaml", *target, "--order", "early late early late", "--json"
    ).json
    assert played["outcome"]["kind"] == "deadlock"
    assert "caught-deadlock" in {finding["id"] for finding in played["findings"]}
    churned = call("churn", "handler.yaml", *target, "--for", "1500ms", "--json")
    assert churned.json["deadlocks_hidden"] > 0
    assert churned.code == 1


def test_what_was_read_is_told_from_the_rows_at_the_end(call, tmp_path, kept):
    text = SWAP.replace(
        "update berth set moved = 1 where id = 1,",
        "select moved from berth where id = 1, select moved from berth where id = 1,",
    )
    (tmp_path / "read.yaml").write_text(
        text.replace(
            "update berth set moved = 1 where id = 2]", "update berth set moved = 1 where id = 2]"
        )
    )
    found = call("explore", "read.yaml", "--json").json
    assert {row["wrong"] for row in found["outcomes"] if row["data"] == "anomaly"} == {"reads"}
    assert (
        call("explore", "read.yaml", "--expect", "no wrong rows, errors: any", "--quiet").code == 0
    )
    assert (
        call("explore", "read.yaml", "--expect", "no wrong reads, errors: any", "--quiet").code == 1
    )
    reported = call("explore", "read.yaml").out
    assert "the rows at the end are right, but what was read is not" in " ".join(reported.split())


DUPLICATE = """
scenario: duplicate
data: create table berth (id int primary key, vessel text)
transactions:
  early: {statements: ["insert into berth values (1, 'Halcyon')"]}
  late: {statements: ["insert into berth values (1, 'Oriel')"], retry: {times: 1, on: [duplicate]}}
holds: {both: select count(*) = 2 from berth}
"""


def test_rules_and_errors_count_in_what_a_build_expects_unless_they_are_named(call, tmp_path, kept):
    (tmp_path / "d.yaml").write_text(DUPLICATE)

    def expect(text):
        return call("explore", "d.yaml", "--quiet", "--expect", text)

    assert expect("no deadlock").code == 1
    assert "broken rule in 4 of 4" in expect("no deadlock").err
    assert "error in 4 of 4" in expect("no deadlock").err
    assert expect("no deadlock, rules: any, errors: any").code == 0
    levels = call("explore", "d.yaml", "--isolation", "each").out
    assert "error" in levels.splitlines()[2]
    assert " 4 " in levels.splitlines()[3]
    found = call("explore", "d.yaml", "--json").json
    assert found["counts"]["attempts"]["late"] == 2
    assert "no isolation level can keep the rule" in " ".join(c["text"] for c in found["claims"])


# -- names, holders, words ---------------------------------------------------------------------------------------------

_CRANES = "create table crane (id int primary key, kg int not null); insert into crane values (1, 5), (2, 5)"
_SKEW = [
    [
        "{sql: select kg from crane where id = 2, keep: {k: kg}}",
        "update crane set kg = :k + 1 where id = 1",
    ],
    [
        "{sql: select kg from crane where id = 1, keep: {k: kg}}",
        "update crane set kg = :k + 1 where id = 2",
    ],
]
_LOCK = "select pg_advisory_xact_lock(1)"
NAMES = [
    ("write skew", "repeatable read", _CRANES, _SKEW),
    ("write skew", "repeatable read", _CRANES, [[a, _LOCK, b] for a, b in _SKEW]),
    ("lost update", "read committed", _CRANES, [[f"with x as (select id, kg from crane where id = 1) update crane c set kg = x.kg + {n} from x where c.id = x.id"] for n in (1, 2)]),
    ("other anomaly", "read committed", _CRANES, [["update crane set kg = 6 where id = 1"], ["select id from crane where kg = 5 order by id limit 1 for update skip locked"], ["select id from crane where id = 2 for update"]]),
]  # fmt: skip


@pytest.mark.parametrize(("name", "level", "data", "parts"), NAMES)
def test_an_anomaly_has_the_name_that_the_literature_gives_it(
    call, tmp_path, kept, name, level, data, parts
):
    lines = [f"scenario: names\ndata: {data}\ntransactions:"]
    for number, texts in enumerate(parts):
        lines += [
            f"  t{number}:",
            f"    isolation: {level}",
            "    statements:",
            *(f"      - {text}" for text in texts),
        ]
    (tmp_path / "names.yaml").write_text("\n".join(lines) + "\n")
    found = call("explore", "names.yaml", "--json").json
    assert {row["anomaly"] for row in found["outcomes"]} - {None} == {name}


TAGS = """
scenario: tags
data: create table ticket (id int primary key, vessel int unique); create sequence tag
transactions:
  north: {isolation: read committed, statements: [select nextval(tag), select nextval(tag), "insert into ticket values (7, 7)"]}
  south: {isolation: read committed, statements: [update ticket set vessel = 9 where id = 2, select vessel from ticket where id = 2 for update]}
  east: {isolation: read committed, statements: ["insert into ticket values (2, 2)", "insert into ticket values (3, 9)"]}
"""


def test_a_sequence_that_is_named_is_no_unknown_and_an_order_that_fails_shows_nothing(
    call, tmp_path, kept_mariadb
):
    """MariaDB's sequences are tables, and locked as such. East before south ends in an error, so
    that nothing can be said of who saw whom; a reader of what was committed long before was called
    a dirty read.
    """
    (tmp_path / "tags.yaml").write_text(TAGS)
    found = call(
        "explore", "tags.yaml", "--target", "local:mariadb", "--check-orders", 0, "--json"
    ).json
    assert not [
        note
        for note in found["notes"]
        if "not visible in its SQL text" in note or "touch everything" in note
    ]
    assert found["counts"]["run"] < found["reach"]["orders"] / 10
    assert {row["anomaly"] for row in found["outcomes"]} == {None, "other anomaly"}


def test_a_cycle_is_told_by_the_waits_of_its_attempt(call, tmp_path, kept):
    text = SWAP.replace("early: {", "early: {retry: {times: 2}, ").replace(
        "late: {", "late: {retry: {times: 2}, "
    )
    (tmp_path / "again.yaml").write_text(text)
    assert len(call("explore", "again.yaml", "--json").json["cycles"]) == 1


TAKER = """
scenario: taker
data: create table box (id int primary key, kg int); insert into box values (1, 5), (2, 6)
transactions:
  early: {statements: ["insert into box values (12, 1)", update box set kg = kg + 1 where kg > 4, update box set kg = 9 where id = 1]}
  late: {statements: [update box set kg = 7 where id = 1]}
order: early early early late
"""  # fmt: skip


@pytest.mark.parametrize(
    ("server", "number", "candidates"),
    [("postgresql", None, [2, 3]), ("mariadb", None, [2, 3]), ("mysql", 2, [])],
)
def test_who_took_a_lock_is_certain_or_said_not_to_be(
    request, call, tmp_path, server, number, candidates
):
    request.getfixturevalue(KEPT[server])
    (tmp_path / "taker.yaml").write_text(TAKER)
    found = call("play", "taker.yaml", "--target", f"local:{server}", "--json").json
    (wait,) = found["waits"]
    assert (wait["holder_statement"], wait["holder_candidates"]) == (number, candidates)
    reported = call("play", "taker.yaml", "--target", f"local:{server}").out
    assert "early 2 or 3 took" in reported if candidates else "early 2 took" in reported


def test_an_insert_is_not_taken_for_the_lock_on_another_row(call, tmp_path, kept):
    (tmp_path / "taker.yaml").write_text(
        TAKER.replace("update box set kg = kg + 1 where kg > 4, ", "").replace(
            "early early early", "early early"
        )
    )
    assert call("play", "taker.yaml", "--json").json["waits"][0]["holder_statement"] == 2


def test_a_foreign_key_is_no_reason_where_its_lock_does_not_conflict(call, tmp_path, kept):
    text = """
scenario: parents
data: create table quay (id int primary key, n int); create table box (id int primary key, quay int references quay (id)); insert into quay values (1, 0)
transactions:
  early: {statements: ["insert into box values (1, 1)", update quay set n = n + 1 where id = 1]}
  late: {statements: ["insert into box values (2, 1)", update quay set n = n + 1 where id = 1]}
order: early early late late
"""
    (tmp_path / "parents.yaml").write_text(text)
    assert "foreign-key" not in {
        f["id"] for f in call("play", "parents.yaml", "--json").json["findings"]
    }


def test_a_recording_with_a_timeout_is_read_again(call, tmp_path, kept):
    text = SWAP.replace("late: {", "late: {timeout: 1s, retry: {times: 1, pause: 10ms}, ")
    (tmp_path / "t.yaml").write_text(text)
    call("play", "t.yaml", "--save", "t.json", "--quiet")
    assert call("play", "t.json", "--quiet").code in (0, 1)
    assert "SQLSTATE" in call("play", "t.yaml", "--order", "early early late late").out


@pytest.mark.parametrize("server", ["mariadb"])
def test_a_hash_is_no_key_and_a_number_no_sqlstate(kept_mariadb, call, tmp_path, server):
    text = """
scenario: long
data: create table quay (id int primary key, name text, unique (name)); insert into quay values (1, 'East')
transactions:
  early: {statements: [update quay set id = 7 where name = 'East']}
  late: {statements: ["insert into quay values (3, 'East')"]}
order: early late early late
"""
    (tmp_path / "long.yaml").write_text(text)
    reported = call("play", "long.yaml", "--target", f"local:{server}").out
    assert "quay(id=1) in index name" in reported
    assert "0x" not in reported
    assert "(error number 1062)" in reported
    assert "SQLSTATE" not in reported


@pytest.mark.parametrize("server", ["mariadb", "mysql"])
def test_a_lock_on_a_table_for_reading_is_seen_to_hold_up_a_writer(request, call, tmp_path, server):
    request.getfixturevalue(KEPT[server])
    text = """
scenario: counted
data: create table quay (id int primary key, n int); insert into quay values (1, 0)
transactions:
  count: {statements: [lock tables quay read, select count(*) from quay, unlock tables]}
  clerk: {statements: [update quay set n = 1 where id = 1]}
order: count clerk count count clerk count
"""
    (tmp_path / "counted.yaml").write_text(text)
    found = call("play", "counted.yaml", "--target", f"local:{server}", "--json").json
    assert found["outcome"]["kind"] == "waited"
    assert [(w["waiter"], w["holder"]) for w in found["waits"]] == [("clerk", "count")]
