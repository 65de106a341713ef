"""A share of the soak: every order of generated scenarios, walked by hand, beside what ``explore``
says.
"""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from enumerating.compare import as_json, compared, differences, misattributed, written
from enumerating.generate import case, locking_case, queue_case
from enumerating.sessions import Bench, MariadbBench, PostgresqlBench
from enumerating.walk import Account, Case, End, Part, Walk

LOCKING = {"postgresql": (1, 26), "mariadb": (14,)}
QUEUES = {"postgresql": (14, 20), "mariadb": (11, 33)}
SEEDS = {"postgresql": (2, 9, 101, 103, 105, 107, 581), "mariadb": (3, 20, 31, 61, 63, 64, 72, 101)}


@pytest.fixture
def bench(request: pytest.FixtureRequest) -> Iterator[Bench]:
    if request.param == "postgresql":
        made: Bench = PostgresqlBench(request.getfixturevalue("kept"), 3)
    else:
        made = MariadbBench(request.getfixturevalue("kept_mariadb"), 3)
    yield made
    made.close()


@pytest.mark.parametrize(
    ("bench", "server", "make", "seed"),
    [
        pytest.param(server, server, make, seed, marks=[] if number < 1 else pytest.mark.soak)
        for make, found in ((case, SEEDS), (locking_case, LOCKING), (queue_case, QUEUES))
        for server, seeds in found.items()
        for number, seed in enumerate(seeds)
    ],
    indirect=["bench"],
)
def test_explore_says_what_walking_every_order_shows(bench, call, tmp_path, server, make, seed):
    def explore(path):
        return as_json(
            call(
                "explore",
                path,
                "--target",
                f"local:{server}",
                "--json",
                "--quiet",
                "--check-orders",
                0,
            ).out
        )

    def play(path, order, locks):
        words = ("--order", order, "--target", f"local:{server}", "--locks", locks, "--json")
        return as_json(call("play", path, *words).out)

    made = make(server, seed)
    lines = compared(made, bench, explore, tmp_path, 120, play)
    assert not lines or not compared(made, bench, explore, tmp_path, 120, play), lines


SWAP = Case(
    data="create table berth (id int primary key, moved int); insert into berth values (1, 0), (2, 0);",
    parts={
        "north": Part(
            ("update berth set moved = 1 where id = 1", "update berth set moved = 1 where id = 2")
        ),
        "south": Part(
            ("update berth set moved = 2 where id = 2", "update berth set moved = 2 where id = 1")
        ),
    },
)


@pytest.mark.parametrize("bench", ["postgresql", "mariadb"], indirect=True)
def test_the_walk_itself_knows_a_deadlock_when_it_meets_one(bench):
    account = Walk(bench, SWAP, 100).account()
    assert {end.kind for end in account.ends} == {"clean", "waited", "deadlock"}
    assert all(end.serial for end in account.ends)


def test_a_difference_is_told():
    """Either account may have what the other has not."""
    end = End(("north",), "waited", (("north", "committed", ""),), frozenset(), 0, True, ())
    row = {
        "kind": "clean",
        "data": "serial",
        "status": {"north": "committed"},
        "failed_by": {},
        "holds": {},
    }
    lines = differences(
        SWAP, Account([end]), {"reach": {"complete": True}, "outcomes": [row], "cycles": []}
    )
    assert [line.partition(":")[0] for line in lines] == ["missed by explore", "only in explore"]


BERTHS = "create table berth (id int primary key, moved int); insert into berth values (1, 0), (2, 0), (3, 0);"
BOXES = "create table box (id int primary key, berth int references berth (id), foreign key (berth) references berth (id));"
TRIGGER = {
    "postgresql": "create function tells() returns trigger language plpgsql as $$begin update berth set moved = 7 where id = new.id; return null; end$$; create trigger tells after insert on crane for each row execute function tells();",
    "": "create trigger tells after insert on crane for each row update berth set moved = 7 where id = new.id;",
}  # fmt: skip


@pytest.mark.parametrize("server", ["postgresql", "mariadb", "mysql"])
@pytest.mark.parametrize(
    ("more", "first", "second", "taken"),
    [
        ("", "update berth set moved = 1 where id = 3", "update berth set moved = 1 where id = 1", 2),
        ("", "select moved from berth where id = 2 for update", "update berth set moved = 1 where id < 2", 2),
        (BOXES, "insert into box values (5, 3)", "insert into box values (6, 1)", 2),
        (BOXES, "insert into box values (5, 1)", "update berth set moved = 1 where id = 1", None),
        ("create table crane (id int primary key); {trigger}", "insert into crane values (1)", "update berth set moved = 1 where id = 1", 1),
        ("create table crane (id int primary key); {trigger}", "insert into crane values (3)", "insert into crane values (1)", 2),
    ],
)  # fmt: skip
def test_no_other_statement_is_said_to_have_taken_a_lock(
    call, tmp_path, server, more, first, second, taken
):
    trigger = TRIGGER.get(server, TRIGGER[""])
    data = BERTHS + more.replace("{trigger}", trigger)
    parts = {"north": Part((first, second)), "south": Part(("delete from berth where id = 1",))}
    path = written(Case(data, parts), tmp_path)
    words = ("--order", "north north south north south", "--target", f"local:{server}", "--json")
    exact, reported = (call("play", path, *words, "--locks", how).json for how in ("full", "waits"))
    assert not misattributed(exact, reported)
    (wait,) = reported["waits"]
    named = wait["holder_candidates"] or [wait["holder_statement"]]
    assert taken is None or taken in named, wait
