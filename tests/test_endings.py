"""Commands always end: whatever a server does not stop doing, an interrupt and a limit are kept,
and nothing is left.
"""

from __future__ import annotations

import json
import signal
import subprocess

import psycopg
import pytest

from conftest import SCRIPT, leftovers, over_socket, until

#: A function that goes on after it was cancelled; only the end of its session stops it.
STUBBORN = """create function stubborn() returns int language plpgsql as $$ begin loop
  begin perform pg_sleep(0.1); exception when query_canceled then null; end; end loop; end $$;
create function once(n int) returns int language plpgsql as $$ begin
  if current_setting('application_name') like '% restorer' then perform stubborn(); end if; return n; end $$;
create table berth (id int primary key, moved int); insert into berth values (1, 0);"""
#: Where the function is called: data, transactions, rules.
PLACES = {
    "data": (f"{STUBBORN} select stubborn();", "select 1", "select true"),
    "a statement": (STUBBORN, "select stubborn()", "select true"),
    "a rule": (STUBBORN, "select 1", "select stubborn() = 1"),
    "what puts rows back": (
        f"{STUBBORN} alter table berth add check (once(moved) = moved);",
        "update berth set moved = 1 where id = 1",
        "select true",
    ),
}


def scenario(folder, place: str) -> None:
    data, statement, rule = PLACES[place]
    parts = {name: {"statements": [statement]} for name in ("early", "late")}
    plain = {"scenario": "endless", "data": data, "transactions": parts, "holds": {"ends": rule}}
    (folder / "endless.yaml").write_text(json.dumps(plain))


def at_work(kept: str) -> bool:
    with psycopg.connect(kept) as admin:
        query = "select count(*) from pg_stat_activity where application_name like 'catenum%' and wait_event = 'PgSleep'"
        return admin.execute(query).fetchone() != (0,)


@pytest.mark.parametrize("place", PLACES)
@pytest.mark.parametrize(
    "number", [signal.SIGINT, pytest.param(signal.SIGTERM, marks=pytest.mark.soak)]
)
def test_an_interrupt_ends_what_cannot_be_cancelled(start, kept, tmp_path, place, number):
    scenario(tmp_path, place)
    process: subprocess.Popen = start(
        "explore" if place.startswith("what") else "play", "endless.yaml"
    )
    until(lambda: at_work(kept) or process.poll() is not None, "it is at work")
    process.send_signal(number)
    _, err = process.communicate(timeout=40)
    assert process.returncode == 130, err
    assert "Traceback" not in err
    assert not at_work(kept)
    assert leftovers(kept) == ([], [])


def test_a_statement_that_goes_on_after_its_limit_is_ended_with_its_session(call, kept, tmp_path):
    scenario(tmp_path, "a statement")
    done = call("play", "endless.yaml", "--statement-limit", "1s")
    assert done.code == 1, done.err
    assert "still working after 1 s" in " ".join(done.out.split())
    assert leftovers(kept) == ([], [])


def test_a_rule_and_data_have_their_limits(call, kept, tmp_path, monkeypatch):
    monkeypatch.setattr("catenum.engines.postgresql.calls.ASK_MS", 1_000.0)
    monkeypatch.setattr("catenum.engines.postgresql.data.LOAD_MS", 1_000.0)
    scenario(tmp_path, "a rule")
    done = call("play", "endless.yaml")
    assert (done.code, "the rule 'ends' could not be checked" in " ".join(done.out.split())) == (
        1,
        True,
    )
    scenario(tmp_path, "data")
    done = call("play", "endless.yaml")
    assert (done.code, "took longer than 1 s and was ended" in done.err) == (2, True), done.err
    assert leftovers(kept) == ([], [])


#: How a statement is made out of parts, so that no text shows what it is.
HIDDEN = ["set @q = concat({})", "prepare s from @q", "execute s"]
STEPS = (
    "'com', 'mit'",
    "'x', 'a start ''quay'''",
    None,
    "'x', 'a end ''quay'''",
    "'x', 'a prepare ''quay'''",
)
UPDATE = "update berth set moved = 1 where id = 1"


@pytest.mark.parametrize("server", ["mariadb", pytest.param("mysql", marks=pytest.mark.soak)])
@pytest.mark.parametrize("ending", ["commit", pytest.param("open", marks=pytest.mark.soak)])
def test_a_transaction_that_is_prepared_in_hiding_is_undone_with_the_run(
    request, call, tmp_path, server, ending
):
    """It would outlive its session, hold the scratch space, and every later start of the server."""
    admin = over_socket(
        unix_socket=request.getfixturevalue(f"kept_{server}"), user="root", autocommit=True
    )
    hidden = [part.format(step) for step in STEPS for part in (HIDDEN if step else [UPDATE])]
    plain = {
        "scenario": "hidden",
        "data": "create table berth (id int primary key, moved int); insert into berth values (1, 0);",
        "transactions": {"early": {"statements": hidden, "ends": ending}, "late": {"statements": [UPDATE], "timeout": "1s"}},
    }  # fmt: skip
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    call("play", "s.yaml", "--target", f"local:{server}", "--statement-limit", "5s")
    with admin.cursor() as cursor:
        cursor.execute("xa recover")
        assert cursor.fetchall() == ()
        cursor.execute(
            "select schema_name from information_schema.schemata where schema_name like 'catenum%'"
        )
        assert cursor.fetchall() == ()
    admin.close()


@pytest.mark.parametrize("server", ["mariadb", "mysql"])
def test_what_is_prepared_in_the_data_is_refused(call, tmp_path, server):
    data = "create table berth (id int primary key); xa start 'quay'; insert into berth values (1); xa end 'quay'; xa prepare 'quay';"
    one = {"statements": ["select 1"]}
    plain = {"scenario": "prepared", "data": data, "transactions": {"early": one, "late": one}}
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    done = call("play", "s.yaml", "--target", f"local:{server}")
    assert (
        done.code,
        "prepares a transaction that outlives its session: xa start" in done.err,
    ) == (2, True)


#: More than is fetched of one result, by server.
LARGE = {
    "postgresql": "select repeat('x', 1000) from generate_series(1, 400000)",
    "mariadb": "select repeat('x', 1000) from seq_1_to_400000",
    "mysql": "select repeat('x', 1000) from (with recursive n(k) as (select 1 union all select k + 1 from n where k < 900) select a.k from n a, n b) x limit 400000",
}  # fmt: skip


@pytest.mark.parametrize(
    "server", ["postgresql", "mysql", pytest.param("mariadb", marks=pytest.mark.soak)]
)
def test_a_result_larger_than_memory_is_an_outcome_and_not_fetched(
    request, run, tmp_path, server, monkeypatch
):
    request.getfixturevalue("kept" if server == "postgresql" else f"kept_{server}")
    one = {"statements": [LARGE[server]]}
    plain = {
        "scenario": "large",
        "data": "create table berth (id int)",
        "transactions": {"early": one, "late": one},
    }
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    limit = f"ulimit -v {1_400_000}; exec {SCRIPT} play s.yaml --json --target local:{server}"
    done = subprocess.run(
        ["sh", "-c", limit], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert done.returncode == 1, done.stderr[-500:]
    events = [event for event in json.loads(done.stdout)["events"] if event["what"] == "failed"]
    assert {event["error"]["kind"] for event in events} == {"limit"}
    assert "1,000,000 rows or 64 MB, so it was not fetched whole" in events[0]["error"]["message"]
    if server != "postgresql":
        return  # the same limit of the process
    (tmp_path / "s.yaml").write_text(json.dumps(plain).replace("400000", "700000"))
    done = run("churn", "s.yaml", "--iterations", 2)
    assert (done.code, "its result takes more than 512 MB of memory" in done.err) == (2, True), (
        done.err
    )


#: What goes on for a long time on a server with InnoDB: data, a rule.
SLEEPS = {
    "data": ("select sleep(600);", "select 1"),
    "a rule": ("", "select sleep(600) = 0"),
    "what puts rows back": ("create trigger t before insert on berth for each row set new.moved = sleep(new.moved);", "select 1"),
}  # fmt: skip


@pytest.mark.parametrize("server", ["mariadb", pytest.param("mysql", marks=pytest.mark.soak)])
@pytest.mark.parametrize("place", ["data", "a rule"])
def test_data_and_rules_have_their_limits_with_innodb(
    request, call, tmp_path, server, place, monkeypatch
):
    socket = request.getfixturevalue(f"kept_{server}")
    monkeypatch.setattr("catenum.engines.innodb.data.LOAD_MS", 1_000.0)
    monkeypatch.setattr("catenum.engines.innodb.data.ASK_MS", 1_000.0)
    data, rule = SLEEPS[place]
    one = {"statements": ["select 1"]}
    plain = {
        "scenario": "endless",
        "data": f"create table berth (id int primary key, moved int); {data}",
        "transactions": {"early": one, "late": one},
        "holds": {"ends": rule},
    }
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    done = call("play", "s.yaml", "--target", f"local:{server}")
    assert "took longer than 1 s and was ended" in " ".join((done.out + done.err).split())
    assert done.code == (2 if place == "data" else 1)
    assert nothing_left(socket)


@pytest.mark.parametrize("server", ["mysql", pytest.param("mariadb", marks=pytest.mark.soak)])
@pytest.mark.parametrize("place", SLEEPS)
def test_an_interrupt_ends_what_goes_on_with_innodb(request, start, tmp_path, server, place):
    socket = request.getfixturevalue(f"kept_{server}")
    data, rule = SLEEPS[place]
    parts = {
        name: {"statements": ["update berth set moved = 600 where id = 1"]}
        for name in ("early", "late")
    }
    plain = {
        "scenario": "endless",
        "data": f"create table berth (id int primary key, moved int); insert into berth values (1, 0); {data}",
        "transactions": parts,
        "holds": {"ends": rule},
    }
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    words = (
        ("delete from berth", "insert into berth values (1, 0)")
        if place.startswith("what")
        else None
    )
    if words:
        parts["early"]["statements"] = parts["late"]["statements"] = [
            words[0],
            words[1].replace("0)", "600)"),
        ]
        (tmp_path / "s.yaml").write_text(json.dumps(plain))
    process = start("explore" if words else "play", "s.yaml", "--target", f"local:{server}")
    until(lambda: sleeps(socket) or process.poll() is not None, "it is at work")
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=40)
    assert process.returncode == 130, err
    assert "Traceback" not in err
    assert nothing_left(socket)


def sleeps(socket: str) -> bool:
    with over_socket(unix_socket=socket, user="root") as admin, admin.cursor() as cursor:
        cursor.execute(
            "select count(*) from information_schema.processlist where state = 'User sleep'"
        )
        return cursor.fetchone() != (0,)


def nothing_left(socket: str) -> bool:
    with over_socket(unix_socket=socket, user="root") as admin, admin.cursor() as cursor:
        cursor.execute(
            "select schema_name from information_schema.schemata where schema_name like 'catenum%'"
        )
        spaces = cursor.fetchall()
        cursor.execute("select user from mysql.user where user like 'catenum%'")
        logins = cursor.fetchall()
        cursor.execute("show full processlist")
        assert (spaces, logins) == ((), ()), cursor.fetchall()
        return True


#: Rows that the scenario's own rule does not let in again: they came before it, or around it.
STRICT = {
    "postgresql": "create table berth (id int primary key, moved int); insert into berth values (1, 5); alter table berth add check (moved <> 5) not valid;",
    "mariadb": "create table berth (id int primary key, moved int, check (moved <> 5)); set check_constraint_checks = 0; insert into berth values (1, 5); set check_constraint_checks = 1;",
}  # fmt: skip


@pytest.mark.parametrize("server", STRICT)
def test_a_fault_of_the_scenario_on_catenum_s_connection_is_the_file_s(
    request, call, tmp_path, server
):
    request.getfixturevalue("kept" if server == "postgresql" else "kept_mariadb")
    one = {"statements": ["update berth set moved = 9 where id = 1"]}
    plain = {
        "scenario": "strict",
        "data": STRICT[server],
        "transactions": {"early": one, "late": one},
    }
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    done = call("explore", "s.yaml", "--target", f"local:{server}")
    assert done.code == 2
    assert done.err.startswith("catenum: s.yaml:1:")
    assert "what the scenario's data define made the server reject a query" in done.err


@pytest.mark.parametrize("server", LARGE)
def test_more_transactions_than_connections_are_told_before(request, call, tmp_path, server):
    request.getfixturevalue("kept" if server == "postgresql" else f"kept_{server}")
    parts = {f"t{number}": {"statements": ["select 1"]} for number in range(300)}
    (tmp_path / "s.yaml").write_text(
        json.dumps({"scenario": "crowd", "data": "select 1;", "transactions": parts})
    )
    done = call("play", "s.yaml", "--target", f"local:{server}")
    assert (done.code, "the scenario's transactions take 300 connections" in done.err) == (
        3,
        True,
    ), done.err
