"""Calls that always end: sent, waited for with a deadline, and then cancelled; who catches that is
ended.

``libpq`` waits for an answer without letting an interrupt through, so a call that runs what a
scenario brings is sent, and its socket is waited for here.
"""

from __future__ import annotations

import contextlib
import select
from collections.abc import Callable, Sequence

import psycopg
from psycopg import pq
from psycopg.pq.abc import PGconn, PGresult

from catenum.engines.clock import Clock

#: How long one call may take (ms): a script of data, and anything else, of which the server itself
#: ends each statement after a minute.
LOAD_MS, ASK_MS = 600_000.0, 75_000.0
#: How long a cancellation, and then the end of the session, may take (ms).
GRACE_MS = 2_000.0


class Overdue(psycopg.OperationalError):
    """A call did not return in time, and its session was ended."""


def ask(
    pg: PGconn,
    query: bytes,
    end: Callable[[int], None],
    *,
    values: Sequence[bytes | None] | None = None,
    alone: bool = False,
    within_ms: float | None = None,
) -> PGresult:
    """The last result of a query, or its error. ``end`` ends the server's process of that number.

    ``alone``: as the extended protocol has it, one statement. Raises Overdue, and whatever
    interrupts it, when the server has stopped working on it.
    """
    within = ASK_MS if within_ms is None else within_ms
    if values is not None or alone:
        pg.send_query_params(query, values)
    else:
        pg.send_query(query)
    try:
        result = _last(pg, within)
    except BaseException:
        _stop(pg, end)
        raise
    if result is None:
        _stop(pg, end)
        raise Overdue(f"a call took longer than {within / 1000:g} s and was ended")
    return result


def _last(pg: PGconn, within_ms: float) -> PGresult | None:
    """Wait for all results, and give the one that counts: the first error, else the last. None: not
    in time.
    """
    clock = Clock()
    last: PGresult | None = None
    failed: PGresult | None = None
    while True:
        pg.consume_input()
        while not pg.is_busy():
            result = pg.get_result()
            if result is None:
                found = failed or last
                if found is None:
                    raise psycopg.OperationalError(pg.get_error_message())
                return found
            last = result
            if result.status == pq.ExecStatus.FATAL_ERROR:
                failed = failed or result
            elif result.status in (pq.ExecStatus.COPY_IN, pq.ExecStatus.COPY_BOTH):
                pg.put_copy_end(b"COPY has no data in a scenario")
            elif result.status == pq.ExecStatus.COPY_OUT:
                while pg.get_copy_data(0)[0] > 0:
                    pass
        left = within_ms - clock.now_ms()
        if left <= 0:
            return None
        select.select([pg.socket], [], [], min(left / 1000, 1.0))


def _stop(pg: PGconn, end: Callable[[int], None]) -> None:
    """Cancel what is under way; where that does not end it, its session."""
    if pg.status != pq.ConnStatus.OK or pg.transaction_status != pq.TransactionStatus.ACTIVE:
        return
    number = pg.backend_pid
    with contextlib.suppress(psycopg.Error):
        pg.get_cancel().cancel()
    with contextlib.suppress(psycopg.Error):
        if _last(pg, GRACE_MS) is not None:
            return
    with contextlib.suppress(psycopg.Error):
        end(number)
    pg.finish()
