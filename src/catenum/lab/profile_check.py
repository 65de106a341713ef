"""Whether what a profile says is so: two sessions in scratch space of their own do what it speaks
of, and each answer is compared.

This is how people write a profile: run, read, mend.
"""

from __future__ import annotations

import select
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Literal, cast

from catenum.core.errors import CatenumError
from catenum.core.record.waits import Edge
from catenum.core.servers.profile import LOCK_COLUMNS, SESSION_COLUMNS, WAIT_COLUMNS, Profile, Reads
from catenum.engines.by_profile.engine import ProfileEngine
from catenum.engines.by_profile.session import ProfileSession
from catenum.engines.clock import Clock
from catenum.engines.ports import Beginning, NeedsReload, Reply, Session, StatementsEffects

State = Literal["right", "wrong", "missing", "not tested"]
#: Rows of which two sessions want the same.
DATA = """
create table berth (id integer not null primary key, vessel varchar(20), moved integer not null);
insert into berth values (3, 'Halcyon', 0);
insert into berth values (7, 'Oriel', 0);
insert into berth values (9, null, 0);
create table crane (id integer not null primary key, berth integer references berth (id));
insert into crane values (1, 3);
insert into crane values (2, 7);
"""
#: How long an answer may take that waits for nobody, and how long a wait is looked at (ms).
PROMPT_MS, WATCHED_MS = 5_000.0, 300.0
#: So often a query is asked before its time counts.
WARM = 5
HOW: dict[Reads, str] = {
    "dirty": "sees what was not committed",
    "waits": "waits for who changes a row, and lets go when it has read",
    "locks": "waits for who changes a row, and keeps its lock to the end",
    "version": "reads what was committed before",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Checked:
    """One thing that a profile says. ``found``: what the server did; ``costs``: what a wrong or
    missing word of the profile costs.
    """

    what: str
    state: State
    found: str = ""
    costs: str = ""


class _Late(Exception):
    """A statement that waits for nobody was not answered."""


@dataclass
class ProfileChecker:
    """Tests one profile on one engine, with scratch space made."""

    engine: ProfileEngine
    tell: Callable[[str], None] = lambda what: None
    _sessions: dict[str, ProfileSession] = field(default_factory=dict)

    @property
    def profile(self) -> Profile:
        return self.engine.profile

    def run(self) -> list[Checked]:
        """Every check; one that cannot be made does not keep the others from being made."""
        found: list[Checked] = []
        for title, check in (
            ("data is loaded", self._load),
            ("tables and keys", self._catalogue),
            ("columns of the queries", self._columns),
            ("sessions and their numbers", self._numbers),
            ("isolation levels", self._levels),
            ("a wait for a row", self._wait),
            ("a wait behind another", self._queue),
            ("a deadlock", self._deadlock),
            ("a lock timeout", self._timeout),
            ("a lock that is not waited for", self._no_wait),
            ("a duplicate key", self._duplicate),
            ("ending a statement that waits", self._cancel),
            ("how reads behave", self._reads),
            ("rows are put back", self._put_back),
        ):
            self.tell(title)
            try:
                found += list(check())
            except (CatenumError, _Late, KeyError, NeedsReload, IndexError) as error:
                what = str(error).splitlines()[0] if str(error) else type(error).__name__
                found.append(
                    Checked(what=title, state="wrong", found=what, costs="it could not be tested")
                )
            finally:
                self._end()
        for what, why in self.profile.unknown:
            found.append(Checked(what=what, state="missing", costs=why))
        return found

    # -- what the sessions do ----------------------------------------------------------------------

    def _end(self) -> None:
        """Roll back and end what a check has left, the ones that wait last."""
        left = sorted(self._sessions.values(), key=lambda one: one.busy)
        self._sessions.clear()
        for session in left:
            if session.busy:
                self._answer(session, WATCHED_MS)
            self.engine.end([cast(Session, session)])

    def _session(self, name: str, level: str | None = None, timeout_ms: int | None = None) -> None:
        if name not in self._sessions:
            self._sessions[name] = self.engine.open_session(name)
        session = self._sessions[name]
        session.begin(Beginning(isolation=level, timeout_ms=timeout_ms))
        reply = self._answer(session, PROMPT_MS)
        if reply is None:
            raise _Late(f"a transaction did not begin within {PROMPT_MS / 1000:g} s")
        if reply.error is not None:
            raise _Late(f"a transaction does not begin: {reply.error.message}")

    def _answer(self, session: ProfileSession, within_ms: float) -> Reply | None:
        clock = Clock()
        while (left := within_ms - clock.now_ms()) > 0:
            select.select([session.fileno()], [], [], left / 1e3)
            reply = session.poll()
            if reply is not None:
                return reply
        return None

    def _send(self, name: str, sql: str) -> None:
        self._sessions[name].send(sql)

    def _now(self, name: str, sql: str) -> Reply:
        """A statement that waits for nobody."""
        self._send(name, sql)
        reply = self._answer(self._sessions[name], PROMPT_MS)
        if reply is None:
            raise _Late(f"{sql!r} waits for nobody, and was not answered")
        return reply

    def _done(self, name: str, sql: str) -> Reply:
        reply = self._now(name, sql)
        if reply.error is not None:
            raise _Late(f"{sql!r} fails: {reply.error.message.splitlines()[0]}")
        return reply

    def _waits(self, name: str, within_ms: float) -> tuple[list[Edge], float]:
        """The waits of a session that must wait, and after how long they were listed (ms)."""
        clock, session = Clock(), self._sessions[name]
        while clock.now_ms() < within_ms:
            edges = self._listed(name)
            if edges:
                return edges, clock.now_ms()
            if session.answered:
                break
        return [], clock.now_ms()

    def _listed(self, name: str) -> list[Edge]:
        """The waits of a session that are listed now."""
        sessions = cast(dict[str, Session], self._sessions)
        return [one for one in self.engine.poll_waits(sessions, 0.0) if one.waiter == name]

    # -- checks ------------------------------------------------------------------------------------

    def _load(self) -> Iterator[Checked]:
        self.engine.load(DATA)
        version = self.engine.info.version
        yield Checked(what="scratch space is made, entered and filled", state="right")
        asked = self.profile.version is not None
        yield Checked(
            what="the server's version",
            state="right" if asked else "missing",
            found=version if asked else "",
            costs="" if asked else "recordings do not say which version they are of",
        )

    def _catalogue(self) -> Iterator[Checked]:
        tables = self.engine.tables()
        berth, crane = tables.get("berth"), tables.get("crane")
        listed = ", ".join(tables) or "none"
        costs = "rows are not put back, and no statement is independent of another"
        state: State = "right" if berth and crane else "wrong"
        yield Checked(what="tables are listed", state=state, found=listed, costs=costs)
        if berth is None or crane is None:
            return
        good = berth.primary == ("id",) and crane.primary == ("id",)
        yield Checked(
            what="primary keys are listed",
            state="right" if good else "wrong",
            found=f"berth: {', '.join(berth.primary) or 'none'}",
            costs="statements that name rows by their key are not known to",
        )
        good = crane.references == ("berth",) and not berth.references
        yield Checked(
            what="foreign keys are listed",
            state="right" if good else "wrong",
            found=f"crane refers to {', '.join(crane.references) or 'nothing'}",
            costs="rows are put back in a wrong order, and fail",
        )
        good = "moved" in berth.filled and "vessel" not in berth.filled
        yield Checked(
            what="columns that are never NULL are listed",
            state="right" if good else "wrong",
            found=f"berth: {', '.join(berth.filled) or 'none'}",
            costs="what proposals assume of NULL is not certain",
        )

    def _columns(self) -> Iterator[Checked]:
        wanted = {
            "waits": (self.profile.waits.query, WAIT_COLUMNS, WAIT_COLUMNS[:2]),
            "locks": (
                self.profile.locks.query if self.profile.locks else None,
                LOCK_COLUMNS,
                ("session", "object", "mode"),
            ),
            "sessions": (
                self.profile.sessions.query if self.profile.sessions else None,
                SESSION_COLUMNS,
                ("session",),
            ),
        }
        for name, (query, known, needed) in wanted.items():
            if query is None:
                continue
            columns = self.engine.columns(query)
            lacking = [one for one in needed if one not in columns]
            extra = [one for one in columns if one not in (*known, "statement")]
            found = ", ".join(columns)
            if lacking:
                found = f"lacks {', '.join(lacking)}; it has {found}"
            elif extra:
                found = f"has {', '.join(extra)}, which mean nothing here"
            yield Checked(
                what=f"the query of {name} has its columns",
                state="wrong" if lacking or extra else "right",
                found=found,
                costs="who waits for whom is not seen" if name == "waits" else f"no {name}",
            )

    def _numbers(self) -> Iterator[Checked]:
        for name in ("early", "late"):
            self._session(name)
            self._done(name, "update berth set moved = 1 where id = " + "37"[name == "late"])
        numbers = {name: one.number for name, one in self._sessions.items()}
        good = all(numbers.values()) and len(set(numbers.values())) == 2
        again = dict(numbers)
        for name in numbers:
            self._done(name, "update berth set moved = 2 where id = " + "37"[name == "late"])
            again[name] = self._sessions[name].number
        if again != numbers:
            good = False
        found = ", ".join(f"{name} {number or 'none'}" for name, number in numbers.items())
        yield Checked(
            what="each session tells its own number",
            state="right" if good else "wrong",
            found=found if again == numbers else f"{found}; it changes within a transaction",
            costs="waits cannot be told by the names of transactions",
        )

    def _levels(self) -> Iterator[Checked]:
        if self.profile.levels.reported is None:
            yield Checked(
                what="the server reports the level",
                state="missing",
                costs="a level that was asked for is taken to be had",
            )
        for level in self.profile.levels.set:
            self._session("early", level)
            told = self._sessions["early"].begun().isolation
            self._done("early", "rollback")
            yield Checked(
                what=f"the level {level} is set",
                state="right" if told == level else "wrong",
                found=f"the server says {told}",
                costs="schedules run at another level than they say",
            )

    def _wait(self) -> Iterator[Checked]:
        self._session("early")
        self._session("late")
        self._done("early", "update berth set moved = 1 where id = 3")
        for _ in range(WARM):  # a server compiles a query when it is first asked
            self.engine.poll_waits({}, 0.0)
            self.engine.rules.sql.footprint("select 1")
        self._send("late", "update berth set moved = 2 where id = 3")
        within = self.profile.waits.within_ms
        edges, took = self._waits("late", max(within * 4, PROMPT_MS))
        costs = "a statement that waits counts as one that works; no wait, and no chain, is seen"
        if not edges:
            what = "nobody is listed as waiting"
            if self._sessions["late"].answered:
                what = "the second writer of a row was not made to wait"
            yield Checked(what="a wait for a row is listed", state="wrong", found=what, costs=costs)
            return
        edge = edges[0]
        good = edge.holder == "early"
        yield Checked(
            what="a wait for a row is listed",
            state="right" if good and took <= within + 50 else "wrong",
            found=f"late waits for {edge.holder}, listed after {took:.0f} ms"
            f" (within_ms {within:g})",
            costs=costs if not good else "runs look for waits too early: raise waits.within_ms",
        )
        table = edge.resource.table
        yield Checked(
            what="what is waited for is named",
            state="right" if table == "berth" else "wrong",
            found=edge.resource.text,
            costs="waits over one thing and over another look the same",
        )
        rules = self.engine.rules.locks
        conflict = rules.conflict(edge.wanted, edge.held) if edge.held is not None else None
        modes = f"wants {edge.wanted or 'a mode that is not told'}, held in {edge.held}"
        yield Checked(
            what="the modes are in the table, and conflict",
            state="right" if conflict is not None and conflict.conflict else "wrong",
            found=modes,
            costs="why one waits for the other is not said",
        )
        if self.profile.locks is not None:
            locks, _ = self.engine.picture(self._sessions)  # type: ignore[arg-type]
            held = [one for one in locks if one.transaction == "early" and one.granted]
            waiting = [one for one in locks if one.transaction == "late" and not one.granted]
            good = bool(held) and bool(waiting)
            yield Checked(
                what="locks are listed, granted and waited for",
                state="right" if good else "wrong",
                found=f"{len(held)} of the holder, {len(waiting)} waited for",
                costs="lock pictures are wrong",
            )
        self._done("early", "commit")
        went_on = self._answer(self._sessions["late"], PROMPT_MS)
        good = went_on is not None and went_on.error is None
        yield Checked(
            what="who waited goes on when the other commits", state="right" if good else "wrong"
        )

    def _queue(self) -> Iterator[Checked]:
        """A third session waits for a lock that nobody holds in its way, since another has asked
        for it before.
        """
        levels = [level for level, reads in self.profile.levels.reads.items() if reads == "locks"]
        if not levels:
            return
        for name, level in (("early", levels[0]), ("late", None), ("third", levels[0])):
            self._session(name, level)
        self._done("early", "select moved from berth where id = 3")
        self._send("late", "update berth set moved = 2 where id = 3")
        self._waits("late", PROMPT_MS)
        self._send("third", "select moved from berth where id = 3")
        if self._answer(self._sessions["third"], WATCHED_MS) is not None:
            return  # this server lets readers by
        edges = self._listed("third")
        yield Checked(
            what="who waits behind another that waits is listed",
            state="right" if edges else "wrong",
            found=f"third waits for {edges[0].holder}"
            if edges
            else "third waits, and is not listed",
            costs="a statement that waits counts as one that works",
        )

    def _deadlock(self) -> Iterator[Checked]:
        self._session("early")
        self._session("late")
        self._done("early", "update berth set moved = 1 where id = 3")
        self._done("late", "update berth set moved = 2 where id = 7")
        self._send("early", "update berth set moved = 1 where id = 7")
        self._waits("early", PROMPT_MS)
        self._send("late", "update berth set moved = 2 where id = 3")
        deadlocks = self.profile.deadlocks
        within = (deadlocks.within_ms if deadlocks else 0.0) + PROMPT_MS
        clock, victim, reply = Clock(), None, None
        while clock.now_ms() < within and victim is None:
            for name, session in self._sessions.items():
                reply = self._answer(session, 5.0)
                if reply is not None and reply.error is not None:
                    victim = name
                    break
        took = clock.now_ms()
        if victim is None or reply is None or reply.error is None:
            yield Checked(
                what="a deadlock is ended by the server",
                state="wrong" if deadlocks is not None else "not tested",
                found=f"the cycle stood for {took / 1000:.0f} s",
                costs="runs wait for a verdict that does not come",
            )
            return
        error = reply.error
        late = deadlocks is not None and took > deadlocks.within_ms
        yield Checked(
            what="a deadlock's error has the code that the profile says",
            state="right" if error.kind == "deadlock" else "wrong",
            found=f"{self.engine.rules.errors.code_word} {error.code or 'none'} counts as"
            f" {error.kind}",
            costs="deadlocks count as errors of the statement",
        )
        if deadlocks is not None:
            yield Checked(
                what="the server ends it in time",
                state="wrong" if late else "right",
                found=f"after {took:.0f} ms (within_ms {deadlocks.within_ms:g})",
                costs="runs give up before the server does",
            )
            if deadlocks.cycle is not None:
                edges = self.engine.edges_of(error, self._sessions[victim])  # type: ignore[arg-type]
                members = {one.waiter for one in edges}
                yield Checked(
                    what="the message tells the cycle",
                    state="right" if members == {"early", "late"} else "wrong",
                    found=", ".join(f"{e.waiter} for {e.holder}" for e in edges) or "nothing",
                    costs="of a deadlock that was over before it was seen only the victim is known",
                )
        yield from self._undone(victim, error.undone, "a deadlock")

    def _undone(self, victim: str, said: str, what: str) -> Iterator[Checked]:
        """Whether what the victim had changed before is gone, as the profile says."""
        other = "late" if victim == "early" else "early"
        reply = self._answer(self._sessions[other], WATCHED_MS)
        went_on = reply is not None or not self._sessions[other].busy
        if not went_on and said == "transaction":
            yield Checked(
                what=f"{what} undoes what the profile says",
                state="wrong",
                found="the other one still waits: only the statement was undone",
                costs="what a victim keeps locked is not known",
            )
            return
        good = went_on if said == "transaction" else not went_on
        undone = "the transaction" if went_on else "the statement"
        yield Checked(
            what=f"{what} undoes what the profile says",
            state="right" if good else "wrong",
            found=f"{undone} was undone; errors.undoes_transaction says the {said}",
            costs="what a victim keeps locked is not known",
        )

    def _timeout(self) -> Iterator[Checked]:
        session = self.profile.session
        if session.lock_timeout is None:
            return
        step = session.lock_timeout_step_ms
        self._session("early")
        self._session("late", timeout_ms=max(step, 200))
        self._done("early", "update berth set moved = 1 where id = 3")
        self._done("late", "update berth set moved = 2 where id = 9")
        self._send("late", "update berth set moved = 2 where id = 3")
        reply = self._answer(self._sessions["late"], max(step, 200) + PROMPT_MS)
        error = reply.error if reply is not None else None
        good = error is not None and error.kind == "timeout"
        told = f"{error.code} counts as {error.kind}" if error else "it went on waiting"
        yield Checked(
            what="a lock timeout ends a wait",
            state="right" if good else "wrong",
            found=told,
            costs="'timeout' in a scenario does nothing, or counts as an error",
        )
        if error is None:
            return
        self._send("early", "update berth set moved = 1 where id = 9")
        kept = self._answer(self._sessions["early"], WATCHED_MS) is None
        undone = "statement" if kept else "transaction"
        yield Checked(
            what="a lock timeout undoes what the profile says",
            state="right" if undone == error.undone else "wrong",
            found=f"the {undone} was undone; errors.undoes_transaction says the {error.undone}",
            costs="what stays locked after a timeout is not known",
        )

    def _no_wait(self) -> Iterator[Checked]:
        clause = self.profile.sql.no_wait
        if clause is None:
            return
        self._session("early")
        self._session("late")
        self._done("early", "update berth set moved = 1 where id = 3")
        reply = self._now("late", f"select * from berth where id = 3 {clause}")
        error = reply.error
        yield Checked(
            what="a lock that is not waited for is refused",
            state="right" if error is not None and error.kind == "timeout" else "wrong",
            found=f"{error.code} counts as {error.kind}" if error else "the lock was given",
            costs="such refusals count as errors",
        )

    def _duplicate(self) -> Iterator[Checked]:
        self._session("early")
        error = self._now("early", "insert into berth values (3, 'Twin', 0)").error
        good = error is not None and self.engine.rules.errors.is_duplicate(error.code)
        yield Checked(
            what="a duplicate key's error has the code that the profile says",
            state="right" if good else "wrong",
            found=f"{error.code or 'no code'}" if error else "the row was added",
            costs="'retry on duplicate' does not see it",
        )

    def _cancel(self) -> Iterator[Checked]:
        session = self.profile.session
        if session.cancel is None and session.end is None:
            return
        self._session("early")
        self._session("late")
        self._done("early", "update berth set moved = 1 where id = 3")
        self._send("late", "update berth set moved = 2 where id = 3")
        self._waits("late", PROMPT_MS)
        self._sessions["late"].cancel()
        reply = self._answer(self._sessions["late"], PROMPT_MS)
        error = reply.error if reply is not None else None
        yield Checked(
            what="a statement that waits can be ended",
            state="right" if error is not None else "wrong",
            found=f"{error.code}: {error.message.splitlines()[0]}" if error else "it waits on",
            costs="statements that work too long, and cycles that stand, are not ended",
        )

    def _reads(self) -> Iterator[Checked]:
        for level, said in self.profile.levels.reads.items():
            if level not in self.profile.levels.set:
                continue
            found = self._read_at(level)
            self._end()
            costs = "what depends on what, and who holds whom up, is wrong at this level"
            yield Checked(
                what=f"a plain read at {level}",
                state="right" if found == said else "wrong",
                found=f"it {HOW[found]}"
                + ("" if found == said else f"; the profile says: {HOW[said]}"),
                costs=costs,
            )

    def _read_at(self, level: str) -> Reads:
        """How a plain read behaves, by a row that another has changed, and by one that it has read
        and another wants.
        """
        self._session("early")
        self._session("late", level)
        self._done("early", "update berth set vessel = 'Other' where id = 3")
        self._send("late", "select vessel from berth where id = 3")
        reply = self._answer(self._sessions["late"], WATCHED_MS)
        waited = reply is None
        if not waited and reply is not None and reply.result is not None:
            seen = reply.result.rows[0][0]
            self._done("early", "rollback")
            self._done("late", "rollback")
            return "dirty" if seen == "Other" else "version"
        self._done("early", "rollback")
        self._answer(self._sessions["late"], PROMPT_MS)
        self._session("early")
        self._send("early", "update berth set vessel = 'Other' where id = 3")
        free = self._answer(self._sessions["early"], WATCHED_MS) is not None
        self._done("late", "rollback")
        if not free:
            self._answer(self._sessions["early"], PROMPT_MS)
        self._done("early", "rollback")
        return "waits" if free else "locks"

    def _put_back(self) -> Iterator[Checked]:
        engine = self.engine
        engine.keep_data(StatementsEffects(shape=False))
        before, rows = engine.data_state(), engine.rows(100)
        costs = "schedules do not start from the same rows"
        for what, statements in (
            ("rows that were changed", ["update berth set vessel = null, moved = 5"]),
            (
                "rows that came and went",
                [
                    "delete from crane where id = 1",
                    "insert into berth values (11, 'New', 1)",
                    "insert into crane values (5, 11)",
                    "delete from berth where id = 9",
                ],
            ),
        ):
            self._session("early")
            for sql in statements:
                self._done("early", sql)
            self._done("early", "commit")
            changed = engine.data_state() != before
            try:
                engine.restore_data()()
                same = engine.data_state() == before and engine.rows(100) == rows
            except NeedsReload:
                engine.load(DATA)
                engine.keep_data(StatementsEffects(shape=False))
                same = engine.data_state() == before
            yield Checked(
                what=f"{what} are put back",
                state="right" if changed and same else "wrong",
                found="" if changed else "that they changed was not seen",
                costs=costs,
            )


def left_behind(engine: ProfileEngine, other: ProfileEngine) -> Checked:
    """Whether nothing of a run that is over is there still, by another connection."""
    query = other.profile.scratch.left
    if query is None:
        return Checked(
            what="nothing is left",
            state="missing",
            costs="scratch space that a killed run leaves is not found",
        )
    left = [str(row[0]) for row in other.look(query)]
    mine = [name for name in left if name.lower() == engine.schema]
    return Checked(
        what="nothing is left",
        state="wrong" if mine else "right",
        found=f"{mine[0]} is there still" if mine else "",
        costs="scratch space piles up on the server",
    )
