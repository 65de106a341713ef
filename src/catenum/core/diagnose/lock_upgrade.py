"""Lock upgrade: several read-lock the same row, then each wants to write it.

Evidence: in the cycle, a member waits for a resource that it holds itself in a weaker mode, taken
by an earlier statement.
"""

from __future__ import annotations

from catenum.core.diagnose.evidence import read_by_default, ref, wait_of
from catenum.core.record.recording import Deadlock, Finding, Recording
from catenum.core.text import listed, named


def find(recording: Recording) -> list[Finding]:
    """One finding for each deadlock over one resource that every member holds already."""
    return [
        found
        for deadlock in recording.deadlocks
        if (found := _finding_for(recording, deadlock)) is not None
    ]


def _finding_for(recording: Recording, deadlock: Deadlock) -> Finding | None:
    waits = [wait_of(recording, deadlock, member) for member in deadlock.members]
    known = [wait for wait in waits if wait is not None]
    if len(known) != len(waits) or len({wait.resource.identity for wait in known}) != 1:
        return None
    resource = known[0].resource.text
    # a gap is no row to upgrade a lock on, and who only queues holds nothing yet
    if known[0].resource.kind != "row" or any(wait.queued for wait in known):
        return None
    evidence, statements = [], []
    for wait in known:
        own = next((w for w in known if w.holder == wait.waiter), None)
        if own is None or own.held is None or own.held == wait.wanted:
            return None
        first = own.holder_statement
        since = f" since {wait.waiter} {own.holder_numbers}" if own.holder_numbers else ""
        evidence.append(
            f"{wait.waiter} held {own.held} on {resource}{since}, and wanted {wait.wanted}"
            f" ({named(wait.waiter, wait.statement)}), which {wait.holder}'s {wait.held or 'lock'}"
            " does not let by"
        )
        statements.extend([*ref(wait.waiter, first), *ref(wait.waiter, wait.statement)])
    if all(read_by_default(recording, wait.holder, wait.holder_statement) for wait in known):
        return None  # no lock was asked for: ``update_lock`` tells of it
    names = [wait.waiter for wait in known]
    return Finding(
        id="lock-upgrade",
        title="Lock upgrade",
        transactions=tuple(names),
        statements=tuple(statements),
        evidence=tuple(evidence),
        advice=(
            (
                f"Let {listed(names)} take the lock that the write needs at once (for update, or"
                " for no key update, instead of for share). The second one then waits at its first"
                " statement, holding nothing."
            ),
            "To try it: a remedy with rewrite for the first statement of each.",
        ),
    )
