"""Lock beyond its transaction: the transaction has ended, and its session still holds what others
wait for.

Evidence: a wait for a named lock that lasted beyond the end of its holder's transaction, or one for
a table that lasted to the end. Such locks belong to the session (PostgreSQL documentation, 13.3.5
"Advisory Locks"; MariaDB documentation, "GET_LOCK" and "LOCK TABLES"); with a pool of connections
nobody may ever end that session.
"""

from __future__ import annotations

from collections.abc import Sequence

from catenum.core.diagnose.evidence import ref
from catenum.core.record.recording import OVER, Event, Finding, Recording, Wait
from catenum.core.servers import rules_of
from catenum.core.text import listed, named


def find(recording: Recording) -> list[Finding]:
    """One finding for each transaction whose session held a named lock, while others waited, after
    it had ended.
    """
    found = []
    for record in recording.transactions:
        end = _end_of(recording.events, record.name) if record.status in OVER else None
        if end is None:
            continue
        theirs = [wait for wait in recording.waits if wait.holder == record.name]
        waits = [wait for wait in theirs if _beyond(wait, end, recording.events)]
        if not waits:
            continue
        waiters = sorted({wait.waiter for wait in waits})
        taken = sorted({wait.holder_statement for wait in waits if wait.holder_statement})
        over = listed(sorted({wait.resource.text for wait in waits}))
        lasting = sorted({wait.waiter for wait in waits if wait.until_ms is None})
        still = (
            ""
            if not lasting
            else f"; {listed(lasting)} to the end"
            if lasting != waiters
            else ", to the end"
        )
        found.append(
            Finding(
                id="outlived-lock",
                title="Lock beyond its transaction",
                transactions=(record.name, *waiters),
                statements=tuple(r for number in taken for r in ref(record.name, number)),
                evidence=(
                    f"{record.name} had ended ({record.status}), and its session still held {over}"
                    + (f", since {named(record.name, taken[0])}" if taken else ""),
                    f"{listed(waiters)} waited for it after that{still}",
                ),
                advice=rules_of(recording.target.server).advice.outlived_lock_advice,
            )
        )
    return found


def _end_of(events: Sequence[Event], name: str) -> Event | None:
    """The last thing that the transaction did."""
    own = [event for event in events if event.transaction == name]
    return own[-1] if own else None


def _beyond(wait: Wait, end: Event, events: Sequence[Event]) -> bool:
    """Whether ``wait`` lasted beyond the move that ended its holder's transaction, which released
    all its locks.
    """
    if wait.until_ms is None:
        return wait.resource.kind in ("advisory", "table")
    over = next(
        (e.move for e in events if e.transaction == wait.waiter and e.at_ms >= wait.until_ms),
        end.move,
    )
    return wait.resource.kind == "advisory" and over > end.move
