"""What transactions do besides their statements: go on after an error, share a connection, commit
each statement, begin by themselves, lose their session, wait with a timeout that runs out by order.
"""

import pytest

from catenum.core.errors import InputError
from catenum.core.scenario.model import NextStep, Scenario
from catenum.core.scenario.reader import read_scenario
from catenum.core.space.counting import schedules
from catenum.core.space.oracle import count_of_orders, lanes_of, serial_orders
from catenum.core.space.schedule import complete, merges
from catenum.engines.scripted import ScriptedEngine
from catenum.lab.run.play import PlayOptions, play
from conftest import needs
from test_conductor import moves, scenario

SERVERS = ["postgresql", "mariadb", "mysql"]


def played(case: Scenario, *, undoes="transaction", **more):
    case = case.model_copy(update=more)
    return play(ScriptedEngine(undoes=undoes), case, PlayOptions())


def status(recording) -> dict[str, str]:
    return {record.name: record.status for record in recording.transactions}


@pytest.mark.parametrize(
    ("text", "step"),
    [
        ("roll back", NextStep("roll back")),
        ("continue", NextStep("continue")),
        ("retry", NextStep("retry", 1)),
        ("retry  3", NextStep("retry", 3)),
        ("back to before_box", NextStep("back to", savepoint="before_box")),
    ],
)
def test_what_comes_after_an_error_is_read_from_a_few_words(text, step):
    assert NextStep.read(text) == step


@pytest.mark.parametrize("text", ["goes on", "retry 0", "retry many", "back to", "continue 2", ""])
def test_other_words_are_refused(text):
    with pytest.raises(ValueError, match="is not known here"):
        NextStep.read(text)


@pytest.mark.parametrize(
    ("after", "undoes", "made", "ended", "held"),
    [
        ("roll back", "statement", "a1 a2 a:rollback b1 b:commit", "failed", False),
        ("continue", "statement", "a1 a2 b1 a3 a:commit b:commit", "committed", True),
        ("continue", "transaction", "a1 a2 b1 a3 b:commit a:commit", "committed", False),
        ("retry 2", "statement", "a1 a2 b1 a2 a2 a:rollback b:commit", "failed", True),
        ({"timeout": "continue"}, "statement", "a1 a2 b1 a3 a:commit b:commit", "committed", True),
        ({"deadlock": "continue"}, "statement", "a1 a2 a:rollback b1 b:commit", "failed", False),
    ],
)
def test_after_an_error_the_transaction_does_what_it_says(after, undoes, made, ended, held):
    a = {"statements": ["lock x", "fail timeout", "work 1"], "after_error": after}
    recording = played(scenario("a a b", a=a, b=["lock x"]), undoes=undoes)
    assert moves(recording) == made
    assert status(recording) == {"a": ended, "b": "committed"}
    assert bool(recording.waits) is held


def test_an_error_that_others_cause_is_a_loss_even_where_the_transaction_commits():
    a = {"statements": ["lock x", {"sql": "fail timeout", "after_error": "continue"}]}
    recording = played(scenario("a", a=a), undoes="statement")
    (finding,) = [one for one in recording.findings if one.id == "went-on-after-error"]
    assert "a 2 failed (timeout); the server undid that statement, and no other" in finding.evidence
    assert recording.outcome.kind == "timeout"


def test_transactions_on_one_connection_come_one_after_another():
    case = scenario("b a b a", a=["lock x"], b={"connection": "a", "statements": ["lock y"]})
    assert moves(played(case)) == "a1 a:commit b1 b:commit"
    assert case.connections == {"a": ("a", "b")}


def test_who_waits_is_named_by_the_transaction_and_not_by_its_connection():
    case = scenario(
        "a a c b", a=["work 1"], b={"connection": "a", "statements": ["lock y"]}, c=["lock y"]
    )
    (wait,) = played(case).waits
    assert (wait.waiter, wait.holder) == ("b", "c")


def test_with_autocommit_a_statement_is_a_move_and_its_locks_go_with_it():
    a = {"autocommit": True, "statements": ["lock x", "lock y"]}
    recording = played(scenario("a b a", a=a, b=["lock x"]))
    assert moves(recording) == "a1 b1 a2 b:commit"
    assert status(recording)["a"] == "committed"


def test_a_session_that_is_ended_lets_others_go_on_and_fails_with_its_next_statement():
    case = scenario("a b c", a=["lock x", "lock y"], b=["lock x"], c=[{"kill": "a"}])
    recording = played(case)
    assert status(recording) == {"a": "failed", "b": "committed", "c": "committed"}
    assert [wait.ended for wait in recording.waits] == ["went on"]


def test_a_client_that_closes_its_connection_has_done_nothing():
    case = scenario("a b a", a={"statements": ["lock x"], "ends": "close"}, b=["lock x"])
    recording = played(case)
    assert moves(recording) == "a1 b1 a:close b:commit"
    assert status(recording) == {"a": "rolled back", "b": "committed"}


@pytest.mark.parametrize(
    ("order", "made", "kind"),
    [
        ("a b b a", "a1 b1 b:rollback a:commit", "timeout"),
        ("a b a", "a1 b1 a:commit b:commit", "waited"),
    ],
)
def test_a_timeout_runs_out_where_the_order_says_so(order, made, kind):
    case = scenario(order, a=["lock x"], b={"statements": ["lock x"], "timeout": "1s"})
    recording = played(case, timeouts="by order")
    shown = moves(recording).replace("b1 b1", "b1")  # the move in which it runs out
    assert (shown, recording.outcome.kind) == (made, kind)


@pytest.mark.parametrize(
    ("transactions", "message"),
    [
        ("a: {statements: [select 1], ends: open}\n  b: {connection: a, statements: [select 1]}", "b can never begin: a, which comes before it on the connection, does not end"),
        ("a: {statements: [select 1], ends: close}\n  b: {connection: a, statements: [select 1]}", "b can never begin: a, which comes before it on the connection, closes it"),
        ("a: {statements: [select 1]}\n  b: {connection: a, session: set x = 1, statements: [select 1]}", "b follows a on its connection, which has begun by then"),
        ("a: {autocommit: true, ends: commit, statements: [select 1]}", "a commits each statement by itself, so it has no 'ends'"),
        ("a: {autocommit: true, retry: {times: 1}, statements: [select 1]}", "so it has no 'retry'"),
        ("a: {autocommit: true, statements: [begin, select 1]}", "a commits each statement by itself, and begins with 'begin'"),
        ("a: {statements: [{kill: a}]}", "a 1 kills 'a', which is not another transaction"),
        ("a: {statements: [{kill: bb}]}\n  b: {statements: [select 1]}", "a 1 kills 'bb', which is not another transaction"),
        ("a: {statements: [{kill: b, keep: {x: rows}}]}\n  b: {statements: [select 1]}", "a 1 kills a session: it has no 'keep'"),
        ("a: {statements: [select 1, {sql: select 2, after_error: back to here}]}", "a goes back to the savepoint 'here', which no statement before sets"),
        ("a: {statements: [{sql: select 2, at_once: true}]}", "a 1 is sent at once: there is no statement before it to be sent with"),
        ("a: {statements: [{sql: select 1 as n, keep: {n: n}}, {sql: 'select :n', at_once: true}]}", "it uses 'n', which the statement before it keeps"),
        ("a: {statements: [{sql: select 2, after_error: goes on}]}", "'goes on' is not known here"),
        ("a: {isolation: serializable, statements: [begin isolation level read committed, select 1]}", "a begins with 'read committed', and its key 'isolation' says 'serializable'"),
        ("a: {statements: [select 1]}\nserver: {mysql: {innodb_flush_method: 2}}", "'innodb_flush_method' is not one of the settings that a scenario may give MySQL"),
        ("a: {statements: [select 1]}\nserver: {mysql: {sql_mode: 'a;b'}}", "'a;b' is not the value of a setting"),
    ],
)  # fmt: skip
def test_what_cannot_be_is_an_error_with_its_place(transactions, message):
    text = f"scenario: s\ndata: ''\ntransactions:\n  {transactions}\n"
    with pytest.raises(InputError) as caught:
        read_scenario(text.encode(), "s.yaml")
    assert message in str(caught.value)
    assert caught.value.problems[0].place.line > 3


def test_orders_keep_the_order_of_each_connection():
    assert list(merges([["a", "b"], ["c"]])) == [("a", "b", "c"), ("a", "c", "b"), ("c", "a", "b")]
    lanes = lanes_of(["c", "x 1", "a", "x 2", "b"], [("a", "b"), ("c",), ("x",)])
    assert lanes == [["a", "b"], ["c"], ["x 1", "x 2"]]
    assert count_of_orders(lanes) == 30 == len(list(merges(lanes)))
    first, *others = serial_orders(["c", "a", "b"], [["a", "b"], ["c"]])
    assert first == ("c", "a", "b")
    assert set(others) == {("a", "b", "c"), ("a", "c", "b")}
    assert schedules({"a": 2, "b": 2, "c": 1}, [("a", "b"), ("c",)]) == 5
    assert complete([], {"a": 1, "b": 1, "c": 2}, {"b": "a"}) == ("a", "b", "c", "c")


# -- on real servers ---------------------------------------------------------------------------------

DATA = """\
scenario: s
data: |
  create table slot (id int primary key, boxes int not null);
  insert into slot values (1, 3), (2, 5), (3, 9);
"""


@pytest.fixture(params=SERVERS)
def explored(request, call, tmp_path):
    """Explores a scenario on each server; what it came to."""

    def explore(text: str, *words: str) -> dict:
        (tmp_path / "s.yaml").write_text(DATA + text)
        done = call("explore", "s.yaml", "--target", f"local:{request.param}", "--json", *words)
        assert done.code in (0, 1), done.err
        return done.json

    explore.server = request.param
    return explore


def outcomes(found: dict) -> set[tuple[str, str]]:
    assert found["reach"]["complete"]
    return {(one["kind"], one["anomaly"] or one["data"]) for one in found["outcomes"]}


@pytest.mark.parametrize("step", ["continue", "retry"])
def test_who_goes_on_after_a_deadlock_commits_what_came_behind_it(explored, step):
    found = explored(f"""\
transactions:
  a:
    after_error: {{deadlock: {step}}}
    statements:
      - update slot set boxes = boxes + 1 where id = 1
      - update slot set boxes = boxes + 1 where id = 2
      - update slot set boxes = boxes + 1 where id = 3
  b: {{statements: [update slot set boxes = boxes + 1 where id = 2, update slot set boxes = boxes + 1 where id = 1]}}
""")
    fell = {
        one["anomaly"] or one["data"]
        for one in found["outcomes"]
        if "deadlock" in one["failed_by"].get("a", ())
    }
    # PostgreSQL refuses what comes behind it; InnoDB begins another transaction and commits that
    assert fell == ({"serial"} if explored.server == "postgresql" else {"partial commit"})
    assert ("waited", "serial") in outcomes(found)


def test_an_error_that_comes_in_any_order_is_no_partial_commit(explored):
    found = explored("""\
transactions:
  a:
    statements:
      - savepoint first
      - {sql: "insert into slot values (1, 0)", after_error: {duplicate: back to first}}
      - update slot set boxes = boxes + 1 where id = 1
  b: {statements: [update slot set boxes = boxes + 1 where id = 1]}
""")
    assert outcomes(found) <= {("waited", "serial"), ("clean", "serial")}
    assert sum(one["count"] for one in found["outcomes"]) == found["counts"]["run"]


def test_statements_that_commit_themselves_are_each_in_some_order(explored):
    found = explored("""\
transactions:
  a:
    autocommit: true
    statements: [update slot set boxes = boxes + 1 where id = 1, update slot set boxes = boxes * 2 where id = 2]
  b: {statements: [update slot set boxes = 7 where id = 2, update slot set boxes = 8 where id = 1]}
""")
    assert outcomes(found) == {("waited", "serial"), ("clean", "serial")}
    assert found["reach"]["orders"] == 10
    assert any("a commits each statement by itself" in note for note in found["notes"])


def test_settings_of_a_session_last_from_one_transaction_to_the_next(explored):
    take, give = {"postgresql": ("select pg_advisory_lock(7)", "select pg_advisory_unlock(7)")}.get(
        explored.server, ("select get_lock('berth', 60)", "select release_lock('berth')")
    )
    found = explored(f"""\
transactions:
  first: {{statements: ["{take}"]}}
  second: {{connection: first, statements: ["{give}"]}}
  other: {{statements: ["{take}", "{give}"]}}
""")
    assert outcomes(found) == {("waited", "serial"), ("clean", "serial")}


@pytest.mark.parametrize("autocommit", ["true", "false"])
def test_a_limit_of_a_session_s_own_outlasts_the_timeout_of_a_transaction(explored, autocommit):
    limit = {"postgresql": "set lock_timeout = '1s'"}.get(
        explored.server, "set session innodb_lock_wait_timeout = 1"
    )
    found = explored(f"""\
transactions:
  pilot: {{ends: open, statements: [update slot set boxes = 1 where id = 1]}}
  first:
    autocommit: {autocommit}
    timeout: 20s
    session: "{limit}"
    statements: [update slot set boxes = 1 where id = 2]
  second: {{connection: first, statements: [update slot set boxes = 2 where id = 1]}}
""")
    assert {kind for kind, _ in outcomes(found)} == {"timeout", "clean", "waited"}


def test_a_kill_undoes_what_was_done_in_every_order(explored):
    found = explored("""\
transactions:
  a: {ends: open, statements: [update slot set boxes = 0 where id = 1]}
  b: {statements: [update slot set boxes = boxes + 1 where id = 1]}
  boss: {statements: [{kill: a}]}
holds: {nothing of a stays: "select boxes = 4 from slot where id = 1"}
""")
    assert {kind for kind, _ in outcomes(found)} == {"clean", "waited", "error"}
    assert all(one["holds"]["nothing of a stays"] for one in found["outcomes"])
    assert {one["status"]["a"] for one in found["outcomes"]} == {"failed", "killed"}


def test_both_ends_of_a_timeout_are_explored(explored):
    text = """\
transactions:
  a: {statements: [update slot set boxes = 1 where id = 1]}
  b: {timeout: 1s, statements: [update slot set boxes = 2 where id = 1]}
"""
    assert outcomes(explored(text)) == {
        ("timeout", "serial"),
        ("waited", "serial"),
        ("clean", "serial"),
    }
    found = explored(text, "--timeouts", "by-order")
    kinds = [(one["kind"], tuple(one["shortest"])) for one in found["outcomes"]]
    assert ("timeout", ("a", "b", "b", "a")) in kinds
    assert {kind for kind, _ in kinds} == {"timeout", "waited", "clean"}


@pytest.mark.parametrize("server", SERVERS)
def test_a_snapshot_is_taken_with_the_beginning_where_it_says_so(call, tmp_path, server):
    text = """\
transactions:
  reader:
    statements:
      - {postgresql: begin isolation level repeatable read, mariadb: start transaction with consistent snapshot, mysql: start transaction with consistent snapshot}
      - select boxes from slot where id = 1
  writer: {statements: [update slot set boxes = 4 where id = 1]}
orders:
  begun before:
    order: reader writer writer reader
    expect: {postgresql: {results: {reader: {2: [[4]]}}}, mariadb: {results: {reader: {2: [[3]]}}}, mysql: {results: {reader: {2: [[3]]}}}}
"""
    (tmp_path / "s.yaml").write_text(DATA + text)
    done = call("play", "s.yaml", "--target", f"local:{server}", "--json")
    assert (done.code, done.json["orders"][0]["differences"]) == (0, [])


@pytest.mark.parametrize("sql", ["execute immediate 'commit'", "begin not atomic commit; end"])
@pytest.mark.parametrize("word", ["play", "explore"])
def test_a_transaction_that_is_ended_by_its_statement_is_noticed(call, tmp_path, sql, word):
    text = (
        f'transactions: {{a: {{statements: [update slot set boxes = 0 where id = 1, "{sql}"]}}}}\n'
    )
    (tmp_path / "s.yaml").write_text(DATA + text)
    done = call(word, "s.yaml", "--target", "local:mariadb")
    assert done.code == 2
    assert "s.yaml:5:73: a 2: it ended its transaction by itself" in done.err


@pytest.mark.parametrize("server", SERVERS)
def test_a_server_reads_what_lint_is_given(call, tmp_path, server):
    needs(server)  # lint goes on without one
    text = """\
transactions:
  a:
    statements:
      - udpate slot set boxes = 1
      - select boxes from slott
      - select boxes from slot where id = 1
"""
    (tmp_path / "s.yaml").write_text(DATA + text)
    done = call("lint", "s.yaml", "--server", server, "--json")
    assert [(one["line"], one["message"].split(" is refused by")[0]) for one in done.json["problems"]] == [(8, "a 1"), (9, "a 2")]  # fmt: skip
    assert done.json["read_by"]["s.yaml"].startswith(server)
    assert call("lint", "s.yaml", "--server", server, "--text-only").out.startswith(
        "s.yaml: fine\n"
    )


def test_a_table_that_a_statement_makes_is_no_error_of_the_next(call, tmp_path):
    needs("postgresql")
    text = "transactions: {a: {statements: [create table berth (id int), select id from berth]}}\n"
    (tmp_path / "s.yaml").write_text(DATA + text)
    assert call("lint", "s.yaml").code == 0


@pytest.mark.parametrize("server", SERVERS)
def test_a_scenario_s_own_settings_are_those_of_its_server(call, tmp_path, server):
    text = """\
server:
  postgresql: {deadlock_timeout: 200ms, default_transaction_isolation: repeatable read}
  mariadb: {innodb_deadlock_detect: off, innodb_lock_wait_timeout: 1}
  mysql: {innodb_deadlock_detect: off, transaction_isolation: READ-COMMITTED}
transactions:
  a: {statements: [update slot set boxes = 1 where id = 1, update slot set boxes = 1 where id = 2]}
  b: {statements: [update slot set boxes = 2 where id = 2, update slot set boxes = 2 where id = 1]}
order: a b a b
"""
    (tmp_path / "s.yaml").write_text(DATA + text)
    done = call("play", "s.yaml", "--target", f"local:{server}", "--json")
    recording = done.json
    level = {"postgresql": "repeatable read", "mysql": "read committed"}.get(
        server, "repeatable read"
    )
    assert {one["isolation"] for one in recording["transactions"]} == {level}
    kind = "timeout" if server == "mariadb" else "deadlock"
    assert recording["outcome"]["kind"] == kind
    assert any("was started for this run with" in note for note in recording["notes"])


def test_loops_refuse_what_is_no_loop(call, tmp_path):
    text = "transactions: {a: {autocommit: true, statements: [select 1]}}\n"
    (tmp_path / "s.yaml").write_text(DATA + text)
    done = call("churn", "s.yaml", "--for", "1s")
    assert done.code == 2
    assert "a commits each statement: transactions in loops are rolled back each time" in done.err


def test_what_is_sent_at_once_is_run_before_anybody_else_moves(explored):
    found = explored("""\
transactions:
  a: {statements: [update slot set boxes = 1 where id = 1, {sql: update slot set boxes = 1 where id = 2, at_once: true}]}
  b: {statements: [update slot set boxes = 2 where id = 2, update slot set boxes = 2 where id = 1]}
""")
    assert found["reach"]["orders"] == 10
    paths = {tuple(one["shortest"]) for one in found["outcomes"] if one["kind"] == "deadlock"}
    assert paths == {("b", "a", "b", "a")}


def test_what_a_server_keeps_of_a_silent_client_is_said(call):
    notes = call("play", "left-open", "--json").json["notes"]
    assert any("idle_in_transaction_session_timeout = " in note for note in notes)


def test_what_cannot_run_in_a_transaction_waits_for_the_scenario_s_own_only(call, tmp_path):
    text = """\
transactions:
  clerk: {statements: [update slot set boxes = 1 where id = 1, update slot set boxes = 1 where id = 2]}
  builder: {autocommit: true, statements: [create index concurrently slot_boxes on slot (boxes), vacuum slot]}
order: clerk builder clerk clerk builder
"""
    (tmp_path / "s.yaml").write_text(DATA + text)
    recording = call("play", "s.yaml", "--json").json
    assert recording["outcome"]["kind"] == "waited"
    assert {wait["holder"] for wait in recording["waits"]} == {"clerk"}


def test_a_victim_that_goes_back_to_a_savepoint_is_not_said_to_be_rolled_back(call, tmp_path):
    text = """\
transactions:
  a:
    statements:
      - update slot set boxes = 0 where id = 1
      - savepoint here
      - {sql: update slot set boxes = 0 where id = 2, after_error: back to here}
  b: {statements: [update slot set boxes = 9 where id = 2, update slot set boxes = 9 where id = 1]}
order: a a b b a
victim: a
"""
    (tmp_path / "s.yaml").write_text(DATA + text)
    done = call("play", "s.yaml", "--no-color")
    story = " ".join(done.out.split())
    assert (
        "The server ended the statement of a. a went on and committed without statement 3." in story
    )
    assert "no savepoint is left" not in story  # that is so on InnoDB
