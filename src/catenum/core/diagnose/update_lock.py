"""Update lock: several read the same row at a level that keeps their locks, then each wants to
write it.

Evidence: in the cycle, each member holds a shared lock on the one row that all want, taken by a
plain read. The server has a mode for readers who mean to write, which only one can have.
"""

from __future__ import annotations

from catenum.core.diagnose.evidence import read_by_default, ref, wait_of
from catenum.core.record.recording import Deadlock, Finding, Recording
from catenum.core.servers import rules_of
from catenum.core.text import listed, named


def find(recording: Recording) -> list[Finding]:
    """One finding for each such deadlock."""
    return [
        found
        for deadlock in recording.deadlocks
        if (found := _finding_for(recording, deadlock)) is not None
    ]


def _finding_for(recording: Recording, deadlock: Deadlock) -> Finding | None:
    known = [
        wait
        for member in deadlock.members
        if (wait := wait_of(recording, deadlock, member)) is not None
    ]
    if len(known) < 2 or len(known) != len(deadlock.members):
        return None
    if len({wait.resource.identity for wait in known}) != 1 or any(w.queued for w in known):
        return None
    if not all(read_by_default(recording, wait.holder, wait.holder_statement) for wait in known):
        return None
    rules = rules_of(recording.target.server)
    resource, names = known[0].resource.text, [wait.waiter for wait in known]
    evidence = tuple(
        f"{wait.holder} held {wait.held or 'a shared lock'} on {resource} by reading it"
        f" ({named(wait.holder, wait.holder_statement)}), and {wait.waiter} wanted {wait.wanted}"
        f" ({named(wait.waiter, wait.statement)})"
        for wait in known
    )
    clause = rules.advice.row_locks[-1]
    mode = f" ({rules.locks.update_lock})" if rules.locks.update_lock else ""
    return Finding(
        id="update-lock",
        title="Read, then written, by several",
        transactions=tuple(names),
        statements=tuple(
            one
            for wait in known
            for one in (*ref(wait.holder, wait.holder_statement), *ref(wait.waiter, wait.statement))
        ),
        evidence=evidence,
        advice=(
            f"Let {listed(names)} read with {clause}: an update lock{mode} lets readers by, and"
            " only one can have it. The second one then waits at its first statement, holding"
            " nothing.",
            "To try it: a remedy with rewrite for the first statement of each.",
        ),
    )
