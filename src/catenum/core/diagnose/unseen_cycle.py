"""Cycle that no part of the server sees: rows on one side, named locks or table definitions on the
other.

Evidence: a cycle that the server did not end, with waits in InnoDB's modes and in those of the
metadata locks. Each of the two checks for cycles of its own kind only (MariaDB documentation,
"Metadata Locking"; mdl.cc and lock0lock.cc).
"""

from __future__ import annotations

from catenum.core.diagnose.evidence import ref
from catenum.core.record.recording import DeadlockMember, Finding, Recording
from catenum.core.text import listed


def _waits(members: list[DeadlockMember]) -> str:
    return listed([f"{m.transaction} waited for {m.resource.text}" for m in members])


def find(recording: Recording) -> list[Finding]:
    """One finding for each such cycle."""
    found = []
    for deadlock in recording.deadlocks:
        metadata = [member for member in deadlock.members if member.wanted.family == "metadata"]
        rows = [member for member in deadlock.members if member.wanted.family != "metadata"]
        if deadlock.verdict_ms is not None or not metadata or not rows:
            continue
        in_rows, in_metadata = _waits(rows), _waits(metadata)
        found.append(
            Finding(
                id="unseen-cycle",
                title="Cycle that the server cannot see",
                transactions=tuple(member.transaction for member in deadlock.members),
                statements=tuple(
                    r for m in deadlock.members for r in ref(m.transaction, m.statement)
                ),
                evidence=(
                    f"{in_rows}, in InnoDB",
                    (
                        f"{in_metadata}, in the metadata locks; neither knows of the other, so the"
                        " server chose no victim"
                    ),
                ),
                advice=(
                    (
                        "On a running server such a cycle stands until a lock timeout expires"
                        " (innodb_lock_wait_timeout, lock_wait_timeout, or the one given to"
                        " get_lock): keep them short."
                    ),
                    (
                        "Take the named lock before the first row and let it go after the last, in"
                        " every transaction."
                    ),
                ),
            )
        )
    return found
