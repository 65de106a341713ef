"""The sessions of a running PostgreSQL that wait or stand in a transaction, by
``pg_stat_activity``.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import LiteralString, NamedTuple

from catenum.core.snapshot.sample import PILE, SessionInfo, State

_COLUMNS: LiteralString = """pid, usename, application_name, client_addr, client_port, datname,
backend_type, state,
         wait_event_type, wait_event, backend_start, xact_start, query_start, state_change, query,
         {leader} as leader"""
_TOLD: LiteralString = """
       s.pid, usename, application_name, host(client_addr), client_port, datname, backend_type,
       state, wait_event_type,
       wait_event, to_char(backend_start at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"'),
       extract(epoch from now - xact_start)::float8 * 1000, extract(epoch
         from now - query_start)::float8 * 1000,
       extract(epoch from now - state_change)::float8 * 1000, query, xact_start::text,
         query_start::text, leader"""
#: Those in a queue for a row are not asked about one by one: they wait for the same one (see
#: ``waited.in_queues``). The age of the oldest wait, and how many wait, decide whether it is asked
#: at all. A session that just writes to the log that it waits (``log_lock_waits``) is not shown as
#: waiting: where everything is asked, the lock table tells.
_SAMPLE: LiteralString = """
with s as materialized (
  select {columns}
  from pg_stat_activity where pid <> pg_backend_pid()
), b as materialized (
  select pid, pg_blocking_pids(pid) as by from s
  where ((wait_event_type = 'Lock' and wait_event <> 'tuple') or (usename is not null
    and state is null)
      or (%s <= 0 and wait_event_type is distinct from 'Lock'
        and pid in (select l.pid from pg_locks l where not l.granted)))
    and (%s <= 0 or exists (
      select from s long where long.wait_event_type = 'Lock'
        and long.query_start < clock_timestamp() - make_interval(secs => %s / 1000.0))
      or (select count(*) from s pile where pile.wait_event_type = 'Lock') >= %s)
), clock as materialized (select clock_timestamp() as now,
  (select count(*) from s
   where coalesce(backend_type, 'client backend') = 'client backend' and usename
     is not null) as seen,
  (select sum(deadlocks) from pg_stat_database) as deadlocks)
select {reported}, by, seen, deadlocks
from clock left join (s left join b on b.pid = s.pid) on xact_start is not null
  or cardinality(by) > 0
  or s.pid in (select unnest(by) from b) or wait_event like 'RecoveryConflict%%'
  or (backend_type = 'startup' and wait_event_type = 'Lock')
"""
_ONE: LiteralString = """
with s as (select {columns} from pg_stat_activity), clock as (select clock_timestamp() as now)
select {reported}, null, null, null from s, clock where s.pid = %s
"""
_EVENTS = {
    "Client": "its client",
    "Activity": "work to come",
    "IO": "input and output",
    "LWLock": "an inner latch of the server",
}


class ActivityRow(NamedTuple):
    """One row of the activity view, with ages in ms. ``by``: what ``pg_blocking_pids`` told, where
    it was asked.
    """

    pid: int
    user: str | None
    application: str | None
    host: str | None
    port: int | None
    database: str | None
    kind: str | None
    state: str | None
    event_type: str | None
    event: str | None
    started: str | None
    transaction_ms: float | None
    statement_ms: float | None
    state_ms: float | None
    query: str | None
    transaction: str | None
    statement_id: str | None
    leader: int | None
    by: list[int] | None
    seen: int | None
    deadlocks: int | None


@dataclass(frozen=True)
class Activity:
    """The statements for one server, by its version."""

    sample: LiteralString
    one: LiteralString


def activity(major: int) -> Activity:
    """For a major version; parallel workers tell their leader from 13 on."""
    columns: LiteralString = _COLUMNS.format(leader="leader_pid" if major >= 13 else "null::int")
    return Activity(
        _SAMPLE.format(columns=columns, reported=_TOLD),
        _ONE.format(columns=columns, reported=_TOLD),
    )


def asks(rows: Sequence[ActivityRow], at_least_ms: float) -> bool:
    """Whether a check asks who waits for whom at all: by the rule that ``_SAMPLE`` has."""
    stuck = [row for row in rows if row.event_type == "Lock"]
    long = any((row.statement_ms or 0.0) > at_least_ms for row in stuck)
    return at_least_ms <= 0 or len(stuck) >= PILE or long


def session_of(row: ActivityRow, kept_text: int) -> SessionInfo:
    """A row as a session. ``kept_text``: so many bytes of a statement the server keeps."""
    # Of others' sessions a login without the right to see them is not even told what kind of
    # process they are.
    hidden = row.state is None and (row.kind is None or row.kind == "client backend")
    kind = None if row.kind in ("client backend", None) else row.kind
    return SessionInfo(
        id=str(row.pid),
        started=row.started,
        user=row.user,
        application=row.application or None,
        host=row.host or ("local" if row.port == -1 else None),
        port=row.port if row.port is not None and row.port > 0 else None,
        database=row.database,
        state=_state(row, hidden=hidden),
        waits_on=_waits_on(row),
        transaction=row.transaction,
        statement_id=row.statement_id,
        transaction_ms=row.transaction_ms,
        statement_ms=row.statement_ms,
        state_ms=row.state_ms,
        statement=None if hidden else row.query or None,
        cut=bool(row.query) and len(str(row.query).encode()) >= kept_text - 1,
        background=kind is not None,
        kind=kind,
        failed=row.state == "idle in transaction (aborted)",
    )


def _state(row: ActivityRow, *, hidden: bool) -> State:
    if hidden:
        return "not visible" if row.kind is None else "not reported"
    if row.event_type == "Lock":
        return "waits for a lock"
    if row.event and row.event.startswith("RecoveryConflict"):
        return "waits"
    if row.state == "active":
        return "working" if row.event_type is None else "waits"
    if row.state in ("idle in transaction", "idle in transaction (aborted)"):
        return "idle in a transaction"
    return "idle" if row.state == "idle" else "working"


def _waits_on(row: ActivityRow) -> str | None:
    if row.event and row.event.startswith("RecoveryConflict"):
        return "sessions that still need what it is to replay"
    if row.event_type in (None, "Lock") or row.state != "active":
        return None
    return f"{_EVENTS.get(row.event_type, row.event_type)} ({row.event})"


def plain_bytes(setting: str) -> int:
    """A size as ``current_setting`` tells it, in bytes."""
    number = "".join(c for c in setting if c.isdigit())
    return int(number or 1024) * (1024 if "kB" in setting else 1)
