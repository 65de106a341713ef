"""The matrix of phenomena and levels of one server, and what can be read off it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, get_args

from catenum.core.display import Displayed
from catenum.core.errors import TargetError
from catenum.core.levels.probes import PROBES, Probe, ProbeName, probe_of
from catenum.core.record.recording import Kind
from catenum.core.space.exploration import Exploration
from catenum.core.space.run import Run
from catenum.core.space.tally import OutcomeEntry, Path, shorter

#: The phenomenon happens; or what prevents it: a wait, a refusal (serialization failure), a
#: snapshot, or a deadlock that ends one of the two.
CellResult = Literal["happens", "waits", "refused", "snapshot", "deadlock"]
#: What of a probe's transaction that only reads is changed.
Change = Literal["read only", "deferrable"]
CHANGES: tuple[Change, ...] = get_args(Change)


@dataclass(frozen=True, slots=True, kw_only=True)
class Cell:
    """One probe at one level. Counts are of the schedules that were run: all that can differ, or
    the textbook's alone where that shows the phenomenon. ``evidence``: a shortest schedule with the
    result (for a snapshot: the order in which the phenomenon would have been seen).

    ``who``, ``statement``: of that schedule, who was refused or the victim, and at which statement
    (from 1; None: at its end). ``also``: other anomalies that were seen, and in how many schedules.
    """

    probe: ProbeName
    level: str
    result: CellResult
    proven: bool
    evidence: Path
    schedules: int
    happened: int
    refused: int
    deadlocks: int
    waited: int
    also: dict[str, int]
    who: str | None = None
    statement: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Outline:
    """What became of one order: its outcome, who waited, and who was given up by the server."""

    kind: Kind
    waited: tuple[str, ...]
    given_up: tuple[str, ...]

    @classmethod
    def of(cls, run: Run) -> Outline:
        """Of a run."""
        return cls(
            kind=run.kind,
            waited=tuple(dict.fromkeys(pair.waiter for pair in run.wait_pairs)),
            given_up=tuple(run.failed_by),
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class ChangedReader:
    """The textbook's order of a probe, as it is and with a change of the transaction that only
    reads.
    """

    probe: ProbeName
    level: str
    change: Change
    reader: str
    order: Path
    before: Outline
    after: Outline


@dataclass(frozen=True, slots=True, kw_only=True)
class Matrix(Displayed):
    """All cells of one server, level by level; ``changed``: orders in which the reader was
    changed.
    """

    server: str
    version: str
    default_level: str
    levels: tuple[str, ...]
    cells: tuple[Cell, ...]
    changed: tuple[ChangedReader, ...] = ()

    def cell(self, probe: str, level: str) -> Cell | None:
        """None where it was not explored."""
        return next((c for c in self.cells if (c.probe, c.level) == (probe, level)), None)

    @property
    def probes(self) -> tuple[Probe, ...]:
        """Those that were explored."""
        known = {cell.probe for cell in self.cells}
        return tuple(probe for probe in PROBES if probe.name in known)

    def column(self, level: str) -> tuple[CellResult | None, ...]:
        """The results at one level, in the order of the probes."""
        cells = (self.cell(probe.name, level) for probe in self.probes)
        return tuple(cell.result if cell is not None else None for cell in cells)

    @property
    def same_levels(self) -> list[tuple[str, ...]]:
        """Levels that give the same result in every probe, in groups of two and more."""
        found: dict[tuple[CellResult | None, ...], list[str]] = {}
        for level in self.levels:
            found.setdefault(self.column(level), []).append(level)
        return [tuple(levels) for levels in found.values() if len(levels) > 1]

    @property
    def stricter(self) -> list[Cell]:
        """What may happen by the standard, and was prevented in every schedule."""
        return [
            cell
            for cell in self.cells
            if cell.result != "happens" and probe_of(cell.probe).may_happen(cell.level)
        ]

    @property
    def weaker(self) -> list[Cell]:
        """What must not happen, and does."""
        return [
            cell
            for cell in self.cells
            if cell.result == "happens" and not probe_of(cell.probe).may_happen(cell.level)
        ]


def shown(probe: Probe, level: str, textbook: Sequence[str]) -> Cell:
    """The cell of a probe whose order of the textbook shows the phenomenon: no other need be
    run.
    """
    return Cell(
        probe=probe.name,
        level=level,
        result="happens",
        proven=True,
        evidence=tuple(textbook),
        schedules=1,
        happened=1,
        refused=0,
        deadlocks=0,
        waited=0,
        also={},
    )


def cell_of(probe: Probe, level: str, explored: Exploration, textbook: Sequence[str]) -> Cell:
    """What the schedules of a probe amount to. ``textbook``: the order that shows the phenomenon
    where nothing prevents it. Raises TargetError where a schedule ends otherwise than it may.
    """
    tally = explored.tally
    outcomes = list(tally.outcomes.values())
    strange = {one.kind for one in outcomes} - {"clean", "waited", "refused", "deadlock"}
    if strange:
        raise TargetError(
            f"the probe {probe.name} cannot be run here at {level}: some schedule ends in"
            f" {' and '.join(sorted(strange))}",
            advice=f"'catenum levels --probe {probe.name}' prints it; 'explore' shows why.",
        )
    happened = [one for one in outcomes if probe.shown_by(one.anomaly, one.wrong)]
    also: dict[str, int] = {}
    for one in outcomes:
        if one.anomaly is not None and one not in happened:
            also[one.anomaly] = also.get(one.anomaly, 0) + one.count
    met: dict[CellResult, list[OutcomeEntry]] = {
        "happens": happened,
        "deadlock": [one for one in outcomes if one.met("deadlock")],
        "refused": [one for one in outcomes if one.met("refused")],
        "waits": [one for one in outcomes if one.kind == "waited"],
    }
    none: tuple[CellResult, list[OutcomeEntry]] = ("snapshot", [])
    result, entries = next((one for one in met.items() if one[1]), none)
    evidence: Path | None = None
    for entry in entries:
        evidence = shorter(evidence, entry.shortest)
    return Cell(
        probe=probe.name,
        level=level,
        result=result,
        proven=result == "happens" or explored.reach.complete,
        evidence=evidence or tuple(textbook),
        schedules=tally.schedules,
        happened=sum(one.count for one in happened),
        refused=tally.met("refused"),
        deadlocks=tally.met("deadlock"),
        waited=sum(one.count for one in met["waits"]),
        also=also,
    )
