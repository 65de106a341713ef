"""Scenarios as code: loops written out, literals as parameters, and remedies that are carried over
to other values.
"""

from __future__ import annotations

import pytest
import yaml

from catenum import samples
from catenum.core.scenario.loops import Loop, code_of, with_values
from catenum.core.scenario.model import Remedy
from catenum.core.scenario.reader import read_scenario
from catenum.core.scenario.remedies import apply_remedy
from catenum.core.scenario.writing import as_text, definition_of
from catenum.core.servers import rules_of
from catenum.core.sweep.carried_over import OnlyHere, carried_over
from catenum.core.sweep.domains import domains_of
from catenum.core.sweep.parametrize import parametrized
from test_fixes import FIXES

value_names = rules_of("postgresql").sql.value_names

HEAD = """
scenario: x
data: |
  create table slot (id int primary key, boxes int not null);
  create table box (id int primary key, slot int not null references slot (id));
  insert into slot values (3, 90), (7, 90);
transactions:
"""


def scenario(text: str):
    return read_scenario((HEAD + text).encode(), "x.yaml").scenario.for_server("postgresql")


LOOP = """
  north:
    parameters: {slots: [3, 7], n: 5}
    statements:
      - select 1
      - each: slots
        as: slot
        do:
          - {sql: "select boxes from slot where id = :slot", keep: {boxes: boxes}}
          - {sql: "update slot set boxes = boxes - :n where id = :slot", when: boxes > 0}
      - select count(*) from slot where id in (:slots)
"""


def test_a_loop_is_written_out_and_told_as_code():
    north = scenario(LOOP).transactions["north"]
    assert [one.text for one in north.statements] == [
        "select 1",
        "select boxes from slot where id = :slots_1",
        "update slot set boxes = boxes - :n where id = :slots_1",
        "select boxes from slot where id = :slots_2",
        "update slot set boxes = boxes - :n where id = :slots_2",
        "select count(*) from slot where id in (:slots_1, :slots_2)",
    ]
    _, loop, last = code_of(north)
    assert isinstance(loop, Loop)
    assert (loop.lists, loop.called) == (("slots",), ("slot",))
    assert list(loop.told())[1] == "update slot set boxes = boxes - :n where id = :slot"
    assert last.text.endswith("in (:slots)")


@pytest.mark.parametrize("values", [(), (9,), (9, 3, 7)])
def test_the_same_code_with_other_values(values):
    north = with_values(scenario(LOOP).transactions["north"], {"slots": values})
    assert len(north.statements) == 2 + 2 * len(values)
    listed = ", ".join(f":slots_{n}" for n in range(1, len(values) + 1)) or "null"
    assert north.statements[-1].text.endswith(f"in ({listed})")
    assert [north.fixed[f"slots_{n}"].text for n in range(1, len(values) + 1)] == [
        str(value) for value in values
    ]


#: Literals in statements, and what the code is said to be: parameters, statements.
CAPTURED = {
    "a row's key, and a constant of the code": (
        ["update slot set boxes = boxes - 1 where id = 3"],
        ({"slot": 3}, ["update slot set boxes = boxes - 1 where id = :slot"]),
    ),
    "one value in two roles of one kind": (
        ["select boxes from slot where id = 3", "insert into box values (9, 3)"],
        (
            {"slot": 3, "box": 9},
            ["select boxes from slot where id = :slot", "insert into box values (:box, :slot)"],
        ),
    ),
    "statements that come again": (
        [f"update slot set boxes = boxes - 1 where id = {n}" for n in (7, 3)],
        (
            {"slots": [7, 3]},
            [{"each": "slots", "as": "slot",
              "do": ["update slot set boxes = boxes - 1 where id = :slot"]}],
        ),
    ),
    "nothing to choose": (["select count(*) from slot"], ({}, ["select count(*) from slot"])),
    "no value: a limit": (
        ["select id from slot order by id limit 5"],
        ({}, ["select id from slot order by id limit 5"]),
    ),
}  # fmt: skip


@pytest.mark.parametrize("case", CAPTURED)
def test_literals_become_the_parameters_of_the_code(case):
    statements, (parameters, code) = CAPTURED[case]
    text = f"  north: {{statements: {yaml.safe_dump(statements, default_flow_style=True, width=9999)}}}"
    made = parametrized(scenario(text), rules_of("postgresql"))
    written = made.transactions.get("north", {"parameters": {}, "statements": statements})
    found = {
        name: given.get("value", given.get("values")) if isinstance(given, dict) else given
        for name, given in written["parameters"].items()
    }
    assert (found, written["statements"]) == (parameters, code)


@pytest.mark.parametrize("name", ["berth-swap", "batch-order", "call-cancel"])
def test_a_scenario_of_literals_is_written_as_code_and_does_the_same(call, tmp_path, name, kept):
    done = call("lint", "--parameters", name, "-o", "code.yaml")
    assert done.code == 0, done.err
    text = (tmp_path / "code.yaml").read_text()
    assert "parameters:" in text
    was, now = (call("explore", one, "--json").json for one in (name, "code.yaml"))
    outcomes = [{(one["kind"], one["data"]) for one in found["outcomes"]} for found in (was, now)]
    assert outcomes[0] == outcomes[1]


def remedied(change: dict, values: dict[str, tuple[int, ...]]):
    original = scenario(LOOP)
    other = original.model_copy(
        update={
            "transactions": {
                name: with_values(one, values) for name, one in original.transactions.items()
            }
        }
    )
    remedy = Remedy.model_validate(change, strict=False)
    carried = carried_over(remedy, original, other, {"north": "north"})
    if carried is None:
        return None
    changed, _ = apply_remedy(other, carried)
    return [one.text for one in changed.transactions["north"].statements]


SHIPPED = {name: samples.text(name) for name in samples.names()}
FIXED = {name: one["text"] for name, one in FIXES.items()}


@pytest.mark.parametrize("server", ["postgresql", "mysql"])
@pytest.mark.parametrize("name", [*SHIPPED, *FIXED])
def test_the_scenario_that_a_recording_carries_can_be_read_and_is_the_same(name, server):
    whole = read_scenario((SHIPPED | FIXED)[name].encode(), name).scenario
    for remedy in (None, *whole.remedies.values()):
        changed, ddl = apply_remedy(whole, remedy) if remedy is not None else (whole, ())
        text = as_text(definition_of(changed, server, ddl))
        again = read_scenario(text.encode(), "again").scenario.for_server(server)
        before = changed.for_server(server)
        assert _runs(again) == _runs(before)
        if remedy is None:  # what changes single turns is no loop any more
            assert {n: code_of(t) for n, t in again.transactions.items()} == {
                n: code_of(t) for n, t in before.transactions.items()
            }


def _runs(scenario):
    """What is sent, with the values of the parameters that it names."""
    return {
        name: [
            (
                one.model_dump(exclude={"turn"}),
                [transaction.parameters.get(value) for value in value_names(one.text)],
            )
            for one in transaction.statements
        ]
        for name, transaction in scenario.transactions.items()
    }


def test_a_remedy_of_the_code_is_carried_over_to_a_longer_list():
    texts = remedied(
        {"rewrite": {"north": {2: "select boxes from slot where id = :slots_1 for update",
                               4: "select boxes from slot where id = :slots_2 for update"}}},
        {"slots": (9, 3, 7)},
    )  # fmt: skip
    assert [text for text in texts if "for update" in text] == [
        f"select boxes from slot where id = :slots_{n} for update" for n in (1, 2, 3)
    ]
    texts = remedied({"add": {"north": {1: "select 2 where 9 in (:slots)"}}}, {"slots": (9, 3, 7)})
    assert texts[0] == "select 2 where 9 in (:slots_1, :slots_2, :slots_3)"
    assert remedied({"drop": {"north": [2, 4]}}, {"slots": ()}) is None


@pytest.mark.parametrize(
    "change",
    [
        {"rewrite": {"north": {2: "select 1"}}},  # one turn of two
        {"drop": {"north": [4]}},
        {"reorder": {"north": [1, 4, 5, 2, 3, 6]}},  # another order of the turns
        {"reorder": {"north": [2, 1, 3, 4, 5, 6]}},  # a loop taken apart
    ],
)
def test_a_remedy_that_treats_turns_differently_is_one_for_these_values(change):
    with pytest.raises(OnlyHere):
        remedied(change, {"slots": (9, 3, 7)})


def test_domains_join_what_a_foreign_key_joins_and_keep_what_only_is_written():
    found = domains_of(
        scenario("""
  north:
    parameters: {slot: 3, box: 9, n: 4}
    statements:
      - update slot set boxes = boxes - :n where id = :slot
      - insert into box values (:box, :slot)
  south:
    parameters: {where: 7}
    statements: ["select id from box where slot = :where"]
"""),
        rules_of("postgresql"),
    )
    named = {(slot.transaction, slot.name): slot.domain for slot in found.slots}
    assert named == {
        ("north", "slot"): ("slot", "id"),
        ("north", "box"): ("box", "id"),
        ("south", "where"): ("slot", "id"),
    }
    assert list(found.given) == [("north", "n")]
