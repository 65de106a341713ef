"""Load at isolation levels: what is drawn, measured, compared, and said."""

from __future__ import annotations

import contextlib
import csv
import io
import json
import random
import signal
from collections import Counter

import psycopg
import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from catenum import samples
from catenum.core.errors import InputError
from catenum.core.pace.measured import TurnFigures, ratio_of_turns, step_of, throughput
from catenum.core.record.values import Value
from catenum.core.scenario.draws import Draws
from catenum.core.scenario.reader import read_scenario
from conftest import until

WORK = {
    "scenario": "moves",
    "data": "create table slot (id int primary key, n int not null); insert into slot values (1, 0), (2, 0), (3, 0);",
    "transactions": {
        "crane": {
            "parameters": {"slot": {"column": "slot.id", "zipf": 1.2}},
            "statements": ["update slot set n = n + 1 where id = :slot"],
        }
    },
}


def written(tmp_path, work=None, **changes) -> str:
    plain = {**(work or WORK), **changes}
    (tmp_path / "work.yaml").write_text(yaml.safe_dump(plain))
    return "work.yaml"


# -- without a server ------------------------------------------------------------------------------


@given(st.integers(1, 400), st.one_of(st.none(), st.floats(0.1, 3)), st.integers(0, 9))
def test_values_are_drawn_from_all_of_the_domain(count, zipf, seed):
    draw = Draws(low=5, high=4 + count, zipf=zipf).drawer(random.Random(seed))
    found = Counter(int(draw().text or "") for _ in range(200))
    assert min(found) >= 5
    assert max(found) <= 4 + count


def test_skew_draws_the_first_value_most():
    values = tuple(Value(str(n), "number") for n in (7, 3, 9))
    drawn = Draws(values=values, zipf=1.0).drawer(random.Random(4))
    found = Counter(drawn().text for _ in range(22_000))
    # weights 1, 1/2, 1/3 of 11/6
    assert [round(found[n] / 22_000, 1) for n in ("7", "3", "9")] == [0.5, 0.3, 0.2]
    even = Draws(values=values).drawer(random.Random(4))
    found = Counter(even().text for _ in range(21_000))
    assert all(6_700 < count < 7_300 for count in found.values())


@pytest.mark.parametrize(
    ("domain", "said"),
    [
        ({"range": [5, 1]}, "range: 5 is greater than 1"),
        ({"range": [1, 3], "choice": [1]}, "a domain needs exactly one of column, range, choice"),
        ({"zipf": 1.0}, "a domain needs exactly one of column, range, choice"),
        ({"range": [1, 2_000_000], "zipf": 1.0}, "at most 1,000,000 values can be skewed"),
        ({"column": "slot"}, "column: 'slot' is not of the form table.column"),
        ({"colum": "slot.id"}, "unknown key 'colum'"),
        ({"choice": []}, "must not be empty"),
        ({"choice": [1], "zipf": 0}, "greater than 0"),
    ],
)
def test_a_domain_that_is_none(domain, said):
    work = json.loads(json.dumps(WORK))
    work["transactions"]["crane"]["parameters"]["slot"] = domain
    with pytest.raises(InputError) as caught:
        read_scenario(yaml.safe_dump(work).encode(), "work.yaml")
    assert said in str(caught.value)
    assert len(caught.value.problems) == 1
    assert caught.value.problems[0].place.line


def turns(level: str, rates: list[int], **more) -> list[TurnFigures]:
    return [
        TurnFigures(level=level, round=number, seconds=1.0, commits=rate, finished=rate, **more)
        for number, rate in enumerate(rates, 1)
    ]


def test_a_step_compares_levels_by_rounds():
    base = turns("read committed", [100, 200, 400, 800])
    half = turns("serializable", [50, 100, 200, 400], retries=10, failures=Counter(refused=10))
    step = step_of(8, [*half, *base], "read committed")
    assert [one.level for one in step.levels] == ["read committed", "serializable"]
    first, second = step.levels
    assert first.ratio is None
    assert second.ratio is not None
    # the rounds differ eightfold, and still the ratio is known exactly: drift hits both
    assert (second.ratio.ratio, second.ratio.low, second.ratio.high) == pytest.approx((0.5,) * 3)
    assert first.per_second.low < 375 == first.per_second.value < first.per_second.high
    assert second.retries_per_commit == pytest.approx(40 / 750)
    assert second.failures == {"refused": 40}


def test_intervals_cover_what_they_should():
    """Levels that are the same are told apart about as often as an interval of 95 % lets them be:
    rounds drift threefold, and turns scatter by a fifth.
    """
    chance = random.Random(5)
    apart = 0
    for _ in range(60):
        rounds = [chance.uniform(1000, 3000) for _ in range(8)]
        one, other = ([rate * chance.gauss(1, 0.2) for rate in rounds] for _ in range(2))
        found = ratio_of_turns(one, other, paired=True)
        apart += not found.low <= 1 <= found.high
    assert apart / 60 < 0.2


def test_intervals_say_when_there_are_none():
    assert throughput([10.0, 12.0]).high == float("inf")
    assert ratio_of_turns([10.0], [5.0], paired=True).high == float("inf")
    same = ratio_of_turns([4.0] * 3, [2.0] * 3, paired=False)
    assert (same.ratio, same.low, same.high) == (2.0, 2.0, 2.0)
    assert ratio_of_turns([1.0] * 3, [0.0] * 3, paired=True).ratio == 0.0
    few = ratio_of_turns([1, 0, 0, 0.5], [0, 0, 1, 0], paired=True)  # most turns without a commit
    assert few.low <= few.ratio == 1.5


def test_turns_that_differ_too_much_are_named():
    calm, disturbed = (
        step_of(1, turns("serializable", rates), "serializable").levels[0].unsteady
        for rates in ([100, 150, 120, 250], [100, 301, 120, 150])
    )
    assert (calm, disturbed) == (False, True)


def test_turns_that_are_short_for_their_transactions_are_named():
    quick, slow = (
        step_of(1, turns("serializable", [5] * 4, latencies=[ms] * 9), "serializable").levels[0]
        for ms in (20.0, 600.0)
    )
    assert (quick.rough, slow.rough) == (False, True)


@pytest.mark.parametrize(
    ("busy", "load", "server", "bottleneck"),
    [
        (0.95, 0.9, None, True),
        (0.5, 0.9, 0.5, False),
        (0.5, 0.9, 1.0, True),
        (0.5, 0.9, None, False),
    ],
)
def test_the_limit_of_the_load_itself_is_named(busy, load, server, bottleneck):
    more = {"busy": busy, "load_cpu": load, "server_cpu": server, "cpus": 2}
    step = step_of(1, turns("serializable", [5], **more), "serializable")
    assert step.levels[0].bottleneck is bottleneck


@pytest.mark.parametrize("name", samples.load_names())
def test_a_kind_of_work_is_a_scenario(name):
    assert read_scenario(samples.load_text(name).encode(), name).scenario.scenario == name


# -- on the servers --------------------------------------------------------------------------------


#: Those on PostgreSQL, and one on each other server, whatever the soak runs besides.
ALWAYS = [("mariadb", "read-check-write"), ("mysql", "foreign-key")]
KINDS = [
    pytest.param(
        server,
        name,
        marks=[] if server == "postgresql" or (server, name) in ALWAYS else pytest.mark.soak,
    )
    for server in ("postgresql", "mariadb", "mysql")
    for name in samples.load_names()
]


@pytest.mark.parametrize(("server", "name"), KINDS)
def test_a_kind_of_work_commits(run, server, name):
    levels = "read committed" if name != "read-check-write" else "serializable"
    done = run("pace", name, "--clients", "6", "--for", "300ms", "--levels", levels,
               "--retry", "100", "--json", "--target", f"local:{server}")  # fmt: skip
    found = done.json
    assert found["format"] == "catenum-pace/1", done.err
    (step,) = found["steps"]
    (one,) = step["levels"]
    assert step["stopped"] is None
    assert one["committed"] > 0
    assert not {"rejected", "duplicate"} & set(one["failures"])
    assert one["p50_ms"] <= one["p95_ms"] <= one["p99_ms"]
    assert (one["lock_waits"] is None) is (server == "postgresql")
    assert one["server_cpu"] is not None


def test_each_commit_is_in_the_table_once(run, tmp_path, kept):
    """What is counted as committed is what the server has: the harbour's total counts itself."""
    work = {
        **WORK,
        "holds": {},
        "transactions": {"crane": {"statements": ["update slot set n = n + 1 where id = 1"]}},
    }
    seen: list[int] = []
    from catenum.lab.load import pace

    end = pace.Clients.__exit__

    def look(self, *reason):
        end(self, *reason)
        with psycopg.connect(kept) as connection:
            row = connection.execute(
                f"select n from {self.engine.schema}.slot where id = 1"
            ).fetchone()
        seen.append(row[0])

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(pace.Clients, "__exit__", look)
        found = run("pace", written(tmp_path, work), "--clients", "4", "--for", "400ms", "--levels",
                    "read committed", "--json").json  # fmt: skip
    (one,) = found["steps"][0]["levels"]
    warm = seen[0] - one["committed"]
    # the round that warms up is not among them, and is about as long as each of the eight others
    assert 0 < warm < one["committed"]
    assert sum(one["turns"]) * 0.045 <= one["committed"]  # of turns of 50 ms, nine tenths count


def test_a_refusal_is_retried_with_the_same_values(run, tmp_path):
    work = json.loads(json.dumps(WORK))
    work["transactions"]["crane"]["statements"].append("select n from slot where id = :slot")
    name = written(tmp_path, work)
    found = run(
        "pace",
        name,
        "--clients",
        "8",
        "--for",
        "1s",
        "--levels",
        "repeatable-read",
        "--retry",
        "100",
        "--json",
    ).json
    (one,) = found["steps"][0]["levels"]
    # whoever was refused is tried again, but at the end of a turn
    assert one["failures"]["refused"] == one["retries"] + one["cut_off"] > 0
    assert one["given_up"] == {}
    done = run(
        "pace",
        name,
        "--clients",
        "8",
        "--for",
        "1s",
        "--levels",
        "repeatable-read",
        "--retry",
        "0",
        "--json",
    )
    (one,) = done.json["steps"][0]["levels"]
    assert done.code == 1
    assert one["given_up"] == one["failures"]
    assert one["retries"] == 0


def test_an_open_load_counts_from_the_arrival(run, tmp_path):
    work = {**WORK, "transactions": {"crane": {"statements": ["select pg_sleep(0.02)"]}}}
    name = written(tmp_path, work)
    few = run(
        "pace",
        name,
        "--clients",
        "1",
        "--for",
        "1s",
        "--levels",
        "read committed",
        "--rate",
        "200/s",
        "--json",
    ).json
    (one,) = few["steps"][0]["levels"]
    # a single client serves 50 a second at most: most arrivals wait, and that is said
    assert one["unserved"] > one["committed"]
    closed = run(
        "pace", name, "--clients", "1", "--for", "1s", "--levels", "read committed", "--json"
    ).json
    assert one["p50_ms"] > closed["steps"][0]["levels"][0]["p95_ms"]


def test_files_and_a_comparison(run, tmp_path):
    words = ["--clients", "1,2", "--for", "600ms", "--levels", "read committed,serializable"]
    done = run(
        "pace", written(tmp_path), *words, "--save", "a.json", "--csv", "a.csv", "--chart", "a.svg"
    )
    assert "× default" in done.out
    assert "a private server does not wait for its disk" in done.out
    rows = list(csv.DictReader(io.StringIO((tmp_path / "a.csv").read_text())))
    assert [(row["clients"], row["level"]) for row in rows] == [
        ("1", "read committed"), ("1", "serializable"), ("2", "read committed"), ("2", "serializable"),
    ]  # fmt: skip
    assert "<svg" in (tmp_path / "a.svg").read_text()
    again = run("pace", written(tmp_path), *words, "--compare", "a.json", "--think", "1ms")
    assert "not the same: think_ms: 0.0 before, 1.0 now" in again.out, again.err
    assert again.out.count("clients, ") == 4
    (tmp_path / "b.json").write_text("{}")
    wrong = run("pace", "work.yaml", "--compare", "b.json")
    assert wrong.code == 2
    assert "not what Catenum writes as 'pace'" in wrong.err


def test_who_waits_without_end_ends_the_step(run, tmp_path, monkeypatch):
    monkeypatch.setattr("catenum.lab.load.pace.DRAIN_S", 1.0)
    work = {
        **WORK,
        "transactions": {"clerk": {"statements": ["select pg_advisory_lock(5)", "select 1"]}},
    }
    done = run(
        "pace",
        written(tmp_path, work),
        "--clients",
        "3",
        "--for",
        "300ms",
        "--levels",
        "read committed",
    )
    assert done.code == 1
    told = " ".join(done.out.split())
    assert "2 at clerk statement 1" in told
    assert "wait for a lock that nobody releases" in told


def test_duplicates_are_told_and_counted(run, tmp_path):
    work = json.loads(json.dumps(WORK))
    work["transactions"]["crane"] = {
        "parameters": {"slot": {"range": [1, 5]}},
        "statements": ["insert into slot values (:slot, 0)"],
    }
    done = run(
        "pace",
        written(tmp_path, work),
        "--clients",
        "2",
        "--for",
        "300ms",
        "--levels",
        "read committed",
        "--json",
    )
    (one,) = done.json["steps"][0]["levels"]
    assert done.code == 1
    assert one["failures"]["duplicate"] == one["given_up"]["duplicate"] > 0


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["--levels", "read comitted"], "Did you mean read committed?"),
        (["--clients", "0,4"], "is not a list of numbers from 1 to 5000"),
        (["--rate", "often"], "is not a rate, such as 200/s"),
        (["--share", "tug=3"], "--share names 'tug', which is not a transaction"),
        (["--share", "crane=x"], "the weight must be a number above 0"),
        (["--chart", "a.pdf"], "the file must end in .png or .svg"),
        (["--save", "nowhere/a.json"], "there is no folder nowhere"),
        (["--compare", "nosuch.json"], "no such file"),
    ],
)
def test_a_wrong_call(call, words, said):
    done = call("pace", "random-rows", *words)
    assert done.code == 2
    assert said in done.err


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ({"ends": "open"}, "crane stays open: in a load each transaction ends"),
        ({"autocommit": True}, "crane commits each statement"),
        (
            {"statements": ["insert into slott values (1, 1)"]},
            "a statement of the load is rejected",
        ),
    ],
)
def test_what_is_no_unit_of_a_load(run, tmp_path, changes, said):
    work = json.loads(json.dumps(WORK))
    work["transactions"]["crane"] = {
        "statements": ["update slot set n = 1 where id = 1"],
        **changes,
    }
    done = run("pace", written(tmp_path, work), "--clients", "1", "--for", "200ms")
    assert done.code == 2
    assert said in done.err


def test_more_clients_than_the_server_admits(run, own_server):
    done = run("pace", "random-rows", "--clients", "2,900", "--target", own_server.url("master"))
    assert done.code == 3
    assert "900 clients take 900 connections, and the server has" in done.err
    assert done.out == ""


def test_an_interrupt_and_a_dead_server_show_what_was_measured(start, own_server):
    words = [
        "pace",
        "random-rows",
        "--clients",
        "1,3",
        "--levels",
        "read committed",
        "--for",
        "500ms",
    ]
    for how, code in ((signal.SIGINT, 130), (None, 3)):
        process = start(*words, "--target", own_server.url("master"))

        def second_step() -> bool:
            with contextlib.suppress(psycopg.Error), own_server.admin() as admin:
                query = (
                    "select count(*) from pg_stat_activity where application_name like '%client 3'"
                )
                return bool(admin.execute(query).fetchone()[0])
            return False

        until(second_step, "the second step runs")
        if how is not None:
            process.send_signal(how)
        else:
            own_server.kill()
        out, err = process.communicate(timeout=60)
        assert process.returncode == code, err
        assert "1 client" in out
        assert "committed/s" in out
        assert ("these are the figures so far" in err) is (how is not None)
        if how is not None:
            with own_server.admin() as admin:
                query = "select count(*) from pg_namespace where nspname like 'catenum%'"
                assert admin.execute(query).fetchone() == (0,)
