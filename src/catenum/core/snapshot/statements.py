"""The statements of open transactions, as one look after the other showed them."""

from __future__ import annotations

from catenum.core.snapshot.sample import Sample, SessionInfo

#: Statements of one transaction that are remembered; the first and the last ones stay.
MOST_STATEMENTS = 30
#: Transactions whose statements are remembered at a time.
MOST_TRANSACTIONS = 20_000

Key = tuple[str, str | None]


class StatementsSeen:
    """Remembers the statement of every transaction in sight, and forgets those that are over."""

    def __init__(self) -> None:
        self._seen: dict[Key, list[str]] = {}
        self._before_ms: dict[Key, float] = {}

    def take(self, sample: Sample) -> None:
        """Note what a sample shows."""
        current = {}
        for session in sample.sessions:
            if session.transaction_ms is None or not session.statement:
                continue
            known = self._seen.get(session.key, [])
            before = self._before_ms.get(session.key)
            if before is not None and session.transaction_ms < before:
                known = []  # another transaction by now
            if session.earlier:
                known = _joined(known, session)  # not only those that a look met
            if not known or known[-1] != session.statement:
                known = [*known, session.statement]
            if len(known) > MOST_STATEMENTS:
                known = [*known[:5], *known[-(MOST_STATEMENTS - 5) :]]
            current[session.key] = known
            if len(current) >= MOST_TRANSACTIONS:
                break
        self._seen = current
        self._before_ms = {
            s.key: s.transaction_ms for s in sample.sessions if s.transaction_ms is not None
        }

    def statements_of(self, session: SessionInfo) -> tuple[str, ...]:
        """The statements seen so far in the session's transaction."""
        return tuple(self._seen.get(session.key, ()))


def _joined(known: list[str], session: SessionInfo) -> list[str]:
    """What the server keeps, behind what was seen where the server no longer has the first
    statements.
    """
    kept = list(session.earlier)
    if not session.earlier_cut:
        return kept
    return [*(known[: known.index(kept[0])] if kept[0] in known else known), *kept]
