"""Locks against rows: a statement took many more row locks than it returned or changed rows.

Evidence: the lock picture after the statement (``--locks full``), against the number of rows that
the server reported.
"""

from __future__ import annotations

from catenum.core.diagnose.evidence import ref
from catenum.core.record.recording import Finding, Recording
from catenum.core.text import named

FEWEST_LOCKS, TIMES = 10, 2


def find(recording: Recording) -> list[Finding]:
    """One finding for each such statement."""
    found = []
    for event in recording.events:
        picture = next((p for p in recording.pictures if p.move == event.move), None)
        if event.what != "done" or event.statement is None or event.rows is None or picture is None:
            continue
        before = _held(recording, event.transaction, event.move - 1)
        taken = _held(recording, event.transaction, event.move) - before
        if len(taken) < FEWEST_LOCKS or len(taken) < TIMES * max(1, event.rows):
            continue
        indexes = sorted({index or "the rows" for _, index in taken})
        plan = recording.plan(event.transaction, event.statement)
        paths = [lock for step in plan.steps for lock in step.locks] if plan else []
        found.append(
            Finding(
                id="locks-for-rows",
                title="More locks than rows",
                transactions=(event.transaction,),
                statements=ref(event.transaction, event.statement),
                evidence=(
                    (
                        f"{named(event.transaction, event.statement)} took {len(taken):,} locks on"
                        f" records (in {', '.join(indexes)}) for {event.rows:,}"
                        f" row{'' if event.rows == 1 else 's'}"
                    ),
                    *(f"it locks {path}" for path in paths),
                ),
                advice=(
                    (
                        "An index that finds just these rows, or one that covers the read so that"
                        " rows are not visited, takes fewer locks."
                    ),
                ),
            )
        )
    return found


def _held(recording: Recording, name: str, move: int) -> set[tuple[object, str | None]]:
    picture = next((p for p in recording.pictures if p.move == move), None)
    if picture is None:
        return set()
    return {
        (lock.resource.identity, lock.resource.index)
        for lock in picture.locks
        if lock.transaction == name and lock.granted and lock.resource.kind in ("row", "gap")
    }
