"""What a scenario may not do by accident: reach beyond its scratch space, or end transactions by
itself.
"""

from __future__ import annotations

import pytest

from catenum.core.servers import rules_of

BEYOND = {
    "postgresql": [
        ("drop schema public cascade", "drop schema"),
        ("ALTER /* all of it */ SYSTEM set work_mem = '1MB'", "alter system"),
        ("create database harbour", "create database"),
        ("set search_path to public", "set search_path"),
        ("set local search_path = harbour", "set local search_path"),
        ("discard all", "discard all"),
        ("select set_config('search_path', 'public', false)", "set_config('search_path"),
        ("select pg_terminate_backend(pid) from crane", "pg_terminate_backend"),
        ("select nextval('harbour.berth_id')", "nextval('harbour"),
        ("vacuum full", "vacuum full"),
        ("grant clerk to pilot", "grant"),
        ("copy crane from program 'cat'", "copy crane from program"),
        ("reindex (verbose) database harbour", "reindex (verbose) database"),
    ],
    "mariadb": [
        ("use harbour", "use"),
        ("drop database harbour", "drop database"),
        ("create or replace user pilot", "create or replace user"),
        ("set session lock_wait_timeout = 3, global lock_wait_timeout = 1", "set session"),
        ("set @@global.lock_wait_timeout = 1", "set @@ global"),
        ("flush tables with read lock", "flush"),
        ("kill 5", "kill"),
        ("select * from crane into outfile '/tmp/x'", "select * from crane into outfile"),
        ("/*!50000 drop database harbour */", "drop database"),
        ("/*M!100100 set global lock_wait_timeout = 1 */ ", "set global"),
    ],
}
WITHIN = {
    "postgresql": [
        "create index concurrently on crane (boxes)",
        "vacuum full crane",
        "set local lock_timeout = '1s'",
        "select nextval('berth_id')",
        "grant select on crane to pilot",
        "select 'drop database harbour'",
        "-- drop database harbour\nselect 1",
        "select set_config('lock_timeout', '1s', true)",
        "savepoint before_crane",
    ],
    "mariadb": [
        "set session lock_wait_timeout = 1",
        "insert into crane values ('set global', 'into outfile')",
        "/*!40101 set names utf8mb4 */",
        "alter table crane add user int",
        "create table schema_of_yard (id int)",
        "lock tables crane write",
    ],
}


def beyond(server, script):
    rules = rules_of(server)
    return [
        words for piece in rules.sql.pieces(script) if (words := rules.sql.reaches_beyond(piece))
    ]


@pytest.mark.parametrize(
    ("server", "sql", "words"), [(s, *case) for s, cases in BEYOND.items() for case in cases]
)
def test_what_reaches_beyond_the_scratch_space_is_known(server, sql, words):
    (found,) = beyond(server, f"select 1;\n{sql};\nselect 2")
    assert found.startswith(words)


@pytest.mark.parametrize(
    ("server", "sql"), [(s, sql) for s, cases in WITHIN.items() for sql in cases]
)
def test_what_stays_within_is_let_be(server, sql):
    assert beyond(server, sql) == []
    assert rules_of(server).sql.handles_transactions(sql) is None


@pytest.mark.parametrize(
    ("server", "sql", "words"),
    [
        ("postgresql", "prepare transaction 'berthing'", "prepare transaction"),
        ("postgresql", "rollback prepared 'berthing'", "rollback prepared"),
        ("mariadb", "xa start 'berthing'", "xa start"),
        ("mariadb", "set session autocommit = 1", "set session autocommit"),
        ("postgresql", "prepare berthing as select 1", None),
    ],
)
def test_work_that_catenum_could_not_see_end_is_known(server, sql, words):
    assert rules_of(server).sql.handles_transactions(sql) == words


def written(
    tmp_path, statement: str, data: str = "create table crane (id int primary key, boxes int)"
) -> str:
    (tmp_path / "s.yaml").write_text(
        f"scenario: reach\ndata: |\n  {data}\ntransactions:\n  north:\n    statements:\n"
        f"      - select count(*) from crane\n      - |\n        {statement}\n"
        "remedies: {wait less: {timeout: 100ms}}\n"
    )
    return "s.yaml"


@pytest.mark.parametrize("command", ["play", "explore", "trial", "churn"])
@pytest.mark.parametrize(
    ("statement", "reported", "outside"),
    [
        ("set search_path to public", "s.yaml:8:9: north 2 reaches beyond the run's scratch space: set search_path", True),
        ("select * from public.berth", "s.yaml:8:9: north 2 names public.berth, outside", True),
        ("commit", "s.yaml:8:9: north 2 is commit: a transaction begins with its first statement", False),
        ("prepare transaction 'x'", "north 2 begins or ends work in a way that Catenum does not see", False),
    ],
)  # fmt: skip
def test_every_command_refuses_it_before_it_runs(
    call, tmp_path, command, statement, reported, outside
):
    file = written(tmp_path, statement)
    done = call(command, file)
    assert (done.code, done.out) == (2, "")
    assert reported in done.err
    assert ("--outside" in done.err) == outside
    if not outside:
        assert call(command, file, "--outside").code == 2


def test_outside_allows_what_it_says(call, tmp_path):
    done = call("play", written(tmp_path, "discard plans"), "--json")
    assert done.code == 0
    done = call(
        "play", written(tmp_path, "set local search_path = pg_catalog"), "--outside", "--json"
    )
    assert done.json["outcome"]["kind"] == "clean"


@pytest.mark.parametrize(
    "statement",
    [
        "create trigger t before update on crane for each row begin set new.boxes = 1; set new.boxes = 2; end",
        "if 1 = 1 then update crane set boxes = 1; update crane set boxes = 2; end if",
        "begin not atomic update crane set boxes = 1; update crane set boxes = 2; end",
    ],
)
def test_a_statement_with_others_in_its_body_is_one(call, tmp_path, kept_mariadb, statement):
    done = call("play", written(tmp_path, statement), "--target", "local:mariadb", "--json")
    assert (done.code, done.json["outcome"]["kind"]) == (0, "clean"), done.err


def test_data_is_looked_at_too(call, tmp_path):
    done = call(
        "play",
        written(tmp_path, "select 1", "create table crane (id int); drop schema public"),
        "--json",
    )
    assert done.code == 2
    assert "data reaches beyond the run's scratch space: drop schema" in done.err


def test_a_statement_that_commits_by_itself_is_told(call, tmp_path, kept_mariadb):
    file = written(tmp_path, "alter table crane add reach int")
    reported = "north 2 commits by itself what its transaction did before"
    assert reported in " ".join(call("play", file, "--target", "local:mariadb").out.split())
    assert reported not in " ".join(call("play", file).out.split())
    assert rules_of("mariadb").sql.commits_by_itself("create table x (id int)")
    assert not rules_of("mariadb").sql.commits_by_itself("create temporary table x (id int)")
    assert not rules_of("mariadb").sql.commits_by_itself("update crane set boxes = 1")


@pytest.mark.parametrize("server", ["postgresql", "mariadb"])
@pytest.mark.parametrize(
    "sql",
    [
        "insert into other.berth values (1, 'a'), (2, 'b'), (3, 'it''s')",
        "update berth set moved = 1.5, name = 'x' where id in (1, 2, 3) and name in ('a', 'b')",
        "select b.id from berth b join other.crane c on c.id = b.id and c.at > '2026-01-01' limit 5",
        "select * from berth where at > interval '1' day or note like '%x' escape '!'",
        "delete from other.berth1 where id between 1 and 2",
    ],
)
def test_the_shape_of_a_statement_names_what_the_statement_names(server, sql):
    """Found out once for a shape, it holds for all statements of that shape."""
    rules = rules_of(server)
    (piece,) = rules.sql.pieces(sql)
    named = [
        {(a.schema, a.table, a.verb) for a in rules.sql.footprint(text).accesses}
        for text in (sql, piece.shape)
    ]
    assert named[0] == named[1] != set()
    assert piece.shape.count("0") <= 3
