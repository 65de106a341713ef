"""All ways in which parameters coincide: what ``sweep`` says beside every assignment walked by hand,
scenarios of captured values as code, and proposals that hold for all values.
"""

from __future__ import annotations

import os

import pytest

import catenum
from catenum import samples
from catenum.core.errors import InputError
from catenum.core.scenario.reader import read_scenario
from catenum.lab.explore.meaning import Serial
from catenum.lab.explore.walker import ExploreOptions
from catenum.lab.sweep.sweep import Sweeper
from enumerating.coincide import coinciding, walked
from enumerating.sessions import bench_on, kept_sockets
from tables import Described

SEEDS = {"postgresql": range(1, 41), "mariadb": range(1, 31), "mysql": range(1, 31)}
QUICK = {"postgresql": 2, "mariadb": 1, "mysql": 1}


@pytest.mark.parametrize(
    ("server", "seed"),
    [
        pytest.param(server, seed, marks=[] if number < QUICK[server] else pytest.mark.soak)
        for server, seeds in SEEDS.items()
        for number, seed in enumerate(seeds)
    ],
)
def test_sweep_says_what_walking_every_assignment_shows(request, server, seed, tmp_path):
    request.getfixturevalue({"postgresql": "kept"}.get(server, f"kept_{server}"))
    made = coinciding(server, seed)
    path = tmp_path / "coinciding.yaml"
    path.write_text(made.scenario())
    found = catenum.sweep(path, target=f"local:{server}")
    assert not found.faults
    together = [
        case for case in found.cases if {m.name for m in case.members} == {"north", "south"}
    ]
    said = {key for case in together for key in case.keys}
    said |= {"clean serial"} if any(not case.ran for case in together) else set()
    bench = bench_on(server, kept_sockets(server), 3, f"coinciding_{os.getpid()}")
    try:
        outcomes, raced = walked(made, bench)
    finally:
        bench.close()
    assert raced or not found.proven or said == outcomes, path.read_text()


#: What values can do to one another beside being equal: a scenario in which the values at hand do
#: not, and what must be found all the same.
PLANTED = {
    "one row found by two of its columns": (
        """
scenario: two-keys
data: |
  create table crane (id int primary key, code varchar(10) not null unique, n int not null);
  create table berth (id int primary key, n int not null);
  insert into crane values (1, 'B', 0), (2, 'A', 0); insert into berth values (3, 0), (4, 0);
transactions:
  north:
    parameters: {code: {value: A, from: crane.code}, berth: {value: 3, from: berth.id}}
    statements:
      - update crane set n = n + 1 where code = :code
      - update berth set n = n + 1 where id = :berth
  south:
    parameters: {crane: {value: 1, from: crane.id}, berth: {value: 3, from: berth.id}}
    statements:
      - update berth set n = n + 1 where id = :berth
      - update crane set n = n + 1 where id = :crane
""",
        "deadlock",
        "crane of south is that of the code of north",
    ),
    "a key that is not there": (
        """
scenario: not-there
data: create table box (id int primary key, n int not null); insert into box values (1, 0);
transactions:
  north:
    parameters: {box: {value: 1, from: box.id}}
    statements:
      - {sql: select n from box where id = :box, keep: {known: rows}}
      - {sql: "insert into box values (:box, 1)", when: known = 0}
""",
        "error",
        "north-2.box and north.box not there",
    ),
    "a parameter that is called as a word of SQL": (
        """
scenario: from-and-to
data: |
  create table slot (id int primary key, n int not null); insert into slot values (3, 9), (7, 9), (9, 9);
transactions:
  north:
    parameters: {from: {value: 3, from: slot.id}, to: {value: 7, from: slot.id}}
    statements:
      - "update slot set n = n - 1 where id = :from"
      - "update slot set n = n + 1 where id = :to"
""",
        "deadlock",
        "north.from = north-2.to",
    ),
}


@pytest.mark.parametrize("title", PLANTED)
def test_what_the_values_at_hand_do_not_show_is_found(title, tmp_path, kept):
    text, outcome, words = PLANTED[title]
    path = tmp_path / "planted.yaml"
    path.write_text(text)
    found = catenum.sweep(path)
    assert not found
    assert any(case.outcome == outcome and words in case.words for case in found.bad), [
        (case.outcome, case.words) for case in found.bad
    ]


def swept_without_server(text: str) -> Sweeper:
    """Of tables known by their text; whoever explores fails."""
    scenario = read_scenario(text.encode(), "swept").scenario
    return Sweeper(
        explores=None,
        engine=Described("postgresql", scenario),
        scenario=scenario,
        options=ExploreOptions(),
    )


def test_what_has_no_parameter_is_refused_before_anything_runs():
    with pytest.raises(InputError, match="no parameter of this scenario can be swept"):
        swept_without_server(samples.text("berth-swap")).run()


def test_of_equal_values_those_are_taken_that_were_run():
    """What a remedy makes equal is tried on values of which the serial orders are known."""
    sweeper = swept_without_server(samples.text("line-by-line"))
    remedy = sweeper.scenario.remedies["in slot order"]
    (_, before), (_, plain) = sweeper.plans()[0], sweeper.plans(remedy)[0]
    for case in before.to_run:
        sweeper.keep_serial(case.values, Serial({}))
    opposite = repr(before.to_run[-1].values)
    (_, known), (_, tried) = sweeper.plans(remedy)[0], sweeper.plans(remedy, [opposite])[0]
    shapes = [[(one.equal, one.meets) for one in plan.cases] for plan in (plain, known, tried)]
    assert shapes[0] == shapes[1] == shapes[2]
    assert all(sweeper.serial_of(case.values) is not None for case in known.to_run)
    assert opposite in {repr(case.values) for case in tried.to_run} - {
        repr(case.values) for case in known.to_run
    }


def test_what_a_sorted_loop_comes_to_is_known_of_the_scenario_as_it_is():
    """By the statements that meet, which are those of a case as it is; of another change, none."""
    sweeper = swept_without_server(samples.text("line-by-line"))
    sort = sweeper.scenario.remedies["in slot order"]
    (_, before), (_, after) = sweeper.plans()[0], sweeper.plans(sort)[0]
    forms = {case.form: case for case in before.to_run}
    assert len(forms) == len(before.to_run)
    for case in after.to_run:
        listed = [tuple(values["slots"]) for values in forms[case.form].values.values()]
        ordered = {name: tuple(sorted(values["slots"])) for name, values in case.values.items()}
        assert [len(one) for one in listed] == [len(one) for one in ordered.values()]
        # no two lists of it go through two slots in opposite order
        one, other = listed
        places = [(one.index(slot), other.index(slot)) for slot in set(one) & set(other)]
        assert sorted(places) == sorted(places, key=lambda pair: (pair[1], pair[0]))
    retried = sort.model_copy(update={"timeout": 100})
    assert {case.form for case in sweeper.plans(retried)[0][1].cases} == {None}
