"""Named orders: what must be seen in each, beside what is."""

import itertools
import json
from dataclasses import replace

import pytest
import yaml

from catenum import samples
from catenum.core.compare.expectation import differences
from catenum.core.errors import InputError
from catenum.core.record.recording import Result
from catenum.core.scenario.model import Expectation
from catenum.core.scenario.reader import read_scenario
from catenum.engines.scripted import ScriptedEngine
from catenum.lab.run.play import PlayOptions, play

SCENARIO = """\
scenario: berth-swap
data: |
  create table berth (id int primary key, vessel text, moved int not null default 0);
  insert into berth values (3, 'Halcyon', 0), (7, 'Oriel', 0);
transactions:
  early:
    statements:
      - update berth set vessel = 'Oriel', moved = moved + 1 where id = 3
      - update berth set vessel = 'Halcyon', moved = moved + 1 where id = 7
  late:
    statements:
      - update berth set moved = moved + 1 where id = 7
      - select id, moved from berth where id = 3 for update
"""
ORDERS = """\
orders:
  one after the other:
    order: early early early late late late
    expect:
      outcome: clean
      waits: {}
      errors: {}
      results: {early: {1: 1}, late: {2: [[3, 1]]}}
      rows: {berth: [[3, Oriel, 1], [7, Halcyon, 2]]}
  crossed:
    order: early late early late
    expect:
      outcome: deadlock
      waits: {early: {2: {holder: late, over: berth(id=7)}}, late: {2: early}}
      errors: {late: {2: deadlock}}
  the late one waits:
    order: [early, early, late, early]
    expect:
      postgresql: {outcome: waited, waits: {late: 1}}
      mariadb: {outcome: clean}
"""
#: The stand-in locks what stands behind `lock`.
LOCKS = read_scenario(
    b"""\
scenario: locks
data: ''
transactions:
  early: {statements: [lock quay, lock berth]}
  late: {statements: [lock berth, lock quay]}
""",
    "locks.yaml",
).scenario


def expected(text: str) -> Expectation:
    return Expectation.model_validate(yaml.safe_load(text))


@pytest.mark.parametrize(
    ("order", "text", "found"),
    [
        ("early early early late late", "outcome: clean", []),
        ("early late early late", "{outcome: deadlock, waits: {early: 2, late: 2}, errors: {late: {2: deadlock}}, victim: late}", []),
        ("early late early late", "outcome: waited", [("outcome", "deadlock")]),
        ("early late early late", "waits: {early: 2}", [("waits", "late 2 waits for early over quay")]),
        ("early late early late", "waits: {early: {2: early}, late: 2}", [("waits early 2", "waits for late over berth")]),
        ("early late early late", "waits: {early: {2: {over: quay}}, late: 2}", [("waits early 2", "waits for late over berth")]),
        ("early early early late late", "waits: {late: [1, 3]}", [("waits late 1", "it does not wait"), ("waits late 3", "it does not wait")]),
        ("early late early late", "errors: {early: {2: deadlock}}", [("errors early 2", "no error"), ("errors", "it failed: deadlock (deadlock)")]),
        ("early late early late", "errors: {late: {2: deadlock}}", []),
        ("early late early late", "errors: {late: {2: timeout}}", [("errors late 2", "deadlock (deadlock)")]),
        ("early late early late", "victim: early", [("victim", "late")]),
        ("early early early late late", "victim: early", [("victim", "no victim")]),
        ("early late early late", "results: {late: {2: 1}}", [("results late 2", "it failed: deadlock (deadlock)")]),
        ("early early early late late", "rows: {berth: [[1]]}", [("rows berth", "there is no such table")]),
    ],
)  # fmt: skip
def test_what_differs_is_said_with_its_place(order, text, found):
    recording = play(ScriptedEngine(), LOCKS, PlayOptions(order=tuple(order.split())))
    seen = differences(expected(text), recording)
    assert [(" ".join(map(str, one.path)), one.seen) for one in seen] == found


@pytest.mark.parametrize(
    ("wanted", "rows", "same"),
    [
        ("[[7, Oriel, null, true]]", [("7", "Oriel", None, "t")], True),
        ("[[7.0, Oriel, null, true]]", [("7", "Oriel", None, "1")], True),
        ("[[7]]", [("7.00",)], True),
        ("[['7']]", [("7.00",)], False),
        ("[[7]]", [("seven",)], False),
        ("[[null]]", [("",)], False),
        ("[[false]]", [("t",)], False),
        ("[[1], [2]]", [("2",), ("1",)], False),
        ("{in_any_order: [[1], [2]]}", [("2",), ("1",)], True),
        ("{in_any_order: [[1], [1]]}", [("2",), ("1",)], False),
        ("[[1]]", [("1",), ("2",)], False),
        ("[[1, 2]]", [("1",)], False),
        ("[]", [], True),
        ("2", [("1",), ("2",)], True),
        ("3", [("1",), ("2",)], False),
    ],
)
def test_a_result_is_compared_as_the_server_writes_it(wanted, rows, same):
    recording = play(ScriptedEngine(), LOCKS, PlayOptions(order=("early",)))
    events = tuple(
        replace(e, rows=len(rows), result=Result(columns=("a",), rows=tuple(rows)))
        if (e.transaction, e.statement, e.what) == ("early", 1, "done")
        else e
        for e in recording.events
    )
    found = differences(
        expected(f"results: {{early: {{1: {wanted}}}}}"), replace(recording, events=events)
    )
    assert (not found) == same


@pytest.mark.parametrize(
    ("orders", "message", "line"),
    [
        ("o: {order: erly, expect: {outcome: clean}}", "the order 'o': names 'erly', which is not a transaction", 15),
        ("o: {order: late late late late, expect: {outcome: clean}}", "the order 'o': names 'late' 4 times; it has 3 moves", 15),
        ("o: {expect: {waits: {erly: 1}}}", "the order 'o' expects 'erly', which is not a transaction", 15),
        ("o: {expect: {waits: {early: {1: lat}}}}", "the order 'o' expects 'lat', which is not a transaction", 15),
        ("o: {expect: {waits: {early: 4}}}", "the order 'o' expects 'early' 4: it has the moves 1 to 3", 15),
        ("o: {expect: {results: {early: {0: 1}}}}", "the order 'o' expects 'early' 0: it has the moves 1 to 3", 15),
        ("o: {expect: {victim: x}}", "the order 'o' expects 'x', which is not a transaction", 15),
        ("o: {expect: {outcome: clean, waits: {early: 1}}}", "the order 'o' expects no wait ('clean') and waits", 15),
        ("o: {expect: {outcome: waited, errors: {early: {1: timeout}}}}", "the order 'o' expects the outcome 'waited' and errors", 15),
        ("o: {expect: {outcome: clean, victim: early}}", "the order 'o' expects a deadlock victim and the outcome 'clean'", 15),
        ("o: {expect: {results: {early: {1: 1}}, errors: {early: {1: timeout}}}}", "the order 'o' expects a result and an error of 'early' 1", 15),
        ("o: {expect: {}}", "an expectation must expect something", 15),
        ("o: {expect: {outcom: clean}}", "unknown key 'outcom'", 15),
        ("o: {expect: {outcome: cleen}}", "'cleen' is not known here", 15),
        ("o: {order: early}", "the key 'expect' is missing", 15),
    ],
)  # fmt: skip
def test_an_expectation_that_cannot_be_met_is_an_error_with_its_place(orders, message, line):
    with pytest.raises(InputError) as caught:
        read_scenario(f"{SCENARIO}orders:\n  {orders}\n".encode(), "x.yaml")
    found = [one for one in caught.value.problems if message in one.message]
    assert found, caught.value.problems
    assert found[0].place.line == line


@pytest.mark.parametrize("server", ["postgresql", "mariadb", "mysql"])
def test_play_checks_every_named_order(run, tmp_path, server):
    (tmp_path / "swap.yaml").write_text(SCENARIO + ORDERS)
    done = run("play", "swap.yaml", "--target", f"local:{server}")
    text = done.out.splitlines()
    assert "✓ one after the other  clean     as expected" in text
    assert "✓ crossed              deadlock  as expected" in text or server != "postgresql"
    last = {
        "postgresql": "✓ the late one waits   waited    as expected",
        "mariadb": "✗ the late one waits   waited    not as expected",
        "mysql": "· the late one waits   waited    nothing is expected on mysql",
    }
    assert last[server] in text
    if server == "mariadb":
        assert done.code == 1
        assert "    outcome: waited; expected: clean" in text
        assert "      swap.yaml:33:26" in text


@pytest.mark.parametrize(
    "words", [("--isolation", "serializable"), ("--victim", "early"), ("--timeouts", "by-order")]
)
def test_what_an_option_changed_is_not_compared(call, tmp_path, words):
    (tmp_path / "swap.yaml").write_text(SCENARIO + ORDERS)
    done = call("play", "swap.yaml", "--named", "crossed", *words)
    assert done.code == 1  # it has a conflict, as any run may have
    assert done.out.rstrip().endswith(f"not compared, with {words[0]}")


def test_waits_are_compared_whatever_locks_are_collected(call, tmp_path):
    (tmp_path / "swap.yaml").write_text(SCENARIO + ORDERS)
    done = call("play", "swap.yaml", "--locks", "none", "--json")
    assert [one["differences"] for one in done.json["orders"]] == [[], [], []]


@pytest.mark.parametrize("server", ["postgresql", "mysql"])
def test_a_duplicate_key_has_a_word_on_every_server(call, tmp_path, server):
    (tmp_path / "same.yaml").write_text(
        "scenario: same\ndata: create table berth (id int primary key)\n"
        "transactions:\n  a: {statements: [insert into berth values (3)]}\n"
        "  b: {statements: [insert into berth values (3)]}\n"
        "orders: {o: {order: a a b, expect: {errors: {b: {1: duplicate}}}}}\n"
    )
    done = call("play", "same.yaml", "--target", f"local:{server}")
    assert (done.code, "as expected" in done.out) == (0, True), done.out


@pytest.mark.parametrize(("outcome", "code"), [("deadlock", 0), ("clean", 1)])
def test_a_named_order_may_be_expected_to_come_out_so(call, tmp_path, outcome, code):
    (tmp_path / "swap.yaml").write_text(SCENARIO + ORDERS)
    assert call("play", "swap.yaml", "--named", "crossed", "--expect", outcome).code == code


def test_a_false_rule_of_a_named_order_is_named(call, tmp_path):
    rule = "holds: {no vessel moved: select count(*) = 0 from berth where moved > 0}\n"
    (tmp_path / "swap.yaml").write_text(SCENARIO + rule + ORDERS)
    done = call("play", "swap.yaml")
    assert (done.code, done.out.count("as expected; false at the end: no vessel moved")) == (0, 3)


def test_one_named_order_is_shown_whole_and_may_be_saved(run, tmp_path):
    (tmp_path / "swap.yaml").write_text(SCENARIO + ORDERS)
    done = run("play", "swap.yaml", "--named", "crossed", "--save", "r.json")
    assert done.code == 0
    assert "Deadlock" in done.out
    assert done.out.rstrip().endswith("✓ crossed  deadlock  as expected")
    recorded = json.loads((tmp_path / "r.json").read_text())
    assert recorded["order"][:4] == ["early", "late", "early", "late"]
    value = run("play", "swap.yaml", "--json").json
    assert [(one["name"], one["as_expected"]) for one in value["orders"]] == [
        ("one after the other", True),
        ("crossed", True),
        ("the late one waits", True),
    ]


@pytest.mark.parametrize(
    ("words", "message"),
    [
        (("--named", "crosed"), "swap.yaml has no order 'crosed'"),
        (("--save", "r.json"), "--save is about one order, and the scenario has 3 orders"),
        (("--expect", "clean"), "--expect is about one order, and the scenario has 3 orders"),
        (("--named", "crossed", "--order", "early late"), "--named plays the order that the"),
    ],
)
def test_what_is_about_one_order_needs_its_name(call, tmp_path, words, message):
    (tmp_path / "swap.yaml").write_text(SCENARIO + ORDERS)
    done = call("play", "swap.yaml", *words)
    assert (done.code, message in done.err) == (2, True), done.err


OUTCOMES = """\
outcomes:
  postgresql: [clean, waited, {outcome: deadlock, victim: early}, {outcome: deadlock, victim: late}]
  mysql: [clean, {outcome: waited, data: serial}, timeout]
"""


@pytest.mark.parametrize("server", ["postgresql", "mariadb", "mysql"])
def test_explore_compares_the_outcomes_and_says_which_are_missing_or_more(run, tmp_path, server):
    (tmp_path / "swap.yaml").write_text(SCENARIO + OUTCOMES)
    words = ("explore", "swap.yaml", "--target", f"local:{server}", "--quiet")
    done = run(*words)
    if server == "postgresql":  # a deadlock is a conflict, unless it is asked for
        assert (done.code, done.err) == (1, "catenum: as expected: 4 outcomes, and no other\n")
        assert run(*words, "--expect", "listed").code == 0
    if server == "mariadb":  # nothing is expected there
        assert (done.code, done.err) == (1, "")
        assert "the scenario lists no outcomes for mariadb" in run(*words, "--expect", "listed").err
    if server == "mysql":
        first, *more = done.err.splitlines()
        assert done.code == 1
        assert first == "catenum: swap.yaml:16:51: not as expected: timeout: in none of 6 schedules"
        assert all("swap.yaml:16:10: not as expected: deadlock, data serial" in one for one in more)
    changed = run("explore", "swap.yaml", "--quiet", "--isolation", "serializable")
    assert (changed.code, changed.err) == (1, "")  # of another level nothing is said


@pytest.mark.parametrize(
    ("outcomes", "message"),
    [
        ("[clen]", "outcomes.0: 'clen' is not known here"),
        ("[{outcome: clean, data: lost updat}]", "outcomes.0.data: 'lost updat' is not known here"),
        (
            "[{outcome: deadlock, victim: erly}]",
            "outcomes expect 'erly', which is not a transaction",
        ),
        ("{mysq: [clean], mysql: [clean]}", "outcomes.mysq: 'mysq' is not known here"),
        ("[]", "outcomes: must not be empty"),
    ],
)
def test_an_outcome_that_cannot_be_is_an_error(outcomes, message):
    with pytest.raises(InputError) as caught:
        read_scenario(f"{SCENARIO}outcomes: {outcomes}\n".encode(), "x.yaml")
    assert [one.message for one in caught.value.problems] == [message]


#: What is explored with every run of the tests; the others are in the soak.
ALWAYS = {
    ("caught-and-gone-on", "postgresql"),
    ("manifest-total", "postgresql"),
    ("client-gone", "mariadb"),
}


@pytest.mark.parametrize(
    ("sample", "server"),
    [
        pytest.param(*one, marks=[] if one in ALWAYS else [pytest.mark.soak])
        for one in itertools.product(samples.names(), ("postgresql", "mariadb", "mysql"))
    ],
)
def test_the_samples_have_the_outcomes_that_they_list(call, sample, server):
    words = ("--target", f"local:{server}", "--expect", "listed", "--quiet")
    done = call("explore", sample, *words)
    assert done.code == 0, done.err
