"""Timeout: nobody waits longer than so long. It ends waits by failing, so it eases and never cures wrong data.

Those in the middle of a chain first: they hold up others while they wait.
"""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.propose.candidate import Candidate, Evidence, Ladder, remedy
from catenum.core.space.tally import MeetingEntry

LIMIT_MS = 200


def derive(evidence: Evidence) -> Iterator[Ladder]:
    """Those in the middle alone; then everybody who waits."""
    meetings = evidence.explored.tally.meetings.values()
    waiters = [n for n in evidence.transactions if any(m.waiter == n and _limited(evidence, m) for m in meetings)]
    middle = [n for n in waiters if any(m.holder == n for m in meetings)]
    if not waiters or evidence.wrong:
        return
    for names in dict.fromkeys((tuple(middle), tuple(waiters))):
        who = "all that wait" if len(names) == len(waiters) else ", ".join(names)
        if names:
            yield (
                Candidate(
                    kind="timeout",
                    name=f"give up after {LIMIT_MS} ms: {who}",
                    because=evidence.waits_told(list(evidence.transactions)),
                    remedy=remedy(timeout=dict.fromkeys(names, f"{LIMIT_MS}ms")),
                    means=(
                        "a transaction that gives up has done nothing; the application must say so, or begin again",
                    ),
                    eases_only=True,
                ),
            )


def _limited(evidence: Evidence, meeting: MeetingEntry) -> bool:
    """Whether a limit on waits ends this one."""
    if evidence.rules.limits_named_locks or meeting.statement is None:
        return True
    return not evidence.footprint(meeting.waiter, meeting.statement).named_locks
