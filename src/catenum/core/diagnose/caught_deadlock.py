"""A deadlock that a routine caught: its client received no error, and goes on in a transaction
undone by half.

Evidence: the server's own counter, beside the deadlock errors that clients received in this run.
"""

from __future__ import annotations

from catenum.core.record.recording import Finding, Recording
from catenum.core.text import counted, listed


def find(recording: Recording) -> list[Finding]:
    """One finding, where the server counted more deadlocks than clients received."""
    if not recording.hidden_deadlocks:
        return []
    catching = [
        f"{name} catches {listed(list(found))}" for name, found in recording.handlers.items()
    ]
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
                *catching,
            ),
            advice=(
                (
                    "Let the error reach the client, which must begin the whole transaction again:"
                    " what its earlier statements did may be undone, while the later ones are"
                    " committed."
                ),
                "In a handler, end with resignal (MariaDB, MySQL) or raise (PostgreSQL).",
            ),
        )
    ]
