"""The phenomena that isolation levels are told apart by, and what shows each.

Names are those of Berenson, Bernstein, Gray, Melton, O'Neil and O'Neil, "A Critique of ANSI SQL
Isolation Levels" (1995), Adya, "Weak Consistency" (1999), and Fekete, O'Neil and O'Neil, "A
Read-Only Transaction Anomaly Under Snapshot Isolation" (2004). Each probe is a scenario in
``samples/probes``; what it is called there stands here.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, get_args

from catenum.core.record.recording import AnomalyName
from catenum.core.servers.rules import STANDARD_LEVELS
from catenum.core.space.run import Wrong

ProbeName = Literal[
    "dirty-write",
    "dirty-read",
    "non-repeatable-read",
    "phantom",
    "lost-update",
    "lost-update-computed",
    "read-skew",
    "write-skew",
    "write-skew-predicate",
    "read-only-anomaly",
    "circular-flow",
]
PROBE_NAMES: tuple[ProbeName, ...] = get_args(ProbeName)


@dataclass(frozen=True, slots=True, kw_only=True)
class Probe:
    """One phenomenon.

    ``anomaly``: what an exploration calls it; None: any rows that no serial order leaves.
    ``not_from``: the least strict level at which it must not happen; None where that is above all.
    ``named_by_standard``: ISO/IEC 9075-2 itself says so (4.41, table 8); otherwise table 4 of
    Berenson et al. says it of levels that are kept by locks. ``reader``: a transaction that only
    reads, which is also tried as one that says so.
    """

    name: ProbeName
    anomaly: AnomalyName | None
    not_from: str
    named_by_standard: bool = False
    reader: str | None = None

    def shown_by(self, anomaly: str | None, wrong: Wrong | None) -> bool:
        """Whether a schedule whose data is wrong in this way shows the phenomenon."""
        return wrong == "rows" if self.anomaly is None else anomaly == self.anomaly

    def may_happen(self, level: str) -> bool:
        """Whether the standard, as read in ``not_from``, lets it happen at ``level``."""
        return STANDARD_LEVELS.index(level) < STANDARD_LEVELS.index(self.not_from)


_NONE, _COMMITTED, _REPEATABLE, _SERIALIZABLE = STANDARD_LEVELS
PROBES: tuple[Probe, ...] = (
    Probe(name="dirty-write", anomaly=None, not_from=_NONE),
    Probe(name="dirty-read", anomaly="dirty read", not_from=_COMMITTED, named_by_standard=True),
    Probe(
        name="non-repeatable-read",
        anomaly="non-repeatable read",
        not_from=_REPEATABLE,
        named_by_standard=True,
    ),
    Probe(name="phantom", anomaly="phantom", not_from=_SERIALIZABLE, named_by_standard=True),
    Probe(name="lost-update", anomaly="lost update", not_from=_REPEATABLE),
    Probe(name="lost-update-computed", anomaly="lost update", not_from=_REPEATABLE),
    Probe(name="read-skew", anomaly="read skew", not_from=_REPEATABLE, reader="clerk"),
    Probe(name="write-skew", anomaly="write skew", not_from=_REPEATABLE),
    # what a predicate finds is locked at serializable only, as against a phantom
    Probe(name="write-skew-predicate", anomaly="write skew", not_from=_SERIALIZABLE),
    Probe(
        name="read-only-anomaly", anomaly="read-only anomaly", not_from=_REPEATABLE, reader="clerk"
    ),
    Probe(name="circular-flow", anomaly="circular information flow", not_from=_COMMITTED),
)


def probe_of(name: str) -> Probe:
    """Raises KeyError where there is none of that name."""
    found = next((probe for probe in PROBES if probe.name == name), None)
    if found is None:
        raise KeyError(name)
    return found
