"""Transaction left open: a head blocker that is not doing anything, and does not end.

Evidence: at the end of the run somebody still waits, and the head of the chain has run its
statements and neither committed nor rolled back.
"""

from __future__ import annotations

from catenum.core.diagnose.evidence import ref
from catenum.core.record.recording import Finding, Recording
from catenum.core.record.waits import WaitGraph
from catenum.core.servers import rules_of
from catenum.core.text import listed, named


def find(recording: Recording) -> list[Finding]:
    """One finding for each transaction that is left open while others wait for it."""
    found = []
    _, graph = _at_the_end(recording)
    for head in graph.heads():
        record = recording.transaction(head)
        if record is None or record.status != "left open":
            continue
        direct = sorted({edge.waiter for edge in graph.edges if edge.holder == head})
        everyone = graph.held_up_by(head)
        waits = [wait for wait in recording.waits if wait.holder == head and wait.until_ms is None]
        taken = sorted({wait.holder_statement for wait in waits if wait.holder_statement})
        over = listed(sorted({wait.resource.text for wait in waits}))
        last = len(record.statements)
        found.append(
            Finding(
                id="left-open",
                title="Transaction left open",
                transactions=(head, *sorted(everyone)),
                statements=tuple(r for number in taken for r in ref(head, number)),
                evidence=(
                    _not_ended(recording, head, named(head, last)),
                    f"it still holds {over}"
                    + (f", since {named(head, taken[0])}" if taken else ""),
                    (
                        f"{listed(direct)} wait{'s' if len(direct) == 1 else ''} for it directly; "
                        f"{len(everyone)} in all are blocked, in a chain of {graph.longest_chain()}"
                    ),
                ),
                advice=(
                    (
                        f"Let {head} commit or roll back as soon as its last statement is done, and"
                        " before anything slow (a form, a call to another system)."
                    ),
                    (
                        "A limit on idle transactions ends what a client forgets"
                        f" ({rules_of(recording.target.server).advice.idle_limit}); a timeout on"
                        " the waiters keeps the pile from forming."
                    ),
                    (
                        f"To try it: a remedy with ends: {{{head}: commit}}, or with timeout for"
                        " those who wait."
                    ),
                ),
            )
        )
    return found


def _not_ended(recording: Recording, head: str, last: str) -> str:
    """Of a running server only the moment of the check is known: it may have ended since."""
    if recording.source == "sample":
        return (
            f"at the time of this check {head} had finished its last statement ({last}), and not"
            " its transaction"
        )
    return f"{head} finished its last statement ({last}) and did not end its transaction"


def _at_the_end(recording: Recording) -> tuple[int, WaitGraph]:
    last = len(recording.schedule)
    lasting = [wait for wait in recording.waits if wait.until_ms is None]
    if not lasting:
        return last, WaitGraph()
    return last, recording.graph_at(max(event.move for event in recording.events))
