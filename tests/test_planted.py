"""Functions planted in every place in which SQL can call one: none is ever run by a session with
more rights.

Each counts its calls in a sequence outside of the scratch space, which no rollback takes back: one
for calls by the scenario's own login, one for calls by any other.
"""

from __future__ import annotations

import json

import psycopg
import pytest

from conftest import over_socket

#: ``spy`` counts, and gives back what it is given; ``watcher`` is its trigger.
_SPY = """
  create function counted() returns boolean language plpgsql volatile as $$ begin
    if (select rolsuper or rolbypassrls or rolcreaterole or rolreplication from pg_catalog.pg_roles
        where rolname = current_user)
      or (select rolsuper or rolbypassrls from pg_catalog.pg_roles where rolname = session_user)
      or pg_catalog.pg_has_role(current_user, 'pg_read_all_data', 'usage')
    then perform pg_catalog.nextval(pg_catalog.concat('har', 'bour.alarm')::pg_catalog.regclass);
    else perform pg_catalog.nextval(pg_catalog.concat('har', 'bour.calls')::pg_catalog.regclass); end if; return true; end $$;
  create function spy(int) returns int language sql immutable as 'select case when {0}.counted() then $1 end';
  create function spy(text) returns text language sql immutable as 'select case when {0}.counted() then $1 end';
  create function watcher() returns trigger language plpgsql as $$ begin perform {0}.counted(); return new; end $$;
"""
#: Where a function stands: the data that puts it there, and what a transaction does with it.
PLACES = {
    "domain's check": ("create domain tons as int check (spy(value) > 0); create table berth (id int primary key, kg tons, at tons); insert into berth values (1, 5, 6), (2, 7, 8)", "update berth set kg = 9 where id = 1"),
    "domain as key": ("create domain tons as int check (spy(value) > 0); create table berth (id tons primary key, kg int); insert into berth values (1, 5), (2, 7)", "update berth set kg = 9 where id = 1"),
    "domain of a day": ("create domain day as date check (spy(extract(day from value)::int) > 0); create table berth (id day primary key, kg int); insert into berth values ('2026-11-01', 5), ('2026-11-02', 7)", "update berth set kg = 9 where id = '2026-11-01'"),
    "type of a lower-cased name": ("create domain \"Tons\" as int check (spy(value) > 0); create domain tons as date; create table berth (id int primary key, kg \"Tons\"); create table \"Berth\" (id int primary key, kg tons); insert into berth values (1, 5), (2, 7)", "update berth set kg = 9 where id = 1"),
    "cast": ("create type load as (kg int); create function as_text(load) returns text language sql immutable as 'select spy((($1).kg)::text)'; create cast (load as text) with function as_text(load); create table berth (id load primary key, kg int); insert into berth values (row(1), 5), (row(2), 7)", "update berth set kg = 9 where id = row(1)::load"),
    "cast of a table's row": ("create table berth (id int primary key, kg int); insert into berth values (1, 5), (2, 7); create function as_text(berth) returns text language sql immutable as 'select spy($1.kg::text)'; create cast (berth as text) with function as_text(berth); create materialized view seen as select * from berth; create function mv(seen) returns text language sql immutable as 'select spy($1.kg::text)'; create cast (seen as text) with function mv(seen)", "update berth set kg = 9 where id = 1"),
    "operator": ("create type load as (kg int); create function same(load, load) returns boolean language sql immutable as 'select spy(($1).kg) = ($2).kg'; create operator = (leftarg = load, rightarg = load, function = same); create operator <> (leftarg = load, rightarg = load, function = same); create table berth (id int primary key, l load); insert into berth values (1, row(5)), (2, row(7))", "update berth set l = row(9) where l = row(5)::load"),
    "operator on plain types": ("create function same(int, text) returns boolean language sql immutable as 'select spy($1) = $2::int'; create operator = (leftarg = int, rightarg = text, function = same); create operator <> (leftarg = text, rightarg = int, function = same2); create table berth (id int primary key, kg int); insert into berth values (1, 5)", "update berth set kg = 9 where id = 1"),
    "default": ("create table berth (id int primary key, kg int default spy(3)); insert into berth (id) values (1), (2)", "insert into berth (id) values (7)"),
    "check": ("create table berth (id int primary key, kg int check (spy(kg) > 0)); insert into berth values (1, 5), (2, 7)", "update berth set kg = 9 where id = 1"),
    "generated column": ("create table berth (id int primary key, kg int, more int generated always as (spy(kg)) stored); insert into berth (id, kg) values (1, 5), (2, 7)", "update berth set kg = 9 where id = 1"),
    "index expression": ("create table berth (id int primary key, kg int); insert into berth values (1, 5), (2, 7); create index by_kg on berth (spy(kg))", "update berth set kg = 9 where id = 1"),
    "index condition": ("create table berth (id int primary key, kg int); insert into berth values (1, 5), (2, 7); create unique index by_kg on berth (kg) where spy(kg) > 0", "update berth set kg = 9 where id = 1"),
    "exclusion": ("create table berth (id int primary key, kg int, exclude using btree (spy(kg) with =)); insert into berth values (1, 5), (2, 7)", "update berth set kg = 9 where id = 1"),
    "policy": ("create table berth (id int primary key, kg int); insert into berth values (1, 5), (2, 7); alter table berth enable row level security; create policy p on berth using (spy(kg) > 0)", "update berth set kg = 9 where id = 1"),
    "policy for the owner": ("create table berth (id int primary key, kg int); insert into berth values (1, 5), (2, 7); alter table berth enable row level security; alter table berth force row level security; create policy p on berth using (spy(kg) > 5) with check (spy(kg) > 0)", "update berth set kg = 9 where id = 2"),
    "rule": ("create table berth (id int primary key, kg int); insert into berth values (1, 5), (2, 7); create table log (n int); create rule r as on update to berth do also insert into log values (spy(new.kg))", "update berth set kg = 9 where id = 1"),
    "view": ("create table berth (id int primary key, kg int); insert into berth values (1, 5), (2, 7); create view seen as select spy(kg) as kg from berth; create materialized view kept as select spy(kg) as kg from berth", "select * from seen"),
    "trigger": ("create table berth (id int primary key, kg int); insert into berth values (1, 5), (2, 7); create trigger t after insert or update on berth for each row execute function watcher(); alter table berth enable always trigger t", "update berth set kg = 9 where id = 1"),
    "trigger for replicas": ("create table berth (id int primary key, kg int); insert into berth values (1, 5), (2, 7); create trigger t before insert or update on berth for each row execute function watcher(); alter table berth enable replica trigger t", "update berth set kg = 9 where id = 1"),
    "statistics": ("create table berth (id int primary key, kg int); insert into berth select n, n from generate_series(1, 300) n; create statistics s on (spy(kg)), id from berth; analyze berth", "update berth set kg = 9 where id = 1"),
    "collation": ("create collation port (provider = icu, locale = 'und-u-ks-level2', deterministic = false); create table berth (id text collate port primary key, kg int check (spy(kg) > 0)); insert into berth values ('a', 5), ('b', 7)", "update berth set kg = 9 where id = 'A'"),
    "shadowed functions": ("create function md5(text) returns text language sql immutable as 'select spy($1)'; create function concat(text) returns text language sql as 'select spy($1)'; create function string_agg(text, text) returns text language sql as 'select spy($1)'; create function lower(text) returns text language sql as 'select spy($1)'; create function count(text) returns int language sql as 'select spy(1)'; create function pg_typeof(int) returns int language sql as 'select spy(1)'; create table berth (id int primary key, kg int check (spy(kg) > 0)); insert into berth values (1, 5), (2, 7)", "update berth set kg = 9 where id = 1"),
    "partition key": ("create table berth (id int, kg int) partition by range (spy(id)); create table low partition of berth for values from (0) to (5); create table high partition of berth for values from (5) to (9); insert into berth values (1, 5), (7, 7)", "update berth set kg = 9 where id = 1"),
    "range type": ("create function gap(date, date) returns float8 language sql immutable as 'select spy(1)::float8'; create type days as range (subtype = date, subtype_diff = gap); create table berth (id int primary key, d days); insert into berth values (1, '[2026-11-01,2026-11-05)'); create index by_d on berth using gist (d)", "update berth set d = '[2026-11-01,2026-11-09)' where id = 1"),
}  # fmt: skip
#: Of which nothing is called by a run: what cannot be called, must not be missed.
QUIET = {
    "operator on plain types",
    "view",
    "cast",
    "cast of a table's row",
    "policy",
    "trigger for replicas",
}


#: Where changes are tried as well: the other commands come upon the same queries.
PROPOSED = {"domain's check", "index expression", "shadowed functions"}


@pytest.fixture
def harbour(kept):
    with psycopg.connect(kept, autocommit=True) as admin:
        admin.execute("create schema harbour; grant usage on schema harbour to public")
        admin.execute("create sequence harbour.alarm; create sequence harbour.calls")
        admin.execute("grant all on all sequences in schema harbour to public")
        yield admin
        admin.execute("drop schema harbour cascade")


def counts(admin: psycopg.Connection) -> tuple[int, int]:
    query = "select coalesce(pg_sequence_last_value('harbour.{}'::regclass), 0)"
    return tuple(admin.execute(query.format(name)).fetchone()[0] for name in ("alarm", "calls"))


@pytest.mark.parametrize("place", PLACES)
def test_no_planted_function_is_run_with_more_rights_on_postgresql(call, tmp_path, harbour, place):
    data, statement = PLACES[place]
    one = {"statements": [statement]}
    plain = {
        "scenario": "planted",
        "data": f"{_SPY.replace('{0}.', '')}{data};",  # found where the session looks for names
        "transactions": {"early": one, "late": one},
        "holds": {"all": "select count(*) >= 0 from pg_catalog.pg_class"},
    }
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    propose = [("propose", "--for", "4s")] if place in PROPOSED else []
    for words in (("play", "--locks", "full"), ("explore",), *propose):
        done = call(words[0], "s.yaml", *words[1:], "--json")
        assert done.code in (0, 1, 2), done.err
        alarm, calls = counts(harbour)
        assert alarm == 0, f"{place}: {words[0]} ran it {alarm} times with more rights"
    assert calls or place in QUIET, f"{place}: it was never called ({done.err})"


#: The same with InnoDB: whoever runs it as somebody with more rights changes a variable of the
#: server.
_INVOKED = "begin if current_user() not like 'catenum\\\\_%' then set global max_error_count = 77; end if; {0} end; "
SPIES = (
    "create function spy(n int) returns int no sql sql security invoker " + _INVOKED.format("return n;")
    + "create function told(n int) returns text no sql sql security invoker " + _INVOKED.format("return 'x';")
    + "create procedure does() sql security invoker " + _INVOKED.format("")
)  # fmt: skip
INVOKED = {
    "view": ("create sql security invoker view seen as select id, spy(kg) as kg from berth; create sql security invoker view berths as select * from berth where spy(id) > 0;", "select * from seen"),
    "view that is written": ("create sql security invoker view berths as select * from berth where spy(id) > 0;", "update berths set kg = 3 where id = 1"),
    "view of nothing": ("create sql security invoker view moment as select spy(1) as n, told(2) as t;", "select * from moment, berth"),
    "view of its definer": ("create sql security definer view seen as select spy(kg) as kg from berth;", "select * from seen"),
    "triggers": ("create trigger a before update on berth for each row set new.kg = spy(new.kg); create trigger b before insert on berth for each row set new.kg = spy(new.kg); create trigger c after delete on berth for each row call does();", "update berth set kg = 4 where id = 1"),
    "statement": ("", "update berth set kg = spy(4) where spy(id) = 1"),
    "procedure": ("", "call does()"),
}  # fmt: skip


@pytest.mark.parametrize("server", ["mysql", pytest.param("mariadb", marks=pytest.mark.soak)])
@pytest.mark.parametrize("place", INVOKED)
def test_no_planted_function_is_run_with_more_rights_with_innodb(
    request, call, tmp_path, server, place
):
    socket = request.getfixturevalue(f"kept_{server}")
    data, statement = INVOKED[place]
    one = {"statements": [statement]}
    plain = {
        "scenario": "planted",
        "data": f"create table berth (id int primary key, kg int); insert into berth values (1, 5), (2, 7); {SPIES}{data}",
        "transactions": {"early": one, "late": one},
        "holds": {"all": "select sum(spy(kg)) >= 0 from berth"},
    }
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    with (
        over_socket(unix_socket=socket, user="root", autocommit=True) as admin,
        admin.cursor() as cursor,
    ):
        try:
            for words in (("play", "--locks", "full"), ("explore",)):
                done = call(words[0], "s.yaml", *words[1:], "--json", "--target", f"local:{server}")
                assert done.code in (0, 1), done.err
                cursor.execute("select @@global.max_error_count")
                assert cursor.fetchone() != (77,), f"{place}: {words[0]} ran it with more rights"
            # The trap is one: whoever has more rights springs it.
            cursor.execute("create database trap")
            cursor.execute("use trap")
            cursor.execute(SPIES.split("; end; ")[0] + "; end")
            cursor.execute("select spy(1)")
            cursor.execute("select @@global.max_error_count")
            assert cursor.fetchone() == (77,)
        finally:
            cursor.execute("set global max_error_count = default")
            cursor.execute("drop database if exists trap")
