"""Reader's level: who only reads, and keeps locks on what it has read, at a level at which it does
not.

Where plain readers lock, a stricter level than read committed has them keep their locks to the end:
whoever wants to change a row waits for that. Whether the reader may see rows change between its
statements is then what exploring shows.
"""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy
from catenum.core.servers.table_access import AccessMode

OFF = "read committed"


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """One candidate for all readers that hold others up."""
    locks = evidence.rules.locks
    if OFF not in locks.levels:
        return
    names = [name for name in evidence.transactions if _holds_up(evidence, name)]
    if not names:
        return
    who = ", ".join(names)
    yield (
        Candidate(
            kind="reader's level",
            name=f"{who} at {OFF}",
            because=evidence.waits_reported(list(evidence.transactions)),
            remedy=remedy(isolation=dict.fromkeys(names, OFF)),
            means=(
                f"{who} lets go of what it has read before it ends, so the same row read twice may"
                " differ",
            ),
        ),
    )


def _holds_up(evidence: Evidence, name: str) -> bool:
    """Whether others wait for locks that its plain reads took by its level."""
    locks, level = evidence.rules.locks, evidence.level(name)
    if locks.rank(level) <= locks.rank(OFF):
        return False
    if locks.read_mode(level, within_write=False) is not AccessMode.SHARE:
        return False
    only_reads = all(
        access.verb == "read"
        for number in range(1, len(evidence.transactions[name].statements) + 1)
        for access in evidence.footprint(name, number).accesses
    )
    pairs = evidence.explored.tally.wait_pairs.values()
    return only_reads and any(pair.holder == name for pair in pairs)
