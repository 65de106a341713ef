"""Opposite order: each member of a cycle took, first, what the one before it in the cycle later
wanted.

Evidence: the lock that each member held was taken by an earlier statement than the one that waits,
on another row or table.
"""

from __future__ import annotations

from catenum.core.diagnose.evidence import ref, wait_of
from catenum.core.record.recording import Deadlock, Finding, Recording, Wait
from catenum.core.text import listed, named


def find(recording: Recording) -> list[Finding]:
    """One finding for each deadlock in which every member locked one thing and then asked for
    another.
    """
    return [
        found
        for deadlock in recording.deadlocks
        if (found := _finding_for(recording, deadlock)) is not None
    ]


def _finding_for(recording: Recording, deadlock: Deadlock) -> Finding | None:
    waits = {
        member.transaction: wait_of(recording, deadlock, member) for member in deadlock.members
    }
    evidence: list[str] = []
    statements = []
    taken: dict[str, tuple[str, str]] = {}
    for wait in waits.values():
        if wait is None or wait.queued:
            return None
        own = _blocked_by(waits, wait.waiter)
        numbers = (own.holder_candidates or (own.holder_statement or 0,)) if own else (0,)
        if (
            own is None
            or not min(numbers)
            or wait.statement is None
            or max(numbers) >= wait.statement
        ):
            return None
        if own.resource.may_be(wait.resource):
            return None
        taken[wait.waiter] = (own.resource.text, wait.resource.text)
        evidence.append(
            f"{wait.waiter} locked {own.resource.text} first ({wait.waiter} {own.holder_numbers}), "
            f"then wanted {wait.resource.text} ({named(wait.waiter, wait.statement)})"
        )
        statements.extend([*ref(wait.waiter, numbers[0]), *ref(wait.waiter, wait.statement)])
    names = list(taken)
    last = names[-1]
    return Finding(
        id="opposite-order",
        title="Opposite order of access",
        transactions=tuple(names),
        statements=tuple(statements),
        evidence=tuple(evidence),
        advice=(
            f"Let {listed(names)} lock the same things in the same order, such as "
            f"{' before '.join(sorted(taken[last]))}. "
            "Then one waits until the other is done, and no cycle can close.",
            f"To try it: a remedy with reorder for {last}.",
        ),
    )


def _blocked_by(waits: dict[str, Wait | None], holder: str) -> Wait | None:
    return next(
        (wait for wait in waits.values() if wait is not None and wait.holder == holder), None
    )
