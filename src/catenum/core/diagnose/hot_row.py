"""Hot row: many transactions want the same row at once.

Evidence: at least three transactions waited over one row.
"""

from __future__ import annotations

from collections import defaultdict

from catenum.core.diagnose.evidence import ref
from catenum.core.record.recording import Finding, Recording, Wait
from catenum.core.text import listed

MANY = 3


def find(recording: Recording) -> list[Finding]:
    """One finding for each hot row."""
    over: dict[object, list[Wait]] = defaultdict(list)
    for wait in recording.waits:
        if wait.resource.kind == "row":
            over[wait.resource.identity].append(wait)
    found = []
    for waits in over.values():
        row = waits[0].resource.text
        waiters = list(dict.fromkeys(wait.waiter for wait in waits))
        if len(waiters) < MANY:
            continue
        found.append(
            Finding(
                id="hot-row",
                title="Hot row",
                transactions=tuple(waiters),
                statements=tuple(r for wait in waits for r in ref(wait.waiter, wait.statement)),
                evidence=(f"{len(waiters)} transactions waited over {row}: {listed(waiters)}",),
                advice=(
                    (
                        f"Touch {row} as late as possible, just before the commit, so that each"
                        " holds it for the shortest time; or spread what it counts over several"
                        " rows."
                    ),
                ),
            )
        )
    return found
