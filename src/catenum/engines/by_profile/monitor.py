"""A server by its profile at one moment, for ``now``: its queries for waits, sessions and locks."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from catenum.core.errors import TargetError
from catenum.core.record.recording import LockEntry
from catenum.core.servers import profile_of
from catenum.core.servers.profile import Profile
from catenum.core.snapshot.sample import Sample, SessionInfo, State, Timeout
from catenum.engines.by_profile.control import ProfileControl
from catenum.engines.by_profile.driver import Place, is_true, place_of, text_of
from catenum.engines.by_profile.locks import edges_in, mode_of, resource_of
from catenum.engines.by_profile.session import MARK
from catenum.engines.clock import Clock, wall
from catenum.engines.monitor import Check, DeadlockReport, StatementRate

#: How servers call what their sessions do.
_STATES: dict[str, State] = {
    "active": "working",
    "running": "working",
    "idle in transaction": "idle in a transaction",
    "idle": "idle",
    "sleeping": "idle",
}


class ProfileMonitor(ProfileControl):
    """See ``engines.monitor.Monitor``. It looks; it can end nobody."""

    sees_all = False

    def __init__(self, place: Place, profile: Profile, shown: str, *, private: bool) -> None:
        """Connect. Raises TargetError."""
        super().__init__(place, profile, shown, private=private)
        self.login = place.user or "a login that the URL does not name"

    @property
    def blind(self) -> str | None:
        """What the profile cannot say of the login is not known."""
        return None

    def sample(self, *, locks: bool = False, at_least_ms: float = 0.0) -> Sample:
        """One look. Raises TargetError."""
        clock = Clock()
        waits = self.looked(self.profile.waits.query)
        edges = edges_in(waits, self.rules, self.profile.sql)
        waiting = {edge.waiter for edge in edges}
        told = self.looked(self.profile.sessions.query) if self.profile.sessions else []
        rows = len(waits) + len(told)
        sessions = {one.id: one for one in (self._session(row, waiting) for row in told)}
        for edge in edges:
            for name in (edge.waiter, edge.holder):
                state: State = "waits for a lock" if name in waiting else "not reported"
                sessions.setdefault(name, SessionInfo(id=name, state=state))
        held: list[LockEntry] = []
        if locks and self.profile.locks is not None:
            found = self.looked(self.profile.locks.query)
            rows += len(found)
            chained = waiting | {edge.holder for edge in edges}
            held = [
                LockEntry(
                    transaction=text_of(row["session"]) or "",
                    resource=resource_of(row, self.profile.sql),
                    mode=mode_of(row, "mode"),
                    granted=is_true(row.get("granted", True)),
                )
                for row in found
                if text_of(row["session"]) in chained
            ]
        lacking = [what for what, why in self.profile.unknown if "list of" in what]
        notes = [f"{self.profile.title}'s profile has no query for {what}" for what in lacking]
        if edges and all(edge.since_ms is None for edge in edges):
            notes.append(f"since when a wait lasts {self.profile.title}'s profile does not tell")
        return Sample(
            at=wall(),
            target=self.info,
            sessions=tuple(sessions.values()),
            edges=tuple(replace(edge, since_ms=edge.since_ms or 0.0) for edge in edges),
            connected=len(sessions),
            cost_ms=round(clock.now_ms(), 3),
            rows_read=rows,
            locks=tuple(held),
            notes=tuple(notes),
        )

    def _session(self, row: dict[str, Any], waiting: set[str]) -> SessionInfo:
        number = text_of(row["session"]) or ""
        told = (text_of(row.get("state")) or "").lower()
        state: State = "waits for a lock" if number in waiting else "not reported"
        statement = text_of(row.get("statement"))
        if number not in waiting:
            state = _STATES.get(told, "not reported")
            if statement is None and told == "active":
                state = "idle in a transaction"
        since = row.get("transaction_ms")
        return SessionInfo(
            id=number,
            user=text_of(row.get("user")),
            application=text_of(row.get("application")),
            state=state,
            statement=MARK.sub("", statement).strip() if statement else None,
            isolation=text_of(row.get("isolation")) or "not reported",
            transaction_ms=float(since) if since is not None else None,
        )

    def link_ms(self, cost_ms: float) -> float:
        """Not known."""
        return 0.0

    def timeouts(self, sample: Sample) -> tuple[Timeout, ...]:
        """Not known."""
        return ()

    def deadlock_report(self) -> DeadlockReport | None:
        """Not known."""
        return None

    def logs_deadlocks(self) -> bool:
        """Not known."""
        return False

    def session(self, number: str) -> SessionInfo | None:
        """A session by its number."""
        return next((one for one in self.sample().sessions if one.id == number), None)

    def cancel(self, session: SessionInfo) -> bool:
        """Raises TargetError: nobody is ended by a profile."""
        raise self._ends_nobody()

    def end(self, session: SessionInfo) -> bool:
        """Raises TargetError: nobody is ended by a profile."""
        raise self._ends_nobody()

    def _ends_nobody(self) -> TargetError:
        return TargetError(
            f"{self.profile.title} is known by a profile, by which nobody else's session is ended"
        )

    def checks(self) -> Sequence[Check]:
        """What the profile knows and what not."""
        return [
            Check(what=what, state="not reported", why=why, needed=False)
            for what, why in self.profile.unknown
        ]

    def rates(self) -> Sequence[StatementRate] | None:
        """Not known."""
        return None

    def close(self) -> None:
        with contextlib.suppress(Exception):
            self._looker.close()


def open_monitor(where: Any, shown: str, *, private: bool = False) -> ProfileMonitor:
    """Connect. Raises TargetError."""
    if isinstance(where, str):
        profile = profile_of(where.partition("://")[0])
        if profile is None:
            raise TargetError(f"{shown}: no profile is known for this")
        return ProfileMonitor(place_of(where, profile), profile, shown, private=private)
    profile, place = where
    return ProfileMonitor(place, profile, shown, private=private)
