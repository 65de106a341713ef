"""Gap locks: an insert waits for a lock on the space between two rows.

Evidence: a wait for ``insert intention``. Only servers that lock gaps have it (InnoDB, at
repeatable read and stricter).
"""

from __future__ import annotations

from catenum.core.diagnose.evidence import ref
from catenum.core.record.recording import Finding, Recording
from catenum.core.text import listed, named


def find(recording: Recording) -> list[Finding]:
    """One finding for all inserts that waited for gap locks."""
    waits = [wait for wait in recording.waits if wait.wanted.covers == "insert intention"]
    if not waits:
        return []
    evidence = []
    for wait in waits:
        since = f" since {wait.holder} {wait.holder_numbers}" if wait.holder_numbers else ""
        evidence.append(
            f"{named(wait.waiter, wait.statement)} wanted to insert into {wait.resource.text}; "
            f"{wait.holder} held {wait.held or 'it'} there{since}"
        )
        sql = recording.sql(wait.holder, wait.holder_statement)
        done = [
            e
            for e in recording.events
            if (e.transaction, e.statement, e.what) == (wait.holder, wait.holder_statement, "done")
        ]
        if sql and done and done[0].rows == 0:
            evidence.append(
                f"{named(wait.holder, wait.holder_statement)} found no row, and locked the gap"
                " where it would be"
            )
    names = sorted({wait.waiter for wait in waits} | {wait.holder for wait in waits})
    levels = sorted({r.isolation for r in recording.transactions if r.name in names})
    return [
        Finding(
            id="gap-locks",
            title="Gap locks keep inserts out",
            transactions=tuple(names),
            statements=tuple(r for wait in waits for r in ref(wait.waiter, wait.statement)),
            evidence=(*dict.fromkeys(evidence), f"they ran at {listed(levels)}"),
            advice=(
                (
                    "Gap locks do not conflict with each other, so several can hold the same gap,"
                    " and then each insert waits for the others. Insert without the read before it;"
                    " the primary key reports that the place is taken; or use read committed, where"
                    " a locking read locks no gaps."
                ),
                "To try it: a remedy with isolation: read committed.",
            ),
        )
    ]
