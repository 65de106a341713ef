"""Schema changes: one that waits holds up everybody behind it, so it waits for a short time only,
and comes back.
"""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.propose.candidate import Candidate, CandidateSeries, Evidence, remedy

LIMIT_MS, TIMES, PAUSE_MS = 200, 5, 50


def derive(evidence: Evidence) -> Iterator[CandidateSeries]:
    """Without and with coming back."""
    wait_pairs = evidence.explored.tally.wait_pairs.values()
    names = [
        name
        for name, one in evidence.transactions.items()
        if any(
            a.verb == "schema"
            for n in range(1, len(one.statements) + 1)
            for a in evidence.footprint(name, n).accesses
        )
        and any(name in (m.waiter, m.holder) for m in wait_pairs)
    ]
    if not names:
        return
    listed = ", ".join(names)
    retry = {"times": TIMES, "pause": f"{PAUSE_MS}ms", "on": ["timeout"]}
    for again in (False, True):
        parts: dict[str, object] = {"timeout": dict.fromkeys(names, f"{LIMIT_MS}ms")}
        if again:
            parts["retry"] = dict.fromkeys(names, retry)
        yield (
            Candidate(
                kind="schema change",
                name=f"{listed} gives up after {LIMIT_MS} ms{', and comes back' if again else ''}",
                because=evidence.waits_reported(list(evidence.transactions)),
                remedy=remedy(**parts),
                means=(
                    (
                        "the change is tried again later, when nobody is in its way; meanwhile"
                        " nobody waits behind it"
                    ),
                ),
                eases_only=not again,
            ),
        )
