"""What a connection runs before its transaction: settings, temporary tables, prepared statements."""

import json

import pytest

from catenum.core.scenario.reader import read_scenario
from catenum.core.sql.beginning import level_set_by, with_level, without_level

SCENARIO = """\
scenario: set-first
data: |
  create table slot (id int primary key, boxes int not null);
  insert into slot values (1, 3), (2, 5);
transactions:
  clerk:
    session:
      postgresql: set lock_timeout = '300ms'
      mariadb: set session innodb_lock_wait_timeout = 1
      mysql: set session innodb_lock_wait_timeout = 1
    statements:
      - update slot set boxes = boxes + 1 where id = 2
      - update slot set boxes = boxes + 1 where id = 1
  loader:
    session:
      - create temporary table mine (id int)
      - insert into mine values (1), (2)
    statements:
      - select count(*) as many from mine
      - update slot set boxes = boxes - 1 where id = 1
orders:
  times out:
    order: loader loader clerk clerk loader
    expect:
      outcome: timeout
      waits: {clerk: 2}
      errors: {clerk: {2: timeout}}
      results: {loader: {1: [[2]]}}
outcomes: [clean, waited, timeout]
"""


@pytest.mark.parametrize("server", ["postgresql", "mariadb", "mysql"])
def test_a_session_s_settings_and_tables_are_there_in_every_schedule(run, tmp_path, server):
    (tmp_path / "s.yaml").write_text(SCENARIO)
    target = ("--target", f"local:{server}")
    done = run("play", "s.yaml", *target, "--json")
    (order,) = done.json["orders"]
    assert (done.code, order["differences"]) == (0, [])
    notes = order["recording"]["notes"]
    assert (
        "the session of loader begins with: create temporary table mine (id int); insert into mine values (1), (2)"
        in notes
    )
    found = run("explore", "s.yaml", *target, "--json", "--expect", "listed")
    assert found.code == 0, found.err
    counts = json.loads(found.out)["counts"]
    assert counts["run"] >= 4
    assert "as expected: 3 outcomes, and no other" in found.err


@pytest.mark.parametrize(
    ("session", "message", "place"),
    [
        ("sett lock_timeout = 1", "the server rejects what the session of a begins with", "s.yaml:6:14"),
        ("[select 1, insert into slot values (9)]", "the session of a begins with a change of slot, which is part of the data", "s.yaml:6:25"),
        ("alter table slot add x int", "the session of a begins with a change of slot", "s.yaml:6:14"),
        ("select nextval('slot_id_seq')", "the session of a begins with a change of a sequence", "s.yaml:6:14"),
        ("begin", "the session of a is begin", "s.yaml:6:14"),
        ("'select 1; select 2'", "holds 2 statements", "s.yaml:6:14"),
        ("'select :x'", "the session of a begins without values", "s.yaml:6:14"),
        ("[]", "must not be empty", "s.yaml:6:14"),
    ],
)  # fmt: skip
@pytest.mark.parametrize("word", ["play", "explore"])
def test_what_a_session_cannot_begin_with_is_an_error(
    call, tmp_path, word, session, message, place
):
    (tmp_path / "s.yaml").write_text(
        "scenario: s\n"
        "data: create table slot (id int primary key)\n"
        "transactions:\n"
        "  a:\n"
        "    statements: [select 1]\n"
        f"    session: {session}\n"
    )
    done = call(word, "s.yaml")
    assert (done.code, done.out) == (2, ""), done.out
    assert message in done.err
    assert place in done.err


@pytest.mark.parametrize("server", ["postgresql", "mariadb", "mysql"])
def test_loops_begin_with_it_too(run, tmp_path, server):
    (tmp_path / "s.yaml").write_text(SCENARIO)
    done = run("churn", "s.yaml", "--target", f"local:{server}", "--for", "1s", "--json")
    assert done.code in (0, 1), done.err
    assert done.json["transactions"]["loader"]["iterations"] > 0


@pytest.mark.parametrize(
    ("server", "session", "key"),
    [
        ("postgresql", "set default_transaction_isolation = 'serializable'", "isolation"),
        ("postgresql", "set default_transaction_read_only = on", "access"),
        ("mariadb", "set session transaction isolation level serializable", "isolation"),
        ("mysql", "set @@session.transaction_isolation = 'SERIALIZABLE'", "isolation"),
    ],
)
def test_a_session_does_not_set_the_level_behind_the_scenario_s_back(
    call, tmp_path, server, session, key
):
    (tmp_path / "s.yaml").write_text(
        "scenario: s\ndata: create table slot (id int primary key)\ntransactions:\n  a:\n"
        f'    session: "{session}"\n    statements: [select id from slot]\n'
    )
    done = call("explore", "s.yaml", "--target", f"local:{server}")
    assert (done.code, f"The transaction's own key '{key}' says that." in done.err) == (2, True)


def test_where_a_setting_may_change_what_statements_mean_nothing_is_taken_to_be_independent(
    call, tmp_path
):
    text = (
        "scenario: s\ndata: create table slot (id int primary key, boxes int)\ntransactions:\n"
        "  a: {session: SESSION, statements: [select id from slot]}\n"
        "  b: {statements: [update slot set boxes = 2]}\n"
    )
    counts = {}
    for session in (
        "set lock_timeout = '1s'",
        "create temporary table mine (id int)",
        "set datestyle = 'DMY'",
        "create temporary table mine as select set_config('datestyle', 'DMY', false)",
        "create temporary table mine as select pg_try_advisory_lock(3)",
    ):
        (tmp_path / "s.yaml").write_text(text.replace("SESSION", f'"{session}"'))
        counts[session] = call("explore", "s.yaml", "--json").json["counts"]["run"]
    assert list(counts.values()) == [3, 3, 6, 6, 6]


BEGUN = """\
scenario: begun
data: create table slot (id int primary key, boxes int); insert into slot values (1, 3), (2, 5);
transactions:
  a: {statements: [FIRST, select sum(boxes) from slot, update slot set boxes = boxes + 1 where id = 1]}
  b: {statements: [FIRST, select sum(boxes) from slot, update slot set boxes = boxes + 1 where id = 2]}
remedies:
  strict: {isolation: serializable}
"""
BEGIN = "begin isolation level LEVEL"
SET = "set transaction isolation level LEVEL"
VARIABLE = "set local transaction_isolation = 'LEVEL'"


@pytest.mark.parametrize("first", [BEGIN, pytest.param(SET, marks=pytest.mark.soak), VARIABLE])
def test_a_level_that_statements_ask_for_is_the_level_that_is_reported(call, tmp_path, first):
    for level, words, shown, anomaly in (
        ("serializable", (), "serializable", None),
        ("read committed", (), "read committed", "write skew"),
        ("serializable", ("--isolation", "read committed"), "read committed", "write skew"),
        ("read committed", ("--isolation", "serializable"), "serializable", None),
    ):
        text = BEGUN.replace("FIRST", '"' + first.replace("LEVEL", level) + '"')
        (tmp_path / "s.yaml").write_text(text)
        found = call("explore", "s.yaml", *words, "--check-orders", 0, "--json").json
        names = {one["anomaly"] for one in found["outcomes"]} - {None}
        assert (set(found["levels"].values()), names) == ({shown}, {anomaly} - {None}), words
    strict = call("trial", "s.yaml", "--json").json["variants"][1]
    assert strict["outcomes"].get("refused"), strict


@pytest.mark.parametrize(
    ("text", "shorter"),
    [
        ("begin isolation level serializable, read only", "begin read only"),
        ("begin read only, isolation level serializable", "begin read only"),
        ("START TRANSACTION ISOLATION LEVEL REPEATABLE READ;", "START TRANSACTION"),
        ("begin work isolation level read committed, read only, deferrable", "begin work read only, deferrable"),
        ("begin", "begin"),
        ("/* shift */ begin /* its level */ isolation level serializable", "begin"),
    ],
)  # fmt: skip
def test_the_beginning_without_its_level_asks_for_the_rest(text, shorter):
    assert without_level(text) == shorter


@pytest.mark.parametrize(
    ("text", "level"),
    [
        ("set transaction read only, isolation level repeatable  read", "repeatable read"),
        ("SET LOCAL transaction_isolation TO 'serializable'", "serializable"),
        ("set session characteristics as transaction isolation level serializable", None),
        ("set transaction read only", None),
        ("set lock_timeout = '1s'", None),
        (
            "/* a\nnote */ set -- and another\n transaction isolation level serializable",
            "serializable",
        ),
        ("/*! set transaction isolation level serializable */", None),
        ("select 'set transaction isolation level serializable'", None),
        ("update berth set note = 'a -- b /* c */'", None),
    ],
)
def test_a_level_is_read_off_what_sets_it(text, level):
    assert level_set_by(text) == level
    other = with_level(text, "read committed")
    assert level_set_by(other) == "read committed" if level else other == text


def test_a_level_that_contradicts_the_key_is_an_error_with_its_place(call, tmp_path):
    text = BEGUN.replace("FIRST", SET.replace("LEVEL", "serializable")).replace(
        "a: {", "a: {isolation: read committed, "
    )
    (tmp_path / "s.yaml").write_text(text)
    done = call("lint", "s.yaml", "--text-only")
    assert done.code == 2
    assert "s.yaml:4:18: a sets the level 'serializable'" in done.err + done.out


def test_a_statement_that_commits_by_itself_has_no_level_to_set():
    text = BEGUN.replace("FIRST", SET.replace("LEVEL", "serializable"))
    text = text.replace("a: {", "a: {autocommit: true, ")
    scenario = read_scenario(text.encode(), "s.yaml").scenario.for_server("postgresql")
    assert scenario.transactions["a"].isolation is None
    assert scenario.transactions["b"].isolation == "serializable"


BEGUN_SWAP = """\
scenario: begun-swap
data: create table slot (id int primary key, boxes int); insert into slot values (1, 3), (2, 5);
transactions:
  a: {statements: [begin, update slot set boxes = 1 where id = 1, update slot set boxes = 1 where id = 2]}
  b: {statements: [begin, update slot set boxes = 2 where id = 2, update slot set boxes = 2 where id = 1]}
"""


@pytest.mark.parametrize("server", ["postgresql", "mysql"])
def test_what_is_proposed_leaves_the_beginning_where_it_is(call, tmp_path, server):
    (tmp_path / "s.yaml").write_text(BEGUN_SWAP)
    found = call("propose", "s.yaml", "--target", f"local:{server}", "--json").json
    changes = [one["change"] for one in found["candidates"]]
    added = [numbers for one in changes for numbers in one.get("add", {}).values()]
    orders = [order for one in changes for order in one.get("reorder", {}).values()]
    assert added, changes
    assert orders, changes
    assert not any("1" in numbers for numbers in added), added
    assert all(order[0] == 1 for order in orders), orders


@pytest.mark.parametrize(
    ("remedy", "message"),
    [
        ("{reorder: {a: [2, 1, 3]}}", "puts another statement before it"),
        ("{add: {a: {1: select 1}}}", "adds a statement before it"),
        ("{drop: {a: [1]}}", "leaves it out"),
    ],
)
def test_a_remedy_leaves_the_beginning_where_it_is(call, tmp_path, remedy, message):
    (tmp_path / "s.yaml").write_text(f"{BEGUN_SWAP}remedies:\n  r: {remedy}\n")
    done = call("lint", "s.yaml", "--text-only")
    assert done.code == 2
    assert f"statement 1 begins the transaction 'a', and this {message}" in done.err + done.out
    assert "s.yaml:7:" in done.err + done.out


@pytest.mark.parametrize("server", ["postgresql", "mariadb"])
def test_a_session_that_the_server_ends_for_its_silence_is_not_left_open(call, tmp_path, server):
    (tmp_path / "s.yaml").write_text("""\
scenario: silent
data: create table slot (id int primary key, boxes int); insert into slot values (1, 3);
transactions:
  clerk:
    ends: open
    session:
      postgresql: set idle_in_transaction_session_timeout = '300ms'
      mariadb: set idle_transaction_timeout = 1
    statements: [update slot set boxes = 4 where id = 1]
  pilot: {timeout: 5s, statements: [update slot set boxes = 5 where id = 1]}
""")
    words = ("s.yaml", "--order", "clerk pilot pilot", "--target", f"local:{server}")
    found = call("play", *words, "--json").json
    status = {one["name"]: one["status"] for one in found["transactions"]}
    assert (found["outcome"]["kind"], status) == (
        "waited",
        {"clerk": "killed", "pilot": "committed"},
    )
    assert any("the server ended the session of clerk" in note for note in found["notes"])
    refused = call("explore", "s.yaml", "--target", f"local:{server}")
    assert refused.code == 2
    assert "s.yaml:7:" in refused.err
    assert "no order of moves decides whether that is over" in refused.err
