"""Ending a blocker, safely: shown first, agreed to, done, and what came of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from catenum.api.listener import SILENT, Listener
from catenum.api.now import connect_monitor
from catenum.api.servers import TargetSource, find_target, refuse_profile
from catenum.core.text import listed
from catenum.live.release import Refused, Result, Shown, Way, blocker
from catenum.live.release import release as carry_out

#: Is shown what would be ended and how; ``Agree`` says whether it may be.
Show = Callable[[Shown, Way], None]
Agree = Callable[[Shown, Way], bool]


@dataclass(frozen=True)
class Released:
    """What was shown, how it was to be ended, and what came of it (None: it was not agreed to)."""

    shown: Shown
    way: Way
    result: Result | None
    server: str

    @property
    def helped(self) -> bool:
        """Whether it was carried out, and who waited went on."""
        if self.result is None:
            return False
        done = self.result.gone or (self.way == "cancel" and self.result.sent)
        return done and not self.result.left and bool(self.result.went_on or not self.shown.waiting)


def release(
    session: str,
    target: TargetSource = None,
    *,
    agree: Agree,
    show: Show = lambda shown, way: None,
    end: bool | Callable[[Shown], bool] = False,
    dry_run: bool = False,
    idle: bool = False,
    suspect: bool = False,
    listener: Listener = SILENT,
) -> Released:
    """Cancel a blocker's statement, or ``end`` its session, where ``agree`` says so.

    ``show`` is given first what would be done; ``dry_run``: nothing is. ``idle``: also one that
    blocks nobody; ``suspect``: also one that the server does not name. Never another session, or
    another transaction, than the one shown. Raises Refused (a CatenumError), InputError,
    TargetError.
    """
    found = find_target(target, listener, settle=False)
    refuse_profile(found, "release")
    monitor = connect_monitor(found)
    try:
        shown = blocker(monitor, session)
        wanted = end(shown) if callable(end) else end
        way: Way = "end" if wanted else "cancel"
        show(shown, way)
        if not dry_run:
            _refuse(shown, session, idle=idle, suspect=suspect)
        if dry_run or not agree(shown, way):
            return Released(shown, way, None, monitor.info.url)
        return Released(shown, way, carry_out(monitor, shown, way), monitor.info.url)
    finally:
        monitor.close()


def _refuse(shown: Shown, session: str, *, idle: bool, suspect: bool) -> None:
    if shown.suspected and not shown.in_all and not suspect:
        waiters = listed([f"session {one.waiter}" for one in shown.suspected])
        raise Refused(
            f"session {session} is only suspected: the server does not name whom {waiters} waits"
            " for",
            advice="Nothing was ended. --suspect ends it all the same.",
        )
    if not (shown.in_all or shown.suspected or shown.behind or idle):
        raise Refused(
            f"session {session} blocks nobody{seen_by(shown)}",
            advice="Nothing was ended. --idle ends it all the same.",
        )


def seen_by(shown: Shown) -> str:
    """Behind *blocks nobody*: now, or as far as this login sees."""
    return " that this login can see" if shown.sample.partial else " now"
