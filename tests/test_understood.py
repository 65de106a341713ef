"""What a statement touches besides what it names: no such case may be called independent.

Each case was once a schedule too few: a deadlock, a wait or an anomaly that exploring did not meet.
The check is the same exploring without any reduction, which relies on no reading of statements.
"""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from catenum.core.record.recording import TableKeys
from catenum.core.scenario.model import Scenario
from catenum.core.servers import NATIVE, rules_of
from catenum.core.space.dependence import Dependence
from catenum.core.space.equal_values import classes_of, steady
from test_explore import outcomes

TWO = "create table berth (id int primary key, moved int); create table crane (id int primary key, moved int); insert into berth values (1, 0), (2, 0); insert into crane values (1, 0), (2, 0);"  # fmt: skip
B1, B2 = (
    "update berth set moved = moved + 1 where id = 1",
    "update berth set moved = moved + 1 where id = 2",
)
C1 = "update crane set moved = moved + 1 where id = 1"

#: Data, one transaction's statements, the other's.
POSTGRESQL = {
    "a writing common table expression": (TWO, ["with gone as (delete from berth where id = 1 returning id) select * from gone", C1], [C1, B1]),
    "a common table expression with a table's name": (TWO, ["with berth as (select * from berth where id = 1 for update) select * from berth", C1], [C1, B1]),
    "a row assigned at once": (TWO, ["update berth set (id, moved) = (3, 9) where id = 2", C1], [C1, "insert into berth values (3, 0)"]),
    "a lock clause over a subquery": (TWO, ["select * from (select * from berth where id = 1) b for update", C1], [C1, B1]),
    "a lock clause over a join": (TWO, ["select 1 from berth b join crane c on b.id = c.id where b.id = 1 for update of c", B1], [B1, C1]),
    "merge": (TWO, ["merge into berth b using crane c on b.id = c.id when matched then update set moved = 5", B1], [C1, B2]),
    "two tables truncated": (TWO, ["truncate crane, berth"], [B1, C1]),
    "truncate cascades": (TWO + "create table box (id int primary key, berth int references berth (id)); insert into box values (1, 1);", ["truncate berth cascade", C1], [C1, "update box set id = 2 where id = 1"]),
    "a foreign key added": (TWO, ["alter table crane add foreign key (id) references berth (id)"], [B1, C1]),
    "back to a savepoint": (TWO, ["savepoint here", B1, "rollback to savepoint here"], [B1]),
    "the level set on the way": (TWO, ["set transaction isolation level repeatable read", "select sum(moved) from berth", B1], [C1, B2, B1]),
    "a name's schema set on the way": (TWO, ["set local search_path = pg_catalog", "select count(*) from pg_class"], [B1]),
    "a view": (TWO + "create view quay as select * from berth;", ["update quay set moved = 7 where id = 1", C1], [C1, B1]),
    "a partition": ("create table crane (id int primary key, moved int); insert into crane values (1, 0); create table slot (id int primary key, box int) partition by range (id); create table slot_low partition of slot for values from (0) to (10); insert into slot values (1, 0);", ["update slot set box = 1 where id = 1", C1], [C1, "update slot_low set box = 2 where id = 1"]),
    "an heir": (TWO + "create table pier () inherits (berth);", ["select count(*) from berth", C1], [C1, "insert into pier values (7, 0)"]),
    "a rule": (TWO + "create rule also as on update to berth do also update crane set moved = 9 where id = 1;", [B1, B2], [C1, "select moved from crane where id = 1"]),
    "a function in a default": (TWO + "create function next_one() returns int language sql as 'update crane set moved = moved + 1 where id = 1 returning moved'; alter table berth alter moved set default next_one();", ["insert into berth (id) values (5)", "insert into berth values (6, 6)"], [C1, B1]),
    "a function in a check": (TWO + "create function looks(int) returns boolean language sql as 'select count(*) < 9 from crane'; create function takes(int) returns boolean language sql as 'select moved >= 0 from (select moved from crane where id = 1 for update) c'; alter table berth add check (takes(moved));", [B1, C1], [C1, B1]),
    "a function of a built-in's name": (TWO + "create function abs(c crane) returns int language sql as 'update crane set moved = 4 where id = 2 returning moved';", ["select abs(c) from crane c where c.id = 1", B1], [B1, "update crane set moved = 1 where id = 2"]),
    "a second cascade": ("create table vessel (id int primary key); create table manifest (id int primary key, vessel int references vessel (id) on delete cascade); create table box (id int primary key, manifest int references manifest (id) on delete cascade); create table crane (id int primary key, moved int); insert into vessel values (1); insert into manifest values (1, 1); insert into box values (1, 1), (2, 1); insert into crane values (1, 0);", ["delete from vessel where id = 1", C1], [C1, "update box set id = 3 where id = 2"]),
    "a trigger beyond a cascade": (TWO + "create table box (id int primary key, berth int references berth (id) on delete cascade); insert into box values (1, 2); create function tells() returns trigger language plpgsql as 'begin update crane set moved = 8 where id = 1; return old; end'; create trigger tells after delete on box for each row execute function tells();", ["delete from berth where id = 2", B1], [B1, C1]),
    "a second unique key": ("create table box (id int primary key, label text unique); create table crane (id int primary key, moved int); insert into box values (1, 'a'), (2, 'b'); insert into crane values (1, 0);", ["delete from box where id = 1", C1], [C1, "insert into box values (3, 'a')"]),
    "a partial unique key": ("create table slot (id int primary key, box int, taken boolean); create unique index on slot (box) where taken; create table crane (id int primary key, moved int); insert into crane values (1, 0);", ["insert into slot values (1, 7, true)", C1], [C1, "insert into slot values (2, 7, true)"]),
    "an exclusion": ("create table stay (id int primary key, days int4range, exclude using gist (days with &&)); create table crane (id int primary key, moved int); insert into crane values (1, 0);", ["insert into stay values (1, '[1,4]')", C1], [C1, "insert into stay values (2, '[1,5)')"]),
    "one time, written twice": ("create table tide (at time primary key, cm int); insert into tide values ('10:00', 1); create table crane (id int primary key, moved int); insert into crane values (1, 0);", ["update tide set cm = 2 where at = '10:00'", C1], [C1, "update tide set cm = 3 where at = '10:00:00'"]),
    "a range, written with either end": ("create table stay (days int4range primary key, n int); insert into stay values ('[1,5)', 1); create table crane (id int primary key, moved int); insert into crane values (1, 0);", ["update stay set n = 2 where days = '[1,4]'", C1], [C1, "update stay set n = 3 where days = '[1,5)'"]),
    "a time that is rounded when it is stored": ("create table tide (at timestamp(0) primary key, cm int); create table crane (id int primary key, moved int); insert into crane values (1, 0);", ["insert into tide values ('2026-03-01 10:00:00.2', 1)", C1], [C1, "insert into tide values ('2026-03-01 10:00:00', 2)"]),
    "a key that is rounded": (TWO, ["update berth set moved = 2 where id = 1.4::int", C1], [C1, "update berth set moved = 3 where id = 1"]),
}  # fmt: skip
MARIADB = {
    "a view": (TWO + "create view quay as select * from berth;", ["update quay set moved = 7 where id = 1", C1], [C1, B1]),
    "two tables updated": (TWO, ["update berth b join crane c on b.id = c.id set b.moved = 5, c.moved = 6 where b.id = 1", B2], [B2, C1]),
    "two tables deleted from": (TWO, ["delete b, c from berth b join crane c on b.id = c.id where b.id = 1", B2], [B2, C1]),
    "another index forced": ("create table berth (id int primary key, quay int, moved int, key by_quay (quay)); insert into berth values (1, 5, 0), (2, 5, 0); create table crane (id int primary key, moved int); insert into crane values (1, 0);", ["select id from berth force index (by_quay) where quay = 5 and id = 1 for update", C1], [C1, B2]),
    "the rows of a forced key": (TWO, ["select id from berth force index (primary) where id in (1, 2) order by id for update", C1], [C1, B2]),
    "replace": (TWO, ["replace into berth values (1, 7)", C1], [C1, B1]),
    "an upsert by a second key": ("create table box (id int primary key, label varchar(9) unique, tons int); create table crane (id int primary key, moved int); insert into box values (1, 'a', 5), (2, 'b', 6); insert into crane values (1, 0);", ["insert into box values (3, 'a', 7) on duplicate key update tons = 9", C1], [C1, "update box set tons = 1 where id = 1"]),
    "a second unique key": ("create table box (id int primary key, label varchar(9) unique); create table crane (id int primary key, moved int); insert into box values (1, 'a'), (2, 'b'); insert into crane values (1, 0);", ["delete from box where id = 1", C1], [C1, "insert into box values (3, 'a')"]),
    "one date, written twice": ("create table tide (day date primary key, cm int); insert into tide values ('2026-03-01', 1); create table crane (id int primary key, moved int); insert into crane values (1, 0);", ["update tide set cm = 2 where day = '2026-03-01'", C1], [C1, "update tide set cm = 3 where day = '20260301'"]),
    "a decimal that is rounded when it is stored": ("create table tide (cm decimal(5,0) primary key, n int); create table crane (id int primary key, moved int); insert into crane values (1, 0);", ["insert into tide values (1.4, 1)", C1], [C1, "insert into tide values ('1', 2)"]),
    "an accent under the collation": ("create table quay (name varchar(9) character set utf8mb4 collate utf8mb4_general_ci primary key, moved int); insert into quay values ('Ole', 1); create table crane (id int primary key, moved int); insert into crane values (1, 0);", ["update quay set moved = 2 where name = 'Ole'", C1], [C1, "update quay set moved = 3 where name = 'Olé'"]),
    "a table without transactions": (TWO + "create table note (id int primary key, n int) engine = myisam; insert into note values (1, 0);", ["update note set n = 1 where id = 1", B1], ["select n from note where id = 1", B1]),
    "a variable set from a query": (TWO, ["set @cm = (select moved from berth where id = 1)", C1], ["update berth set moved = 4 where id = 1", C1]),
    "a variable set from a query, at read committed": (TWO, ["set @cm = (select moved from berth where id = 2)", "set @cm = (select moved from berth where id = 1)"], ["update berth set moved = 4 where id in (1, 2)", C1]),
    "a query within a delete, at read committed": (TWO, ["delete from crane where id = (select moved from berth where id = 2)", "delete from crane where id = (select moved from berth where id = 1) + 5"], ["update berth set moved = 4 where id in (1, 2)", C1]),
    "a query within an update of two tables, at read committed": (TWO, ["update crane c join berth b on b.id = 2 set c.moved = 1 where c.id = 2", "update crane c join berth b on b.id = 1 set c.moved = 1 where c.id = 2"], ["update berth set moved = 4 where id in (1, 2)", C1]),
    "a unique key on a prefix": ("create table box (id int primary key, label varchar(9), unique (label(2))); create table crane (id int primary key, moved int); insert into crane values (1, 0);", ["insert into box values (1, 'abc')", C1], [C1, "insert into box values (2, 'abd')"]),
}  # fmt: skip
CASES = [("postgresql", title) for title in POSTGRESQL] + [("mariadb", title) for title in MARIADB]


@pytest.mark.parametrize(("server", "title"), CASES)
def test_nothing_is_missed_where_statements_touch_more_than_they_name(request, server, title):
    engine = request.getfixturevalue("engine" if server == "postgresql" else "mariadb")
    data, one, other = (POSTGRESQL if server == "postgresql" else MARIADB)[title]
    level = title.partition(", at ")[2] or None
    parts = {
        "gate": {"statements": one, "isolation": level},
        "tower": {"statements": other, "isolation": level},
    }
    scenario = Scenario.model_validate({"scenario": "more", "data": data, "transactions": parts})
    reduced, _ = outcomes(engine, scenario)
    complete, _ = outcomes(engine, scenario, every=True)
    assert reduced == complete


BOXES = {"box": TableKeys(primary=("id",), kinds={"id": "integer"}), "berth": TableKeys(primary=("name",), kinds={"name": "text 9"})}  # fmt: skip

#: A statement, another, and whether they may be called independent.
PAIRS = [
    ("update box set tons = 1 where id = 1", "update box set tons = 1 where id = 2", True),
    ("update box set tons = 1 where id = 1", "update box set tons = 1 where id = 01", False),
    ("update box set tons = 1 where id = 1", "update box set tons = 1 where id = 2 or id = 1", False),
    ("update box set tons = 1 where id = 1", "update box set tons = 1 where id = 1.5", False),
    ("update box set tons = 1 where id = 1", "update box set tons = 1 where id = -1", True),
    ("update box set tons = 1 where id = 1", "update box set tons = 1 where id = cast('2' as int)", False),
    ("update box set tons = 1 where id = 1", "with x as (select 2 as id) select * from x", True),
    ("update box set tons = 1 where id = 1", "select reverse('a')", False),
    ("update box set tons = 1 where id = 1", "select tally('a')", False),
    ("update box set tons = 1 where id = 1", "select lower('a')", True),
    ("update box set tons = 1 where id = 1", "select * from elsewhere", False),
    ("update box set tons = 1 where id = 1", "select * from other.berth for update", False),
    ("update berth set moved = 1 where name = 'a'", "update berth set moved = 1 where name = 'b'", True),
    ("update berth set moved = 1 where name = 'a'", "update berth set moved = 1 where name = 'a '", False),
    ("update berth set moved = 1 where name = 'a'", "update berth set moved = 1 where name = 2", False),
    ("insert into box (id) values (1)", "update box set tons = 1 where id = 2", True),
    ("insert into box (id) values (1)", "insert into box (id) values (2), (3)", False),
]  # fmt: skip


@pytest.mark.parametrize(("one", "other", "apart"), PAIRS)
def test_statements_are_independent_only_where_that_is_certain(one, other, apart):
    plain = {
        "scenario": "pair",
        "data": "",
        "transactions": {"a": {"statements": [one]}, "b": {"statements": [other]}},
    }
    for server in NATIVE:
        if server == "mariadb" and one.startswith("insert") and apart:
            continue  # gaps: an insert meets what locks in its table
        relation = Dependence(
            Scenario.model_validate(plain), rules_of(server), BOXES, "read committed"
        )
        assert relation.depend(("a", 0), ("b", 0)) is not apart, server


def test_a_function_of_the_users_own_is_never_taken_for_the_servers():
    plain = {"scenario": "own", "data": "", "transactions": {"a": {"statements": ["select lower('a')"]}, "b": {"statements": ["delete from box"]}}}  # fmt: skip
    for functions, depend in ((), False), (("lower",), True), (("*",), True), (("upper",), False):
        relation = Dependence(
            Scenario.model_validate(plain),
            rules_of("postgresql"),
            BOXES,
            "read committed",
            functions=functions,
        )
        assert relation.depend(("a", 0), ("b", 0)) is depend
        assert relation.depend(("a", None), ("b", 0)) is depend


ASKED = {
    "postgresql": ("at time primary key", "10:00", "11:00"),
    "mariadb": ("at time primary key", "10:00", "110000"),
}


@pytest.mark.parametrize("server", ASKED)
def test_rows_are_told_apart_by_what_the_server_says_of_their_keys(
    call, kept, kept_mariadb, tmp_path, server
):
    column, one, other = ASKED[server]
    text = f"""scenario: tides
data: create table tide ({column}, cm int); insert into tide values ('{one}', 0), ('{other}', 0)
transactions:
  early: {{statements: ["update tide set cm = 1 where at = '{one}'"]}}
  late: {{statements: ["update tide set cm = 2 where at = '{other}'"]}}
"""
    (tmp_path / "tides.yaml").write_text(text)
    found = call(
        "explore",
        "tides.yaml",
        "--target",
        f"local:{server}",
        "--isolation",
        "read committed",
        "--json",
    ).json
    assert len(found["schedules"]) == 1


@given(
    st.lists(st.sampled_from(["1", "2", "3", "4"]), unique=True),
    st.sets(st.tuples(st.integers(0, 3), st.integers(0, 3))),
)
def test_values_are_in_two_classes_only_where_all_of_one_differ_from_all_of_the_other(texts, apart):
    written = [(True, text) for text in texts]
    found = classes_of(written, apart)
    assert found.keys() == set(written)
    for a, one in enumerate(written):
        for b, other in enumerate(written):
            if found[one] != found[other]:
                assert (a, b) in apart or (b, a) in apart


@pytest.mark.parametrize("text", ["now", "today", "epoch", "infinity", "noon", "allballs"])
def test_words_whose_meaning_may_change_are_not_asked_about(text):
    assert steady([(True, text), (True, "2026-03-01T10:00Z"), (True, "[1,4)")]) == [
        (True, "2026-03-01T10:00Z"),
        (True, "[1,4)"),
    ]
