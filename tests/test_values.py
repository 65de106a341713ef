"""Values and conditions: what transactions read, keep, decide by and write, on both servers."""

from __future__ import annotations

import json
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from catenum.core.errors import InputError
from catenum.core.propose.changes import plain as as_plain
from catenum.core.record.values import Value
from catenum.core.scenario.conditions import ConditionError, MissingValue, parse_condition
from catenum.core.scenario.model import Remedy
from catenum.core.scenario.reader import read_scenario
from catenum.core.scenario.remedies import apply_remedy, describe
from catenum.core.servers import NATIVE, rules_of
from catenum.core.space.dependence import PASSED, Dependence
from conftest import leftovers, sample

BOXES = "create table box (id int primary key, kg int, name varchar(20)); insert into box values (1, 4, 'a'), (2, 5, null);"


def scenario(*statements: object, **transaction: object) -> str:
    """One transaction, as JSON, which is YAML too."""
    only = {"statements": list(statements), **transaction}
    return json.dumps(
        {"scenario": "boxes", "data": BOXES, "transactions": {"gate": only}}, ensure_ascii=False
    )


@pytest.fixture(params=NATIVE)
def played(request, call, tmp_path):
    """Plays a scenario on each server; the events of its transaction."""
    if request.param == "mariadb":
        request.getfixturevalue("kept_mariadb")

    def played(text: str, *more: str):
        (tmp_path / "s.yaml").write_text(text)
        return call("play", "s.yaml", "--target", f"local:{request.param}", "--json", *more)

    return played


# -- reading -----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("sql", "names"),
    [
        ("update box set kg = :kg where id = :id and kg < :kg", ("kg", "id")),
        ("select ':no', \"a:b\", x::int, a[1:n] from box where id = :from", ("from",)),
        ("select 1 -- :no\n, /* :no */ :yes", ("yes",)),
        ("select (:a), :b::bigint, array[:c]", ("a", "b", "c")),
    ],
)
def test_parameters_are_found_where_a_value_belongs(sql, names):
    for server in NATIVE:
        assert rules_of(server).sql.value_names(sql) == names


@pytest.mark.parametrize(
    ("server", "sql", "names"),
    [
        ("postgresql", r"select E'\':no', $$ :no $$, $x$:no$x$, :yes", ("yes",)),
        ("mariadb", "select '\\':no', `a:b`, @x := 3 # :no\n, :yes", ("yes",)),
    ],
)
def test_each_server_s_own_strings_and_comments_are_left_alone(server, sql, names):
    assert rules_of(server).sql.value_names(sql) == names


@given(st.text(st.characters(codec="ascii")), st.sampled_from(NATIVE))
def test_nothing_of_a_statement_is_lost_when_its_parameters_are_placed(text, server):
    rules = rules_of(server)
    sql = f"select :a, {text}"
    if server == "postgresql":
        kept = rules.sql.numbered(sql)
        for number, name in enumerate(rules.sql.value_names(sql), 1):
            kept = kept.replace(f"${number}", f":{name}", 1) if f"${number}" not in text else sql
        assert kept.startswith("select :a, ") or kept == sql
        assert len(kept) >= len("select :a, ")
    else:
        placed = rules.sql.formatted(sql)
        values = [
            value.text
            for value in rules.sql.values_by_place(
                sql, tuple((n, Value(n)) for n in rules.sql.value_names(sql))
            )
        ]
        assert placed.replace("%%", "%").count("%s") >= len(values)
        assert placed % tuple(f":{value}" for value in values) == sql


@pytest.mark.parametrize(
    ("condition", "values", "true"),
    [
        ("seen > 1", {"seen": Value("2", "number")}, True),
        ("seen > 1", {"seen": Value("10", "number")}, True),
        ("seen > 1", {"seen": Value(None, "null")}, False),
        ("seen is null", {"seen": Value(None, "null")}, True),
        ("seen is null", {}, True),
        ("seen is not null and seen = 2", {}, False),
        ("name = 'O''Hara'", {"name": Value("O'Hara")}, True),
        ("ready = true", {"ready": Value("1", "number")}, True),
        ("kg <= 4.50", {"kg": Value("4.5", "number")}, True),
        ("1 < seen and seen <> 3", {"seen": Value("3", "number")}, False),
    ],
)
def test_a_condition_is_decided_as_in_sql(condition, values, true):
    assert (parse_condition(condition).undecided(values) is None) == true


@given(st.sampled_from(["=", "<>", "<", "<=", ">", ">="]), st.integers(), st.integers())
def test_comparisons_of_numbers_are_those_of_arithmetic(sign, left, right):
    python = {
        "=": left == right,
        "<>": left != right,
        "<": left < right,
        "<=": left <= right,
        ">": left > right,
        ">=": left >= right,
    }
    found = parse_condition(f"n {sign} {right}").undecided({"n": Value(str(left), "number")})
    assert (found is None) == python[sign]


def test_what_cannot_be_decided_says_so():
    with pytest.raises(MissingValue):
        parse_condition("seen > 1").undecided({})
    with pytest.raises(ConditionError, match="cannot be compared"):
        parse_condition("seen > 'x'").undecided({"seen": Value("1", "number")})
    assert Value("0.10", "number").plain == Decimal("0.10")


@pytest.mark.parametrize(
    ("text", "place", "words"),
    [
        ("      - {sql: select 1, when: 'sen > 1'}\n", "10:32", "Did you mean seen?"),
        ("      - {sql: select 1, when: 'seen >'}\n", "10:38", "a name or a value is expected"),
        ("      - {sql: select 1, when: seen is 3}\n", "10:36", "'null' or 'not null' is expected"),
        ("      - {sql: select 1, when: seen > null}\n", "10:38", "write 'is null'"),
        ("      - {sql: select 1, when: from > 'x'}\n", "10:31", "cannot be compared"),
        ("      - select :later\n", "10:16", "is kept by statement 4, not before this one"),
        ("      - |\n        select 1\n        where 3 = :none\n", "12:19", "no earlier statement keeps it"),
        ("      - {sql: select 1, otherwise: skip}\n", "10:9", "'otherwise' needs 'when'"),
        ("      - {sql: select 1 as x, require: row = 1}\n", "10:39", "use 'rows'"),
        ("      - {sql: select 1 as x, require: rows = 'x'}\n", "10:39", "cannot be compared"),
        ("      - {sql: select 1 as x, require: later = 1}\n", "10:39", "neither this statement nor an earlier one"),
        ("      - {sql: select 1 as x, keep: {from: x}}\n", "10:36", "is a parameter already"),
        ("      - {sql: select 1 as x, keep: {a b: x}}\n", "10:42", "is not a name"),
    ],
)  # fmt: skip
def test_a_name_or_condition_that_cannot_be_is_an_error_with_line_and_column(text, place, words):
    whole = (
        "scenario: s\ndata: create table t (id int)\ntransactions:\n  gate:\n    parameters: {from: 3}\n    statements:\n"
        "      - {sql: select 1 as n, keep: {seen: n}}\n      - sql: select 2\n        label: second\n"
        + text
        + "      - {sql: select 3 as n, keep: {later: n}}\n"
    )
    with pytest.raises(InputError) as caught:
        read_scenario(whole.encode(), "s.yaml")
    assert f"s.yaml:{place}" in str(caught.value), str(caught.value)
    assert words in str(caught.value)


def test_a_remedy_that_uses_a_value_too_early_is_refused():
    text = (
        "scenario: s\ndata: create table t (id int)\ntransactions:\n  gate:\n    statements:\n"
        "      - {sql: select 1 as n, keep: {seen: n}}\n      - select :seen\nremedies:\n  turned:\n    reorder: {gate: [2, 1]}\n"
    )
    with pytest.raises(
        InputError, match=r"s.yaml:10:\d+: remedy 'turned': 'seen' is kept by statement 2"
    ):
        read_scenario(text.encode(), "s.yaml")


def test_a_remedy_changes_what_it_says_of_a_statement_and_nothing_else():
    text = (
        "scenario: s\ndata: create table t (id int)\ntransactions:\n  gate:\n    statements:\n"
        "      - {sql: select 1 as n, keep: {seen: n}}\n      - {sql: select 2, when: seen > 1}\nremedies:\n"
        "  plain: {rewrite: {gate: {2: select 3}}}\n"
        "  whole: {rewrite: {gate: {2: {sql: select 3, when: null, require: rows = 1}}}, add: {gate: {1: {sql: select 4 as m, keep: {m: m}}}}}\n"
    )
    made = read_scenario(text.encode(), "s.yaml").scenario.for_server("postgresql")
    (plain, _), (whole, _) = (
        apply_remedy(made, made.remedies[name]) for name in ("plain", "whole")
    )
    assert [(s.text, s.when, s.require) for s in plain.transactions["gate"].statements][1] == (
        "select 3",
        "seen > 1",
        None,
    )
    first, kept, last = whole.transactions["gate"].statements
    assert (first.text, first.kept, kept.kept) == ("select 4 as m", {"m": "m"}, {"seen": "n"})
    assert (last.text, last.when, last.require) == ("select 3", None, "rows = 1")
    for remedy in made.remedies.values():
        again = Remedy.model_validate(as_plain(remedy), strict=False)
        assert apply_remedy(made, again) == apply_remedy(made, remedy)
    assert "gate statement 2: select 3 (always; refused unless rows = 1)" in describe(
        made.remedies["whole"]
    )
    with pytest.raises(InputError, match="'seen' is kept by statement 2, not before"):
        read_scenario(text.replace("{1: {sql", "{1: {when: seen > 1, sql").encode(), "s.yaml")


# -- running -----------------------------------------------------------------------------------------------------------


def test_values_are_kept_bound_and_shown(played):
    done = played(
        scenario(
            {
                "sql": "select kg, name from box where id = :id",
                "keep": {"kg": "kg", "name": "name", "found": "rows"},
            },
            "update box set kg = :kg + 1, name = :name where id = 2",
            "select kg, name from box where id = 2",
            parameters={"id": 1},
        )
    )
    events = done.json["events"]
    assert done.code == 0
    assert events[0]["values"] == {"id": "1"}
    assert events[1]["kept"] == {"found": "1", "kg": "4", "name": "a"}
    assert events[2]["values"] == {"kg": "4", "name": "a"}
    assert events[2]["sql"] == "update box set kg = :kg + 1, name = :name where id = 2", (
        "nothing is pasted"
    )
    assert events[5]["result"]["rows"] == [["5", "a"]]


@pytest.mark.parametrize(
    "text", ["O'Hara", "a:b", "100%", "x%sy", '"', "back\\slash", "; drop table box; --", "ä → 💡"]
)
def test_any_text_arrives_as_it_was(played, text):
    done = played(
        scenario(
            "update box set name = :name where id = 1",
            "select name from box where id = 1",
            parameters={"name": text},
        )
    )
    assert done.json["events"][3]["result"]["rows"] == [[text]]


def test_null_is_bound_as_null_and_a_condition_on_it_is_not_true(played):
    done = played(
        scenario(
            {"sql": "select name from box where id = 2", "keep": {"name": "name"}},
            {"sql": "delete from box", "when": "name = 'a'"},
            {"sql": "update box set name = :name where id = 1", "when": "name is null"},
            {"sql": "select count(*) as n from box where name is null", "keep": {"n": "n"}},
        )
    )
    passed = [e for e in done.json["events"] if e["what"] == "passed"]
    assert [(e["statement"], e["condition"], e["values"]) for e in passed] == [
        (2, "name = 'a'", {"name": None})
    ]
    assert done.json["events"][-3]["kept"] == {"n": "2"}


@pytest.mark.parametrize(
    ("otherwise", "status", "left"),
    [("skip", "committed", 1), ("commit", "committed", 2), ("rollback", "rolled back", 2)],
)
def test_otherwise_skips_or_ends_the_transaction(played, otherwise, status, left):
    done = played(
        scenario(
            {"sql": "select count(*) as n from box", "keep": {"n": "n"}},
            {"sql": "select 1", "when": "n > 5", "otherwise": otherwise},
            "delete from box where id = 2",
        )
    )
    (record,) = done.json["transactions"]
    assert (record["status"], done.json["rows"]["box"]["total"], done.code) == (status, left, 0)
    assert [m["statement"] for m in done.json["schedule"]][:2] == [1, 2]


@pytest.mark.parametrize(
    ("statements", "words"),
    [
        (
            [{"sql": "select id from box where id = 9", "keep": {"box": "id"}}, "delete from box where id = :box"],
            "s.yaml:1:140: gate 2: 'box' has no value: statement 1 returned no row",
        ),
        (
            [{"sql": "select id from box where id = 9", "keep": {"box": "id"}}, {"sql": "select 1", "when": "box > 1"}],
            "'box' has no value: statement 1 returned no row",
        ),
        (
            [
                {"sql": "select 1 as n", "keep": {"n": "n"}},
                {"sql": "select 2 as m", "keep": {"m": "m"}, "when": "n > 1"},
                "select :m",
            ],
            "'m' has no value: statement 2 was passed over",
        ),
        ([{"sql": "select id from box", "keep": {"box": "number"}}], "it returns no column 'number'"),
        ([{"sql": "update box set kg = 1", "keep": {"box": "id"}}], "it returns: no columns"),
        (
            [{"sql": "select name from box where id = 1", "keep": {"name": "name"}}, {"sql": "select 1", "when": "name > 3"}],
            "name (the text 'a') cannot be compared with 3 (the number '3')",
        ),
    ],
)  # fmt: skip
def test_a_value_that_is_missing_or_of_another_type_ends_the_transaction_and_names_the_place(
    played, kept, statements, words
):
    done = played(scenario(*statements))
    assert done.code == 2
    assert words.removeprefix("s.yaml:1:140: ") in done.err
    assert "s.yaml:1:" in done.err
    assert done.json["outcome"]["kind"] == "error"
    assert leftovers(kept) == ([], [])


def test_what_a_statement_requires_refuses_its_transaction_and_no_server_is_said_to_have(
    played, call, tmp_path
):
    done = played(
        scenario(
            {
                "sql": "update box set kg = 9 where id = 1 and kg = 3",
                "keep": {"n": "rows"},
                "require": "rows = 1 and n > 0",
            },
            "delete from box",
            retry={"times": 1},
        )
    )
    assert done.code == 1
    events = [(e["attempt"], e["statement"], e["what"]) for e in done.json["events"]]
    assert events == [(n, 1, what) for n in (1, 2) for what in ("sent", "done", "failed")]
    error = done.json["events"][-1]["error"]
    assert (error["kind"], error["check"], error["message"]) == (
        "refused",
        "required",
        "'rows = 1' is not true: rows is 0",
    )
    assert (done.json["outcome"]["kind"], done.json["transactions"][0]["status"]) == (
        "refused",
        "failed",
    )
    assert [finding["id"] for finding in done.json["findings"]] == ["unmet-requirement"]
    assert len(done.json["rows"]["box"]["rows"]) == 2
    (tmp_path / "r.json").write_text(done.out)
    text = " ".join(call("explain", "r.json").out.split())
    assert "gate did not find what it requires, and was rolled back" in text
    assert "the server refused gate" not in text
    assert "What the server said" not in text


def test_a_retry_begins_with_nothing_kept(call, tmp_path, kept):
    """The loser of the deadlock keeps the box's weight anew: what it adds to is what the winner
    left.
    """
    one = [
        {"sql": "select kg from box where id = 1", "keep": {"kg": "kg"}},
        {"sql": "update box set kg = :kg + 1 where id = 1"},
        "update box set kg = 0 where id = 2",
    ]
    other = ["update box set kg = 7 where id = 2", "update box set kg = 40 where id = 1"]
    plain = {
        "scenario": "again",
        "data": BOXES,
        "transactions": {
            "gate": {"statements": one, "retry": {"times": 1}},
            "crane": {"statements": other},
        },
        "order": "gate gate crane gate crane crane",
        "victim": "gate",
    }
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    done = call("play", "s.yaml", "--json").json
    sent = [
        e["values"]
        for e in done["events"]
        if e["what"] == "sent" and e["statement"] == 2 and e["transaction"] == "gate"
    ]
    assert sent == [{"kg": "4"}, {"kg": "40"}]
    assert done["rows"]["box"]["rows"][0][1] == "41"


def test_the_timeline_and_the_story_show_values_and_what_decided(call):
    reported = " ".join(
        call("play", "crane-standby", "--order", "marit marit marit jonas jonas jonas").out.split()
    )
    assert "keeps seen = 1" in reported
    assert "↷ 2. not run: seen > 1 is not true, seen = 1" in reported
    reported = call("play", "box-number").out
    assert "with total = 9, box = 1, vessel = 12" in " ".join(reported.split())


def test_a_parameter_takes_its_values_from_a_column(played, call, tmp_path):
    done = played(scenario("select kg from box where id = :id", parameters={"id": "box.id"}))
    assert done.json["events"][0]["values"] == {"id": "1"}
    assert any("is 1, the first value of box.id" in note for note in done.json["notes"])
    done = played(scenario("select :id", parameters={"id": {"value": "box.id"}}))
    assert done.json["events"][0]["values"] == {"id": "box.id"}
    done = played(scenario("select :id", parameters={"id": "box.none"}))
    assert (done.code, "takes its values from box.none" in done.err, "s.yaml:1:" in done.err) == (
        2,
        True,
        True,
    )


@pytest.mark.parametrize("server", NATIVE)
def test_loops_carry_values_and_draw_from_a_column(call, tmp_path, server, request):
    if server == "mariadb":
        request.getfixturevalue("kept_mariadb")
    (tmp_path / "s.yaml").write_text(
        scenario(
            {"sql": "select kg from box where id = :id", "keep": {"kg": "kg", "n": "rows"}},
            {"sql": "update box set kg = :kg + 1 where id = :id", "when": "n = 1"},
            {"sql": "update box set kg = kg / (kg - kg)", "when": "n > 1"},
            parameters={"id": "box.id"},
        )
    )
    found = call(
        "churn",
        "s.yaml",
        "--target",
        f"local:{server}",
        "--iterations",
        "300",
        "--commit",
        "--json",
    ).json
    assert found["iterations"] == 300
    assert not any(t["failures"] for t in found["transactions"].values())


# -- exploring ---------------------------------------------------------------------------------------------------------


def test_rows_are_told_apart_by_the_values_of_the_run():
    text = scenario(
        {"sql": "select kg from box where id = 1", "keep": {"kg": "kg"}},
        "update box set kg = 0 where id = :kg",
    )
    plain = json.loads(text)
    plain["transactions"]["crane"] = {"statements": ["update box set kg = 1 where id = 2"]}
    file = read_scenario(json.dumps(plain).encode(), "s.yaml")
    from catenum.core.record.recording import TableKeys

    relation = Dependence(
        file.scenario.for_server("postgresql"),
        rules_of("postgresql"),
        {"box": TableKeys(primary=("id",), kinds={"id": "integer"})},
        "read committed",
    )
    mine, theirs = ("gate", 1), ("crane", 0)
    assert relation.depend(mine, theirs), "not known yet: it may be any row"
    assert relation.depend(mine, theirs, (("kg", Value("2", "number")),))
    assert not relation.depend(mine, theirs, (("kg", Value("3", "number")),))
    assert not relation.depend(mine, theirs, PASSED), "what is passed over touches nothing"


DECIDES = {
    "write skew by a condition": {
        "a": [{"sql": "select id from box where kg > 0", "keep": {"n": "rows"}}, {"sql": "update box set kg = 0 where id = 1", "when": "n > 1", "otherwise": "rollback"}],
        "b": [{"sql": "select id from box where kg > 0", "keep": {"n": "rows"}}, {"sql": "update box set kg = 0 where id = 2", "when": "n > 1", "otherwise": "rollback"}],
    },
    "the row is decided by what was read": {
        "a": [{"sql": "select kg from box where id = 1", "keep": {"kg": "kg"}}, {"sql": "update box set kg = 2 where id = :kg"}],
        "b": [{"sql": "update box set kg = 2 where id = 1"}, "update box set kg = kg + 1 where id = 2"],
    },
    "a statement that is passed over holds nobody up": {
        "a": [{"sql": "select kg from box where id = 1 for update", "keep": {"kg": "kg"}}, {"sql": "update box set kg = 9 where id = 2", "when": "kg > 4", "otherwise": "commit"}, "delete from box where id = 2"],
        "b": [{"sql": "update box set kg = 5 where id = 2"}, "update box set kg = 6 where id = 1"],
    },
    "a version check that begins again": {
        name: {
            "isolation": "read committed",
            "retry": {"times": 1},
            "statements": [{"sql": "select kg from box where id = 1", "keep": {"kg": "kg"}}, {"sql": "update box set kg = :kg + 1 where id = 1 and kg = :kg", "require": "rows = 1"}],
        }
        for name in ("a", "b")
    },
}  # fmt: skip


@pytest.mark.parametrize("title", DECIDES)
@pytest.mark.parametrize("server", NATIVE)
def test_reduction_loses_no_outcome_where_transactions_decide(
    call, tmp_path, server, title, request
):
    if server == "mariadb":
        request.getfixturevalue("kept_mariadb")
    plain = {
        "scenario": "decides",
        "data": BOXES,
        "transactions": {
            n: s if isinstance(s, dict) else {"statements": s} for n, s in DECIDES[title].items()
        },
    }
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    found = [
        call("explore", "s.yaml", "--target", f"local:{server}", "--json", *more).json
        for more in ([], ["--every"])
    ]
    kinds = [
        {
            (o["kind"], o["data"], json.dumps(o["status"]), json.dumps(o["failed_by"]))
            for o in one["outcomes"]
        }
        for one in found
    ]
    assert kinds[0] == kinds[1]
    assert found[0]["counts"]["run"] <= found[1]["counts"]["run"]
    if title.startswith("a version"):
        assert {o["data"] for o in found[0]["outcomes"]} == {"serial"}
        assert all(set(o["status"].values()) == {"committed"} for o in found[0]["outcomes"])
        assert {o["kind"] for o in found[0]["outcomes"]} == {"clean", "refused"}
    if title.startswith("write skew"):
        assert {o["anomaly"] for o in found[0]["outcomes"] if o["data"] == "anomaly"} == {
            "write skew"
        }
        assert "unchecked" not in {o["data"] for o in found[0]["outcomes"]}, (
            "who decides to roll back is no failure"
        )


@pytest.mark.parametrize("server", NATIVE)
def test_numbers_that_the_server_makes_are_left_out_wherever_they_are_carried(
    call, server, request
):
    if server == "mariadb":
        request.getfixturevalue("kept_mariadb")
    found = call("explore", "box-number", "--target", f"local:{server}", "--json").json
    assert set(found["ignored"]) == {"box.id of new rows", "vessel.latest"}
    assert {o["anomaly"] for o in found["outcomes"]} == {None, "lost update"}
    done = call("trial", "box-number", "--target", f"local:{server}", "--json").json
    assert [v["verdict"] for v in done["variants"][1:]] == ["cures", "cures"]


def test_every_printed_schedule_with_values_replays(call):
    for entry in call("explore", "box-number", "--json").json["outcomes"]:
        played = call("play", "box-number", "--order", " ".join(entry["shortest"]), "--json").json
        assert played["outcome"]["kind"] == entry["kind"]
        assert played["outcome"]["holds"] == entry["holds"]


def test_a_key_with_a_comma_keeps_holder_mode_and_finding(call, tmp_path):
    """Keys are values, not text that is read again."""
    (tmp_path / "s.yaml").write_text(
        "scenario: commas\ndata: |\n  create table berth (name text primary key, moved int);\n"
        "  insert into berth values ('East, no=1', 0), ('West, no=2', 0);\ntransactions:\n"
        "  early: {statements: [\"update berth set moved = 1 where name = 'East, no=1'\", \"update berth set moved = 1 where name = 'West, no=2'\"]}\n"
        "  late: {statements: [\"update berth set moved = 2 where name = 'West, no=2'\", \"update berth set moved = 2 where name = 'East, no=1'\"]}\n"
        "order: early late early late\n"
    )
    found = call("play", "s.yaml", "--json").json
    assert found["waits"][0]["holder_statement"] == 1
    assert found["waits"][0]["held"] == "FOR NO KEY UPDATE"
    assert found["waits"][0]["resource"]["key"] == [["name", "West, no=2"]]
    assert [f["id"] for f in found["findings"]] == ["opposite-order"]


def test_samples_with_values_read_alike_for_every_server():
    for name in ("box-number", "crane-standby"):
        for server in NATIVE:
            assert sample(name).scenario.for_server(server).transactions
