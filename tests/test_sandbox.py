"""The wall around the scratch space on a private server: whatever a file brings, nothing outside is
changed.

Every way is run as the data of a scenario is, by the run's own login; then rows, definitions,
rights, roles and files outside must be what they were. Most ways are refused by the server; it does
not matter how.
"""

from __future__ import annotations

import contextlib
import os
import re
import tempfile
from pathlib import Path

import psycopg
import pymysql
import pytest

from catenum.engines.drivers import server_module
from catenum.engines.ports import DataError
from catenum.engines.postgresql.engine import connect as connect_postgresql
from conftest import over_socket

#: What somebody would do to the table harbour.log, or to the server, of which each is also tried
#: through other statements.
DEEDS = {
    "postgresql": (
        "delete from harbour.log", "update harbour.log set n = 9", "insert into harbour.log values (9, 9)", "merge into harbour.log l using (values (1)) v (id) on l.id = v.id when matched then delete", "truncate harbour.log", "drop table harbour.log", "alter table harbour.log add column more int",
        "alter table harbour.log rename to gone", "alter table harbour.log owner to current_user", "create index on harbour.log (n)", "comment on table harbour.log is 'x'", "grant all on harbour.log to public", "revoke all on harbour.log from public",
        "create table harbour.mine (id int)", "create function harbour.mine() returns int language sql as 'select 1'", "select setval('harbour.tickets', 99)", "select nextval('harbour.tickets')", "lock table harbour.log", "select * from harbour.log for update", "alter sequence harbour.tickets restart with 7", "drop domain harbour.tons", "drop schema harbour cascade", "alter schema harbour rename to gone",
        "create trigger t after insert on harbour.log execute function suppress_redundant_updates_trigger()", "create rule r as on insert to harbour.log do nothing", "create policy p on harbour.log", "alter table harbour.log enable row level security", "cluster harbour.log", "reindex table harbour.log",
    ),
    "mariadb": (
        "delete from harbour.log", "update harbour.log set n = 9", "insert into harbour.log values (9, 9)", "replace into harbour.log values (1, 9)", "truncate harbour.log", "drop table harbour.log", "alter table harbour.log add column more int", "rename table harbour.log to harbour.gone", "rename table harbour.log to log", "create index by_n on harbour.log (n)",
        "create table harbour.mine (id int)", "create view harbour.mine as select 1", "create function harbour.mine() returns int return 1", "create procedure harbour.mine() select 1", "drop view harbour.seen", "drop database harbour", "alter database harbour character set latin1", "lock tables harbour.log write",
        "delete l from harbour.log l", "update harbour.log l join harbour.log k on l.id = k.id set l.n = 8", "load data infile '/etc/hostname' into table harbour.log", "select nextval(harbour.tickets)", "alter sequence harbour.tickets restart 7", "create trigger harbour.t after insert on harbour.log for each row set @a = 1", "optimize table harbour.log", "analyze table harbour.log", "insert into harbour.log select * from harbour.log on duplicate key update n = 3", "create or replace table harbour.log (id int)",
    ),
}  # fmt: skip
DEEDS["mysql"] = (
    *(deed for deed in DEEDS["mariadb"] if "tickets" not in deed),
    "table harbour.log into outfile '{file}'", "import table from '{file}'", "rename table harbour.log to harbour.gone",
    "alter table harbour.log add column more int, algorithm = instant", "insert into harbour.log values (9, 9) as new on duplicate key update n = new.n",
)  # fmt: skip
THROUGH = {
    "postgresql": (
        "{deed}", "do $way$begin {deed}; end$way$", "create function way() returns void language plpgsql as $way$begin {deed}; end$way$; select way()", "create function way() returns void language plpgsql security definer as $way$begin {deed}; end$way$; select way()", "create procedure way() language plpgsql as $way$begin {deed}; end$way$; call way()",
        "do $way$begin execute $text${deed}$text$; end$way$", "create table bait (id int); create function way() returns trigger language plpgsql as $way$begin {deed}; return null; end$way$; create trigger t after insert on bait for each row execute function way(); insert into bait values (1)",
        "reset role; reset session authorization; {deed}", "set search_path = harbour; {deed}",
    ),
    "mariadb": (
        "{deed}", "begin not atomic {deed}; end", "create procedure way() {deed}; call way()", "create procedure way() sql security definer begin {deed}; end; call way()", "prepare way from \"{deed}\"; execute way", "execute immediate concat(\"{deed}\", '')",
        "create table bait (id int); create trigger t after insert on bait for each row begin {deed}; end; insert into bait values (1)", "set role none; {deed}", "use harbour; {deed}",
    ),
}  # fmt: skip
THROUGH["mysql"] = tuple(way for way in THROUGH["mariadb"] if "not atomic" not in way)
ALONE = {
    "postgresql": (
        "copy (select 1) to program 'touch {file}'", "copy (select 1) to '{file}'", "create table bait (t text); copy bait from program 'touch {file}; echo x'", "create table bait (t text); copy bait from '/etc/passwd'", "select pg_read_file('/etc/passwd')", "select lo_import('/etc/passwd')", "select lo_export(lo_create(0), '{file}')",
        "create role intruder", "create user intruder superuser", "alter role catenum nologin", "alter role current_user superuser", "grant pg_execute_server_program to current_user", "grant pg_write_server_files to current_user", "set role catenum", "set session authorization catenum", "create database gone", "drop database marrowgate", "alter database marrowgate set work_mem = '1MB'", "alter system set work_mem = '1MB'", "select pg_reload_conf()",
        "create extension dblink", "create extension file_fdw", "create language plpython3u", "create function way() returns int language c as '/tmp/x.so', 'f'", "update pg_class set relname = 'gone' where relname = 'log'", "delete from pg_proc", "insert into pg_authid default values", "update pg_database set datallowconn = false", "create tablespace t location '{folder}'", "create server s foreign data wrapper w", "create publication p for all tables", "create subscription s connection 'x' publication p", "create event trigger e on ddl_command_start execute function suppress_redundant_updates_trigger()",
        "select pg_terminate_backend(pid) from pg_stat_activity where usename <> current_user", "select pg_rotate_logfile()", "checkpoint", "load '/tmp/x'", "vacuum harbour.log", "analyze harbour.log", "create schema intruder", "create table public.intruder (id int)", "create aggregate public.a (int) (sfunc = int4pl, stype = int)", "create cast (int as harbour.tons) without function", "alter default privileges grant all on tables to public", "security label on table harbour.log is 'x'", "create view public.v as select 1", "create type public.t as (a int)", "alter function pg_catalog.now() rename to gone", "drop function pg_catalog.now()", "reassign owned by catenum to current_user", "drop owned by catenum", "explain analyze delete from harbour.log", "with gone as (delete from harbour.log returning 1) select * from gone", "create table taken as select * from harbour.log", "select * into taken from harbour.log", "alter table harbour.log set schema public", "create table heir () inherits (harbour.log)", "create table child (id int references harbour.log)",
        "create function md5(text) returns text language plpgsql as $way$begin delete from harbour.log; return 'x'; end$way$", "create function way(name, text) returns text language plpgsql as $way$begin delete from harbour.log; return 'x'; end$way$; create operator || (leftarg = name, rightarg = text, function = way)", "create function way(int) returns boolean language plpgsql as $way$begin begin delete from harbour.log; exception when others then null; end; return true; end$way$; create table bait (id int primary key check (way(id))); insert into bait values (1)", "create view berth as select 1 as id, pg_read_file('/etc/hostname') as t",
    ),
    "mariadb": (
        "select 1 into outfile '{file}'", "select 1 into dumpfile '{file}'", "select load_file('/etc/passwd')", "create table bait (t text); load data infile '/etc/passwd' into table bait", "create user intruder", "create user intruder identified by 'x'", "grant all on *.* to current_user()", "grant file on *.* to current_user()", "grant all on harbour.* to current_user()", "alter user root@localhost identified by 'x'", "set password for root@localhost = password('x')", "drop user root@localhost", "rename user root@localhost to gone@localhost", "set global max_connections = 10", "set global general_log = on", "set global general_log_file = '{file}'", "set global init_connect = 'delete from harbour.log'",
        "install plugin x soname 'ha_connect'", "install soname 'auth_pam'", "uninstall soname 'metadata_lock_info'", "create function f returns string soname 'x.so'", "flush tables", "flush tables with read lock", "flush privileges", "reset master", "shutdown", "kill 1", "create database gone", "create server s foreign data wrapper mysql options (host 'x')", "insert into mysql.global_priv values ('x', 'y', '{}')", "update mysql.global_priv set priv = '{}'", "delete from mysql.global_priv", "insert into mysql.func values ('f', 0, 'x', 'function')", "create role intruder", "set role intruder", "create event e on schedule every 1 second do delete from harbour.log; set global event_scheduler = on", "create table bait (id int) data directory = '{folder}'", "create table bait (id int) engine = myisam data directory = '{folder}' index directory = '{folder}'", "create table bait (id int) engine = aria data directory = '{folder}'", "create table bait (id int) partition by hash (id) (partition p data directory = '{folder}')", "create definer = root@localhost procedure way() delete from harbour.log; call way()", "create definer = root@localhost function way() returns int begin delete from harbour.log; return 1; end; select way()", "create definer = root@localhost view way as select * from harbour.log; select * from way", "create sql security definer view way as select * from harbour.log; delete from way", "create table taken like harbour.log", "create table taken as select * from harbour.log", "handler harbour.log open", "backup stage start", "change master to master_host = 'x'", "start slave", "purge binary logs before now()", "set sql_log_bin = 0", "set session sql_mode = ''; delete from harbour.log", "create table child (id int, foreign key (id) references harbour.log (id))", "lock tables mysql.user write", "grant proxy on root@localhost to current_user()", "set default role all", "create table harbour.bait engine = myisam as select 1", "repair table harbour.log", "drop procedure if exists harbour.keeps", "alter procedure harbour.keeps comment 'x'", "call harbour.keeps()",
    ),
}  # fmt: skip
ALONE["mysql"] = (
    *ALONE["mariadb"],
    "set persist max_connections = 9", "set persist_only max_connections = 9", "set @@persist.max_connections = 9", "restart", "shutdown",
    "clone local data directory '{file}'", "install component 'file://component_validate_password'", "create undo tablespace u add datafile '{file}.ibu'",
    "create tablespace t add datafile '{file}.ibd'", "alter instance rotate innodb master key", "alter instance disable innodb redo_log", "lock instance for backup",
    "create resource group g type = user", "set resource group SYS_default", "create role intruder", "grant application_password_admin on *.* to current_user()",
    "alter user root@localhost identified by 'x'", "create spatial reference system 4999999 name 'x' definition 'y'", "create table bait (id int) data directory = '{folder}'",
    "update performance_schema.setup_instruments set enabled = 'NO'", "truncate performance_schema.accounts", "create server s foreign data wrapper mysql options (host 'x')",
    "change replication source to source_host = 'x'", "start replica", "purge binary logs before now()", "reset binary logs and gtids", "xa recover",
)  # fmt: skip


def ways(server: str) -> list[str]:
    """All of them: at least two hundred."""
    through = [how.replace("{deed}", deed) for deed in DEEDS[server] for how in THROUGH[server]]
    every = [*through, *ALONE[server]]
    return [
        way.replace("way", f"way{n}").replace("bait", f"bait{n}") for n, way in enumerate(every)
    ]


#: What takes a session back to the login that it was opened with. Refused by name; only a login of
#: its own makes it harmless.
BACK = re.compile(r"discard|\brole\b|session.authorization|reset all", re.IGNORECASE)


def begins_anew(tried: list[str], number: int) -> bool:
    """Whether what stands in the scratch space must not be what the way before left."""
    before = tried[number - 1]
    return number % 20 == 0 or any(
        word in before for word in ("set ", "use ", "berth", "md5", "operator")
    )


@pytest.fixture
def reachable():
    """A folder that the server's own user may write to (no parent of ``tmp_path`` lets others in)."""
    with tempfile.TemporaryDirectory() as folder:
        os.chmod(folder, 0o777)
        yield Path(folder)


def outside_postgresql(admin: psycopg.Connection) -> object:
    asked = (
        "select * from harbour.log order by 1", "select last_value, is_called from harbour.tickets", "select nspname, nspacl::text, nspowner from pg_namespace where nspname not like 'catenum%' and nspname not like 'pg_%temp%' order by 1",
        "select relname, relacl::text, relowner, relkind, relrowsecurity, obj_description(oid) from pg_class where relnamespace in ('harbour'::regnamespace, 'public'::regnamespace) order by 1", "select count(*), sum(hashtext(proname || prosrc || proowner)) from pg_proc where pronamespace in (select oid from pg_namespace where nspname not like 'catenum%')",
        "select rolname, rolsuper, rolcanlogin, rolpassword from pg_authid where rolname not like 'catenum_%' order by 1", "select roleid::regrole::text, member::regrole::text from pg_auth_members where member::regrole::text like 'catenum%' and roleid::regrole::text not like 'catenum%' order by 1, 2", "select datname, datacl::text, datallowconn from pg_database order by 1", "select count(*) from pg_extension", "select count(*) from pg_language", "select typname from pg_type where typnamespace = 'harbour'::regnamespace order by 1",
        "select attname from pg_attribute where attrelid = 'harbour.log'::regclass and attnum > 0 order by 1", "select count(*) from pg_trigger where tgrelid = 'harbour.log'::regclass", "select count(*) from pg_constraint where confrelid = 'harbour.log'::regclass", "select name, setting from pg_file_settings order by 1", "select count(*) from pg_tablespace", "select count(*) from pg_publication", "select count(*) from pg_event_trigger",
    )  # fmt: skip
    return [admin.execute(query.encode()).fetchall() for query in asked]


@pytest.mark.parametrize("private", [True, False])
def test_nothing_outside_is_changed_on_postgresql(kept, reachable, private):
    file = reachable / "made"
    with psycopg.connect(kept, autocommit=True) as admin:
        admin.execute(
            "create schema harbour; create table harbour.log (id int primary key, n int); insert into harbour.log values (1, 1), (2, 2); create sequence harbour.tickets; create domain harbour.tons as int"
        )
        try:
            before = outside_postgresql(admin)
            tried = [way for way in ways("postgresql") if private or not BACK.search(way)]
            assert len(tried) >= 200
            engine = connect_postgresql(kept, "local", private=private)
            try:
                engine.make_scratch()
                for number, way in enumerate(tried):
                    if begins_anew(tried, number):
                        engine.load(
                            "create table berth (id int primary key); insert into berth values (1)"
                        )
                    with contextlib.suppress(DataError):
                        engine.add(
                            way.replace("{file}", str(file)).replace("{folder}", str(reachable))
                        )
                    engine.rows(5)  # reads what stands there
                    assert not list(reachable.iterdir()), way
                    assert outside_postgresql(admin) == before, way
            finally:
                engine.close()
            assert outside_postgresql(admin) == before
            own = admin.execute(
                "select count(*) from pg_roles where rolname like %s", [f"{engine.schema}%"]
            )
            assert own.fetchone() == (0,)
        finally:
            admin.execute("drop schema harbour cascade")


def outside_innodb(admin: pymysql.Connection, server: str) -> object:
    asked = (
        "select * from harbour.log order by 1", {"mariadb": "select * from harbour.tickets", "mysql": "select * from mysql.global_grants where user not like 'catenum%' order by 1, 2, 3"}[server], {"mariadb": "select user, host, priv from mysql.global_priv where user not like 'catenum%' order by 1, 2", "mysql": "select * from mysql.user where user not like 'catenum%' order by host, user"}[server], "select * from mysql.tables_priv", "select db, user from mysql.db where user not like 'catenum%'", "select schema_name, default_character_set_name from information_schema.schemata where schema_name not like 'catenum%' order by 1",
        "select table_name, table_type, engine, table_comment from information_schema.tables where table_schema = 'harbour' order by 1", "select routine_name, routine_comment from information_schema.routines where routine_schema not like 'catenum%' order by 1", "select count(*) from information_schema.plugins where plugin_status = 'ACTIVE'", "select column_name from information_schema.columns where table_schema = 'harbour' and table_name = 'log' order by 1", "select index_name from information_schema.statistics where table_schema = 'harbour' order by 1", "select trigger_name from information_schema.triggers where trigger_schema = 'harbour'",
        "select @@global.max_connections, @@global.general_log, @@global.general_log_file, @@global.init_connect, @@global.event_scheduler", "select count(*) from mysql.func", "select count(*) from mysql.servers", "select constraint_name from information_schema.referential_constraints where unique_constraint_schema = 'harbour'",
    )  # fmt: skip
    found = []
    for query in asked:
        cursor = admin.cursor()
        cursor.execute(query)
        found.append(cursor.fetchall())
    return found


@pytest.mark.parametrize("private", [True, pytest.param(False, marks=pytest.mark.soak)])
@pytest.mark.parametrize("server", ["mariadb", "mysql"])
def test_nothing_outside_is_changed_on_mariadb_and_mysql(request, reachable, server, private):
    socket = request.getfixturevalue(f"kept_{server}")
    file = reachable / "made"
    admin = over_socket(unix_socket=socket, user="root", autocommit=True)
    for sql in ("create database harbour", "create table harbour.log (id int primary key, n int)", "insert into harbour.log values (1, 1), (2, 2)", *(["create sequence harbour.tickets"] if server == "mariadb" else []), "create view harbour.seen as select * from harbour.log", "create procedure harbour.keeps() delete from harbour.log"):  # fmt: skip
        admin.cursor().execute(sql)
    try:
        before = outside_innodb(admin, server)
        tried = ways(server)
        assert len(tried) >= 200
        tried = tried if private else tried[::4]  # the same wall, raised by another login
        engine = server_module(server, ".engine").connect(
            {"unix_socket": socket, "user": "root"}, "local", private=private
        )
        try:
            engine.make_scratch()
            for number, way in enumerate(tried):
                if begins_anew(tried, number):
                    engine.load(
                        "create table berth (id int primary key); insert into berth values (1)"
                    )
                with contextlib.suppress(DataError):
                    engine.add(way.replace("{file}", str(file)).replace("{folder}", str(reachable)))
                engine.rows(5)
                assert not list(reachable.iterdir()), way
                assert outside_innodb(admin, server) == before, way
        finally:
            engine.close()
        cursor = admin.cursor()
        cursor.execute("select count(*) from mysql.user where user = %s", (engine.schema,))
        assert cursor.fetchone() == (0,)
    finally:
        admin.cursor().execute("drop database harbour")


@pytest.mark.parametrize("server", ["postgresql", "mariadb", "mysql"])
def test_transactions_data_and_rules_are_run_by_the_runs_own_login(
    call, tmp_path, kept_mariadb, kept_mysql, server
):
    like = f"left({'current_user::text' if server == 'postgresql' else 'current_user()'}, 8) = 'catenum_'"
    (tmp_path / "s.yaml").write_text(
        f"scenario: who\ndata: |\n  create table berth (own int); insert into berth select count(*) from (select 1) x where {like};\n"
        f"transactions:\n  one: {{statements: [\"select {like} as own from berth\"]}}\nholds:\n  data: select own = 1 from berth\n  rules: \"select {like}\"\n"
    )  # fmt: skip
    done = call("play", "s.yaml", "--target", f"local:{server}", "--json").json
    assert done["outcome"]["holds"] == {"data": True, "rules": True}
    (event,) = [event for event in done["events"] if event["what"] == "done" and event["statement"]]
    assert event["result"]["rows"] in ([["t"]], [["1"]])


PLAIN = """scenario: plain
data: |
  create table berth (id int primary key, vessel varchar(20));
  insert into berth values (1, 'Halcyon'), (2, 'Oriel');
transactions:
  gate: {statements: [savepoint here, "update berth set vessel = 'Tern' where id = 1"]}
  tower: {statements: ["{statement}"]}
"""


@pytest.mark.parametrize(
    ("server", "statement", "why"),
    [
        ("postgresql", "select lower(vessel) from berth where id = 2 for update", None),
        ("postgresql", "do $$ begin delete from berth; end $$", "tower 1 is not certain to stay within the run's scratch space: Catenum cannot read it whole"),
        ("postgresql", "select pg_catalog.query_to_xml('select 1', true, true, '')", "it calls a function that Catenum does not know"),
        ("mariadb", "replace into berth values (2, 'Tern')", "Catenum cannot read it whole"),
        ("mariadb", "select lower(vessel) from berth where id = 2 for update", None),
        ("mysql", "replace into berth values (2, 'Tern')", "Catenum cannot read it whole"),
        ("mysql", "select lower(vessel) from berth where id = 2 for update", None),
    ],
)  # fmt: skip
def test_where_no_wall_can_be_made_only_what_is_read_whole_is_run(call, tmp_path, kept, request, server, statement, why):  # fmt: skip
    (tmp_path / "s.yaml").write_text(PLAIN.replace("{statement}", statement))
    if server == "postgresql":
        with psycopg.connect(kept, autocommit=True) as admin:
            if admin.execute("select 1 from pg_roles where rolname = 'clerk'").fetchone() is None:
                admin.execute(
                    "create role clerk login; grant create on database marrowgate to clerk"
                )
        parts = psycopg.conninfo.conninfo_to_dict(kept)
        url = f"postgresql://clerk@/marrowgate?host={parts['host']}"
    else:
        socket = request.getfixturevalue(f"kept_{server}")
        cursor = over_socket(unix_socket=socket, user="root", autocommit=True).cursor()
        cursor.execute("create user if not exists clerk@localhost")
        cursor.execute("grant all on *.* to clerk@localhost")  # all but to grant it to others
        url = f"{server}://clerk@localhost/?unix_socket={socket}"
    done = call("play", "s.yaml", "--target", url, "--quiet")
    if why is None:
        assert done.code == 0, done.err
        return
    assert done.code == 2
    assert f"s.yaml:7:{PLAIN.splitlines()[6].index('{statement}')}: " in done.err
    assert why in done.err
    assert "allow it with --outside" in done.err
    assert call("play", "s.yaml", "--target", url, "--quiet", "--outside").code in (0, 1)
