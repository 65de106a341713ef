"""Waits on MariaDB that no single list of the server shows: each must be seen to begin, and to end."""

from __future__ import annotations

import json

import pytest

pytestmark = pytest.mark.usefixtures("kept_mariadb")
TARGET = ("--target", "local:mariadb")
TABLES = "create table t1 (id int primary key, n int); insert into t1 values (1, 0);" + "".join(
    f" create table t{n} like t1; insert into t{n} values (1, 0);" for n in range(2, 8)
)
CASCADE = (
    "create table vessel (id int primary key); create table manifest (id int primary key, vessel int, foreign key (vessel) references vessel (id) on delete cascade);"
    "create table box (id int primary key, manifest int, foreign key (manifest) references manifest (id) on delete cascade); create table crane (id int primary key, moved int);"
    "insert into vessel values (1); insert into manifest values (1, 1); insert into box values (1, 1), (2, 1); insert into crane values (1, 0);"
)  # fmt: skip
HIDDEN = (
    "create table crane (id int primary key, moved int); insert into crane values (1, 0); create table berth (id int primary key, moved int); insert into berth values (1, 0);"
    "create view quay as select * from crane; create function total() returns int reads sql data return (select sum(moved) from crane);"
    "create procedure moves() modifies sql data update crane set moved = moved + 1; create trigger tells after update on berth for each row update crane set moved = 9;"
)  # fmt: skip

#: Data, one transaction's statements, the other's, the order, and who then waits for whom over
#: what.
ROWS = {
    "more lock structs than are printed": (TABLES, [f"update t{n} set n = 1" for n in range(1, 8)], ["update t7 set n = 2"], "gate " * 7 + "tower gate", ("tower", "gate", "t7(id=1)")),
    "more text than is printed": ("create table box (id int primary key, label char(200)); insert into box select seq, 'x' from seq_1_to_9000;", ["select count(*) from box for update"], ["update box set label = 'y' where id = 8900"], "gate tower gate tower", ("tower", "gate", None)),
    "a second cascade": (CASCADE, ["delete from vessel where id = 1"], ["update box set id = 3 where id = 2"], "gate tower gate", ("tower", "gate", "box(id=2)")),
    "a partition": ("create table slot (id int primary key, box int) partition by range (id) (partition low values less than (3), partition high values less than (20)); insert into slot values (1, 0), (5, 0);", ["update slot set box = 1 where id = 5"], ["update slot set box = 2 where id = 5"], "gate tower gate", ("tower", "gate", "slot(id=5)")),
}  # fmt: skip


def scenario(data: str, **transactions: list[str]) -> str:
    lines = ["scenario: waits", "data: |", f"  {data}", "transactions:"]
    for name, statements in transactions.items():
        lines += [f"  {name}:", "    statements:", *(f'      - "{sql}"' for sql in statements)]
    return "\n".join(lines) + "\n"


@pytest.mark.parametrize("title", ROWS)
def test_a_wait_for_a_row_is_seen_however_much_the_server_leaves_out(call, tmp_path, title):
    data, gate, tower, order, (waiter, holder, resource) = ROWS[title]
    (tmp_path / "s.yaml").write_text(scenario(data, gate=gate, tower=tower) + f"order: {order}\n")
    found = call("play", "s.yaml", *TARGET, "--json").json
    (wait,) = found["waits"]
    assert (found["outcome"]["kind"], wait["waiter"], wait["holder"], wait["ended"]) == (
        "waited",
        waiter,
        holder,
        "went on",
    )
    assert resource is None or wait["resource"]["text"] == resource


def test_locks_that_the_server_does_not_print_are_said_to_be_missing(call, tmp_path):
    data, gate, tower, order, _ = ROWS["more lock structs than are printed"]
    (tmp_path / "s.yaml").write_text(scenario(data, gate=gate, tower=tower) + f"order: {order}\n")
    pictures = call("play", "s.yaml", *TARGET, "--locks", "full", "--json").json["pictures"]
    assert "gate has more locks than the server prints" in pictures[-3]["note"]
    assert pictures[0]["note"] is None


@pytest.mark.parametrize(
    "sql",
    ["select * from quay", "select total()", "call moves()", "update berth set moved = 2", "alter table berth add foreign key (moved) references crane (id)"],
)  # fmt: skip
def test_a_wait_for_a_table_that_the_statement_does_not_name_is_seen(call, tmp_path, sql):
    """A view, a function, a procedure, a trigger, a reference: the server tells which table it is."""
    text = scenario(
        HIDDEN, gate=["select * from crane", "select 1"], yard=["drop table crane"], tower=[sql]
    )
    (tmp_path / "s.yaml").write_text(text + "order: gate yard tower gate gate\n")
    found = call("play", "s.yaml", *TARGET, "--json").json
    assert [
        (w["waiter"], w["holder"], w["resource"]["text"], w["queued"])
        for w in found["waits"]
        if w["waiter"] == "tower" and w["move"] == 3
    ] == [("tower", "yard", "crane", True)]


def test_a_named_lock_taken_by_do_is_waited_for(call, tmp_path):
    take = "do get_lock('pier', 30)"
    (tmp_path / "s.yaml").write_text(
        scenario(HIDDEN, gate=[take, "do release_lock('pier')"], tower=[take])
        + "order: gate tower gate\n"
    )
    (wait,) = call("play", "s.yaml", *TARGET, "--json").json["waits"]
    assert (wait["waiter"], wait["holder"], wait["resource"]["text"]) == (
        "tower",
        "gate",
        "named lock 'pier'",
    )


@pytest.mark.parametrize("literal", ['say ""x""', "a\ttab", 'back\\\\slash "q"'])
def test_a_condition_with_quotes_does_not_end_the_run(call, tmp_path, literal):
    """The server's own JSON is no JSON then."""
    sql = f"update crane set moved = 1 where moved = 0 and '{literal}' <> concat(id, 'x')"
    plain = {
        "scenario": "q",
        "data": HIDDEN,
        "transactions": {"gate": {"statements": [sql]}, "tower": {"statements": [sql]}},
    }
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    done = call("play", "s.yaml", *TARGET, "--json")
    assert done.code == 0, done.err
    (path,) = (
        done.json["plans"][0]["steps"]
        if "steps" in done.json["plans"][0]
        else [done.json["plans"][0]]
    )
    assert "crane" in json.dumps(path)


def test_a_default_that_only_sounds_like_a_clock_is_compared(call, tmp_path):
    columns = "a varchar(20) default 'unknown', b varchar(20) default 'now()', c timestamp default now(), d varchar(50) default (concat('x', uuid()))"
    (tmp_path / "s.yaml").write_text(
        f"scenario: d\ndata: create table berth (id int primary key, {columns})\ntransactions:\n"
        "  one: {statements: [insert into berth (id) values (1)]}\n  two: {statements: [select count(*) from berth]}\n"
    )
    assert sorted(call("explore", "s.yaml", *TARGET, "--json").json["ignored"]) == [
        "berth.c of new rows",
        "berth.d of new rows",
    ]
