"""Between schedules everything is as after loading: rows in their order, sizes, statistics, plans,
definitions.
"""

from __future__ import annotations

from collections.abc import Sequence

import psycopg
import pymysql
import pytest

from catenum.core.scenario.model import Scenario
from catenum.engines.mariadb.engine import connect as connect_mariadb
from catenum.engines.mysql.engine import connect as connect_mysql
from catenum.engines.ports import Engine
from catenum.engines.postgresql.engine import connect
from catenum.lab.explore.stage import Serially, Stage
from conftest import EXAMPLES, over_socket

DATA = """
create table berth (id int primary key, moved int, vessel text default 'none');
insert into berth select n, n % 7, 'Oriel' from generate_series(1, 400) n; create index by_moved on berth (moved); analyze berth;
create table crane (id serial primary key, berth int references berth (id), seen timestamp default '2026-03-01'); insert into crane (berth) values (1), (2);
create table pier (length int) inherits (berth); insert into pier values (900, 0, 'x', 9);
create table slot (id int primary key, box int) partition by range (id);
create table slot_low partition of slot for values from (0) to (10); insert into slot values (1, 0), (2, 0);
create materialized view totals as select sum(moved) as s from berth; create sequence tickets;
create view quay as select id, moved from berth; create type tone as enum ('red', 'green'); create domain tons as int check (value >= 0);
create function doubled(int) returns int language sql immutable as 'select $1 * 2';
create function tells() returns trigger language plpgsql as $$begin return new; end$$;
create trigger tells before update on crane for each row execute function tells();
create table load (id int primary key, t tons, twice int generated always as (t * 2) stored); insert into load values (1, 1);
"""
KNOWN = (
    "select c.relname, c.reltuples, c.relpages, pg_relation_size(c.oid), c.reloptions from pg_class c where relnamespace = '{s}'::regnamespace and relkind in ('r', 'm') order by 1",
    "select c.relname, pg_relation_size(c.oid) from pg_class c where relnamespace = '{s}'::regnamespace and relkind = 'i' order by 1",
    "select tablename, attname, n_distinct, most_common_vals::text, histogram_bounds::text from pg_stats where schemaname = '{s}' order by 1, 2",
    "select relname, attname, atttypid::regtype::text, attnotnull, pg_get_expr(adbin, adrelid) from pg_class c join pg_attribute a on a.attrelid = c.oid left join pg_attrdef d on d.adrelid = c.oid and d.adnum = attnum where relnamespace = '{s}'::regnamespace and attnum > 0 order by 1, attnum",
    "select proname, prosrc from pg_proc where pronamespace = '{s}'::regnamespace order by 1", "select tgname, tgenabled from pg_trigger where not tgisinternal and tgrelid in (select oid from pg_class where relnamespace = '{s}'::regnamespace) order by 1", "select enumlabel from pg_enum where enumtypid = '{s}.tone'::regtype order by enumsortorder", "select viewname, definition from pg_views where schemaname = '{s}'",
    "select last_value, is_called from {s}.tickets", "select last_value, is_called from {s}.crane_id_seq", "select * from {s}.totals",
    "explain select * from {s}.berth where moved = 3", "explain select * from {s}.berth where id = 3", "explain select * from {s}.crane c join {s}.berth b on b.id = c.berth", "explain select * from {s}.slot where id = 1",
    *(f"select * from only {{s}}.{table}" for table in ("berth", "pier", "slot_low", "load")), "select id, berth from {s}.crane",
)  # fmt: skip

STATEMENTS = [
    "update berth set moved = moved + 1 where id < 50", "delete from berth where id > 300", "insert into berth select n, 1 from generate_series(2000, 3000) n", "update pier set moved = 4", "update slot set id = 5 where id = 1", "truncate slot", "insert into crane (berth) values (3)", "select nextval('tickets')", "refresh materialized view totals", "update load set t = 7",
    "analyze berth", "alter table berth alter vessel set default 'gone'", "alter table berth add column more int", "alter table berth rename column vessel to ship", "drop table crane", "alter table crane rename to hoist", "create table yard as select * from berth", "create index more on berth (vessel)", "drop index by_moved", "create or replace view quay as select id, moved from berth where id > 1",
    "create or replace function doubled(int) returns int language sql immutable as 'select $1 * 3'", "alter table crane disable trigger tells", "drop trigger tells on crane", "alter type tone add value 'blue'", "alter domain tons drop constraint tons_check", "alter sequence tickets increment by 5", "alter table berth set (fillfactor = 50)", "do $$begin create table yard (id int); drop view quay; end$$", "comment on table berth is 'x'", "create policy p on berth", "alter table berth alter moved set statistics 5",
]  # fmt: skip


def stands(admin: psycopg.Connection, schema: str) -> list[object]:
    return [
        [str(row).replace(schema, "own") for row in admin.execute(query.format(s=schema).encode())]
        for query in KNOWN
    ]


def run_and_restore(engine: Engine, data: str, statements: Sequence[str]) -> None:
    """One schedule with these statements, which must succeed; all is put back when it is over."""
    parts = {"gate": {"statements": statements}, "tower": {"statements": ["select 1"]}}
    scenario = Scenario.model_validate({"scenario": "kept", "data": data, "transactions": parts})
    with Stage(engine, scenario) as stage:
        run = stage.run(Serially(["gate", "tower"]))
        stage.restored()
        assert run.status["gate"] == "committed", statements


#: Statements far enough from each other in the list that none takes away what another needs.
GROUPS = 12


@pytest.mark.parametrize(
    ("private", "groups"),
    [
        (True, GROUPS),
        *(pytest.param(*one, marks=pytest.mark.soak) for one in ((False, GROUPS), (True, 1_000))),
    ],
)
def test_after_each_schedule_all_is_as_after_loading(kept, private, groups):
    with psycopg.connect(kept, autocommit=True, prepare_threshold=None) as admin:
        first = connect(kept, "first", private=private)
        try:
            first.make_scratch()
            first.load(DATA)
            wanted = stands(admin, first.schema)
        finally:
            first.close()
        engine = connect(kept, "own", private=private)
        try:
            engine.make_scratch()
            for group in filter(None, (STATEMENTS[n::groups] for n in range(groups))):
                run_and_restore(engine, DATA, group)
                assert stands(admin, engine.schema) == wanted, group
        finally:
            engine.close()


MARIADB_DATA = """
create table berth (id int primary key, moved int, vessel varchar(20) default 'none', key by_moved (moved));
insert into berth select seq, seq % 7, 'Oriel' from seq_1_to_400; analyze table berth;
create table crane (id int auto_increment primary key, berth int, seen timestamp default '2026-03-01', foreign key (berth) references berth (id)); insert into crane (berth) values (1), (2);
create table slot (id int primary key, box int) partition by range (id) (partition low values less than (10), partition high values less than maxvalue); insert into slot values (1, 0), (2, 0);
create table load_of (id int primary key, t int, twice int as (t * 2) stored, unique (twice)); insert into load_of (id, t) values (1, 1);
create table note (id int primary key, n int) engine = myisam; insert into note values (1, 0);
create sequence tickets; create view quay as select id, moved from berth;
create function doubled(a int) returns int deterministic return a * 2;
create trigger tells before update on crane for each row set new.seen = new.seen;
"""
MARIADB_KNOWN = (
    "select table_name, table_type, engine, auto_increment, create_options, table_comment from information_schema.tables where table_schema = '{s}' order by 1",
    "select table_name, column_name, ordinal_position, column_type, is_nullable, column_default, extra, generation_expression from information_schema.columns where table_schema = '{s}' order by 1, 3",
    "select table_name, index_name, seq_in_index, column_name, non_unique from information_schema.statistics where table_schema = '{s}' order by 1, 2, 3",
    "select table_name, constraint_name, delete_rule from information_schema.referential_constraints where constraint_schema = '{s}' order by 1, 2",
    "select trigger_name, event_manipulation, action_statement from information_schema.triggers where trigger_schema = '{s}' order by 1", "select routine_name, routine_definition from information_schema.routines where routine_schema = '{s}' order by 1",
    "select table_name, view_definition from information_schema.views where table_schema = '{s}' order by 1", "select table_name, n_rows from mysql.innodb_table_stats where database_name = '{s}' and table_name not like 'slot%' order by 1",
    "select next_not_cached_value, increment, cycle_option from {s}.tickets", *(f"select * from {{s}}.{table} order by 1" for table in ("berth", "crane", "slot", "load_of", "note", "quay")), "select {s}.doubled(4)",
)  # fmt: skip
MARIADB_PLANS = ("select * from {s}.berth where moved = 3", "select * from {s}.berth where id = 3", "select * from {s}.crane c join {s}.berth b on b.id = c.berth", "select * from {s}.slot where id = 1")  # fmt: skip
MARIADB_STATEMENTS = [
    "update berth set moved = moved + 1 where id < 50", "delete from berth where id > 300", "insert into berth select seq, 1, 'x' from seq_2000_to_3000", "update slot set id = 15 where id = 1", "truncate slot", "insert into crane (berth) values (3)", "delete from crane", "insert into load_of (id, t) values (2, 5)", "update note set n = 5", "select nextval(tickets)", "replace into berth values (3, 9, 'Tern')",
    "analyze table berth", "alter table berth alter vessel set default 'gone'", "alter table berth add column more int", "alter table berth rename column vessel to ship", "drop table crane", "rename table crane to hoist", "create table yard as select * from berth", "alter table berth drop key by_moved", "create index by_box on slot (box)", "drop view quay", "create or replace function doubled(a int) returns int deterministic return a * 3", "drop trigger tells", "alter sequence tickets increment 5", "alter table crane auto_increment = 70", "alter table slot drop partition high", "drop sequence tickets", "alter table note engine = innodb",
]  # fmt: skip


def stands_on_mariadb(admin: pymysql.Connection, schema: str) -> list[object]:
    found: list[object] = []
    for query in MARIADB_KNOWN:
        cursor = admin.cursor()
        cursor.execute(query.format(s=schema))
        found.append([str(row).replace(schema, "own") for row in cursor.fetchall()])
    for query in MARIADB_PLANS:
        cursor = admin.cursor(pymysql.cursors.DictCursor)
        cursor.execute("explain " + query.format(s=schema))
        found.append(
            [(row["table"], row["type"], row["key"], row["ref"]) for row in cursor.fetchall()]
        )
    return [str(one).replace(schema, "own") for one in found]


def test_after_each_schedule_all_is_as_after_loading_on_mariadb(kept_mariadb):
    where = {"unix_socket": kept_mariadb, "user": "root"}
    admin = over_socket(**where, autocommit=True)
    first = connect_mariadb(where, "first", private=True)
    try:
        first.make_scratch()
        first.load(MARIADB_DATA)
        first.analyze()  # as after every loading
        wanted = stands_on_mariadb(admin, first.schema)
    finally:
        first.close()
    engine = connect_mariadb(where, "own", private=True)
    try:
        engine.make_scratch()
        for group in (MARIADB_STATEMENTS[n::6] for n in range(0, 6, 1 if EXAMPLES == 100 else 2)):
            run_and_restore(engine, MARIADB_DATA, group)
            assert stands_on_mariadb(admin, engine.schema) == wanted, group
    finally:
        engine.close()
        admin.close()


#: Only updated, and never in a key: rows that grow, shrink, move to other pages; values that a
#: collation calls the same.
UPDATES = [
    f"update yard set box = '{'x' * 6000}' where id between 20 and 60",
    "update yard set box = 'TERN', weight = weight + 0.1 where id < 30",
    "update yard set box = null where id = 7",
    "update yard set seen = seen where weight > 3",
]


@pytest.mark.parametrize("indexed", [False, True])
@pytest.mark.parametrize("server", ["mariadb", "mysql"])
def test_rows_that_were_only_updated_are_updated_back_and_locked_as_before(
    request, server, indexed
):
    asked = ["select box from yard where block = 7 and id < 9 for update"] if indexed else []
    connect_to = {"mariadb": connect_mariadb, "mysql": connect_mysql}[server]
    where = {"unix_socket": request.getfixturevalue(f"kept_{server}"), "user": "root"}
    rows = ", ".join(f"({n}, 'tern', {n} / 7, '2026-03-01')" for n in range(1, 121))
    data = f"""create table yard (id int primary key, box longtext, weight double, seen timestamp default current_timestamp on update current_timestamp);
    insert into yard values {rows};"""
    if indexed:
        data += "alter table yard add column block int not null default 7, add index by_block (block, id);"
    parts = {
        "gate": {"statements": UPDATES, "ends": "commit"},
        "tower": {
            "statements": [
                "select id from yard where id > 90 for update",
                "select id from yard for share",
                *asked,
            ]
        },
    }
    scenario = Scenario.model_validate({"scenario": "kept", "data": data, "transactions": parts})
    engine = connect_to(where, "own", private=True)
    try:
        engine.make_scratch()
        with Stage(engine, scenario) as stage:
            assert list(engine.restorer._by_update) == ["yard"]
            first = [picture.locks for picture in stage.pictured(["tower"]).log.taken]
            assert len(first[0]) > 30
            refilled = []
            engine.restorer._refill = refilled.append
            for _ in range(3):
                run = stage.run(Serially(["gate", "tower"]))
                assert run.status["gate"] == "committed"
                again = [picture.locks for picture in stage.pictured(["tower"]).log.taken]
                assert again == first
            assert not any(refilled)
    finally:
        engine.close()


@pytest.mark.parametrize(
    ("index", "change"),
    [
        ("add index by_box (box(3))", "update yard set box = 'TERN' where id = 2"),
        (
            "add column twice int as (weight * 2), add index by_twice (twice)",
            "update yard set weight = 3 where id = 2",
        ),
        (
            "add index by_seen (seen)",
            "update yard set weight = 3 where id = 2",
        ),  # set by the server itself
        ("add fulltext index words (box)", "update yard set weight = 3 where id = 2"),
    ],
)
@pytest.mark.parametrize("server", ["mariadb", "mysql"])
def test_a_table_of_which_an_entry_of_an_index_may_change_is_filled_again(
    request, server, index, change
):
    connect_to = {"mariadb": connect_mariadb, "mysql": connect_mysql}[server]
    where = {"unix_socket": request.getfixturevalue(f"kept_{server}"), "user": "root"}
    data = f"""create table yard (id int primary key, box text, weight int, seen timestamp default current_timestamp on update current_timestamp);
    alter table yard {index}; insert into yard (id, box, weight) values (1, 'tern', 1), (2, 'gull', 2);"""
    scenario = Scenario.model_validate(
        {"scenario": "kept", "data": data, "transactions": {"gate": {"statements": [change]}}}
    )
    engine = connect_to(where, "own", private=True)
    try:
        engine.make_scratch()
        with Stage(engine, scenario):
            assert list(engine.restorer._by_update) == []
    finally:
        engine.close()
