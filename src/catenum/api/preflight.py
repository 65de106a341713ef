"""What a server and a login allow, what is off, and what watching would cost there."""

from __future__ import annotations

import statistics
from dataclasses import dataclass
from typing import TYPE_CHECKING

from catenum.api.listener import SILENT, Listener
from catenum.api.now import connect_monitor
from catenum.api.servers import Server, TargetSource, connector_for, find_target
from catenum.core.errors import InputError
from catenum.core.record.recording import TargetInfo
from catenum.core.servers import profile_of, rules_of
from catenum.engines.monitor import Check, Purpose

if TYPE_CHECKING:
    from catenum.lab.profile_check import Checked

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


@dataclass(frozen=True, kw_only=True)
class ProfileResult:
    """What of a profile is right on a server. True where nothing of it is wrong."""

    target: TargetInfo
    profile: str
    checks: tuple[Checked, ...]

    @property
    def wrong(self) -> list[Checked]:
        """What the server does otherwise."""
        return [one for one in self.checks if one.state == "wrong"]

    def __bool__(self) -> bool:
        return not self.wrong


def check_profile(target: TargetSource = None, *, listener: Listener = SILENT) -> ProfileResult:
    """Test the profile by which a server is known, with two sessions in scratch space of their own.
    Raises InputError where the target has rules of its own, TargetError.
    """
    from catenum.lab.profile_check import ProfileChecker, left_behind

    where = target if isinstance(target, Server) else find_target(target, listener)
    found = find_target(where, listener)
    profile = profile_of(found.server)
    if profile is None:
        raise InputError(
            f"{found.shown}: {rules_of(found.server).title} has rules of its own, and no profile",
            advice="Name a server of the profile's kind: --target NAME://…, by the name in it.",
        )
    with connector_for(where, {}, listener) as connector:
        engine = connector()
        try:
            engine.make_scratch()
            checks = ProfileChecker(engine, lambda what: listener.part(0.0, what)).run()
        finally:
            engine.close()
            listener.clear()
        other = connector()
        try:
            checks.append(left_behind(engine, other))
        finally:
            other.close()
        return ProfileResult(target=engine.info, profile=profile.title, checks=tuple(checks))


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
