"""What a sweep found, and its JSON form (``"format": "catenum-sweep/1"``)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from catenum.core.display import Displayed
from catenum.core.record.recording import TargetInfo
from catenum.core.scenario.model import Scenario
from catenum.core.space.tally import OutcomeEntry
from catenum.core.sweep.cases import Assignment, Case, Member

FORMAT = "catenum-sweep/1"
_FAILED = ("timeout", "refused", "deadlock", "stuck", "error")


@dataclass(frozen=True, kw_only=True)
class CaseResult:
    """One distinct case and what its schedules came to.

    ``outcomes``: by kind, how many schedules; ``anomalies``: by name; ``alone``: who fails in it
    fails in a serial order as well, so that nobody hinders another; ``proven``: every schedule that
    can differ was run. ``scenario``: a file of its own. ``ran`` False: nothing meets, so there was
    nothing to run.
    """

    members: tuple[Member, ...]
    case: Case
    words: str
    level: dict[str, str]
    outcomes: dict[str, int] = field(default_factory=dict)
    anomalies: dict[str, int] = field(default_factory=dict)
    broken: tuple[str, ...] = ()
    schedules: int = 0
    proven: bool = True
    alone: bool = False
    unchecked: bool = False
    shortest: tuple[str, ...] | None = None
    scenario: Scenario | None = None
    ran: bool = True
    keys: frozenset[str] = frozenset()

    @property
    def outcome(self) -> str:
        """The worst kind."""
        worst = [kind for kind in reversed(_FAILED) if kind in self.outcomes]
        for kind in ("error", "stuck", "deadlock", "refused", "timeout"):
            if kind in worst:
                return kind
        return "waited" if "waited" in self.outcomes else "clean"

    @property
    def data(self) -> str:
        """``anomaly`` where some schedule's data is that of no serial order."""
        if self.anomalies:
            return "anomaly"
        return "unchecked" if self.unchecked else "serial"

    @property
    def bad(self) -> bool:
        """Whether transactions hinder each other in it: a conflict, or wrong data."""
        failed = any(kind in self.outcomes for kind in _FAILED if kind != "error" or not self.alone)
        return failed or bool(self.anomalies) or bool(self.broken)

    @property
    def fine(self) -> bool:
        """Whether it is known that in no schedule of it anything fails or is wrong."""
        well = self.proven and not (self.bad or self.unchecked)
        return well and self.outcomes.keys() <= {"clean", "waited"}


@dataclass(frozen=True, kw_only=True)
class Fault:
    """A check that found two assignments taken for the same to differ: please report it."""

    words: str
    found: str
    expected: str


@dataclass(kw_only=True)
class Sweep(Displayed):
    """All ways in which the parameters of a scenario's transactions can coincide.

    ``kinds``: the transactions by their code; ``cases``: the distinct cases, the worst first;
    ``assignments``: how many ways were looked at, of which in ``pruned`` nothing meets and
    ``equal`` came to the same as another; ``audited``: how many of those were run all the same, to
    check; ``whole``: nothing was left out.
    """

    scenario: str
    target: TargetInfo
    kinds: dict[str, tuple[str, ...]]
    cases: list[CaseResult]
    assignments: int = 0
    pruned: int = 0
    audited: int = 0
    faults: list[Fault] = field(default_factory=list)
    sampled: bool = False
    stopped: bool = False
    given: dict[tuple[str, str], str] = field(default_factory=dict)
    longest: int = 0
    notes: tuple[str, ...] = ()
    ran_ms: float = 0.0

    @property
    def run(self) -> int:
        """The cases that were run."""
        return sum(case.ran for case in self.cases)

    @property
    def equal(self) -> int:
        """The assignments that came to the same as another."""
        return self.assignments - self.pruned - sum(case.ran for case in self.cases)

    @property
    def bad(self) -> list[CaseResult]:
        """The cases in which transactions hinder each other."""
        return [case for case in self.cases if case.bad]

    @property
    def proven(self) -> bool:
        """Whether it holds for all values, under the assumptions that are documented."""
        return not (self.sampled or self.stopped or self.faults) and all(
            case.proven for case in self.cases
        )

    def ordered(self) -> list[CaseResult]:
        """The bad first, then by how many assignments they stand for."""
        return sorted(self.cases, key=lambda one: (not one.bad, not one.ran, -one.case.equal))

    def __bool__(self) -> bool:
        return self.proven and not self.bad


def outcomes_of(
    entries: Sequence[OutcomeEntry],
) -> tuple[dict[str, int], dict[str, int], tuple[str, ...]]:
    """By kind and by anomaly, how many schedules; and the rules that are false in some."""
    kinds: dict[str, int] = {}
    anomalies: dict[str, int] = {}
    broken: dict[str, None] = {}
    for entry in entries:
        kinds[entry.kind] = kinds.get(entry.kind, 0) + entry.count
        if entry.data == "anomaly":
            name = entry.anomaly or "anomaly"
            anomalies[name] = anomalies.get(name, 0) + entry.count
        broken |= dict.fromkeys(rule for rule, held in entry.holds.items() if held is not True)
    return kinds, anomalies, tuple(broken)


def values_shown(values: Assignment) -> dict[str, dict[str, Any]]:
    """Values as plain ones."""
    return {
        member: {name: list(one) if isinstance(one, tuple) else one for name, one in given.items()}
        for member, given in values.items()
    }


def to_plain(sweep: Sweep) -> dict[str, Any]:
    """As ``core.formats.SweepFile``."""
    target = sweep.target
    return {
        "format": FORMAT,
        "scenario": sweep.scenario,
        "target": {"server": target.server, "version": target.version, "url": target.url},
        "kinds": [
            {"name": name, "transactions": list(members)} for name, members in sweep.kinds.items()
        ],
        "cases": [_case(case) for case in sweep.ordered()],
        "counts": {
            "cases": sweep.assignments,
            "pruned": sweep.pruned,
            "equal": max(0, sweep.equal),
            "run": sweep.run,
            "audited": sweep.audited,
        },
        "proven": sweep.proven,
        "sampled": sweep.sampled,
        "stopped": sweep.stopped,
        "longest_list": sweep.longest,
        "given": [
            {"transaction": name, "parameter": parameter, "why": why}
            for (name, parameter), why in sweep.given.items()
        ],
        "faults": [
            {"words": one.words, "found": one.found, "expected": one.expected}
            for one in sweep.faults
        ],
        "notes": list(sweep.notes),
        "ran_ms": round(sweep.ran_ms, 3),
    }


def _case(case: CaseResult) -> dict[str, Any]:
    return {
        "kinds": [member.kind for member in case.members],
        "transactions": [member.name for member in case.members],
        "words": case.words,
        "coincide": [list(map(str, group)) for group in case.case.coincide],
        "missing": list(map(str, case.case.missing)),
        "values": values_shown(case.case.values),
        "equal": case.case.equal,
        "ran": case.ran,
        "outcome": case.outcome,
        "outcomes": case.outcomes,
        "data": case.data,
        "anomalies": case.anomalies,
        "broken": list(case.broken),
        "alone": case.alone,
        "bad": case.bad,
        "level": case.level,
        "proven": case.proven,
        "schedules": case.schedules,
        "shortest": " ".join(case.shortest) if case.shortest else None,
    }
