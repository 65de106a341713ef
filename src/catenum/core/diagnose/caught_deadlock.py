"""A deadlock that a routine caught: its client received no error, and goes on in a transaction
undone by half.

Evidence: the server's own counter, beside the deadlock errors that clients received in this run.
"""

from __future__ import annotations

from catenum.core.record.recording import Finding, Recording
from catenum.core.text import counted, listed

LET_IT_OUT = "In a handler, end with resignal (MariaDB, MySQL) or raise (PostgreSQL)."


def who_catches(recording: Recording) -> list[str]:
    """Which code catches what, a line each."""
    return [f"{name} catches {listed(list(found))}" for name, found in recording.handlers.items()]


def find(recording: Recording) -> list[Finding]:
    """One finding, where the server counted more deadlocks than clients received."""
    if not recording.hidden_deadlocks:
        return []
    return [
        Finding(
            id="caught-deadlock",
            title="Deadlock that a routine caught",
            transactions=tuple(record.name for record in recording.transactions),
            statements=(),
            evidence=(
                (
                    f"the server counted {counted(recording.hidden_deadlocks, 'deadlock')} in this"
                    " run that no client received"
                ),
                *who_catches(recording),
            ),
            advice=(
                (
                    "Let the error reach the client, which must begin the whole transaction again:"
                    " what its earlier statements did may be undone, while the later ones are"
                    " committed."
                ),
                LET_IT_OUT,
            ),
        )
    ]
