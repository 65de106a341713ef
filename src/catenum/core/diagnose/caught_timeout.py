"""A wait that ended without the lock, by an error that a routine caught: a timeout of which its
client received nothing.

Evidence: the holder had no statement between the wait's beginning and its end, so it still held the
lock.
"""

from __future__ import annotations

from catenum.core.diagnose.caught_deadlock import LET_IT_OUT, who_catches
from catenum.core.diagnose.evidence import ref
from catenum.core.record.outcome import is_caught
from catenum.core.record.recording import Finding, Recording, Wait
from catenum.core.text import duration, named


def find(recording: Recording) -> list[Finding]:
    """One finding for all such waits."""
    waits = list(filter(is_caught, recording.waits))
    if not waits:
        return []
    return [
        Finding(
            id="caught-timeout",
            title="Timeout that a routine caught",
            transactions=tuple(dict.fromkeys(wait.waiter for wait in waits)),
            statements=tuple(r for wait in waits for r in ref(wait.waiter, wait.statement)),
            evidence=(*map(_evidence, waits), *who_catches(recording)),
            advice=(
                "Let the error reach the client: what the statement was to do is not done, and the"
                " transaction commits without it.",
                LET_IT_OUT,
            ),
        )
    ]


def _evidence(wait: Wait) -> str:
    return (
        f"{named(wait.waiter, wait.statement)} waited {duration(wait.length_ms)} for {wait.holder}"
        f" over {wait.resource.text} and continued, while {wait.holder} still held it"
    )
