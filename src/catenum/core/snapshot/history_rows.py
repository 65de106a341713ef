"""What the store has of the past, as types: the rows that its queries give, and that ``history
--json`` writes.

Lengths are in ms, moments RFC 3339 in UTC. ``source``: ``watch``, ``across`` (several servers) or
``log``.
"""

from __future__ import annotations

from typing import NotRequired

from typing_extensions import TypedDict


class IncidentRow(TypedDict):
    """An incident with its server's name and people's notes. ``shape``: what statements like the
    head's share.
    """

    id: int
    server: str
    first: str
    last: str
    ended: str | None
    head: str | None
    user: str | None
    application: str | None
    object: str | None
    waiting: int
    chain: int
    wait_ms: float
    longest_ms: float
    statement: str | None
    shape: str | None
    cycle: int
    heads: int
    held_ms: float | None
    held_exact: int | None
    typical_ms: float | None
    source: str
    note: str | None
    rates: NotRequired[list[RatesRow]]


class StepRow(TypedDict):
    """How often statements of a kind ran between two answers of the server. ``phase``: of the
    incident.
    """

    since: str
    until: str
    calls: int
    total_ms: float
    lock_ms: float | None
    phase: NotRequired[str]


class PhaseRow(TypedDict):
    """The same over a whole phase of an incident."""

    seconds: float
    calls: int
    calls_per_s: float
    mean_ms: float | None
    lock_ms: float | None


class RatesRow(TypedDict):
    """A kind of statement before, during and after an incident."""

    statement: str
    before: PhaseRow | None
    during: PhaseRow | None
    after: PhaseRow | None
    steps: list[StepRow]


class PairRow(TypedDict):
    """Two kinds of statements of which one waited for the other."""

    waiter: str
    holder: str
    times: int
    longest_ms: float
    object: str | None


class DeadlockRow(TypedDict):
    """Deadlocks that were counted or reported at one moment."""

    server: str
    at: str
    count: int
    report: str | None
    source: str


class ReleaseRow(TypedDict):
    """What a person did about a blocker."""

    server: str
    at: str
    by: str
    way: str
    session: str
    user: str | None
    application: str | None
    host: str | None
    statement: str | None
    transaction_ms: float | None
    rows_changed: int | None
    waiting: int
    went_on: int
    outcome: str
