"""What a server and a login allow, what is off, and what watching would cost there."""

from __future__ import annotations

import statistics
from dataclasses import dataclass

from catenum.api.listener import SILENT, Listener
from catenum.api.now import connect_monitor
from catenum.api.servers import TargetSource, find_target
from catenum.core.record.recording import TargetInfo
from catenum.engines.monitor import Check, Purpose

LOOKS = 20


@dataclass(frozen=True, kw_only=True)
class PreflightResult:
    """Each thing that capture needs, and what a look costs: the median and the longest of ``looks``
    (ms), the rows that it reads, how many sessions were connected. True where nothing is lacking.
    """

    target: TargetInfo
    login: str
    checks: tuple[Check, ...]
    median_ms: float
    worst_ms: float
    rows: int
    connected: int
    notes: tuple[str, ...] = ()
    looks: int = LOOKS

    @property
    def lacking(self) -> list[Check]:
        """What is needed, and is off or missing."""
        return [one for one in self.checks if one.needed and one.state in ("off", "missing")]

    def __bool__(self) -> bool:
        return not self.lacking


def preflight(
    target: TargetSource = None, *, purpose: Purpose | None = None, listener: Listener = SILENT
) -> PreflightResult:
    """Check a running server, and measure; nothing is changed there.

    ``purpose``: only what that needs; by default what a watch and the taking in of logs need.
    Raises InputError, TargetError.
    """
    monitor = connect_monitor(find_target(target, listener, settle=False))
    try:
        wanted = {purpose} if purpose else {"watch", "intake"}
        checks = tuple(check for check in monitor.checks() if set(check.serves) & wanted)
        monitor.sample()  # the first one has the server plan it
        samples = [monitor.sample() for _ in range(LOOKS)]
        info, login = monitor.info, monitor.login
    finally:
        monitor.close()
    costs = [sample.cost_ms for sample in samples]
    return PreflightResult(
        target=info,
        login=login,
        checks=checks,
        median_ms=statistics.median(costs),
        worst_ms=max(costs),
        rows=samples[-1].rows_read,
        connected=samples[-1].connected,
        notes=tuple(samples[-1].notes),
    )
