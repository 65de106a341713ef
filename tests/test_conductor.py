"""The conductor, driven through many orders of events on the scripted stand-in: no server is at
work here.
"""

from __future__ import annotations

from typing import get_args

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from catenum.core.record.outcome import AS_MEANT, all_ended_well
from catenum.core.record.recording import Recording
from catenum.core.record.waits import WaitGraph
from catenum.core.report.recording_story import tell
from catenum.core.scenario.model import Ends, Scenario
from catenum.engines.scripted import ScriptedEngine
from catenum.lab.run.event_log import NOT_SEEN, UNSEEN
from catenum.lab.run.play import PlayOptions, play


def scenario(
    order: str | None = None, victim: str | None = None, **transactions: object
) -> Scenario:
    plain: dict = {"scenario": "scripted", "data": "", "transactions": {}}
    for name, reported in transactions.items():
        plain["transactions"][name] = (
            reported if isinstance(reported, dict) else {"statements": reported}
        )
    return Scenario.model_validate(
        plain | ({"order": order} if order else {}) | ({"victim": victim} if victim else {})
    )


def run(case: Scenario, **options: object) -> Recording:
    return play(ScriptedEngine(), case, PlayOptions(**options))


def moves(recording: Recording) -> str:
    return " ".join(
        f"{m.transaction}{m.statement or ':' + str(m.ends)}" for m in recording.schedule
    )


def test_a_move_for_a_transaction_that_waits_is_held_back_and_made_as_soon_as_it_can_go_on():
    case = scenario("a b b a a b", a=["lock x", "lock y"], b=["lock x", "lock z"])
    recording = run(case)
    assert moves(recording) == "a1 b1 a2 a:commit b2 b:commit"
    assert recording.outcome.kind == "waited"
    assert (recording.waits[0].waiter, recording.waits[0].holder, recording.waits[0].ended) == (
        "b",
        "a",
        "went on",
    )


def test_a_deadlock_has_one_victim_whose_rollback_is_a_move_and_the_survivor_goes_on():
    recording = run(scenario("a b a b", a=["lock x", "lock y"], b=["lock y", "lock x"]))
    assert recording.outcome.kind == "deadlock"
    assert moves(recording) == "a1 b1 a2 b2 b:rollback a:commit"
    assert recording.deadlocks[0].victim == "b"
    assert recording.target.standin


@pytest.mark.parametrize("ends", get_args(Ends))
def test_a_transaction_that_ends_as_the_scenario_says_has_ended_well(ends):
    retry = {"statements": ["lock x", "lock y"], "retry": {"times": 1}}
    other = {"statements": ["lock y", "lock x"], "retry": {"times": 1}}
    recording = run(scenario("c a b a b", a=retry, b=other, c={"statements": ["z"], "ends": ends}))
    assert recording.transaction("c").status == AS_MEANT[ends]
    assert recording.outcome.kind == "deadlock"
    assert all_ended_well(recording)  # the victim began again


def test_the_chosen_victim_falls():
    case = scenario("a b a b", victim="a", a=["lock x", "lock y"], b=["lock y", "lock x"])
    assert run(case).deadlocks[0].victim == "a"


def test_a_cycle_that_the_server_does_not_end_is_ended_and_said_so():
    case = scenario("a b a b", a=["lock x", "lock y"], b=["lock y", "lock x"])
    recording = play(ScriptedEngine(gives_up_on_deadlock=False), case, PlayOptions(limit_ms=10))
    (cycle,) = recording.deadlocks
    assert (recording.outcome.kind, cycle.victim, cycle.agreed, cycle.verdict_ms) == (
        "deadlock",
        "b",
        False,
        None,
    )
    assert "ended by Catenum" in cycle.rule


def test_work_is_not_waiting():
    recording = run(scenario("a b", a=["work 30"], b=["work 2"]))
    assert (recording.outcome.kind, recording.waits) == ("clean", ())


def test_a_transaction_left_open_keeps_others_stuck():
    recording = run(scenario("a b", a={"statements": ["lock x"], "ends": "open"}, b=["lock x"]))
    assert recording.outcome.kind == "stuck"
    assert {t.name: t.status for t in recording.transactions} == {"a": "left open", "b": "cut off"}
    assert recording.waits[0].until_ms is None


@pytest.mark.parametrize(
    ("kind", "outcome"), [("rejected", "error"), ("refused", "refused"), ("timeout", "timeout")]
)
def test_a_failed_statement_ends_its_transaction_with_the_kind_of_its_error(kind, outcome):
    recording = run(scenario("a b", a=["lock x", f"fail {kind}", "lock y"], b=["lock x"]))
    assert recording.outcome.kind == outcome
    assert {t.name: t.status for t in recording.transactions} == {"a": "failed", "b": "committed"}


def test_retry_is_bounded():
    case = scenario(a={"statements": ["fail refused"], "retry": {"times": 2}})
    recording = run(case)
    assert (recording.transactions[0].attempts, recording.transactions[0].status) == (3, "failed")


def test_retry_meets_only_the_kinds_it_names():
    case = scenario(a={"statements": ["fail timeout"], "retry": {"times": 2}})
    assert run(case).transactions[0].attempts == 1


locks = st.sampled_from(["lock x", "lock y", "lock z", "share x", "share y", "work 1"])
transactions = st.dictionaries(
    st.sampled_from(["a", "b", "c", "d"]),
    st.lists(locks, min_size=1, max_size=3),
    min_size=2,
    max_size=4,
)


@settings(max_examples=60)
@given(transactions, st.data())
def test_any_scenario_in_any_order_comes_to_an_end_that_adds_up(reported, data):
    """Every transaction ends as it should or is a victim;

    waits are closed; a cycle is there exactly where a victim is.
    """
    turns = [name for name, statements in reported.items() for _ in range(len(statements) + 1)]
    order = data.draw(st.permutations(turns))
    recording = run(scenario(" ".join(order), **reported), locks="full")
    victims = {event.transaction for event in recording.events if event.error}
    assert {t.name for t in recording.transactions if t.status != "committed"} == victims
    assert {cycle.victim for cycle in recording.deadlocks} == victims
    assert all(cycle.agreed for cycle in recording.deadlocks)
    assert all(wait.until_ms is not None for wait in recording.waits)
    for name, statements in reported.items():
        done = [e.statement for e in recording.events if e.transaction == name and e.what == "done"]
        if name not in victims:
            assert done == [*range(1, len(statements) + 1), None]
    for cycle in recording.deadlocks:
        graph = WaitGraph(e for e in recording.worst_graph()[1].edges)
        assert graph.edges
        names = [member.transaction for member in cycle.members]
        assert [member.waits_for for member in cycle.members] == [*names[1:], names[0]]


@settings(max_examples=30)
@given(transactions, st.data())
def test_one_schedule_has_one_recording(reported, data):
    from catenum.core.record.recording_file import without_times_and_ids

    turns = [name for name, statements in reported.items() for _ in range(len(statements) + 1)]
    case = scenario(" ".join(data.draw(st.permutations(turns))), **reported)
    assert without_times_and_ids(run(case)) == without_times_and_ids(run(case))


def test_a_deadlock_of_which_nothing_was_seen_says_so():
    """Its report may be gone, and the others gone on, before anybody can ask."""
    recording = run(scenario("a b", a=["lock x"], b=["lock y", "fail deadlock"]))
    (cycle,) = recording.deadlocks
    (member,) = cycle.members
    assert (member.transaction, member.waits_for, cycle.victim) == ("b", UNSEEN, "b")
    assert member.statement == 2  # the one that failed, though nobody saw it wait
    reported = " ".join(line.text for section in tell(recording) for line in section.lines)
    assert "Its cycle was not seen" in reported
    assert "the rest of the cycle was not seen" in reported


def test_a_cycle_of_which_only_the_one_behind_the_victim_was_seen_is_closed_through_it():
    recording = run(scenario("b a b", a=["lock x", "lock y"], b=["lock x", "fail deadlock"]))
    (cycle,) = recording.deadlocks
    assert [(m.transaction, m.waits_for, m.resource.text) for m in cycle.members] == [
        ("b", "a", NOT_SEEN.text),
        ("a", "b", "x"),
    ]
