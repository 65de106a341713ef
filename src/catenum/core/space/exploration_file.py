"""Explorations as JSON, ``"format": "catenum-exploration/3"``: lists of objects that a person or a
program can read.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass, field, fields
from functools import cache
from typing import Any, Literal

from pydantic import TypeAdapter, ValidationError

from catenum.core.errors import InputError, Place
from catenum.core.record.recording import DataVerdict, Kind, TargetInfo
from catenum.core.space.claims import Claim, claims
from catenum.core.space.exploration import Exploration, Reach, letter_of
from catenum.core.space.run import Wrong
from catenum.core.space.tally import DeadlockEntry, OutcomeEntry, Tally, WaitPairEntry

FORMAT = "catenum-exploration/3"


@dataclass(kw_only=True)
class OutcomeRow:
    """One distinct outcome. ``label``: the letter by which texts and pictures call it; A is the
    worst.
    """

    label: str
    kind: Kind
    data: DataVerdict
    anomaly: str | None
    holds: dict[str, bool | None]
    status: dict[str, str]
    failed_by: dict[str, tuple[str, ...]]
    count: int
    shortest: tuple[str, ...]
    transactions: tuple[str, ...] = ()
    evidence: tuple[str, ...] = ()
    went_on: tuple[str, ...] = ()
    chosen: int = 0
    wrong: Wrong | None = None
    hidden: bool = False


@dataclass(kw_only=True)
class CycleMember:
    """One transaction of a deadlock cycle; ``statement`` counts from 1, None: its end."""

    transaction: str
    statement: int | None


@dataclass(kw_only=True)
class CycleRow:
    """One distinct deadlock cycle. ``unended``: in how many schedules the server did not end it."""

    members: list[CycleMember]
    resources: tuple[str, ...]
    victims: dict[str, int]
    count: int
    shortest: tuple[str, ...]
    unended: int = 0
    named: bool = True


@dataclass(kw_only=True)
class ScheduleRow:
    """One schedule that was run, and the label of its outcome."""

    moves: tuple[str, ...]
    outcome: str


@dataclass(kw_only=True)
class Counts:
    """How much was run, and the sums. ``schedules_listed_every``: of the runs, one in so many is
    listed.
    """

    run: int
    broken_off: int
    ruled_out: int
    diverged: int
    given_up: int
    ended_well: int
    waits: int
    locks: int | None
    tries: int
    attempts: dict[str, int]
    longest_chain: int
    longest_schedule: tuple[str, ...] | None
    schedules_listed_every: int
    swaps: int = 0
    special: dict[str, bool] = field(default_factory=dict)
    repeated: int = 0
    races: int = 0
    race: tuple[str, ...] | None = None
    overtaken: int = 0
    contests: int = 0
    contest: tuple[str, ...] | None = None
    contestants: tuple[str, str] | None = None
    broken_serially: dict[str, tuple[str, ...]] = field(default_factory=dict)
    deadlocks: int = 0
    uncounted: int = 0
    may_hide: bool = False


@dataclass(kw_only=True)
class ExplorationFile:
    """The whole file."""

    format: Literal["catenum-exploration/3"] = "catenum-exploration/3"
    scenario: str
    about: str | None
    target: TargetInfo
    levels: dict[str, str]
    statements: dict[str, tuple[str, ...]]
    ends: dict[str, str]
    reach: Reach
    counts: Counts
    claims: list[Claim]
    outcomes: list[OutcomeRow]
    cycles: list[CycleRow]
    wait_pairs: list[WaitPairEntry]
    schedules: list[ScheduleRow]
    ran_ms: float
    ignored: dict[str, str] = field(default_factory=dict)
    notes: tuple[str, ...] = ()


#: What an exploration and its file have under the same names, and counts that the file calls
#: otherwise than a tally.
_SHARED = (
    "scenario",
    "about",
    "target",
    "levels",
    "statements",
    "ends",
    "reach",
    "ran_ms",
    "ignored",
    "notes",
)
_IN_TALLY = {
    "run": "schedules",
    "longest_chain": "chain",
    "longest_schedule": "longest",
    "schedules_listed_every": "every",
}


def file_of(exploration: Exploration) -> ExplorationFile:
    """The exploration as it is written."""
    tally = exploration.tally
    labels = {id(entry): letter_of(place) for place, entry in enumerate(tally.ordered)}
    by_key = {key: labels[id(entry)] for key, entry in tally.outcomes.items()}
    return ExplorationFile(
        **{name: getattr(exploration, name) for name in _SHARED},
        counts=Counts(
            **{
                one.name: getattr(tally, _IN_TALLY.get(one.name, one.name))
                for one in fields(Counts)
            }
        ),
        claims=claims(exploration),
        outcomes=[_outcome(entry, labels[id(entry)]) for entry in tally.ordered],
        cycles=[_cycle(entry) for entry in tally.most_met_cycles()],
        wait_pairs=sorted(
            tally.wait_pairs.values(),
            key=lambda m: (-m.count, m.waiter, m.statement or 0, m.holder),
        ),
        schedules=[ScheduleRow(moves=path, outcome=by_key[key]) for path, key in sorted(tally.map)],
    )


def _outcome(entry: OutcomeEntry, label: str) -> OutcomeRow:
    return OutcomeRow(**{**vars(entry), "label": label, "shortest": entry.shortest or ()})


def _cycle(entry: DeadlockEntry) -> CycleRow:
    members = [
        CycleMember(transaction=name, statement=statement) for name, statement in entry.members
    ]
    return CycleRow(**{**vars(entry), "members": members, "shortest": entry.shortest or ()})


def exploration_of(file: ExplorationFile) -> Exploration:
    """What was written, to be worked with again."""
    tally = Tally(
        **{
            _IN_TALLY.get(one.name, one.name): getattr(file.counts, one.name)
            for one in fields(Counts)
        },
        outcomes={row.label: _outcome_entry(row) for row in file.outcomes},
        cycles={str(place): _cycle_entry(row) for place, row in enumerate(file.cycles)},
        wait_pairs={str(place): row for place, row in enumerate(file.wait_pairs)},
        map=[(row.moves, row.outcome) for row in file.schedules],
    )
    return Exploration(**{name: getattr(file, name) for name in _SHARED}, tally=tally)


def _outcome_entry(row: OutcomeRow) -> OutcomeEntry:
    return OutcomeEntry(**{name: value for name, value in vars(row).items() if name != "label"})


def _cycle_entry(row: CycleRow) -> DeadlockEntry:
    members = tuple((member.transaction, member.statement) for member in row.members)
    return DeadlockEntry(**{**vars(row), "members": members})


@cache
def _adapter() -> TypeAdapter[ExplorationFile]:
    return TypeAdapter(ExplorationFile)


@cache
def tally_adapter() -> TypeAdapter[Tally]:
    """Reads and writes tallies, for files to go on from."""
    return TypeAdapter(Tally)


def to_json(exploration: Exploration) -> str:
    """The exploration as JSON text."""
    return _adapter().dump_json(file_of(exploration), indent=2).decode()


def to_plain(exploration: Exploration) -> dict[str, Any]:
    """The exploration as plain lists and mappings."""
    return _adapter().dump_python(file_of(exploration), mode="json")  # type: ignore[no-any-return]


def from_json(data: bytes, file: str) -> Exploration:
    """Reads an exploration back. Raises InputError where it is not one, or not whole."""
    try:
        plain = json.loads(data)
    except (ValueError, RecursionError) as error:
        raise InputError(f"not an exploration: {error}", place=Place(file)) from error
    found = plain.get("format") if isinstance(plain, dict) else None
    if found != FORMAT:
        raise InputError(
            f"not an exploration of the format {FORMAT} (found: {found or 'no format'})",
            place=Place(file),
        )
    try:
        return _checked(exploration_of(_adapter().validate_python(plain)), file)
    except ValidationError as error:
        first = error.errors()[0]
        path = ".".join(str(part) for part in first["loc"])
        raise InputError(
            f"a damaged exploration: {path}: {first['msg']}", place=Place(file)
        ) from error
    except (KeyError, TypeError, AttributeError) as error:
        raise InputError(f"a damaged exploration: {error}", place=Place(file)) from error


def _checked(exploration: Exploration, file: str) -> Exploration:
    """The same. Raises InputError where a part fits its type, but not the rest."""
    wrong = next(_unfitting(exploration), None)
    if wrong is not None:
        raise InputError(f"a damaged exploration: {wrong}", place=Place(file))
    return exploration


def _unfitting(exploration: Exploration) -> Iterator[str]:
    tally = exploration.tally
    for number, (moves, outcome) in enumerate(tally.map):
        strange = [name for name in moves if name not in exploration.statements]
        if strange:
            yield f"schedules.{number}: no transaction is named {strange[0]!r}"
        if outcome not in tally.outcomes:
            yield f"schedules.{number}: there is no outcome {outcome!r}"
    for number, entry in enumerate(tally.ordered):
        nothing = [name for name, kinds in entry.failed_by.items() if not kinds]
        if nothing:
            yield f"outcomes.{number}: {nothing[0]!r} failed by nothing"
    for number, cycle in enumerate(tally.most_met_cycles()):
        if len(cycle.resources) < len(cycle.members):
            yield f"cycles.{number}: fewer resources than members"
