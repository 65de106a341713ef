"""Exploring on real servers: what reduction may not lose, what is proven, and what must survive."""

from __future__ import annotations

import contextlib
import itertools
import json
import os
import random
import re
import signal
import subprocess
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

import psycopg
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from catenum import samples
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import read_scenario
from catenum.core.space.run import Run
from catenum.core.space.tally import Tally
from catenum.lab.explore import stage as stage_module
from catenum.lab.explore.hold import held
from catenum.lab.explore.serial import Oracle
from catenum.lab.explore.stage import Stage
from catenum.lab.explore.walker import ExploreOptions, Explorer, Worker, explore_here, plan
from conftest import leftovers, on_mysql_too, sample, until

SMALL = [
    "berth-swap",
    "tug-upgrade",
    "crane-standby",
    "call-cancel",
    "gap-insert",
    "gate-queue",
    "yard-lookup",
    "manifest-total",
]
CYCLE = """
scenario: three-way
data: |
  create table quay (id int primary key, boxes int not null);
  insert into quay values (1, 0), (2, 0), (3, 0), (11, 0), (12, 0), (13, 0)
transactions:
  north: {statements: [update quay set boxes = boxes + 1 where id = 1, update quay set boxes = 1 where id = 11, update quay set boxes = boxes + 1 where id = 2]}
  east: {statements: [update quay set boxes = boxes + 1 where id = 2, update quay set boxes = 1 where id = 12, update quay set boxes = boxes + 1 where id = 3]}
  south: {statements: [update quay set boxes = boxes + 1 where id = 3, update quay set boxes = 1 where id = 13, update quay set boxes = boxes + 1 where id = 1]}
remedies:
  same order:
    reorder: {south: [3, 2, 1]}
"""  # fmt: skip


#: As long as it takes to break it off, and without a row that two others wait for: whom PostgreSQL
#: lets go on first then, is not the same twice.
LONG = re.sub(
    r" update quay set boxes = 1 where id = 1\d,", "", CYCLE.replace("three-way", "long")
).partition("remedies:")[0]


@pytest.fixture(
    params=[
        "postgresql",
        *(pytest.param(name, marks=pytest.mark.soak) for name in ("mariadb", "mysql")),
    ]
)
def server(request):
    """An engine on each server in turn."""
    return request.getfixturevalue("engine" if request.param == "postgresql" else request.param)


def outcome_of(run: Run) -> object:
    """With all its data, its longest chain and its cycles."""
    cycles = frozenset((cycle.members, cycle.victim) for cycle in run.cycles)
    return (run.fine_outcome, run.chain, cycles)


def outcomes(
    engine, scenario: Scenario, *, every: bool = False, most: int = 600
) -> tuple[set[object], int]:
    """Every outcome with all its data, and how many schedules it took."""
    found: set[object] = set()
    with Stage(engine, scenario) as stage:
        worker = Worker(stage, ExploreOptions(every=every))
        worker.take({"walk": {"more": True, "nodes": []}})
        while worker.busy and worker.tally.schedules < most:
            run = stage.run(worker.walk)
            worker.walk.turn()
            worker.tally.add(run)
            if not run.broken_off:
                found.add(outcome_of(worker.oracle.judge(run)))
    return found, worker.tally.schedules


@pytest.mark.parametrize("name", SMALL)
def test_reduction_loses_no_outcome_of_a_sample(server, name):
    scenario = sample(name).scenario
    reduced, few = outcomes(server, scenario)
    complete, many = outcomes(server, scenario, every=True)
    assert reduced == complete
    assert few <= many


TRICKY = {
    "foreign key": (
        "create table vessel (id int primary key); create table berth (id int primary key, vessel int references vessel (id)); insert into vessel values (1), (2);",
        ["insert into berth values (9, 1)", "insert into vessel values (3)"],
        ["select count(*) from berth", "delete from vessel where id = 1"],
    ),
    "cascade": (
        "create table vessel (id int primary key, name varchar(9)); create table box (id int primary key, vessel int, foreign key (vessel) references vessel (id) on delete cascade); insert into vessel values (1, 'a'), (2, 'b'); insert into box values (7, 1), (8, 2);",
        ["delete from vessel where id = 1", "select count(*) from box"],
        ["update box set vessel = 2 where id = 7", "update vessel set name = 'c' where id = 2"],
    ),
    "trigger": (
        {
            "common": "create table berth (id int primary key, moved int); create table tally (id int primary key, n int); insert into berth values (3, 0), (7, 0); insert into tally values (1, 0);",
            "postgresql": "create function count_it() returns trigger language plpgsql as 'begin update tally set n = n + 1; return new; end'; create trigger counted after update on berth for each row execute function count_it();",
            "mariadb": "create trigger counted after update on berth for each row update tally set n = n + 1;",
        },
        ["update berth set moved = 1 where id = 3", "select n from tally where id = 1"],
        ["update berth set moved = 1 where id = 7", "select moved from berth where id = 3"],
    ),
    "second key": (
        "create table box (id int primary key, label varchar(9) unique, tons int); insert into box values (1, 'a', 5), (2, 'b', 6);",
        ["insert into box values (3, 'c', 7)", "update box set tons = 0 where label = 'a'"],
        ["insert into box values (4, 'c', 8)", "update box set label = 'd' where id = 1"],
    ),
    "upsert": (
        "create table tally (id int primary key, n int); insert into tally values (1, 0);",
        [{"postgresql": "insert into tally values (2, 1) on conflict (id) do update set n = tally.n + 1", "mariadb": "insert into tally values (2, 1) on duplicate key update n = n + 1"}, "select sum(n) from tally"],
        ["select n from tally where id = 2", {"postgresql": "insert into tally values (2, 5) on conflict (id) do nothing", "mariadb": "insert ignore into tally values (2, 5)"}],
    ),
    "insert by query": (
        "create table berth (id int primary key, moved int); create table log (id int primary key, total int); insert into berth values (3, 1), (7, 1);",
        ["insert into log select 1, sum(moved) from berth", "update berth set moved = 5 where id = 7"],
        ["update berth set moved = 9 where id = 3", "insert into log select 2, count(*) from log"],
    ),
    "no row": (
        "create table slot (id int primary key, box int); insert into slot values (10, 1), (20, 2);",
        ["select box from slot where id = 15 for update", "insert into slot values (15, 3)"],
        ["select box from slot where id = 16 for update", "insert into slot values (16, 4)"],
    ),
    "moved key": (
        "create table slot (id int primary key, box int); insert into slot values (10, 1), (20, 2);",
        ["update slot set id = 30 where id = 10", "select count(*) from slot where id > 15"],
        ["select box from slot where id = 30", "delete from slot where id = 20"],
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", TRICKY)
def test_reduction_loses_no_outcome_where_statements_touch_more_than_they_say(server, name):
    data, early, late = TRICKY[name]
    reported = (("early", early), ("late", late))
    parts = {
        name: {"statements": texts, "isolation": "repeatable read"} for name, texts in reported
    }
    scenario = Scenario.model_validate(
        on_mysql_too({"scenario": "tricky", "data": data, "transactions": parts})
    )
    reduced, _ = outcomes(server, scenario)
    complete, _ = outcomes(server, scenario, every=True)
    assert reduced == complete


class Drawn:
    """Chooses the moves by lot."""

    def __init__(self, chance: random.Random) -> None:
        self.chance = chance

    def choose(self, ready: Sequence[str], waits: frozenset[tuple[str, str]]) -> str:
        return self.chance.choice(list(ready))

    def moved(self, moved: object) -> None:
        pass


LARGE = [
    ("postgresql", "left-open"), pytest.param("postgresql", "yard-rebuild", marks=pytest.mark.soak),
    *(pytest.param(*one, marks=pytest.mark.soak) for one in (("mariadb", "left-open"), ("mysql", "yard-rebuild"),
      ("postgresql", "pile-up"), ("mariadb", "pile-up"), ("mysql", "pile-up"))),
]  # fmt: skip


@pytest.mark.parametrize(("server", "name"), LARGE, indirect=["server"])
def test_schedules_drawn_by_lot_of_a_large_sample_give_nothing_that_reduction_lost(server, name):
    scenario = sample(name).scenario
    reduced, _ = outcomes(server, scenario)
    chance = random.Random(7)
    with Stage(server, scenario) as stage:
        oracle = Worker(stage, ExploreOptions()).oracle
        for _ in range(
            12 if stage.engine.capabilities.timeout_step_ms > 1 else 30
        ):  # of a second each, some of them
            run = stage.run(Drawn(chance))
            assert outcome_of(oracle.judge(run)) in reduced, run.path


statements = st.sampled_from(
    [
        "update berth set moved = moved + 1 where id = 3",
        "update berth set moved = moved + 1 where id = 7",
        "update berth set moved = moved + 1",
        "update berth set vessel = 'Oriel' where vessel = 'Halcyon'",
        "select moved from berth where id = 3",
        "select count(*), sum(moved) from berth",
        "select vessel from berth where id = 7 for update",
        "insert into berth (id, vessel) values (9, 'Bellwether')",
        "delete from berth where id = 7",
    ]
)
levels = st.sampled_from(["read committed", "repeatable read", "serializable"])
parts = st.fixed_dictionaries(
    {"statements": st.lists(statements, min_size=1, max_size=2), "isolation": levels}
)
BERTHS = "create table berth (id int primary key, vessel varchar(20), moved int not null default 0); insert into berth values (3, 'Halcyon', 0), (7, 'Oriel', 0);"


@settings(max_examples=12, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(parts, min_size=2, max_size=2))
def test_reduction_loses_no_outcome_of_generated_transactions(server, reported):
    plain = {
        "scenario": "made",
        "data": BERTHS,
        "transactions": dict(zip(("early", "late"), reported, strict=True)),
    }
    scenario = Scenario.model_validate(plain)
    reduced, _ = outcomes(server, scenario)
    complete, _ = outcomes(server, scenario, every=True)
    assert reduced == complete


LEVELS = [
    # server, sample, by level: kinds beyond waiting, anomaly
    ("postgresql", "crane-standby", {"read committed": (set(), "write skew"), "repeatable read": (set(), "write skew"), "serializable": ({"refused"}, None)}),
    ("mariadb", "crane-standby", {"read uncommitted": (set(), "write skew"), "read committed": (set(), "write skew"), "repeatable read": (set(), "write skew"), "serializable": ({"deadlock"}, None)}),
    ("mysql", "crane-standby", {"read uncommitted": (set(), "write skew"), "read committed": (set(), "write skew"), "repeatable read": (set(), "write skew"), "serializable": ({"deadlock"}, None)}),
    ("postgresql", "manifest-total", {"read committed": (set(), "lost update"), "repeatable read": ({"refused"}, None), "serializable": ({"refused"}, None)}),
    ("mariadb", "manifest-total", {"read uncommitted": (set(), None), "read committed": (set(), None), "repeatable read": ({"deadlock"}, None), "serializable": ({"deadlock"}, None)}),
]  # fmt: skip


@pytest.mark.parametrize(
    ("server_name", "name", "wanted"),
    [
        *LEVELS[:2],
        pytest.param(*LEVELS[2], marks=pytest.mark.soak),
        LEVELS[3],
        pytest.param(*LEVELS[4], marks=pytest.mark.soak),
    ],
)
def test_each_level_shows_what_it_keeps_right_refuses_or_deadlocks(
    call, kept_mariadb, kept_mysql, server_name, name, wanted
):
    done = call(
        "explore", name, "--isolation", "each", "--target", f"local:{server_name}", "--json"
    )
    found = {}
    for one in done.json["levels"]:
        (level,) = set(one["levels"].values())
        entries = one["outcomes"]
        kinds = {e["kind"] for e in entries} - {"clean", "waited"}
        found[level] = (kinds, next((e["anomaly"] for e in entries if e["anomaly"]), None))
        assert one["reach"]["complete"]
    assert found == wanted
    assert done.code == 1


NAMED = {
    "non-repeatable read": ("read committed", ["select moved from berth where id = 3"] * 2, ["update berth set moved = 5 where id = 3"]),
    "phantom": ("read committed", ["select count(*) from berth"] * 2, ["insert into berth (id, vessel) values (9, 'Bellwether')"]),
    "read skew": ("read committed", ["select moved from berth where id = 3", "select moved from berth where id = 7"], ["update berth set moved = 5 where id = 3", "update berth set moved = 5 where id = 7"]),
    "lost update": ("read committed", ["select moved from berth where id = 3", "update berth set moved = 1 where id = 3"], ["select moved from berth where id = 3", "update berth set moved = 2 where id = 3"]),
    "lost update: by upserts": ("read committed", ["insert into berth (id, moved) values (3, (select moved + 1 from berth where id = 3)) on conflict (id) do update set moved = excluded.moved"], ["insert into berth (id, moved) values (3, (select moved + 10 from berth where id = 3)) on conflict (id) do update set moved = excluded.moved"]),
    "lost update: by common table expressions": ("read committed", ["with r as (select moved from berth where id = 3) update berth set moved = r.moved + 1 from r where id = 3"], ["with r as (select moved from berth where id = 3) update berth set moved = r.moved + 10 from r where id = 3"]),
    "read skew: within a statement": ("read committed", ["update berth set moved = berth.moved * 2 + other.moved from berth other where other.id = 7 and berth.id = 3"], ["update berth set moved = moved + 100 where id = 3", "update berth set moved = 50 where id = 7"]),
    "write skew: through update from": ("repeatable read", ["update berth set moved = 5 from berth other where other.id = 7 and other.moved < 5 and berth.id = 3"], ["update berth set moved = 5 from berth other where other.id = 3 and other.moved < 5 and berth.id = 7"]),
    "dirty read": ("read uncommitted", ["select moved from berth where id = 3"], ["update berth set moved = 5 where id = 3"]),
    "dirty read: by half": ("read uncommitted", ["select sum(moved) from berth"], ["update berth set moved = moved - 2 where id = 3", "update berth set moved = moved + 3 where id = 7"]),
}  # fmt: skip


@pytest.mark.parametrize("case", NAMED)
def test_anomalies_have_the_names_of_the_trade_and_show_their_evidence(
    call, kept_mariadb, tmp_path, case
):
    level, one, other = NAMED[case]
    name = case.partition(":")[0]
    plain = {
        "scenario": "named",
        "data": BERTHS,
        "transactions": {
            "early": {"isolation": level, "statements": one},
            "late": {
                "isolation": level,
                "statements": other,
                "ends": "rollback" if case == "dirty read" else "commit",
            },
        },
    }
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    server_name = "mariadb" if level == "read uncommitted" else "postgresql"
    found = call("explore", "s.yaml", "--target", f"local:{server_name}", "--json").json
    reported = {e["anomaly"]: e["evidence"] for e in found["outcomes"] if e["anomaly"]}
    assert list(reported) == [name]
    assert "early" in " ".join(reported[name])
    assert (
        call("explore", "s.yaml", "--target", f"local:{server_name}", "--expect", f"no {name}").code
        == 1
    )


@pytest.mark.parametrize("server_name", ["postgresql", "mariadb"])
@pytest.mark.parametrize("level", ["read uncommitted", "read committed"])
def test_a_number_that_somebody_took_and_gave_up_is_nothing_that_was_read_dirty(
    call, kept_mariadb, tmp_path, server_name, level
):
    made = {"postgresql": "serial primary key", "mariadb": "int auto_increment primary key"}
    plain = {
        "scenario": "numbers",
        "data": f"create table ticket (id {made[server_name]}, vessel int)",
        "transactions": {
            "gate": {
                "isolation": level,
                "statements": [
                    "insert into ticket (vessel) values (1)",
                    "select vessel from ticket where id = 1",
                ],
            },
            "yard": {
                "statements": [
                    "insert into ticket (vessel) values (4)",
                    "delete from ticket where id = 2",
                ],
                "ends": "rollback",
            },
        },
    }
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    found = call("explore", "s.yaml", "--target", f"local:{server_name}", "--json").json
    names = {entry["anomaly"] for entry in found["outcomes"]} - {None}
    assert names
    assert "dirty read" not in names


def test_reordering_proves_a_cycle_gone_and_one_schedule_less_proves_nothing(call, tmp_path):
    (tmp_path / "cycle.yaml").write_text(CYCLE)
    assert (
        "deadlock" in call("explore", "cycle.yaml", "--quiet").out
        or call("explore", "cycle.yaml").code == 1
    )
    for name in ("cycle.yaml", "berth-swap"):
        done = call("explore", name, "--remedy", "same order", "--expect", "no deadlock")
        assert done.code == 0, done.err
        assert "Proven: no schedule of these statements deadlocks." in done.out
        found = call("explore", name, "--remedy", "same order", "--json").json
        one_less = found["counts"]["run"] - 1
        cut = call(
            "explore",
            name,
            "--remedy",
            "same order",
            "--limit",
            one_less,
            "--expect",
            "no deadlock",
        )
        reported = " ".join(cut.out.split())
        assert "proven" not in reported.lower().replace("this is not proven", "")
        assert "No deadlock was seen in" in reported
        assert "No wrong data was seen in" in reported
        assert "not proven" in cut.err


@pytest.mark.parametrize("words", [["tug-upgrade"], ["manifest-total", "--isolation", "serializable"], *(pytest.param(words, marks=pytest.mark.soak) for words in (["crane-standby", "--isolation", "serializable"], ["call-cancel"], ["box-number"]))])  # fmt: skip
def test_any_printed_schedule_gives_its_outcome_again(call, words):
    """Also where somebody fails in another's move."""
    found = call("explore", *words, "--json").json
    for entry in found["outcomes"]:
        for _ in range(3):
            played = call("play", *words, "--order", " ".join(entry["shortest"]), "--json").json
            assert played["outcome"]["kind"] == entry["kind"]
            assert {t["name"]: t["status"] for t in played["transactions"]} == entry["status"]


def without_time(found: dict) -> dict:
    """Nor which exchanges each of several workers has made of those that there are."""
    counts = {
        name: count
        for name, count in found["counts"].items()
        if name not in ("swaps", "repeated", "special", "deadlocks")
    }
    claims = [{**claim, "swaps": 0} for claim in found["claims"]]
    return {**found, "ran_ms": 0, "counts": counts, "claims": claims}


def but_for_victims(found: dict) -> dict:
    """How many schedules of each kind, cycles and pairs there are. Where the machine stands still
    for longer than the server waits before it looks for a cycle, another member may be the victim,
    and other moves follow.
    """
    kinds: Counter = Counter()
    for one in found["outcomes"]:
        kinds[one["kind"], one["data"], one["anomaly"]] += one["count"]
    cycles = {str(one["members"]): one["count"] for one in found["cycles"]}
    assert all(sum(one["victims"].values()) == one["count"] for one in found["cycles"])
    plain = without_time(found)
    return {"kinds": kinds, "cycles": cycles, **{key: plain[key] for key in ("reach", "counts")}}


def test_the_result_is_the_same_for_any_number_of_workers(call, tmp_path, kept):
    (tmp_path / "cycle.yaml").write_text(CYCLE)
    one, two, three = (
        without_time(call("explore", "cycle.yaml", "--workers", n, "--json").json)
        for n in (1, 2, 3)
    )
    assert one == two == three
    assert leftovers(kept) == ([], [])


def test_a_worker_that_dies_loses_its_share_to_the_others(start, call, kept, tmp_path):
    (tmp_path / "long.yaml").write_text(LONG)
    whole = but_for_victims(call("explore", "long.yaml", "--every", "--json").json)
    process = start("explore", "long.yaml", "--every", "--workers", 2, "--json")

    def workers() -> list[int]:
        children = Path(f"/proc/{process.pid}/task/{process.pid}/children").read_text().split()
        reported = {pid: Path(f"/proc/{pid}/cmdline").read_bytes() for pid in children}
        return [int(pid) for pid, line in reported.items() if b"spawn_main" in line]

    def under_way() -> bool:
        with psycopg.connect(kept) as connection:
            query = "select count(*) from pg_stat_activity where application_name like 'catenum % north'"
            return connection.execute(query).fetchone()[0] >= 2

    until(under_way, "both workers run")
    os.kill(workers()[0], signal.SIGKILL)
    out, _ = process.communicate(timeout=60)
    assert but_for_victims(json.loads(out)) == whole
    call("play", "berth-swap", "--quiet")  # clears what the dead worker left
    assert leftovers(kept)[0] == []


def test_what_was_broken_off_is_kept_and_gone_on_with(start, call, kept, tmp_path):
    (tmp_path / "long.yaml").write_text(LONG)
    whole = call("explore", "long.yaml", "--every", "--json").json
    process = start("explore", "long.yaml", "--every", "--save", "kept")
    until(lambda: (tmp_path / "kept" / "state.json").exists(), "something was kept")
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 130
    assert "broken off" in err
    assert "--resume kept continues" in err
    assert "the rest was not run" in " ".join(out.split())
    assert leftovers(kept) == ([], [])
    ran = json.loads((tmp_path / "kept" / "state.json").read_text())["tally"]["schedules"]
    assert 0 < ran < whole["counts"]["run"]
    done = call("explore", "long.yaml", "--every", "--resume", "kept", "--json")
    assert done.json["reach"]["complete"]
    assert done.json["counts"]["run"] == whole["counts"]["run"]
    assert but_for_victims(done.json) == but_for_victims(whole)
    assert not (tmp_path / "kept" / "state.json").exists()
    other = call("explore", "berth-swap", "--resume", "kept")
    assert (other.code, "nothing to resume" in other.err or "no such file" in other.err) == (
        2,
        True,
    )


@pytest.mark.parametrize("where", ["adding", "judging"])
@pytest.mark.parametrize("limit", [None, 12])
def test_wherever_it_is_interrupted_no_schedule_is_lost_and_none_counted_twice(
    engine, monkeypatch, where, limit
):
    """What was run and what is left change together: an interrupt in between waits for the end of
    that.
    """
    calls, add, judge = itertools.count(), Tally.add, Oracle.judge

    def break_in() -> None:
        def interrupt() -> None:
            raise KeyboardInterrupt

        if next(calls) % 2 == 0 and not held.defers_interrupt(interrupt):
            interrupt()

    if where == "adding":
        monkeypatch.setattr(Tally, "add", lambda tally, run: (break_in(), add(tally, run))[1])
    else:
        monkeypatch.setattr(
            Oracle, "judge", lambda oracle, run: (break_in(), judge(oracle, run))[1]
        )
    options, interrupts = ExploreOptions(every=True, limit=limit), 0
    with Stage(engine, sample("berth-swap").scenario) as stage:
        made = plan(stage.scenario, stage.dependence, options)
        explorer = Explorer(plan=made, shares=list(made.draw() or made.shares))
        while explorer.shares:
            try:
                explore_here(stage, explorer, options)
            except KeyboardInterrupt:
                interrupts += 1
                stage.sessions = engine.renew(
                    stage.sessions
                )  # whatever was under way is not there any more
    assert interrupts > 2
    assert explorer.tally.schedules + explorer.tally.ruled_out == (limit or 8)


def test_a_server_killed_in_the_middle_ends_in_what_was_found(start, own_server, tmp_path):
    (tmp_path / "long.yaml").write_text(LONG)
    process = start(
        "explore", "long.yaml", "--every", "--target", own_server.url("master"), "--save", "kept"
    )
    until(lambda: (tmp_path / "kept" / "state.json").exists(), "something was kept")
    own_server.kill()
    _, err = process.communicate(timeout=60)
    assert process.returncode == 3
    assert "the server went away" in err
    assert "secret-word" not in err + (tmp_path / "kept" / "state.json").read_text()
    assert json.loads((tmp_path / "kept" / "state.json").read_text())["tally"]["schedules"] > 0


def test_data_that_does_not_come_back_the_same_stops_the_run(call, own_server, tmp_path):
    text = """
scenario: fickle
data: |
  create table berth (id int primary key, depth float8 not null);
  insert into berth values (3, random());
  insert into berth select n, 1 from generate_series(4, 4 + (random() * 10000)::int) n;
  create table tug (id int primary key, berth int references berth);
transactions:
  early: {statements: [update berth set depth = depth + 1 where id = 3]}
  late: {statements: [update berth set depth = depth + 1 where id = 3]}
"""
    (tmp_path / "s.yaml").write_text(text)
    done = call("explore", "s.yaml", "--target", own_server.url("master"))
    assert done.code == 3
    assert "is not the same: berth" in " ".join(done.err.split())
    assert (
        call("explore", "s.yaml").code == 0
    )  # where the rows can be put back as they are, nothing is made anew


def made(tmp_path: Path, **transactions: object) -> str:
    plain = {
        "scenario": "made",
        "data": BERTHS
        + " create sequence place; create table tide (id serial primary key, seen timestamp default now());",
        "transactions": transactions,
    }
    (tmp_path / "made.yaml").write_text(json.dumps(plain))
    return "made.yaml"


CASES = [
    ({"early": {"statements": ["update berth set moved = 1 where id = 3"]}}, "a single transaction has one schedule"),
    ({"early": {"statements": ["select setseed(0.5)"]}, "late": {"statements": ["delete from berth where id = 3"]}}, "it is not certain what early statement 1 touches"),
    ({"early": {"statements": ["select nextval('place')"]}, "late": {"statements": ["select nextval('place')"]}}, "sequences and automatic numbers are not undone by a rollback"),
    ({"early": {"statements": ["insert into tide default values"]}, "late": {"statements": ["insert into tide default values"]}}, "left out of comparisons: tide.seen of new rows (the server makes its values)"),
    ({"early": {"statements": ["update berth set vessel = left(md5(clock_timestamp()::text), 20) where id = 3"]}, "late": {"statements": ["select 1"]}}, "left out of comparisons: berth.vessel (it differed between two runs of the same serial order)"),
    ({"early": {"statements": ["alter table berth add column fenders int"]}, "late": {"statements": ["select count(*) from berth"]}}, "statements change tables"),
]  # fmt: skip


@pytest.mark.parametrize(("transactions", "reported"), CASES)
def test_what_hinders_or_slows_is_told_and_nothing_wrong_is_claimed(
    call, tmp_path, transactions, reported
):
    done = call("explore", made(tmp_path, **transactions))
    assert reported in " ".join(done.out.split()), done.out + done.err
    assert "anomaly" not in done.out
    assert done.code == 0


def test_a_column_that_the_scenario_ignores_is_left_out_and_listed(call, tmp_path):
    early = ["select moved from berth where id = 3", "update berth set moved = 1 where id = 3"]
    late = ["select moved from berth where id = 3", "update berth set moved = 2 where id = 3"]
    name = made(tmp_path, early={"statements": early}, late={"statements": late})
    assert call("explore", name, "--expect", "lost update").code == 0
    plain = json.loads((tmp_path / name).read_text()) | {"ignore": ["moved"]}
    (tmp_path / name).write_text(json.dumps(plain))
    done = call("explore", name)
    assert (
        done.code,
        "left out of comparisons: moved (the scenario says so)" in " ".join(done.out.split()),
    ) == (0, True)


def test_twelve_transactions_are_sampled_and_said_so(call, tmp_path):
    tugs = {
        f"tug{n}": {"statements": ["update berth set moved = moved + 1 where id = 3"]}
        for n in range(12)
    }
    done = call("explore", made(tmp_path, **tugs), "--limit", 5)
    reported = " ".join(done.out.split())
    assert "5 of more classes than can be counted run, drawn by chance" in reported


def test_a_sample_of_a_space_full_of_waits_finds_its_deadlocks_and_is_no_sample_of_nothing(
    call, tmp_path
):
    def transaction(*berths: int) -> dict[str, list[str]]:
        return {
            "statements": [f"update berth set moved = moved + 1 where id = {one}" for one in berths]
        }

    made(tmp_path, north=transaction(1, 2, 3, 4), east=transaction(4, 3, 2, 1), south=transaction(2, 4, 1, 3),
         west=transaction(3, 1, 4, 2))  # fmt: skip
    plain = json.loads((tmp_path / "made.yaml").read_text())
    plain["data"] += (
        " insert into berth select n, 'Tern', 0 from generate_series(1, 6) n on conflict do nothing;"
    )
    (tmp_path / "made.yaml").write_text(json.dumps(plain))
    found = call("explore", "made.yaml", "--limit", 40, "--json").json
    assert found["counts"]["run"] + found["counts"]["ruled_out"] == 40
    assert found["counts"]["run"] > 5
    assert "deadlock" in {outcome["kind"] for outcome in found["outcomes"]}


def test_with_every_a_sample_is_drawn_of_orders_and_what_was_run_is_told_as_such(call):
    sampled = call("explore", "left-open", "--every", "--limit", "60", "--json").json
    assert (
        sampled["reach"]["sampled"],
        sampled["reach"]["every"],
        sampled["reach"]["complete"],
    ) == (True, True, False)
    assert sampled["reach"]["orders"] == sampled["reach"]["classes"] == 277_200
    assert sampled["counts"]["run"] + sampled["counts"]["ruled_out"] == 60
    firsts = {row["moves"][0] for row in sampled["schedules"]}
    assert len(firsts) > 2, "from all over the space, not from the corner where a walk begins"
    reported = " ".join(call("explore", "left-open", "--every", "--limit", "60").out.split())
    assert "60 of at most 277,200 orders run, drawn by chance" in reported
    reported = " ".join(call("explore", "berth-swap", "--every").out.split())
    assert (
        "8 schedules run: all that are possible (of 20 orders; none was left out as equivalent)"
        in reported
    )


def test_pile_up_piles_up_and_with_timeouts_never_does(call):
    as_it_is = call("explore", "pile-up", "--json").json
    cured = call("explore", "pile-up", "--remedy", "give up waiting", "--json").json
    assert (as_it_is["counts"]["longest_chain"], cured["counts"]["longest_chain"]) == (3, 1)
    assert cured["reach"]["complete"]


def test_retries_are_bounded_and_a_livelock_is_said(call, tmp_path):
    plain = json.loads(
        json.dumps(
            read_scenario(samples.text("berth-swap").encode(), "s").scenario.model_dump(
                mode="json", exclude_none=True, exclude={"remedies", "fill", "differs", "ignore"}
            )
        )
    )
    plain["transactions"]["late"]["retry"] = {"times": 1}
    plain["data"] = plain["data"]["common"]
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    done = call("explore", "s.yaml")
    reported = " ".join(done.out.split())
    assert "With retries" in reported
    assert "a transaction exhausted its retries" in reported


def test_trial_says_proven_only_where_all_was_run(call):
    done = call("trial", "berth-swap", "--remedy", "same order")
    assert "→ proven: no schedule of these statements deadlocks" in done.out
    assert done.code == 0
    less = call("trial", "berth-swap", "--remedy", "same order", "--limit", 3)
    assert "proven: no schedule" not in less.out
    assert "no deadlock was seen in" in less.out


def test_remedies_can_be_tried_together(call):
    found = call(
        "trial", "crane-standby", "--remedy", "read committed + lock what was seen", "--json"
    ).json
    (variant,) = found["variants"][1:]
    assert (variant["name"], variant["verdict"], variant["complete"]) == (
        "read committed + lock what was seen",
        "cures",
        True,
    )


def test_an_exploration_is_drawn_and_its_outcomes_can_be_explained(call, tmp_path):
    assert call("explore", "berth-swap", "--save", "kept").code == 1
    assert call("draw", "kept").out.split() == ["kept/map.png", "kept/page.png"]
    assert (tmp_path / "kept" / "map.png").read_bytes().startswith(b"\x89PNG")
    assert call("draw", "kept", "--only", "graph").code == 2
    assert "deadlock" in call("explain", "kept/outcome-A.json").out
    (cycle,) = json.loads((tmp_path / "kept" / "outcome-A.json").read_text())["deadlocks"]
    assert cycle["verdict_ms"] > cycle["at_ms"], (
        "played at leisure: seen closed before the server ended it"
    )
    recorded = json.loads((tmp_path / "kept" / "outcome-C.json").read_text())
    assert (recorded["outcome"]["kind"], recorded["outcome"]["data"]) == ("waited", "serial")


def test_exploring_leaves_no_server_process_behind_when_killed(start, call, kept):
    process = start("explore", "left-open", "--workers", 2)
    until(lambda: leftovers(kept)[0], "it has begun")
    process.send_signal(signal.SIGKILL)
    process.wait()

    def gone() -> bool:
        with contextlib.suppress(subprocess.SubprocessError), psycopg.connect(kept) as connection:
            query = "select count(*) from pg_stat_activity where application_name like 'catenum %'"
            return connection.execute(query).fetchone()[0] == 0
        return False

    until(gone, "all sessions ended by themselves")
    call("play", "berth-swap", "--quiet")  # clears what was left, at whatever moment it was killed
    assert leftovers(kept) == ([], [])


def test_a_deferred_check_that_two_pass_together_is_an_anomaly_and_so_is_a_reader_s_view(
    call, tmp_path
):
    """No serial order lets both commit; and three of whom only the reader saw what no order gives."""
    check = (
        "create table berth (id int primary key, vessel int); insert into berth values (1, 1), (2, 1);"
        "create function tells() returns trigger language plpgsql as $$begin if (select count(*) from berth where vessel = 1) > 3 then raise 'too many'; end if; return null; end$$;"
        "create constraint trigger tells after insert on berth deferrable initially deferred for each row execute function tells();"
    )
    both = {
        name: {"statements": [f"insert into berth values ({n}, 1)"], "isolation": "repeatable read"}
        for name, n in (("gate", 7), ("tower", 8))
    }
    (tmp_path / "check.yaml").write_text(
        json.dumps({"scenario": "check", "data": check, "transactions": both})
    )
    found = call("explore", "check.yaml", "--json").json
    wrong = [entry for entry in found["outcomes"] if entry["data"] == "anomaly"]
    assert {entry["anomaly"] for entry in wrong} == {"other anomaly"}
    assert "in whatever order, one of them fails" in wrong[0]["evidence"][0]
    assert not any(claim["good"] for claim in found["claims"] if claim["about"] == "data")

    tide = "create table tide (id int primary key, cm int); insert into tide values (1, 0), (2, 0);"
    parts = {
        "draw": [
            "select sum(cm) from tide",
            "update tide set cm = case when (select sum(cm) from tide) < 10 then -11 else -10 end where id = 1",
        ],
        "pour": ["update tide set cm = 20 where id = 2"],
        "look": ["select id, cm from tide"],
    }
    plain = {
        "scenario": "tide",
        "data": tide,
        "transactions": {
            n: {"statements": s, "isolation": "repeatable read"} for n, s in parts.items()
        },
    }
    (tmp_path / "tide.yaml").write_text(json.dumps(plain))
    found = call("explore", "tide.yaml", "--json").json
    assert {entry["anomaly"] for entry in found["outcomes"]} == {None, "read-only anomaly"}
    assert (
        call("explore", "tide.yaml", "--isolation", "serializable", "--expect", "no anomaly").code
        == 0
    )


def test_named_locks_and_sequences_are_no_dirty_reads(call, tmp_path, kept_mariadb):
    (tmp_path / "s.yaml").write_text(
        "scenario: pier\ndata: create table berth (id int primary key, moved int)\ntransactions:\n"
        "  north: {statements: [\"select get_lock('pier', 0)\", \"select get_lock('pier', 0)\"]}\n  south: {statements: [\"select get_lock('pier', 0)\", select 1]}\n"
    )
    found = call("explore", "s.yaml", "--target", "local:mariadb", "--json").json
    assert "dirty read" not in {entry["anomaly"] for entry in found["outcomes"]}


def test_an_assumption_that_the_server_contradicts_is_dropped_and_told(call, monkeypatch):
    """As though no two statements ever met: the waits show that it is wrong, and everything is run
    again.
    """
    right = call("explore", "berth-swap", "--json").json
    monkeypatch.setattr("catenum.core.space.dependence.overlap", lambda a, b, **_: False)
    found = call("explore", "berth-swap", "--json").json
    assert any("please report this" in note for note in found["notes"])
    assert {entry["kind"] for entry in found["outcomes"]} == {
        entry["kind"] for entry in right["outcomes"]
    }
    assert [cycle["members"] for cycle in found["cycles"]] == [
        cycle["members"] for cycle in right["cycles"]
    ]


def test_what_the_planner_knows_is_no_data_although_a_rollback_leaves_it_changed(call, tmp_path):
    """CREATE INDEX sets pg_class.reltuples in place: undone, it leaves the table's rows and
    definitions as they were.
    """
    parts = {
        "build": {"statements": ["create index on berth (vessel)"], "ends": "rollback"},
        "move": {"statements": ["update berth set vessel = 4 where id = 1"]},
    }
    data = "create table berth (id int primary key, vessel int); insert into berth values (1, 1), (2, 1);"
    (tmp_path / "s.yaml").write_text(
        json.dumps({"scenario": "build", "data": data, "transactions": parts})
    )
    done = call("explore", "s.yaml", "--json")
    assert done.code == 0
    assert {entry["data"] for entry in done.json["outcomes"]} == {"serial"}


@pytest.mark.parametrize(
    ("server", "limit"),
    [
        ("postgresql", "set local lock_timeout = '50ms'"),
        ("mariadb", "set session innodb_lock_wait_timeout = 1"),
        pytest.param("mysql", "set session innodb_lock_wait_timeout = 1", marks=pytest.mark.soak),
    ],
)
def test_a_limit_that_a_statement_sets_is_waited_for_as_the_key_timeout_is(
    call, tmp_path, server, limit, kept_mariadb, kept_mysql
):
    parts = {
        "gate": [
            limit,
            "update berth set moved = 1 where id = 3",
            "update berth set moved = 1 where id = 7",
        ],
        "tower": [
            "update berth set moved = 2 where id = 7",
            "update berth set moved = 2 where id = 3",
        ],
    }
    plain = {
        "scenario": "limits",
        "data": BERTHS,
        "transactions": {n: {"statements": s} for n, s in parts.items()},
    }
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    found = call("explore", "s.yaml", "--target", f"local:{server}", "--json").json
    kinds = {entry["kind"]: entry["shortest"] for entry in found["outcomes"]}
    assert "timeout" in kinds
    assert any("limits that statements set themselves" in note for note in found["notes"])
    for kind, order in kinds.items():
        played = call(
            "play", "s.yaml", "--target", f"local:{server}", "--order", " ".join(order), "--json"
        ).json
        assert played["outcome"]["kind"] == kind


RULE_ON_IGNORED = """
scenario: counted
data: create table berth (id int primary key, moved int not null); insert into berth values (1, 0);
ignore: [berth.moved]
transactions:
  gate: {statements: [update berth set moved = moved + 1 where id = 1]}
  tower: {statements: [update berth set moved = moved * 2 where id = 1]}
holds: {two: select moved = 2 from berth}
"""
BY_BRANCH = """
scenario: branch
data: create table berth (id int primary key, moved int, at timestamptz); insert into berth values (1, 0, null), (2, 0, null);
transactions:
  gate: {statements: [update berth set at = clock_timestamp() where id = 1 and moved = 1]}
  tower: {statements: [update berth set moved = 1 where id = 1]}
"""
SAME_NAME = """
scenario: names
data: create table berth (id int primary key, vessel text); insert into berth values (1, 'Tern'), (2, 'Oriel');
transactions:
  gate: {statements: ["select random()::text as vessel", select vessel from berth where id = 1, select vessel from berth where id = 2]}
  tower: {statements: ["update berth set vessel = 'Skua'"]}
"""
TIES = """
scenario: ties
data: create table berth (id int primary key, moved int); insert into berth values (1, 0), (2, 0), (3, 5);
transactions:
  gate: {statements: ["select moved, id from berth order by moved"]}
  tower: {statements: [update berth set moved = 0 where id = 1]}
"""


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        (RULE_ON_IGNORED, {("serial", None, True), ("serial", None, False)}),
        (BY_BRANCH, {("serial", None, None)}),
        (SAME_NAME, {("serial", None, None), ("anomaly", "read skew", None)}),
        (TIES, {("serial", None, None)}),
    ],
)
def test_what_is_left_out_of_comparisons_is_neither_too_little_nor_too_much(
    call, tmp_path, text, expected
):
    """A rule may read what is left out; a value may differ by nature in one serial order alone, and
    in one result alone; rows that are equal where they are ordered by may come in any order.
    """
    (tmp_path / "s.yaml").write_text(text)
    found = call("explore", "s.yaml", "--json").json
    assert {(e["data"], e["anomaly"], e["holds"].get("two")) for e in found["outcomes"]} == expected


@pytest.mark.parametrize("server", ["postgresql", "mariadb", "mysql"])
def test_an_interrupt_while_data_is_loaded_again_ends_as_any_other(
    call, monkeypatch, tmp_path, kept_mariadb, kept_mysql, server
):
    """The sessions are closed by then, and there are no others yet."""
    parts = {
        "gate": ["update berth set moved = 1 where id = 3"],
        "change": ["alter table berth add column more int"],
    }
    plain = {
        "scenario": "change",
        "data": BERTHS,
        "transactions": {n: {"statements": s} for n, s in parts.items()},
    }
    (tmp_path / "s.yaml").write_text(json.dumps(plain))
    load, calls = stage_module.load, itertools.count()

    def interrupted(*args: object) -> None:
        if next(calls) == 2:
            raise KeyboardInterrupt
        load(*args)

    monkeypatch.setattr(stage_module, "load", interrupted)
    done = call("explore", "s.yaml", "--target", f"local:{server}")
    assert (done.code, next(calls)) == (130, 3)
    assert "Traceback" not in done.err
