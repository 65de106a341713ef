"""Which statement took the lock that others wait for: the server's word, else the first whose text
can have taken it.

The statement that a session shows last is often a harmless ``select`` that has nothing to do with
it.
"""

from __future__ import annotations

from collections.abc import Sequence

from catenum.core.diagnose.holders import touches
from catenum.core.record.waits import Edge, Resource
from catenum.core.servers import Rules, rules_of
from catenum.core.snapshot.incidents import Incident
from catenum.core.snapshot.sample import Sample, SessionInfo
from catenum.core.sql.statements import Access


def taker(
    session: SessionInfo, texts: Sequence[str], resource: Resource, rules: Rules
) -> str | None:
    """Of the statements of a session's transaction the one that took a lock on something; None
    where none can have.
    """
    if session.took is not None:
        return session.took
    return next(
        (text for text in texts if can_take(text, resource, rules, session.isolation)), None
    )


def can_take(text: str, resource: Resource, rules: Rules, isolation: str) -> bool:
    """Whether a statement's text says that it locks something; a plain read locks no row, unless it
    is serializable.
    """
    if resource.kind == "advisory":
        return any(lock.takes for lock in rules.sql.footprint(text).named_locks)
    table = (resource.table or "").rpartition(".")[2]
    row = resource.kind in ("row", "gap", "transaction")
    return any(
        touches(access, resource)
        for access in rules.sql.footprint(text).on(table)
        if _locks(access) or not row or isolation == "serializable"
    )


def _locks(access: Access) -> bool:
    return access.verb != "read"


def head_statement(incident: Incident) -> tuple[str | None, bool]:
    """The statement by which the head that is to blame took what others wait for, and whether that
    is known; where it is not, the one that it showed last.
    """
    session = incident.head
    texts = incident.statements.get(session.id, ())
    last = next(reversed(texts), session.statement)
    worst = incident.worst
    for edge in worst.edges:
        if edge.holder == session.id:
            found = holder_statement(worst, edge, texts)
            return (found, True) if found is not None else (last, False)
    return last, False


def holder_statement(sample: Sample, edge: Edge, texts: Sequence[str]) -> str | None:
    """The statement of a wait's holder; of one that only stands ahead in the queue, the one that
    waits there.
    """
    session, rules = sample.session(edge.holder), rules_of(sample.target.server)
    if edge.queued:
        return session.statement
    known = texts or tuple(text for text in (*session.earlier, session.statement) if text)
    return taker(session, known, edge.resource, rules)
