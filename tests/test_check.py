"""Scenarios held to what they expect: statuses, exit codes, and what build servers read of them."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from xml.etree import ElementTree

import pytest
import yaml

from catenum.core.check.result import Blame, CheckCase, CheckResult
from catenum.core.errors import InputError, Place
from catenum.core.scenario.reader import read_scenario
from catenum.render.junit import to_junit
from catenum.render.sarif import to_sarif
from valid import check_junit, check_sarif

SWAP = {
    "scenario": "swap",
    "data": "create table berth (id int primary key, moved int not null); insert into berth values (3, 0), (7, 0);",
    "transactions": {
        "early": {
            "statements": [
                "update berth set moved = moved + 1 where id = 3",
                "update berth set moved = moved + 1 where id = 7",
            ]
        },
        "late": {
            "statements": [
                "update berth set moved = moved + 1 where id = 7",
                "update berth set moved = moved + 1 where id = 3",
            ]
        },
    },
}


def written(tmp_path, name: str, **more) -> Path:
    path = tmp_path / f"{name}.yaml"
    path.write_text(yaml.safe_dump({**SWAP, "scenario": name, **more}, sort_keys=False))
    return path


def cases(done) -> dict[str, dict]:
    return {
        f"{one['scenario']} {one['what']} {one['level'] or ''}".strip(): one
        for one in done.json["cases"]
    }


# -- the key ---------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("expect", "server", "found"),
    [
        ("no deadlock", "mysql", {None: "no deadlock"}),
        ({"postgresql": "deadlock", "mariadb": "no anomaly"}, "mariadb", {None: "no anomaly"}),
        ({"postgresql": "deadlock"}, "mysql", {}),
        ({"serializable": "refused"}, "mysql", {"serializable": "refused"}),
        (
            {"postgresql": {"serializable": "refused", "read committed": "deadlock"}},
            "postgresql",
            {"serializable": "refused", "read committed": "deadlock"},
        ),
    ],
)
def test_what_is_expected_of_a_server(expect, server, found):
    text = yaml.safe_dump({**SWAP, "expect": expect})
    assert read_scenario(text.encode(), "x").scenario.expected_on(server) == found


@pytest.mark.parametrize(
    ("expect", "message", "column"),
    [
        ("expect: no dedlock", "'dedlock' is not an outcome", 9),
        ("expect: {postgresql: no anomoly}", "'anomoly' is not an outcome", 22),
        ("expect: {serialisable: deadlock}", "serialisable", 24),
        ("expect: listed", "lists no outcomes", 9),
        ("expect: [deadlock]", "expect", 9),
    ],
)
def test_a_wrong_expectation_is_an_error_at_its_place(expect, message, column):
    text = f"{yaml.safe_dump(SWAP)}{expect}\n"
    with pytest.raises(InputError) as error:
        read_scenario(text.encode(), "x.yaml")
    problem = error.value.problems[0]
    assert message in problem.message
    assert problem.place == Place("x.yaml", text.count("\n"), column)


# -- what build servers read -----------------------------------------------------------------------

CASE = CheckCase(
    scenario="a",
    file="shift/a b.yaml",
    target="local:postgresql",
    server="postgresql",
    version="15",
    what="expect",
    expected="no deadlock",
    status="as expected",
    seconds=1234.5678,
)
BAD = replace(
    CASE,
    status="not as expected",
    problems=('deadlock in 2 of 6 schedules \x00\x1b[31m <&>"',),
    rule="deadlock",
    blame=(Blame(place=Place("shift/a b.yaml", 7, 3), text="early 2: waits"),),
    place=Place("shift/a b.yaml", 9, 1),
    schedule=("early", "late"),
)
ALL = CheckResult(
    cases=(
        CASE,
        BAD,
        replace(CASE, status="not proven", problems=("a sample",), rule="not-proven"),
        replace(CASE, status="nothing expected", expected="", what=""),
        replace(CASE, status="not for this server", target="local:mysql"),
        replace(CASE, status="unchanged", problems=("passed",)),
        replace(
            CASE,
            status="error",
            problems=("no YAML",),
            rule="scenario",
            place=Place("/tmp/x y", 1, 2),
        ),
    )
)


def test_junit_is_valid_and_says_the_worst_of_each_case():
    text = to_junit(ALL)
    check_junit(text)
    root = ElementTree.fromstring(text)
    sums = {
        key: sum(int(suite.get(key, 0)) for suite in root)
        for key in ("tests", "failures", "errors", "skipped")
    }
    assert sums == {"tests": 7, "failures": 2, "errors": 1, "skipped": 2}
    failure = root.find(".//failure")
    assert failure is not None
    assert "\x00" not in (failure.text or "")
    assert "shift/a b.yaml:7:3: early 2: waits" in (failure.text or "")


def test_sarif_is_valid_and_points_at_the_statement():
    check_sarif(to_sarif(ALL))
    plain = json.loads(to_sarif(ALL))
    results = plain["runs"][0]["results"]
    assert [one["ruleId"] for one in results] == ["deadlock", "not-proven", "scenario"]
    assert [one["level"] for one in results] == ["error", "warning", "error"]
    place = results[0]["locations"][0]["physicalLocation"]
    assert place["artifactLocation"]["uri"] == "shift/a%20b.yaml"
    assert place["region"] == {"startLine": 7, "startColumn": 3}
    assert (
        results[2]["locations"][0]["physicalLocation"]["artifactLocation"]["uri"]
        == "file:///tmp/x%20y"
    )


def test_nothing_passes_where_nothing_was_checked():
    assert not CheckResult(cases=())
    assert not CheckResult(cases=(replace(CASE, status="nothing expected"),))
    assert CheckResult(cases=(CASE, replace(CASE, status="nothing expected")))
    assert not CheckResult(cases=(CASE,), interrupted=True)
    assert not ALL.passed


# -- on a server -----------------------------------------------------------------------------------


def test_each_scenario_is_held_to_what_it_says(call, tmp_path):
    written(tmp_path, "good", expect="deadlock, no anomaly")
    written(tmp_path, "bad", expect="no deadlock")
    written(tmp_path, "silent")
    written(tmp_path, "elsewhere", data={"mysql": SWAP["data"]}, expect="no deadlock")
    written(tmp_path, "levels", expect={"read committed": "deadlock", "serializable": "no anomaly"})
    written(
        tmp_path,
        "ordered",
        orders={
            "crossed": {"order": "early late early late", "expect": {"outcome": "deadlock"}},
            "wrong": {"order": "early early early", "expect": {"outcome": "deadlock"}},
        },
    )
    (tmp_path / "broken.yaml").write_text("scenario: broken\ntransactions: []\n")
    (tmp_path / "other.yaml").write_text("harbour: Marrowgate\n")
    done = call("check", "--json", "--junit", "j.xml", "--sarif", "s.json", "--save", "bad")
    found = cases(done)
    assert {name: one["status"] for name, one in found.items()} == {
        "bad expect": "not as expected",
        "broken scenario": "error",
        "elsewhere": "not for this server",
        "good expect": "as expected",
        "levels expect read committed": "as expected",
        "levels expect serializable": "as expected",
        "ordered order crossed": "as expected",
        "ordered order wrong": "not as expected",
        "silent": "nothing expected",
    }
    assert done.code == 2
    bad = found["bad expect"]
    lines = (tmp_path / "bad.yaml").read_text().splitlines()
    for one in bad["blame"]:
        number = int(one["place"].split(":")[1])
        assert "update berth" in lines[number - 1]
    assert bad["rule"] == "deadlock"
    assert (
        call(
            "play",
            "bad.yaml",
            "--order",
            " ".join(bad["schedule"]),
            "--quiet",
            "--expect",
            "deadlock",
        ).code
        == 0
    )
    check_junit((tmp_path / "j.xml").read_text())
    check_sarif((tmp_path / "s.json").read_text())
    assert json.loads((tmp_path / "s.json").read_text())["runs"][0]["results"]
    saved = sorted(path.name for path in (tmp_path / "bad").glob("*.json"))
    assert saved == ["bad-postgresql-expect.json", "ordered-postgresql-order-wrong.json"]
    assert call("report", "bad/bad-postgresql-expect.json", "-o", "bad.html").code == 0


@pytest.mark.parametrize(
    ("names", "code"),
    [
        (["good"], 0),
        (["silent"], 1),
        (["good", "silent"], 0),
        (["good", "bad"], 1),
        (["bad", "missing"], 2),
    ],
)
def test_the_exit_code_is_that_of_the_worst(call, tmp_path, names, code):
    written(tmp_path, "good", expect="deadlock")
    written(tmp_path, "bad", expect="no deadlock")
    written(tmp_path, "silent")
    done = call("check", *(f"{name}.yaml" for name in names), "--quiet")
    assert done.code == code
    if names == ["silent"]:
        assert "nothing passed" in done.out


def test_a_sample_or_a_time_that_is_over_is_no_pass_unless_it_is_allowed_by_name(call, tmp_path):
    three = {
        **SWAP["transactions"],
        "third": {
            "statements": [
                "update berth set moved = moved + 1 where id = 3",
                "select count(*) from berth",
            ]
        },
    }
    written(tmp_path, "large", transactions=three, expect="no anomaly")
    few = ("check", "large.yaml", "--limit", "3", "--check-orders", "0", "--json")
    sampled = cases(call(*few))["large expect"]
    assert sampled["status"] == "not proven"
    assert sampled["rule"] == "not-proven"
    assert call(*few, "--allow", "large=stopped").code == 1
    allowed = call(*few, "--allow", "large=sample", "--since-last")
    assert allowed.code == 0
    assert "allowed" in cases(allowed)["large expect"]["allowed"]
    assert call(*few, "--since-last").code == 1  # what was allowed once is no proof
    stopped = cases(call("check", "large.yaml", "--for", "1ms", "--json"))["large expect"]
    assert stopped["status"] == "not proven"
    assert call("check", "large.yaml", "--allow", "everything").code == 2


def test_only_what_changed_since_it_passed_is_run_again(call, tmp_path):
    path = written(tmp_path, "swap", expect="deadlock")
    first, again = (
        cases(call("check", "swap.yaml", "--since-last", "--json"))["swap expect"] for _ in range(2)
    )
    assert (first["status"], again["status"]) == ("as expected", "unchanged")
    assert (
        cases(call("check", "swap.yaml", "--since-last", "--limit", "50", "--json"))["swap expect"][
            "status"
        ]
        == "as expected"
    )
    path.write_text(path.read_text().replace("set moved = moved + 1", "set moved = moved + 2"))
    changed = call("check", "swap.yaml", "--since-last", "--json")
    assert cases(changed)["swap expect"]["status"] == "as expected"
    written(tmp_path, "swap", expect="no deadlock")
    assert [call("check", "swap.yaml", "--since-last").code for _ in range(2)] == [1, 1]
    (tmp_path / ".catenum-check.json").write_text("{}")
    assert call("check", "swap.yaml", "--since-last").code == 2


def test_a_server_that_does_not_answer_is_no_failure_of_the_scenario(call, tmp_path):
    written(tmp_path, "swap", expect="deadlock")
    done = call("check", "swap.yaml", "--target", "postgresql://nobody@127.0.0.1:1/x", "--json")
    assert done.code == 3
    assert cases(done)["swap scenario"]["status"] == "error"
