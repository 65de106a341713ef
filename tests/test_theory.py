"""What theory says of data, on a model of a database small enough to be read: rows in memory, three
ways to see them.

The model is a stand-in; what servers really let happen is tested on them (``test_explore.py``).
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

from catenum.core.record.recording import TableKeys, TableRows
from catenum.core.scenario.model import Scenario
from catenum.core.servers import rules_of
from catenum.core.space.anomaly import Anomaly, name_anomaly
from catenum.core.space.dependence import Dependence
from catenum.core.space.oracle import Observation, Seen, serial_orders

#: A read of a quay; a write of a number to one; as many boxes more on one as are there already,
#: plus a number.
Op = tuple[str, int, int]
Program = dict[str, list[Op]]
SQL = {
    "read": "select boxes from quay where id = {}",
    "write": "update quay set boxes = {1} where id = {0}",
    "add": "update quay set boxes = boxes + {1} where id = {0}",
    "count": "select sum(boxes) from quay",
    "raise": "update quay set boxes = boxes + {1}",
}
QUAYS = {1: 0, 2: 0}


def read(quay: int) -> Op:
    return ("read", quay, 0)


def write(quay: int, boxes: int) -> Op:
    return ("write", quay, boxes)


class Model:
    """Rows that transactions see as committed now, as committed when they began, or as anybody left
    them.
    """

    def __init__(self, program: Program, level: str, rollback: Sequence[str] = ()) -> None:
        self.program, self.level, self.rollback = program, level, rollback
        self.committed = dict(QUAYS)
        self.own: dict[str, dict[int, int]] = {name: {} for name in program}
        self.snapshots: dict[str, dict[int, int]] = {}
        self.next = dict.fromkeys(program, 0)
        self.seen: dict[str, list[Seen]] = {name: [] for name in program}
        self.places: dict[tuple[str, int], int] = {}
        self.commits: dict[str, int] = {}
        self.clock = 0

    def value(self, name: str, quay: int) -> int:
        if quay in self.own[name]:
            return self.own[name][quay]
        if self.level == "snapshot":
            return self.snapshots[name][quay]
        dirty = (
            [own[quay] for own in self.own.values() if quay in own]
            if self.level == "uncommitted"
            else []
        )
        return dirty[0] if dirty else self.committed[quay]

    def step(self, name: str) -> None:
        self.clock += 1
        number = self.next[name]
        self.next[name] += 1
        if number == len(self.program[name]):
            if name not in self.rollback:
                self.committed.update(self.own[name])
                self.commits[name] = self.clock
            self.own[name] = {}
            return
        self.snapshots.setdefault(name, dict(self.committed))
        self.places[name, number] = self.clock
        what, quay, boxes = self.program[name][number]
        touched = QUAYS if what in ("count", "raise") else [quay]
        if what in ("read", "count"):
            found = str(sum(self.value(name, quay) for quay in touched))
            self.seen[name].append(Seen(1, found, found))
            return
        before = {quay: 0 if what == "write" else self.value(name, quay) for quay in touched}
        self.own[name].update({quay: found + boxes for quay, found in before.items()})
        self.seen[name].append(Seen(len(before)))

    def run(self, order: Sequence[str]) -> Observation:
        for name in order:
            self.step(name)
        rows = tuple((str(quay), str(boxes)) for quay, boxes in self.committed.items())
        return Observation(
            committed=tuple(self.commits),
            seen={name: tuple(found) for name, found in self.seen.items()},
            end=repr(rows),
            rows={"quay": TableRows(columns=("id", "boxes"), rows=rows, total=len(rows))},
            places=self.places,
            commits=self.commits,
        )


def serially(program: Program, names: Sequence[str]) -> Observation:
    part = {name: program[name] for name in names}
    return Model(part, "committed").run(
        [name for name in names for _ in range(len(part[name]) + 1)]
    )


def is_serial(program: Program, run: Observation) -> bool:
    return any(serially(program, order).key == run.key for order in serial_orders(run.committed))


def relation(program: Program, level: str) -> Dependence:
    texts = {
        name: [SQL[what].format(*rest) for what, *rest in reported]
        for name, reported in program.items()
    }
    plain = {
        "scenario": "model",
        "data": "",
        "transactions": {n: {"statements": t} for n, t in texts.items()},
    }
    called = "repeatable read" if level == "snapshot" else f"read {level}"
    server = "mariadb" if level == "uncommitted" else "postgresql"
    return Dependence(
        Scenario.model_validate(plain),
        rules_of(server),
        {"quay": TableKeys(primary=("id",), kinds={"id": "integer"})},
        called,
    )


def named(program: Program, run: Observation, level: str, undone: Sequence[str] = ()) -> Anomaly:
    return name_anomaly(
        run, lambda names: serially(program, names), relation(program, level), undone
    )


TEXTBOOK = {
    # by Berenson et al. (1995), table 4: level, the two programs, the order of moves
    "lost update": ("committed", [read(1), write(1, 1)], [read(1), write(1, 2)], "e l e e l l"),
    "write skew": (
        "snapshot",
        [read(1), read(2), write(1, 1)],
        [read(1), read(2), write(2, 1)],
        "e l e l e l e l",
    ),
    "read skew": ("committed", [read(1), read(2)], [write(1, 5), write(2, 5)], "e l l l e e"),
    "non-repeatable read": ("committed", [read(1), read(1)], [write(1, 5)], "e l l e e"),
    "dirty read": ("uncommitted", [read(1), write(2, 1)], [write(1, 5)], "l e e e l"),
    # Adya (1999), G1c
    "circular information flow": (
        "uncommitted",
        [write(1, 5), read(2)],
        [write(2, 5), read(1)],
        "e l e l e l",
    ),
}


@pytest.mark.parametrize("name", TEXTBOOK)
def test_the_anomalies_of_the_textbook_have_their_names(name):
    level, early, late, order = TEXTBOOK[name]
    program = {"early": early, "late": late}
    rollback = ["late"] if name == "dirty read" else []
    run = Model(program, level, rollback).run(
        [{"e": "early", "l": "late"}[c] for c in order.split()]
    )
    assert not is_serial(program, run)
    found = named(program, run, level, undone=rollback)
    assert found.name == name
    assert set(found.transactions) == {"early", "late"}
    assert all(text.startswith(("early", "late", "quay")) for text in found.evidence)


ops = st.one_of(
    st.tuples(st.just("read"), st.sampled_from([1, 2]), st.just(0)),
    st.tuples(st.sampled_from(["write", "add"]), st.sampled_from([1, 2]), st.integers(1, 3)),
    st.tuples(st.just("count"), st.just(0), st.just(0)),
    st.tuples(st.just("raise"), st.just(0), st.integers(1, 3)),
)
programs = st.lists(st.lists(ops, min_size=1, max_size=3), min_size=2, max_size=3).map(
    lambda reported: dict(zip(("early", "late", "night"), reported, strict=False))
)


def orders(program: Program) -> st.SearchStrategy[list[str]]:
    return st.permutations(
        [name for name, reported in program.items() for _ in range(len(reported) + 1)]
    )


def written(reported: list[Op]) -> set[int]:
    return {
        row
        for what, quay, _ in reported
        if what not in ("read", "count")
        for row in ([quay] if quay else QUAYS)
    }


@given(programs.flatmap(lambda program: st.tuples(st.just(program), orders(program))))
def test_what_snapshots_rule_out_is_never_named_under_snapshots(drawn):
    """Berenson et al. (1995), remark 8: without two writers of one row, snapshot isolation leaves
    only write skew.

    With a third that only reads, the anomaly of Fekete, O'Neil and O'Neil (2004) comes too.
    """
    program, order = drawn
    wrote = [written(reported) for reported in program.values()]
    assume(sum(map(len, wrote)) == len(set().union(*wrote)))
    run = Model(program, "snapshot").run(order)
    if not is_serial(program, run):
        assert named(program, run, "snapshot").name in (
            "write skew",
            "read-only anomaly",
            "other anomaly",
        )


#: Each result is one of some serial order, and no one order gives all of them.
EACH_OF_SOME = (
    {"early": [read(1), ("count", 0, 0), ("raise", 0, 3)], "late": [("raise", 0, 3)], "night": [("raise", 0, 3), ("count", 0, 0), ("count", 0, 0)]},
    ["late", "early", "night", "early", "night", "late", "night", "early", "night", "early"],
)  # fmt: skip


@example(EACH_OF_SOME, "uncommitted")
@given(
    programs.flatmap(lambda program: st.tuples(st.just(program), orders(program))),
    st.sampled_from(["committed", "uncommitted", "snapshot"]),
)
def test_whatever_equals_no_serial_order_gets_a_name_with_evidence(drawn, level):
    program, order = drawn
    run = Model(program, level).run(order)
    if is_serial(program, run):
        return
    found = named(program, run, level)
    assert set(found.transactions) <= set(program)
    assert found.evidence
    if level != "uncommitted":
        assert found.name != "dirty read"


@example(
    (
        {"early": [read(1), read(2)], "late": [write(2, 1)]},
        ["late", "late", "early", "early", "early"],
    ),
    "snapshot",
)  # what is said here of the moment at which a snapshot is taken is seldom drawn
@settings(max_examples=300)
@given(
    programs.flatmap(lambda program: st.tuples(st.just(program), orders(program))),
    st.sampled_from(["committed", "uncommitted", "snapshot"]),
)
def test_moves_that_are_said_to_commute_can_be_exchanged_and_nothing_is_seen_of_it(drawn, level):
    """The diamond of independence (Mazurkiewicz 1977): what exploring leaves out must have come out
    the same.
    """
    program, order = drawn
    found = relation(program, level)
    run = Model(program, level).run(order)
    made = dict.fromkeys(program, 0)
    steps = []
    for name in order:
        steps.append((name, made[name] if made[name] < len(program[name]) else None))
        made[name] += 1
    for place, (one, other) in enumerate(pairwise(steps)):
        if not found.depend(one, other):
            exchanged = [*order[:place], other[0], one[0], *order[place + 2 :]]
            assert Model(program, level).run(exchanged).key == run.key, (one, other)
