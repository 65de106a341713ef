"""Who goes on first where two wait: what the server decides is not called proven, unless another
schedule stands for it.
"""

from __future__ import annotations

import pytest

from catenum.core.record.recording import TableKeys
from catenum.core.scenario.model import Scenario
from catenum.core.servers import rules_of
from catenum.core.space.claims import describe_outcome
from catenum.core.space.dependence import Dependence
from catenum.core.space.lock_race import Arrivals
from catenum.core.space.moves import MoveResult
from catenum.core.space.oracle import Observation
from catenum.core.space.run import Run
from catenum.core.space.tally import Tally

CHANGE, LOCK = (
    "update berth set moved = 1 where id = 1",
    "select moved from berth where id = 1 for update",
)
INSERT = "insert into berth (id, moved) values (4, 0)"
SWEEP = "update berth set moved = 1 where id in (1, 2, 3)"
QUEUE, AT_ONCE = {("one", "free"), ("two", "one")}, {("one", "free"), ("two", "free")}


def decided(server, level, holds, waits, before, after, *, ends="commit", done=(), undone=()):
    """What is made of two that wait, first ``one``, when ``free`` ends: whether there are just two
    ways, and who was overtaken.
    """
    texts = {"free": [holds], "one": [waits[0]], "two": [waits[1]]}
    plain = {name: {"statements": statements} for name, statements in texts.items()}
    case = Scenario.model_validate({"scenario": "contest", "data": "", "transactions": plain})
    tables = {
        "berth": TableKeys(
            primary=("id",), kinds={"id": "integer"}, indexes={"by_vessel": ("vessel",)}
        )
    }
    arrivals = Arrivals(Dependence(case, rules_of(server), tables, level))

    def made(name, statement, **more):
        return MoveResult(name, statement, **more)

    none = frozenset()
    assert arrivals.moved(made("free", 1, completed=[("free", 1)]), none) == []
    assert arrivals.moved(made("one", 1, waits=frozenset({("one", "free")})), none) == []
    assert (
        arrivals.moved(made("two", 1, waits=frozenset(before)), frozenset({("one", "free")})) == []
    )
    end = made(
        "free",
        None,
        completed=[("free", None), *((name, 1) for name in (*done, *undone))],
        undone=list(undone),
        committed=["free"] if ends == "commit" else [],
        waits=frozenset(after),
    )
    return [
        (contest.two_ways, contest.overtaken) for contest in arrivals.moved(end, frozenset(before))
    ]


FIRST, SECOND = (
    {"after": {("two", "one")}, "done": ["one"]},
    {"after": {("one", "two")}, "done": ["two"]},
)
BOTH = {"after": set(), "done": ["one", "two"]}


@pytest.mark.parametrize(
    ("server", "level", "holds", "waits", "before", "how", "ends", "found"),
    [
        ("postgresql", "read committed", CHANGE, (CHANGE, CHANGE), QUEUE, FIRST, "commit", [(True, False)]),
        ("postgresql", "read committed", CHANGE, (CHANGE, CHANGE), QUEUE, SECOND, "commit", [(True, True)]),
        ("postgresql", "read committed", CHANGE, (LOCK, CHANGE), QUEUE, SECOND, "commit", [(True, True)]),
        ("postgresql", "read committed", CHANGE, (CHANGE, CHANGE), QUEUE, FIRST, "rollback", []),
        ("postgresql", "read committed", LOCK, (CHANGE, CHANGE), QUEUE, FIRST, "commit", []),
        ("postgresql", "repeatable read", LOCK, (CHANGE, CHANGE), QUEUE, FIRST, "commit", []),
        ("postgresql", "repeatable read", CHANGE, (CHANGE, CHANGE), QUEUE, {"after": set(), "undone": ["one", "two"]}, "commit", []),
        ("postgresql", "read committed", INSERT, (INSERT, INSERT), AT_ONCE, FIRST, "rollback", [(True, False)]),
        ("postgresql", "repeatable read", INSERT, (INSERT, INSERT), AT_ONCE, SECOND, "rollback", [(True, True)]),
        ("postgresql", "read committed", SWEEP, (SWEEP, CHANGE), AT_ONCE, FIRST, "commit", [(True, False)]),
        ("postgresql", "read committed", SWEEP, (SWEEP, SWEEP), AT_ONCE, FIRST, "commit", [(False, False)]),
        ("postgresql", "read committed", SWEEP, (SWEEP, SWEEP), AT_ONCE, BOTH, "commit", []),
        ("postgresql", "read committed", SWEEP, (SWEEP, CHANGE.replace("= 1", "= 9")), AT_ONCE, BOTH, "commit", []),
        ("postgresql", "read committed", "lock table berth", (CHANGE, CHANGE), AT_ONCE, FIRST, "commit", [(True, False)]),
        ("postgresql", "read committed", "lock table berth", ("lock table berth", CHANGE), QUEUE, FIRST, "commit", []),
        ("mariadb", "repeatable read", CHANGE, (CHANGE, CHANGE), QUEUE, FIRST, "commit", []),
        ("mysql", "read committed", SWEEP, (SWEEP, CHANGE), AT_ONCE, SECOND, "commit", []),
        ("mysql", "read committed", SWEEP, (SWEEP, CHANGE.replace("moved", "vessel")), AT_ONCE, FIRST, "commit", [(False, False)]),
        ("mariadb", "read committed", SWEEP, (SWEEP, SWEEP), AT_ONCE, FIRST, "commit", [(False, False)]),
        ("mariadb", "read committed", INSERT, (INSERT, CHANGE.replace("= 1", "= 4")), QUEUE, FIRST, "rollback", [(False, False)]),
        ("mariadb", "repeatable read", LOCK, (INSERT, INSERT), AT_ONCE, FIRST, "commit", [(True, False)]),
        ("mariadb", "repeatable read", INSERT, (INSERT, INSERT), AT_ONCE, {"after": set(), "done": ["one"], "undone": ["two"]}, "rollback", [(False, False)]),
        ("mysql", "read committed", "alter table berth add more int", (CHANGE, CHANGE), AT_ONCE, FIRST, "commit", [(False, False)]),
    ],
)  # fmt: skip
def test_where_a_queue_decides_there_is_no_contest(
    server, level, holds, waits, before, how, ends, found
):
    assert decided(server, level, holds, waits, before, **how, ends=ends) == found


WAITERS = """
scenario: overtaken
data: |
  create table manifest (id int primary key, boxes int not null);
  create table slot (id int primary key, boxes int not null);
  insert into manifest values (12, 0);
  insert into slot values (1, 1);
transactions:
  clerk: {statements: [update manifest set boxes = 9 where id = 12]}
  loader: {statements: [update manifest set boxes = (select boxes from slot where id = 1) where id = 12]}
  CRANE
  tally: {statements: [update manifest set boxes = (select boxes from slot where id = 1) where id = 12 returning boxes]}
"""
CRANE = "crane: {statements: [update slot set boxes = 2 where id = 1]}"


def explored(call, tmp_path, text, *more):
    (tmp_path / "s.yaml").write_text(text)
    return call("explore", "s.yaml", "--json", *more).json


def test_what_only_the_server_s_other_choice_would_show_is_not_called_proven(call, tmp_path):
    """The loader, which came before the crane, may write after the tally, which came later: no
    serial order does.
    """
    found = explored(call, tmp_path, WAITERS.replace("CRANE", CRANE))
    assert (found["reach"]["complete"], found["reach"]["raced"]) == (False, True)
    assert found["counts"]["contests"] >= 2
    assert set(found["counts"]["contestants"]) == {"loader", "tally"}
    assert not any(claim["good"] for claim in found["claims"])
    reported = " ".join(call("explore", "s.yaml").out.split())
    assert (
        "the server decides which of them continues first (loader or tally, in 'clerk" in reported
    )
    assert "Proven" not in reported


def test_what_another_schedule_stands_for_is_proven_whoever_goes_on_first(call, tmp_path):
    found = explored(call, tmp_path, WAITERS.replace("  CRANE\n", ""))
    assert found["reach"]["complete"]
    assert (found["counts"]["contests"], found["counts"]["diverged"]) == (0, 0)
    plain = WAITERS.replace("CRANE", CRANE).replace(
        "(select boxes from slot where id = 1)", "boxes * 2 + 1"
    )
    on_mariadb = explored(
        call, tmp_path, plain.replace(" returning boxes", ""), "--target", "local:mariadb"
    )
    assert on_mariadb["reach"]["complete"], "a queue decides"
    assert on_mariadb["counts"]["longest_chain"] == 2


PARTLY = """
scenario: partly
data: |
  create table slot (id int primary key, boxes int not null);
  insert into slot values (1, 1), (2, 2);
transactions:
  north: {statements: [update slot set boxes = boxes * 3 where id = 1]}
  south: {statements: [update slot set boxes = boxes * 3 where id = 2]}
  sweep: {statements: ["update slot set boxes = boxes + 10 where id in (1, 2)"]}
  yard: {statements: [update slot set boxes = boxes * 7 where id = 2]}
"""


@pytest.mark.soak
def test_a_statement_that_goes_on_to_its_next_wait_is_part_of_what_let_it_go_on(call, tmp_path):
    found = explored(call, tmp_path, PARTLY)
    every = explored(call, tmp_path, PARTLY, "--every")
    assert not [note for note in found["notes"] if "taken for independent" in note]
    assert {(o["kind"], o["data"]) for o in found["outcomes"]} == {
        (o["kind"], o["data"]) for o in every["outcomes"]
    }
    assert found["counts"]["longest_chain"] == every["counts"]["longest_chain"] == 3
    pairs = [{(m["waiter"], m["holder"]) for m in x["wait_pairs"]} for x in (found, every)]
    assert pairs[0] == pairs[1]


def run_of(path: str, *, chosen: bool = False) -> Run:
    nothing = Observation(committed=(), seen={}, end="")
    return Run(
        path=tuple(path.split()), kind="waited", status={}, failed_by={}, attempts={}, wait_pairs=(), cycles=(), chain=0,
        locks=None, holds={}, observed=nothing, ended_well=True, data="serial", went_on=(path,), chosen=chosen,
    )  # fmt: skip


@pytest.mark.parametrize("merged", [False, True])
def test_the_schedule_that_is_shown_for_an_outcome_leads_there_by_itself_where_one_does(merged):
    tally = Tally()
    for run in (
        run_of("a b", chosen=True),
        run_of("a b c"),
        run_of("a", chosen=True),
        run_of("a b c d"),
    ):
        other = Tally()
        (other if merged else tally).add(run)
        tally.merge(other)
    (entry,) = tally.outcomes.values()
    assert (entry.count, entry.chosen, entry.only_chosen) == (4, 2, False)
    assert (entry.shortest, entry.went_on) == (("a", "b", "c"), ("a b c",))
    alone = Tally()
    alone.add(run_of("a b", chosen=True))
    (entry,) = alone.outcomes.values()
    assert entry.only_chosen
    assert "only when the server let the later of two waiters continue first" in describe_outcome(
        entry
    )
