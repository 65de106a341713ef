"""InnoDB's transactions as both servers list them (``INNODB_TRX``)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

#: The columns of ``Transaction``.
COLUMNS = (
    "trx_mysql_thread_id",
    "trx_id",
    "trx_state",
    "timestampdiff(microsecond, trx_started, now(6)) / 1000",
    "trx_isolation_level",
    "trx_rows_modified",
    "timestampdiff(microsecond, trx_wait_started, now(6)) / 1000",
    "trx_requested_lock_id",
    "trx_started",
)
#: How a transaction is called that no session has: ``XA PREPARE``, and then its client went.
DETACHED = "a prepared transaction, number"


@dataclass(frozen=True, slots=True)
class Transaction:
    """One row. ``name``: its session's number. Ages in ms, counted in whole seconds by the server.
    ``wanted``: a lock's id.
    """

    name: str
    number: str
    state: str
    age_ms: float | None
    isolation: str | None
    changed: int | None
    waited_ms: float | None
    wanted: str | None
    started: str


def by_name(rows: Iterable[Sequence[Any]]) -> dict[str, Transaction]:
    """By the session's number; those without one, as a prepared transaction whose client has gone,
    by a name.
    """
    found = {}
    for session, number, state, age, level, changed, waited, wanted, started in rows:
        name = str(session) if str(session) != "0" else f"{DETACHED} {number}"
        found[name] = Transaction(
            name=name,
            number=str(number),
            state=str(state),
            age_ms=float(age) if age is not None else None,
            isolation=level,
            changed=int(changed) if changed is not None else None,
            waited_ms=float(waited) if waited is not None else None,
            wanted=wanted,
            started=str(started),
        )
    return found
