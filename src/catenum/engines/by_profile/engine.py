"""An engine that runs by profile. See ``engines.ports.Engine`` for what each part promises."""

from __future__ import annotations

import contextlib
import os
import secrets
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import replace
from typing import Any, Literal, cast

from catenum.core.errors import TargetError
from catenum.core.record.recording import ServerError
from catenum.core.servers import profile_of, register
from catenum.core.servers.profile import Profile
from catenum.engines.by_profile.driver import Database, Place, place_of, text_of
from catenum.engines.by_profile.locks import ProfileLocks
from catenum.engines.by_profile.session import MARK, ProfileSession, first_line
from catenum.engines.carrying import CarryingLoop
from catenum.engines.ports import LoopPlan, Session, Waiting


class ProfileEngine(ProfileLocks):
    """One server, one run."""

    def __init__(self, place: Place, profile: Profile, shown: str, *, private: bool) -> None:
        """Connect. Raises TargetError."""
        super().__init__(place, profile, shown, private=private)
        self._queue, self._rows_named = {}, {}
        self._stood, self._copies, self._now = {}, {}, {}
        self._spare: list[ProfileSession] = []

    def make_scratch(self) -> list[str]:
        """Two sessions connect meanwhile: that takes as long as to load a few rows."""
        cleared = super().make_scratch()
        self._spare = [self._session() for _ in range(2)]
        return cleared

    def use_short_deadlock_timeout(self) -> float:
        """The server has its own."""
        return 0.0

    def use_long_deadlock_timeout(self) -> None:
        """Nothing to undo."""

    def open_session(self, name: str, often: Sequence[str] = ()) -> ProfileSession:
        """A connection in the scratch space; its first use raises TargetError where there is
        none.
        """
        opened = self._spare.pop() if self._spare else self._session()
        opened.name = name
        self._running[name] = opened
        return opened

    def _session(self) -> ProfileSession:
        self._numbers += 1
        mark = f"catenum {self.run} {self._numbers}"
        session = self.profile.session
        ends = self.end_by if session.cancel or session.end else None
        return ProfileSession(mark, self.database, self.connect_into, mark, ends)

    def close(self) -> None:
        """Sessions that nobody opened, too."""
        for session in self._spare:
            session.close()
        super().close()

    def idle_limits(self) -> tuple[str, ...]:
        """Not known."""
        return ()

    def lose(self, session: Session, how: Literal["killed", "closed"]) -> None:
        """By closing it, or the server's own statement. Raises TargetError where the profile does
        not say how a session is ended.
        """
        if how == "killed" and self.profile.session.end is None:
            raise TargetError(
                f"{self.profile.title}'s profile does not say how a session is ended",
                advice="Add session.end to it, or leave 'kill' out of the scenario.",
            )
        session.kill()
        session.close()

    def renew(self, sessions: Mapping[str, Session]) -> Mapping[str, Session]:
        """Others in their place."""
        self.end(list(sessions.values()))
        return {name: cast(Session, self.open_session(name)) for name in sessions}

    def keeps_numbers(self) -> bool:
        """Taken to be so where the server makes numbers up."""
        return any(keys.made for keys in self.tables().values())

    def end(self, sessions: Sequence[Session]) -> None:
        """End the sessions."""
        # who waits may go on, and end, once the others have let go
        for session in sorted(self._of(sessions), key=lambda one: one.busy):
            session.close()
        self.forget(self._of(sessions))

    # -- loops -------------------------------------------------------------------------------------

    def loop_place(self) -> dict[str, object]:
        """Plain values, for another process."""
        return {
            "place": self._place,
            "profile": self.profile,
            "space": self.schema,
            "shown": self._shown,
        }

    def waiting_now(self) -> int | None:
        """By the query for waits."""
        return len({row["waiter"] for row in self.looked(self.profile.waits.query)})

    def waiting_among(self, numbers: Collection[str]) -> set[str]:
        """By the query for waits."""
        found = set()
        for row in self.looked(self.profile.waits.query):
            mark = MARK.search(text_of(row.get("statement")) or "")
            found.add(mark[1] if mark else str(row["waiter"]))
        return found & set(numbers)

    def server_process(self) -> int | None:
        return None

    def wait_count(self) -> int | None:
        return None


class Loop:
    """A transaction in a loop, in a process of its own. See ``engines.ports.Loop``."""

    def __init__(
        self,
        plans: Sequence[LoopPlan],
        name: str,
        *,
        place: Place,
        profile: Profile,
        space: str,
        shown: str,
        waiting: Waiting | None = None,
    ) -> None:
        """Connect. Raises TargetError."""
        register(profile)
        self._profile, self._plans = profile, plans
        self._database = Database(profile, shown)
        self._connection = self._database.connect(place.theirs)
        rules = self._database.rules.sql
        for sql in (*profile.session.begins_with, *profile.scratch.enter):
            self._run(sql.replace("{space}", space).replace("{login}", place.theirs.user))
        #: Where the number does not stay, what stands behind each statement tells whose it is.
        self._marked = profile.session.asked == "statement"
        if self._marked:
            self.id = f"catenum {secrets.token_hex(4)} {os.getpid()}"
        else:
            rows = self._run(profile.session.number.replace("{mark}", "catenum loop"))
            self.id = str(rows[0][0]) if len(rows) == 1 else name
        self._levels = [plan.beginning.isolation for plan in plans]
        self._level: str | None = None
        self._carrying = [
            CarryingLoop(plan, tuple(map(rules.value_names, plan.texts)), seed=number)
            for number, plan in enumerate(plans)
        ]
        for sql in dict.fromkeys(sql for plan in plans for sql in plan.before):
            self._run(sql)
        self._connection.commit()

    def _run(self, sql: str) -> list[Any]:
        cursor = self._connection.cursor()
        try:
            cursor.execute(sql)
            return list(cursor.fetchall()) if cursor.description else []
        finally:
            cursor.close()

    def use_level(self, level: str) -> None:
        """Of all transactions from the next iteration on."""
        self._levels = [level] * len(self._plans)

    def run(
        self, at: Callable[[int], None], which: int = 0, *, again: bool = False
    ) -> ServerError | None:
        """One iteration."""
        plan, level = self._plans[which], self._levels[which]
        from catenum.engines.by_profile.driver import result_of

        def execute(number: int, bound: Any) -> Any:
            cursor = self._connection.cursor()
            sql = plan.texts[number - 1]
            text, *values = self._database.bound(sql, bound) if bound else (sql,)
            cursor.execute(f"{text}\n/*{self.id}*/" if self._marked else text, *values)
            result = result_of(cursor) if cursor.description else None
            rows = len(result.rows) if result is not None else max(cursor.rowcount, 0)
            cursor.close()
            return rows, result, None

        try:
            if level is not None and level != self._level:
                self._run(self._profile.levels.set[level])  # type: ignore[index]
                self._connection.commit()
                self._level = level
            found = self._carrying[which].run(execute, at, again=again)
            if found == "commit":
                self._connection.commit()
                return None
            self._connection.rollback()
            return found if isinstance(found, ServerError) else None
        except Exception as error:  # whatever a driver raises
            failed = self._database.error_of(error)
            if failed.kind == "deadlock":  # what more it tells is the server's report
                short = first_line(failed.message)
                failed = replace(failed, message=short, detail=failed.message)
            with contextlib.suppress(Exception):
                self._connection.rollback()
            return failed

    def close(self) -> None:
        """Disconnect."""
        try:
            self._connection.rollback()
            self._connection.close()
        except Exception:
            return


def connect(
    where: Any, shown: str, *, private: bool = False, sandboxed: bool = True
) -> ProfileEngine:
    """Connect: ``where`` is a profile's name with a URL, or with a place. Raises TargetError."""
    profile, place = where
    register(profile)
    found = place if isinstance(place, Place) else place_of(place, profile)
    if not sandboxed:
        found = replace(found, login=None)
    return ProfileEngine(found, profile, shown, private=private)


def where_of(server: str, url: str) -> tuple[Profile, str]:
    """What ``connect`` is called with for a URL; plain values, so that other processes can be."""
    profile = profile_of(server)
    if profile is None:
        raise TargetError(f"{server} has no profile")
    return profile, url
