"""Isolation levels: what each prevents on the servers, and which one a scenario needs."""

from __future__ import annotations

import itertools

import pytest
import yaml

from catenum import samples
from catenum.core.levels.matrix import Cell, Matrix
from catenum.core.levels.need import LevelsTried, assignments, is_wrong, lower
from catenum.core.levels.probes import PROBE_NAMES, PROBES, probe_of
from catenum.core.levels.words import cost_of, matrix_sections
from catenum.core.scenario.reader import read_scenario
from catenum.core.servers import NATIVE, rules_of
from catenum.core.servers.rules import STANDARD_LEVELS
from catenum.core.space.tally import OutcomeEntry

#: By server and probe, the results from read uncommitted to serializable.
INNODB = """
dirty-write           waits    waits    waits    waits
dirty-read            happens  snapshot snapshot waits
non-repeatable-read   happens  happens  snapshot waits
phantom               happens  happens  snapshot waits
lost-update           waits    waits    waits    waits
lost-update-computed  happens  happens  happens  deadlock
read-skew             happens  happens  snapshot waits
write-skew            happens  happens  happens  deadlock
write-skew-predicate  happens  happens  happens  deadlock
read-only-anomaly     happens  happens  happens  deadlock
circular-flow         happens  snapshot snapshot deadlock
"""
EXPECTED = {
    "postgresql": """
dirty-write           waits    waits    refused  refused
dirty-read            snapshot snapshot snapshot snapshot
non-repeatable-read   happens  happens  snapshot snapshot
phantom               happens  happens  snapshot snapshot
lost-update           waits    waits    refused  refused
lost-update-computed  happens  happens  refused  refused
read-skew             happens  happens  snapshot snapshot
write-skew            happens  happens  happens  refused
write-skew-predicate  happens  happens  happens  refused
read-only-anomaly     happens  happens  happens  refused
circular-flow         snapshot snapshot snapshot refused
""",
    "mariadb": INNODB,
    "mysql": INNODB,
}


def expected(server: str) -> dict[tuple[str, str], str]:
    rows = [line.split() for line in EXPECTED[server].strip().splitlines()]
    return {
        (probe, level): result
        for probe, *results in rows
        for level, result in zip(STANDARD_LEVELS, results, strict=True)
    }


# -- without a server ------------------------------------------------------------------------------


@pytest.mark.parametrize("name", PROBE_NAMES)
def test_a_probe_is_a_scenario_with_the_order_of_the_textbook(name):
    file = read_scenario(samples.probe_text(name).encode(), name)
    scenario = file.scenario
    assert scenario.scenario == name
    moves = {who: one.moves for who, one in scenario.transactions.items()}
    assert {who: (scenario.order or ()).count(who) for who in moves} == moves
    assert probe_of(name).reader in (None, *moves)
    for server in NATIVE:
        assert not [s for s in scenario.for_server(server).transactions if not s]
    assert any(word in (scenario.about or "") for word in ("Berenson", "Adya", "Fekete"))


def matrix_of(server: str) -> Matrix:
    cells = [
        Cell(
            probe=probe,
            level=level,
            result=result,
            proven=True,
            evidence=("early", "late"),
            schedules=4,
            happened=int(result == "happens"),
            refused=0,
            deadlocks=0,
            waited=0,
            also={},
            who="late" if result in ("refused", "deadlock") else None,
            statement=2 if level == "serializable" else None,
        )
        for (probe, level), result in expected(server).items()
    ]
    return Matrix(
        server=server,
        version="1",
        default_level="read committed",
        levels=STANDARD_LEVELS,
        cells=tuple(cells),
    )


def test_levels_are_held_against_the_standard():
    theirs = matrix_of("postgresql")
    assert theirs.same_levels == [("read uncommitted", "read committed")]
    weaker = [(cell.probe, cell.level) for cell in theirs.weaker]
    assert weaker == [("write-skew", "repeatable read"), ("read-only-anomaly", "repeatable read")]
    assert ("phantom", "repeatable read") in [(c.probe, c.level) for c in theirs.stricter]
    innodb = matrix_of("mysql")
    assert innodb.same_levels == []
    assert ("lost-update-computed", "repeatable read") in [
        (cell.probe, cell.level) for cell in innodb.weaker
    ]
    assert not [cell for cell in innodb.stricter if cell.probe == "dirty-read"]
    # what must not happen at any level is never weaker where it does not
    assert all(
        probe.may_happen(STANDARD_LEVELS[0]) for probe in PROBES if probe.name != "dirty-write"
    )
    assert not any(probe.may_happen("serializable") for probe in PROBES)


def test_the_words_of_a_matrix():
    said = {
        section.id: [line.text for line in section.lines]
        for section in matrix_sections(matrix_of("postgresql"))
    }
    assert said["same"] == ["read uncommitted and read committed: the same result in every probe"]
    assert said["standard"][0] == (
        "weaker at repeatable read: write-skew and read-only-anomaly can happen, which locks held"
        " to the end would prevent"
    )
    assert "stricter at repeatable read: phantom cannot happen" in said["standard"]
    assert (
        "dirty-write at repeatable read: late is refused at its end (order: early late)"
        in said["given-up"]
    )
    assert (
        "write-skew at serializable: late is refused at its statement 2 (order: early late)"
        in said["given-up"]
    )


def test_assignments_come_from_the_least_strict():
    levels = ("a", "b", "c")
    found = list(assignments(["x", "y"], levels))
    assert len(found) == 9
    sums = [sum(levels.index(level) for level in one.values()) for one in found]
    assert sums == sorted(sums)
    assert found[0] == {"x": "a", "y": "a"}
    assert found[-1] == {"x": "c", "y": "c"}
    assert found[1] == {"x": "a", "y": "b"}  # of equals the first keeps the lower level
    assert list(lower(levels, {"x": "c", "y": "a"})) == [{"x": "a", "y": "a"}, {"x": "b", "y": "a"}]


def outcome(data, holds, status) -> OutcomeEntry:
    return OutcomeEntry(
        kind="clean", data=data, anomaly=None, holds=holds, status=status, failed_by={}
    )


@pytest.mark.parametrize(
    ("data", "rule", "status", "wrong"),
    [
        ("serial", True, "committed", False),
        ("serial", False, "committed", True),
        ("serial", None, "committed", True),
        ("serial", False, "failed", False),  # whoever was refused may have been missing
        ("anomaly", True, "committed", True),
        ("anomaly", False, "failed", True),
        ("unchecked", True, "committed", False),
    ],
)
def test_what_is_wrong_at_a_level(data, rule, status, wrong):
    assert is_wrong(outcome(data, {"rule": rule}, {"early": "committed", "late": status})) is wrong


def tried(**more) -> LevelsTried:
    known = {
        "levels": {"early": "serializable"}, "right": True, "proven": True, "stopped": False, "schedules": 6,
        "refused": 0, "deadlocks": 0, "waited": 0, "other_ends": {}, "anomalies": {}, "broken": {}, "unfinished": 0,
        "ended_well": 6, "attempts": 1, "wrong": None,
    }  # fmt: skip
    return LevelsTried(**{**known, **more})


@pytest.mark.parametrize(
    ("one", "enough"),
    [
        (tried(), True),
        (tried(right=False), False),
        (tried(proven=False), False),
        (tried(unfinished=2, refused=2), False),
        (tried(unfinished=2, refused=2, retried=tried()), True),
        (tried(unfinished=2, refused=2, retried=tried(right=False)), False),
        (tried(unfinished=2, refused=2, retried=tried(proven=False)), False),
        (tried(unfinished=2, refused=2, retried=tried(unfinished=1)), False),
    ],
)
def test_a_level_is_enough_only_where_that_is_proven(one, enough):
    assert one.enough is enough


def test_what_a_level_costs_is_said():
    assert cost_of(tried(), 3) == "no wait, refusal or deadlock in 6 schedules"
    one = tried(refused=4, waited=1, retried=tried(schedules=8, ended_well=8, attempts=2))
    assert cost_of(one, 3) == (
        "of 6 schedules 4 with a refusal and 1 with a wait and nothing else; with retries all"
        " transactions succeed in all 8 schedules (2 attempts at most)"
    )
    stuck = tried(other_ends={"stuck": 2})
    assert cost_of(stuck, 3) == "of 6 schedules 2 that end with a transaction still waiting"
    lost = tried(deadlocks=2, retried=tried(schedules=8, ended_well=7, proven=False))
    assert cost_of(lost, 1).endswith(
        "with 1 retry a transaction still fails in 1 of a sample of 8 schedules"
    )


# -- on the servers --------------------------------------------------------------------------------


@pytest.mark.parametrize("server", NATIVE)
def test_the_matrix_of_a_server(run, server):
    done = run("levels", "--json", "--target", f"local:{server}")
    assert done.code == 0, done.err
    found = done.json
    assert found["format"] == "catenum-matrix/1"
    assert found["server"] == server
    cells = {(cell["probe"], cell["level"]): cell for cell in found["cells"]}
    assert {key: cell["result"] for key, cell in cells.items()} == expected(server)
    assert all(cell["proven"] for cell in cells.values())
    for (probe, _), cell in cells.items():
        names = set(read_scenario(samples.probe_text(probe).encode(), probe).scenario.transactions)
        assert set(cell["evidence"]) <= names
        assert (cell["who"] in names) is (cell["result"] in ("refused", "deadlock"))
    assert ["write-skew", "repeatable read"] in found["weaker"]
    deferred = [one for one in found["changed"] if one["change"] == "deferrable"]
    if rules_of(server).locks.defers_at:
        one = next(one for one in deferred if one["probe"] == "read-only-anomaly")
        assert one["before"]["given_up"] == ["tug"]
        assert one["after"] == {"kind": "waited", "waited": ["clerk"], "given_up": []}
    else:
        assert deferred == []


def test_the_evidence_of_a_cell_is_played_again(run, tmp_path):
    text = run("levels", "--probe", "write-skew").out
    (tmp_path / "probe.yaml").write_text(text)
    done = run("explore", "probe.yaml", "--isolation", "repeatable read", "--json")
    assert "write skew" in {one["anomaly"] for one in done.json["outcomes"]}
    assert run("levels", "--probe", "write-skw").err.endswith("Did you mean write-skew?\n")


@pytest.mark.parametrize(
    ("probe", "server", "uniform", "each"),
    [
        ("read-skew", "postgresql", "repeatable read", {"clerk": "repeatable read", "tug": "read committed"}),
        ("read-skew", "mysql", "repeatable read", {"clerk": "repeatable read", "tug": "read uncommitted"}),
        ("lost-update-computed", "postgresql", "repeatable read", dict.fromkeys(["early", "late"], "repeatable read")),
        ("lost-update-computed", "mariadb", "serializable", dict.fromkeys(["early", "late"], "serializable")),
        ("lost-update", "postgresql", "read committed", dict.fromkeys(["early", "late"], "read committed")),
    ],
)  # fmt: skip
def test_the_level_that_a_scenario_needs(run, tmp_path, probe, server, uniform, each):
    (tmp_path / "work.yaml").write_text(samples.probe_text(probe))
    done = run("levels", "work.yaml", "--json", "--target", f"local:{server}")
    assert done.code == 0, done.err
    found = done.json
    assert (found["uniform"], found["each"]) == (uniform, each)
    assert found["all_tried"]
    assert not found["why_not"]
    chosen = next(one for one in found["levels"] if set(one["levels"].values()) == {uniform})
    assert chosen["right"]
    assert chosen["proven"]
    for one in itertools.takewhile(lambda one: one is not chosen, found["levels"]):
        assert not one["right"]
        assert one["wrong"]


def test_no_level_keeps_a_rule_that_the_statements_break(run, tmp_path):
    work = {
        "scenario": "two-cranes",
        "data": "create table crane (id int primary key, works int not null); insert into crane values (1, 1), (2, 1);",
        "transactions": {
            "north": {"statements": ["update crane set works = 0 where id = 1"]},
            "south": {"statements": ["update crane set works = 0 where id = 2"]},
        },
        "holds": {"one works": "select sum(works) >= 1 from crane"},
    }
    (tmp_path / "work.yaml").write_text(yaml.safe_dump(work))
    done = run("levels", "work.yaml", "--json")
    assert done.code == 1
    assert done.json["uniform"] is None
    assert set(done.json["each"].values()) == {None}
    assert "the statements themselves do not keep it" in done.json["why_not"][0]
    shown = run("levels", "work.yaml").out
    assert "none: at every level some schedule is wrong" in shown
    assert "is also false where they run one after another" in shown


def test_three_are_serializable_in_pairs_and_not_together(run, tmp_path):
    """Published: Fekete and others, "Making Snapshot Isolation Serializable" (2005), 3.3: of two
    consecutive edges that snapshots make dangerous one must go.
    """
    work = yaml.safe_load(samples.probe_text("read-only-anomaly"))

    def anomalies(level: str) -> tuple[set[str | None], bool]:
        (tmp_path / "work.yaml").write_text(yaml.safe_dump(work))
        done = run("explore", "work.yaml", "--json", "--check-orders", "0", "--isolation", level)
        found = done.json
        names = {one["anomaly"] for one in found["outcomes"] if one["data"] == "anomaly"}
        return names, found["reach"]["complete"]

    assert anomalies("repeatable read") == ({"read-only anomaly"}, True)
    assert anomalies("serializable") == (set(), True)
    whole = dict(work["transactions"])
    del work["order"]
    for pair in itertools.combinations(whole, 2):
        work["transactions"] = {name: whole[name] for name in pair}
        assert anomalies("repeatable read") == (set(), True), pair
    # the tug's read of the second tank becomes a change of it, which changes nothing
    promoted = yaml.safe_load(yaml.safe_dump(whole))
    promoted["tug"]["statements"].insert(0, "update tank set tons = tons where id = 2")
    work["transactions"] = promoted
    assert anomalies("repeatable read") == (set(), True)
    # a lock alone is gone with its transaction, and PostgreSQL then refuses nobody (13.2.2)
    promoted["clerk"]["statements"][0] += " for share"
    promoted["tug"] = whole["tug"]
    assert anomalies("repeatable read")[0] == {"read-only anomaly"}


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["--retry", "2"], "--retry says something of a scenario, and none is given"),
        (["--workers", "2"], "--workers says something of a scenario, and none is given"),
        (["berth-swap", "--chart", "a.png"], "--chart draws the matrix of a server"),
        (["berth-swap", "--probe", "phantom"], "--probe prints a probe that ships"),
        (["--chart", "a.txt"], "the file must end in .png or .svg"),
        (["--target", "local:nosuch"], "there is no target 'local:nosuch'"),
        (["berth-swap", "--target", "local:mysql", "--target", "local:mariadb"], "--target can be given once"),
    ],
)  # fmt: skip
def test_a_wrong_call(call, words, said):
    done = call("levels", *words)
    assert done.code == 2
    assert said in done.err
