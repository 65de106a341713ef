"""Locks by a name of one's own, and whatever else outlives a transaction in its session: on both
servers.
"""

from __future__ import annotations

import re
import threading

import psycopg
import pytest
import sqlglot
from hypothesis import given
from hypothesis import strategies as st

from catenum.core.servers import rules_of
from catenum.core.sql.named_locks import advisory_of_row, named_locks
from conftest import over_socket, until

pytestmark = pytest.mark.usefixtures("kept_mariadb", "kept_mysql")

DATA = """data: |
  create table crane (id int primary key, boxes int not null);
  insert into crane values (1, 0), (2, 0);
"""
#: How each server takes a named lock for the session and gives back all of them.
TAKE = {
    "postgresql": "select pg_advisory_lock({})",
    "mariadb": "select get_lock('crane {}', 60)",
    "mysql": "select get_lock('crane {}', 60)",
}
TEXT = {
    "postgresql": "advisory lock {}",
    "mariadb": "named lock 'crane {}'",
    "mysql": "named lock 'crane {}'",
}
SERVERS = tuple(TAKE)


@pytest.fixture
def made(tmp_path):
    """Writes a scenario of two transactions with these statements."""

    def made(north: list[str], south: list[str], order: str = "") -> str:
        text = f"scenario: crane-keys\n{DATA}transactions:\n"
        for name, statements in (("north", north), ("south", south)):
            text += f"  {name}:\n    statements:\n" + "".join(
                f'      - "{sql}"\n' for sql in statements
            )
        (tmp_path / "s.yaml").write_text(text + (f"order: {order}\n" if order else ""))
        return "s.yaml"

    return made


def both(server: str, first: str, second: str) -> list[str]:
    return [
        TAKE[server].format(first),
        TAKE[server].format(second),
        "update crane set boxes = 1 where id = 1",
    ]


@pytest.mark.parametrize("server", SERVERS)
def test_a_session_that_keeps_its_lock_after_the_commit_is_told(call, server):
    done = call("play", "crane-key", "--target", f"local:{server}", "--json")
    (wait,) = done.json["waits"]
    assert (done.code, done.json["outcome"]["kind"]) == (1, "stuck")
    assert (wait["waiter"], wait["holder"], wait["holder_statement"], wait["until_ms"]) == (
        "night",
        "day",
        1,
        None,
    )
    assert wait["resource"]["text"] == TEXT[server].format(7)
    assert [finding["id"] for finding in done.json["findings"]] == ["outlived-lock"]
    reported = " ".join(call("play", "crane-key", "--target", f"local:{server}").out.split())
    assert (
        f"day, whose transaction is over, but whose session still holds {TEXT[server].format(7)}"
        in reported
    )


@pytest.mark.parametrize("server", SERVERS)
def test_a_lock_of_the_transaction_cures_it(call, server):
    done = call(
        "trial",
        "crane-key",
        "--target",
        f"local:{server}",
        "--remedy",
        "a key of the transaction",
        "--json",
    )
    assert done.json["best"] == "a key of the transaction"
    assert call("trial", "crane-key", "--target", f"local:{server}").code == 0


@pytest.mark.parametrize("server", SERVERS)
def test_a_cycle_of_named_locks_is_told_with_its_names_and_statements(call, made, server):
    file = made(both(server, "1", "2"), both(server, "2", "1"), "north south north south")
    found = call("play", file, "--target", f"local:{server}", "--json").json
    (cycle,) = found["deadlocks"]
    assert [
        (m["transaction"], m["waits_for"], m["resource"]["text"], m["statement"])
        for m in cycle["members"]
    ] == [
        ("north", "south", TEXT[server].format(2), 2),
        ("south", "north", TEXT[server].format(1), 2),
    ]
    assert (cycle["victim"], cycle["agreed"]) == ("south", True)
    assert ("metadata locks" in cycle["rule"]) == (server != "postgresql")
    reported = " ".join(call("play", file, "--target", f"local:{server}").out.split())
    by = (
        "The server"
        if server == "postgresql"
        else "The server gave up one statement only, and Catenum then"
    )
    assert f"First a deadlock. {by} rolled back south. Then a block: north still waits" in reported


@pytest.mark.parametrize("server", SERVERS)
def test_a_schedule_that_deadlocks_and_then_sticks_is_not_proven_free_of_deadlock(
    call, made, server
):
    """The victim's rollback leaves its named lock: the worst kind is stuck, and a cycle closed all
    the same.
    """
    file = made(both(server, "1", "2")[:2], both(server, "2", "1")[:2])
    done = call("explore", file, "--target", f"local:{server}", "--expect", "no deadlock", "--json")
    assert done.code == 1
    assert "deadlock" not in {outcome["kind"] for outcome in done.json["outcomes"]}
    reported = " ".join(call("explore", file, "--target", f"local:{server}").out.split())
    assert re.search(r"✗ \d+ of \d+ schedules deadlock", reported)
    assert "no schedule of these statements deadlocks" not in reported


@pytest.mark.parametrize("server", SERVERS)
def test_reduction_loses_no_outcome_of_named_locks(call, made, server):
    file = made(
        both(server, "1", "2"),
        ["update crane set boxes = 5 where id = 2", *both(server, "1", "2")[1:]],
    )
    found = [
        {
            (o["kind"], tuple(sorted(o["status"].items())))
            for o in call("explore", file, "--target", f"local:{server}", "--json", *more).json[
                "outcomes"
            ]
        }
        for more in ([], ["--every"])
    ]
    assert found[0] == found[1]


@pytest.mark.parametrize("server", SERVERS)
def test_what_a_schedule_leaves_in_its_session_is_not_there_in_the_next(call, made, server):
    """A level set for the session would refuse, or wait, in all that come after."""
    setting, shown = {
        "postgresql": (
            "set session characteristics as transaction isolation level serializable",
            "show lock_timeout",
        ),
        "mariadb": (
            "set session tx_isolation = 'SERIALIZABLE', @crane = 7",
            "select @crane, @@tx_isolation",
        ),
        "mysql": (
            "set session transaction_isolation = 'SERIALIZABLE', @crane = 7",
            "select @crane, @@transaction_isolation",
        ),
    }[server]
    file = made(
        ["update crane set boxes = boxes + 1 where id = 1", setting],
        [shown, "update crane set boxes = 9 where id = 1"],
    )
    done = call("explore", file, "--target", f"local:{server}", "--json")
    assert {outcome["kind"] for outcome in done.json["outcomes"]} == {"clean", "waited"}
    assert {outcome["data"] for outcome in done.json["outcomes"]} == {"serial"}
    assert any("they are reset each time" in note for note in done.json["notes"])


def test_a_clock_that_is_read_as_the_statement_is_parsed_is_not_frozen(call, tmp_path):
    """Statements are prepared where that changes nothing; this one would tell the same moment each
    time.
    """
    (tmp_path / "s.yaml").write_text(
        "scenario: berthing\ndata: create table call (id int primary key, at timestamp not null)\ntransactions:\n"
        "  pilot: {statements: [\"insert into call values (1, 'now')\"]}\n"
        "  tug: {statements: [select 1]}\n"
    )
    done = call("explore", "s.yaml", "--json")
    assert "call.at" in {entry.lower() for entry in done.json["ignored"]}


@pytest.mark.parametrize("server", SERVERS)
def test_what_the_end_of_a_transaction_lets_go_of_has_not_outlived_it(call, server):
    words = (
        "play",
        "crane-key",
        "--target",
        f"local:{server}",
        "--remedy",
        "a key of the transaction",
        "--json",
    )
    found = call(*words).json
    assert (found["outcome"]["kind"], found["findings"]) == ("waited", [])


@pytest.mark.parametrize("server", ["mariadb", "mysql"])
def test_a_cycle_that_no_part_of_the_server_sees_is_ended_and_explained(call, made, server):
    row = "update crane set boxes = boxes + 1 where id = 1"
    file = made(
        [TAKE[server].format(1), row], [row, TAKE[server].format(1)], "north south north south"
    )
    done = call("play", file, "--target", f"local:{server}", "--json")
    (cycle,) = done.json["deadlocks"]
    assert (cycle["victim"], cycle["verdict_ms"]) == ("south", None)
    assert "ended by Catenum" in cycle["rule"]
    assert {record["name"]: record["status"] for record in done.json["transactions"]} == {
        "north": "committed",
        "south": "failed",
    }
    assert "unseen-cycle" in {finding["id"] for finding in done.json["findings"]}
    reported = " ".join(call("play", file, "--target", f"local:{server}").out.split())
    assert (
        "The server did not end the cycle, so Catenum cancelled south. north continued and committed."
        in reported
    )
    reported = " ".join(call("explore", file, "--target", f"local:{server}").out.split())
    assert "the server did not end it in all of them, and Catenum ended it" in reported


LOCKED = """scenario: yard-count
data: |
  create table crane (id int primary key, boxes int not null);
  create table tug (id int primary key, job int not null);
  insert into crane values (1, 0);
  insert into tug values (1, 0);
transactions:
  count: {statements: ["lock tables tug read, crane write", select * from tug]}
  gate: {statements: [update crane set boxes = 1 where id = 1]}
"""


def test_tables_locked_for_the_session_are_told_and_let_go_of_between_schedules(call, tmp_path):
    """LOCK TABLES outlives the transaction; the rows could not even be read then, were the session
    not renewed.
    """
    (tmp_path / "s.yaml").write_text(LOCKED)
    play = call(
        "play", "s.yaml", "--target", "local:mariadb", "--order", "count gate count count", "--json"
    ).json
    (wait,) = play["waits"]
    assert (wait["holder"], wait["holder_statement"], wait["wanted"], wait["held"]) == (
        "count", 1, "MDL_SHARED_WRITE", "MDL_SHARED_NO_READ_WRITE",
    )  # fmt: skip
    assert "outlived-lock" in [finding["id"] for finding in play["findings"]]
    explored = call("explore", "s.yaml", "--target", "local:mariadb", "--json").json
    kinds = {outcome["kind"] for outcome in explored["outcomes"]}
    assert explored["reach"]["complete"]
    assert kinds == {"clean", "stuck", "waited"} or kinds == {"clean", "stuck"}


@pytest.mark.parametrize(
    ("sql", "outlives", "plans"),
    [
        ("set local enable_seqscan = off", False, True),
        ("set lock_timeout = 5", True, True),
        ("set transaction isolation level serializable", False, True),
        ("select @crane := 7", True, True),
        ("create temporary table seen (id int)", True, True),
        ("select harbour_rules(7)", True, True),
        ("select pg_advisory_lock(7)", True, False),
        ("update crane set boxes = 1", False, False),
    ],
)
def test_what_a_statement_may_leave_behind_is_told(sql, outlives, plans):
    """Sessions are made new for the first; the same statement is not prepared where the second may
    be.
    """
    found = rules_of("mariadb" if "@" in sql else "postgresql").sql.footprint(sql)
    assert (found.may_outlive, found.may_change_plans) == (outlives, plans)


@pytest.mark.parametrize(
    ("sql", "server", "locked"),
    [
        ("lock table crane in share mode", "postgresql", [("crane", "share")]),
        ('lock harbour."crane", only tug', "postgresql", [("crane", "access exclusive"), ("tug", "access exclusive")]),
        ("lock tables `crane` as c read, tug low_priority write;", "mariadb", [("crane", "read"), ("tug", "write")]),
        ("LOCK TABLE crane READ", "mariadb", [("crane", "read")]),
    ],
)  # fmt: skip
def test_tables_to_be_locked_are_read_from_the_statement(sql, server, locked):
    assert [
        (access.table, access.lock_mode) for access in rules_of(server).sql.footprint(sql).accesses
    ] == locked


def test_a_change_of_tables_that_cannot_be_read_waits_for_the_table_it_meets_first(call, tmp_path):
    """RENAME TABLE locks in the order of names; whoever comes to the table later waits behind it."""
    (tmp_path / "s.yaml").write_text(
        "scenario: rename\ndata: |\n  create table crane (id int primary key);\n  create table berth (id int primary key);\n"
        "  insert into crane values (1); insert into berth values (1);\ntransactions:\n"
        "  north: {statements: [select * from crane for update, select * from berth]}\n"
        "  south: {statements: [select * from berth for update]}\n"
        "  rename: {statements: ['rename table crane to a, berth to b']}\n"
        "order: north south rename north south\n"
    )
    found = call(
        "play", "s.yaml", "--target", "local:mariadb", "--statement-limit", "20s", "--json"
    ).json
    waits = {(w["waiter"], w["holder"], w["resource"]["text"], w["queued"]) for w in found["waits"]}
    assert ("rename", "south", "berth", False) in waits
    assert ("north", "rename", "berth", True) in waits
    (cycle,) = found["deadlocks"]
    assert {member["transaction"] for member in cycle["members"]} == {"north", "rename"}
    assert cycle["victim"] == "north"


def test_a_running_mariadb_shows_who_waits_for_a_named_lock(call, kept_mariadb):
    sessions = [over_socket(unix_socket=kept_mariadb, user="root") for _ in range(2)]
    take = "select get_lock('tug five', 30)"
    sessions[0].cursor().execute(take)
    waiter = threading.Thread(target=lambda: sessions[1].cursor().execute(take))
    waiter.start()
    try:
        until(
            lambda: call("now", "--target", "local:mariadb", "--json").json["waits"],
            "somebody is seen to wait",
        )
        (edge,) = call("now", "--target", "local:mariadb", "--json").json["waits"]
        assert edge["over"] == "named lock 'tug five'"
        assert [edge["waiter"], edge["holder"]] == [str(s.thread_id()) for s in reversed(sessions)]
    finally:
        sessions[0].close()
        waiter.join()
        sessions[1].close()


@pytest.mark.parametrize("key", [(7,), (-7,), (2**40 + 7,), (-(2**62),), (7, 8), (-7, -8)])
def test_an_advisory_lock_is_named_as_it_was_taken(kept, key):
    """The columns of pg_locks hold halves of the number; two locks must never have one name."""
    call = f"pg_advisory_lock({', '.join(map(str, key))})"
    with psycopg.connect(kept, autocommit=True) as connection:
        connection.execute(f"select {call}")
        row = connection.execute(
            "select classid::bigint, objid::bigint, objsubid from pg_locks "
            "where locktype = 'advisory' and pid = pg_backend_pid()"
        ).fetchone()
    (read,) = rules_of("postgresql").sql.footprint(f"select {call}").named_locks
    assert advisory_of_row(*row) == read.resource


@given(st.integers(0, 2**32 - 1), st.integers(0, 2**32 - 1))
def test_advisory_locks_of_one_number_and_of_two_are_told_apart(high, low):
    assert advisory_of_row(high, low, 1).identity != advisory_of_row(high, low, 2).identity
    assert int(advisory_of_row(high, low, 1).key[0][1]) % 2**64 == high << 32 | low


@pytest.mark.parametrize(
    ("sql", "found"),
    [
        ("select pg_advisory_lock(hashtext('crane'))", [(True, True, None)]),
        ("select pg_try_advisory_xact_lock(7::bigint)", [(True, False, "advisory lock 7")]),
        ("select pg_advisory_unlock(7), now()", [(False, False, "advisory lock 7")]),
        ("select get_lock(concat('crane ', 7), 1)", [(True, True, None)]),
        ("select release_lock('crane 7') from crane", [(False, False, "named lock 'crane 7'")]),
        ("select id from crane", []),
    ],
)
def test_named_locks_are_read_from_statements(sql, found):
    tree = sqlglot.parse_one(
        sql, dialect="mysql" if "lock('" in sql or "get_lock" in sql else "postgres"
    )
    locks = [
        (lock.takes, lock.of_session, lock.resource and lock.resource.text)
        for lock in named_locks(tree)
    ]
    assert locks == found
    assert rules_of("postgresql").sql.footprint(sql).may_outlive == any(
        not takes or session for takes, session, _ in found
    )


@pytest.mark.parametrize(
    "server",
    ["mariadb", *(pytest.param(one, marks=pytest.mark.soak) for one in ("postgresql", "mysql"))],
)
def test_a_loop_that_waits_for_ever_is_told_and_not_waited_for_at_every_step(call, server):
    done = call("churn", "crane-key", "--for", "1500ms", "--target", f"local:{server}", "--json")
    (stuck,) = done.json["stuck"]
    assert done.code == 1
    assert (stuck["loop"], stuck["statement"], stuck["sql"]) in [
        (
            name,
            1,
            {
                "postgresql": "select pg_advisory_lock(7)",
                "mariadb": "select get_lock('crane 7', 60)",
                "mysql": "select get_lock('crane 7', 60)",
            }[server],
        )
        for name in ("day", "night")
    ]
    assert 0 in {reported["iterations"] for reported in done.json["transactions"].values()}


def test_under_load_variants_that_share_named_locks_are_refused(call):
    done = call("trial", "crane-key", "--churn")
    assert done.code == 2
    assert "a named lock that a session of one keeps stops the others" in done.err


@pytest.mark.parametrize(
    ("server", "sleep"),
    [
        ("postgresql", "pg_sleep"),
        *(pytest.param(one, "sleep", marks=pytest.mark.soak) for one in ("mariadb", "mysql")),
    ],
)
def test_a_loop_whose_statement_merely_takes_long_is_not_told_as_stuck(call, made, server, sleep):
    file = made([f"select {sleep}(25)"], ["select count(*) from crane"])
    done = call("churn", file, "--for", "1s", "--target", f"local:{server}", "--json")
    assert (done.code, done.json["stuck"]) == (0, [])
