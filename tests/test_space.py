"""The space of schedules, walked on the scripted stand-in: classes, reduction, splitting. No server
is at work here.
"""

from __future__ import annotations

import os
import random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from catenum.core.errors import InputError
from catenum.core.record.recording import TableKeys
from catenum.core.record.recording_file import without_times_and_ids
from catenum.core.record.values import NOTHING
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.terms import parse_expectation
from catenum.core.servers import rules_of
from catenum.core.space.counting import Classes, schedules
from catenum.core.space.dependence import Dependence
from catenum.core.space.expect import unmet
from catenum.core.space.exploration import how_far, letter_of
from catenum.core.space.locking import Locked
from catenum.core.space.search import Walk
from catenum.core.space.tally import Tally
from catenum.engines.scripted import ScriptedEngine, scripted_footprint
from catenum.lab.explore.stage import Stage
from catenum.lab.explore.walker import ExploreOptions, Worker, plan
from catenum.lab.run.play import PlayOptions, play


def scenario(**transactions: object) -> Scenario:
    reported = {
        name: t if isinstance(t, dict) else {"statements": t} for name, t in transactions.items()
    }
    return Scenario.model_validate({"scenario": "scripted", "data": "", "transactions": reported})


def locks(*names: str) -> list[str]:
    return [f"lock {name}" for name in names]


class Harbour(ScriptedEngine):
    """The stand-in with as many tables as a scenario names, so that its words can be told apart."""

    def __init__(self, case: Scenario) -> None:
        super().__init__()
        texts = [s.text for t in case.transactions.values() for s in t.statements]
        self.names = {text.partition(" ")[2] for text in texts}

    def tables(self) -> dict[str, TableKeys]:
        return {name: TableKeys(primary=()) for name in self.names}


def stage(case: Scenario) -> Stage:
    return Stage(Harbour(case), case, footprint_of=scripted_footprint)


def classes(case: Scenario) -> Classes:
    tables = Harbour(case).tables()
    relation = Dependence(
        case, rules_of("postgresql"), tables, "read committed", footprint_of=scripted_footprint
    )
    return Classes(relation, {name: t.moves for name, t in case.transactions.items()})


def walked(case: Scenario, *, every: bool = False, most: int = 4000) -> tuple[Tally, set[object]]:
    """Everything that exploring finds: the tally, and every outcome with all its data, its chain
    and its cycles.
    """
    found: set[object] = set()
    with stage(case) as on:
        worker = Worker(on, ExploreOptions(every=every))
        worker.take({"walk": {"more": True, "nodes": []}})
        while worker.busy and worker.tally.schedules < most:
            run = on.run(worker.walk)
            worker.walk.turn()
            run = run if run.broken_off else worker.oracle.judge(run)
            worker.tally.add(run)
            if not run.broken_off:
                met = frozenset(
                    (m.waiter, m.statement, m.holder, m.resource) for m in run.wait_pairs
                )
                found.add((run.fine_outcome, run.chain, met, frozenset(run.cycles)))
    return worker.tally, found


CYCLE = scenario(north=locks("a", "x", "b"), east=locks("b", "y", "c"), south=locks("c", "z", "a"))
OPPOSITE = scenario(north=locks("a", "x", "y", "b"), south=locks("b", "z", "u", "a"))


@pytest.mark.parametrize(("case", "orders", "count"), [(CYCLE, 34_650, 126), (OPPOSITE, 252, 12)])
def test_orders_and_classes_are_counted_as_by_hand(case, orders, count):
    found = classes(case)
    assert (schedules({n: t.moves for n, t in case.transactions.items()}), found.count()) == (
        orders,
        count,
    )
    forms = [found.nth(number) for number in range(count)]
    assert len(set(forms)) == count
    assert all(found.normal_form(form) == form for form in forms)


@pytest.mark.parametrize(("case", "count"), [(CYCLE, 126), (OPPOSITE, 12)])
def test_no_more_is_run_than_there_are_classes(case, count):
    tally, _ = walked(case)
    assert tally.schedules + tally.broken_off <= 1.2 * count


def test_every_order_falls_into_one_of_the_classes_counted():
    found = classes(OPPOSITE)
    names = ["north"] * 5 + ["south"] * 5
    chance = random.Random(3)
    forms = set()
    for _ in range(600):
        chance.shuffle(names)
        forms.add(found.normal_form(names))
    known = {found.nth(number) for number in range(found.count())}
    assert forms <= known
    assert len(forms) > 9


words = st.tuples(st.sampled_from(["lock", "lock", "share"]), st.sampled_from("abc")).map(" ".join)
transaction = st.fixed_dictionaries(
    {"statements": st.lists(words, min_size=1, max_size=2)},
    optional={"retry": st.just({"times": 1}), "ends": st.sampled_from(["open", "rollback"])},
)


@settings(max_examples=100 if "CATENUM_TESTS_EVERYWHERE" in os.environ else 15)
@given(st.lists(transaction, min_size=2, max_size=3))
def test_reduction_loses_no_outcome_no_chain_and_no_cycle(reported):
    case = scenario(**dict(zip(("north", "east", "south"), reported, strict=False)))
    all_runs, complete = walked(case, every=True)
    if all_runs.schedules >= 4000:
        return
    tally, reduced = walked(case)
    assert reduced == complete
    assert tally.schedules <= all_runs.schedules


@settings(max_examples=15, deadline=None)
@given(st.lists(transaction, min_size=2, max_size=3), st.integers(0, 1000))
def test_however_a_walk_is_split_and_carried_the_same_schedules_are_run(reported, seed):
    chance = random.Random(seed)
    case = scenario(**dict(zip(("north", "east", "south"), reported, strict=False)))
    whole, _ = walked(case, most=300)
    if whole.schedules >= 300:
        return
    tally = Tally()
    with stage(case) as on:
        worker = Worker(on, ExploreOptions())
        shares = [{"walk": {"more": True, "nodes": []}}]
        while shares:
            worker.take(shares.pop(chance.randrange(len(shares))))
            while worker.busy:
                if chance.random() < 0.3 and (given := worker.split()) is not None:
                    shares.append(given)
                if chance.random() < 0.2:
                    shares.append(worker.share())  # as another process would go on with it
                    worker.walk = None
                    break
                worker.step()
            tally.merge(worker.take_tally())
    assert (tally.schedules, tally.broken_off) == (whole.schedules, whole.broken_off)
    assert sorted(tally.map) == sorted(whole.map)
    assert {k: (e.count, e.shortest) for k, e in tally.outcomes.items()} == {
        k: (e.count, e.shortest) for k, e in whole.outcomes.items()
    }


def test_memory_does_not_grow_with_the_number_of_schedules():
    case = scenario(
        north=locks("a", "x", "y"), east=locks("b", "z", "u"), south=locks("c", "v", "w")
    )
    tally, _ = walked(case, every=True, most=3000)
    assert tally.schedules == 3000
    assert len(tally.map) <= 2000
    assert tally.every == 2
    assert len(tally.outcomes) == 1


def test_a_walk_as_a_plain_value_is_the_same_walk():
    with stage(CYCLE) as on:
        worker = Worker(on, ExploreOptions())
        worker.take({"walk": {"more": True, "nodes": []}})
        for _ in range(7):
            worker.step()
        plain = worker.walk.to_plain()
        # the order of a set's members in a list is nobody's
        assert Walk.from_plain(worker.space, plain).nodes == worker.walk.nodes


def test_where_the_server_goes_another_way_than_before_the_schedule_is_run_again_and_told():
    case = scenario(north=locks("a"), south=locks("a"))

    class Fickle(Harbour):
        """Once in a while it lets a statement fail that it let pass before."""

        calls = 0

        def execute(self, session, sql):
            Fickle.calls += sql == "lock a"
            super().execute(
                session, "fail rejected" if sql == "lock a" and Fickle.calls == 13 else sql
            )

    with Stage(Fickle(case), case, footprint_of=scripted_footprint) as on:
        worker = Worker(on, ExploreOptions())
        worker.take({"walk": {"more": True, "nodes": []}})
        while worker.busy:
            worker.step()
    assert (
        worker.tally.diverged + sum(e.kind == "error" for e in worker.tally.outcomes.values()) >= 1
    )
    assert worker.tally.count_of("waited") == 2


def test_a_limit_below_the_classes_draws_a_sample_that_the_seed_repeats():
    with stage(CYCLE) as on:
        made = [
            plan(on.scenario, on.dependence, ExploreOptions(limit=40, seed=seed))
            for seed in (1, 1, 2)
        ]
    drawn = [[tuple(order) for share in one.draw() for order in share["drawn"]] for one in made]
    assert not made[0].sampled  # 126 are few enough over 40 for a walk to be tried first
    assert (len(drawn[0]), len(set(drawn[0]))) == (40, 40)
    assert drawn[0] == drawn[1] != drawn[2]


def test_a_scenario_of_twelve_is_counted_or_said_to_be_uncountable():
    case = scenario(**{f"tug{n}": locks("a", f"x{n}", "b") for n in range(12)})
    with stage(case) as on:
        made = plan(on.scenario, on.dependence, ExploreOptions(limit=5))
    assert made.orders > 10**40
    assert (made.classes, made.sampled) == (None, True)
    assert sum(len(share["drawn"]) for share in made.shares) == 5


def test_any_schedule_that_exploring_tells_gives_its_outcome_again_when_played():
    tally, _ = walked(CYCLE)
    for entry in tally.outcomes.values():
        first, again = (
            play(ScriptedEngine(), CYCLE, PlayOptions(order=entry.shortest)) for _ in range(2)
        )
        assert first.outcome.kind == entry.kind
        assert without_times_and_ids(first) == without_times_and_ids(again)


@pytest.mark.parametrize(
    ("text", "reported"),
    [
        ("no deadlock", "deadlock in"),
        ("deadlock, waited", ""),
        ("no anomaly, no conflict", "conflict in"),
        ("write skew", "write skew in none of"),
        ("no broken rule", ""),
    ],
)
def test_expectations_are_met_or_told(text, reported):
    tally, _ = walked(OPPOSITE)
    failed = unmet(parse_expectation(text), tally)
    assert failed[0].startswith(reported) if reported else not failed, failed


def test_an_unknown_expectation_names_the_nearest():
    with pytest.raises(InputError, match="Did you mean 'deadlock'"):
        parse_expectation("no deadlok")


def test_letters_go_on_beyond_z():
    assert [letter_of(n) for n in (0, 25, 26, 52)] == ["A", "Z", "AA", "BA"]


def relation(server: str, level: str, **transactions: list[str]) -> Dependence:
    case = scenario(**transactions)
    keys = {
        "berth": TableKeys(
            primary=("id",), unique=(("name",),), kinds={"id": "integer", "name": "folded 9"}
        ),
        "box": TableKeys(primary=("id",), references=("vessel",), kinds={"id": "integer"}),
        "vessel": TableKeys(primary=("id",), kinds={"id": "integer"}),
        "log": TableKeys(primary=("id",), triggers=True),
    }
    return Dependence(case, rules_of(server), keys, level)


A, B = "update berth set state = 1 where id = {}", "select * from berth where id = {}"


@pytest.mark.parametrize(
    ("server", "level", "one", "other", "depend"),
    [
        ("postgresql", "read committed", A.format(3), A.format(7), False),
        ("postgresql", "read committed", A.format(3), A.format("3.0"), True),
        ("postgresql", "read committed", A.format(3), "update berth set state = 1", True),
        ("postgresql", "read committed", A.format(3), "update berth set id = 4 where id = 7", True),
        ("postgresql", "read committed", A.format(3), B.format(3), False),  # the read meets the end, not the statement
        ("mariadb", "read uncommitted", A.format(3), B.format(3), True),
        ("mariadb", "serializable", A.format(3), B.format(3), True),
        ("mariadb", "serializable", A.format(3), B.format(7), False),
        ("postgresql", "serializable", A.format(3), B.format(3), True),
        ("postgresql", "read committed", A.format(3), "update berth set state = 1 where name = 'Halcyon'", True),
        ("postgresql", "read committed", "insert into berth (id, name) values (1, 'a')", "insert into berth (id, name) values (2, 'b')", False),
        ("postgresql", "read committed", "insert into berth (id, name) values (1, 'a')", "insert into berth (id, name) values (2, 'A')", True),
        ("postgresql", "read committed", "insert into berth (id) values (1)", "insert into berth (id, name) values (2, 'A')", True),
        ("mariadb", "repeatable read", "insert into vessel (id) values (1)", "select * from vessel where id = 9 for update", True),
        ("mariadb", "read committed", "insert into vessel (id) values (1)", "select * from vessel where id = 9 for update", False),
        ("postgresql", "read committed", "insert into box (id, vessel) values (1, 2)", "update vessel set name = 'x' where id = 2", True),
        ("postgresql", "read committed", "delete from vessel where id = 9", "update box set weight = 1 where id = 1", True),
        ("postgresql", "read committed", "insert into log (id) values (1)", A.format(3), True),
        ("postgresql", "read committed", "select stow(3)", A.format(3), True),
        ("postgresql", "read committed", "this is no statement", A.format(3), True),
        ("postgresql", "read committed", "alter table vessel add x int", "select * from vessel", True),
        ("postgresql", "read committed", "select * from berth where id = 3 for share", "select * from berth where id = 3 for share", False),
    ],
)  # fmt: skip
def test_statements_depend_on_each_other_where_they_touch_the_same(
    server, level, one, other, depend
):
    found = relation(server, level, north=[one], south=[other])
    assert found.depend(("north", 0), ("south", 0)) is depend
    assert found.depend(("south", 0), ("north", 0)) is depend


FIRST = "select moved from berth where id = 1 for update"
CHANGE = "update berth set moved = 2 where id = 1"
LISTED = "select moved from berth where id in (1, 2) for update"


@pytest.mark.parametrize(
    ("server", "first", "rows", "change", "other", "depend"),
    [
        ("postgresql", FIRST, 1, CHANGE, "update berth set moved = 3 where id = 1", False),
        ("mariadb", FIRST, 1, CHANGE, "delete from berth where id = 1", False),
        ("postgresql", CHANGE, 1, CHANGE, "select moved from berth where id = 1 for share", False),
        ("postgresql", LISTED, 2, CHANGE, LISTED, False),
        ("postgresql", LISTED, 1, CHANGE, LISTED, True),  # one of the rows was not there: which is not known
        ("mariadb", LISTED, 2, CHANGE, LISTED, True),  # by the scan of a small table, say
        ("mysql", FIRST, 0, CHANGE, CHANGE, True),
        ("mysql", FIRST.replace("moved", "count(*)"), 1, CHANGE, CHANGE, True),
        ("postgresql", FIRST.replace("update", "share"), 1, CHANGE, CHANGE, True),
        ("postgresql", FIRST.replace("1", "2"), 1, CHANGE, CHANGE, True),
        ("postgresql", FIRST, 1, CHANGE, "insert into berth (id, moved) values (1, 1)", True),
        ("postgresql", FIRST, 1, CHANGE, "update berth set moved = 3", True),
        ("postgresql", FIRST, 1, CHANGE.replace("moved", "id"), CHANGE, True),
        ("mariadb", FIRST.replace("berth", "crane"), 1, CHANGE.replace("berth", "crane"), CHANGE.replace("berth", "crane"), False),
        ("mariadb", FIRST.replace("berth", "crane"), 1, CHANGE.replace("berth", "crane"), "update crane set moved = 3 where moved = 1", True),
        ("postgresql", LISTED, 2, CHANGE.replace("= 1", "in (1, 2)"), LISTED, False),
        ("postgresql", FIRST, 1, CHANGE.replace("= 1", "in (1, 2)"), LISTED, True),
    ],
)  # fmt: skip
def test_who_wants_a_row_that_is_locked_waits_before_and_after_it_is_changed(
    server, first, rows, change, other, depend
):
    tables = {
        "berth": TableKeys(
            primary=("id",), kinds={"id": "integer"}, indexes={"berth_pkey": ("id",)}
        ),
        "crane": TableKeys(
            primary=("id",), kinds={"id": "integer"}, indexes={"by_moved": ("moved",)}
        ),
    }
    relation = Dependence(
        scenario(early=[first, change], late=[other]), rules_of(server), tables, "read committed"
    )
    locked = Locked(relation)
    locked.done(("early", 0), rows)
    held = frozenset([("early", 1)] if locked.covers(("early", 1), NOTHING) else ())
    assert relation.depend(("early", 1), ("late", 0), held=held) is depend
    locked.undone("early")
    assert not locked.covers(("early", 1), NOTHING)


def test_a_snapshot_depends_on_the_end_of_every_writer_of_what_is_ever_read():
    reads = ["select * from vessel where id = 1", B.format(3)]
    strict = relation("postgresql", "repeatable read", north=reads, south=[A.format(3)])
    loose = relation("postgresql", "read committed", north=reads, south=[A.format(3)])
    assert strict.depend(("north", 0), ("south", None))
    assert not loose.depend(("north", 0), ("south", None))
    assert loose.depend(("north", 1), ("south", None))


def test_how_far_it_got_is_said_with_what_that_allows(tmp_path):
    with stage(CYCLE) as on:
        made = plan(on.scenario, on.dependence, ExploreOptions(limit=40))
    from catenum.core.space.exploration import Exploration, Reach

    reported = Exploration(
        scenario="cycle", about=None, target=ScriptedEngine().info, levels={}, statements={}, ends={},
        reach=Reach(orders=made.orders, classes=made.classes, complete=False, sampled=True),
        tally=Tally(schedules=30, ruled_out=10), ran_ms=1.0,
    )  # fmt: skip
    assert how_far(reported) == (
        "30 of at most 126 classes run, drawn by chance (10 more came to one of these, because of waiting); "
        "the rest was not run"
    )
