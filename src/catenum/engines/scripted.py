"""A scripted server: a stand-in that lets the lab be driven through any order of events without a
real one.

Its statements are four words, and its rules are those of a textbook lock manager (strict two-phase
locking, first come first served). Recordings made on it are marked as a stand-in's.

    lock NAME    an exclusive lock, kept to the end of the transaction
    share NAME   a shared one
    work N       answers only after N looks: takes long, but waits for nobody
    fail KIND    is refused by the server (rejected, refused, timeout, lost)
"""

from __future__ import annotations

import itertools
import os
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

from catenum.core.record.modes import NO_MODE, Mode
from catenum.core.record.recording import (
    LockEntry,
    PathStep,
    ServerError,
    TableKeys,
    TableRows,
    TargetInfo,
)
from catenum.core.record.values import NOTHING, Binding, Value
from catenum.core.record.waits import Edge, Resource, WaitGraph
from catenum.core.sql.statements import Access, Footprint
from catenum.engines.ports import (
    Beginning,
    Begun,
    Capabilities,
    DataError,
    Patience,
    Reply,
    Session,
    StatementsEffects,
)

LOST = ServerError(code="lost", kind="lost", message="scripted: the session was ended")
EXCLUSIVE, SHARED = Mode("other", "exclusive"), Mode("other", "shared")


def scripted_footprint(sql: str) -> Footprint:
    """What a statement of the four-word language touches."""
    word, _, name = sql.partition(" ")
    if word == "share":
        return Footprint(
            (Access(table=name, schema=None, verb="lock", strength="share"),), understood=True
        )
    return Footprint(
        (Access(table=name, schema=None, verb="update"),) if word == "lock" else (), understood=True
    )


@dataclass
class _Lock:
    """Who holds it, in which mode, and who queues for it."""

    holders: dict[str, Mode] = field(default_factory=dict)
    queue: list[tuple[str, Mode]] = field(default_factory=list)

    def in_the_way(self, name: str, mode: Mode) -> list[tuple[str, Mode, bool]]:
        """Holders, and those ahead in the queue, whose mode conflicts: (who, mode, only queued)."""
        found = [
            (who, held, False)
            for who, held in self.holders.items()
            if who != name and EXCLUSIVE in (mode, held)
        ]
        if name in self.holders:
            return found  # an upgrade does not queue behind others
        ahead = itertools.takewhile(lambda entry: entry[0] != name, self.queue)
        return found + [(who, asked, True) for who, asked in ahead if EXCLUSIVE in (mode, asked)]


class ScriptedSession:
    """A session of the stand-in; its file descriptor becomes readable when a reply is there."""

    def __init__(self, name: str, number: int, engine: ScriptedEngine) -> None:
        self.name, self.id, self.engine = name, str(number), engine
        self._read, self._write = os.pipe()
        self._reply: Reply | None = None
        self._how = Beginning()
        self.patience: Patience | None = None
        self.under_way = ""
        self.order = 0
        self.looks_left = 0
        self.lost = False

    def fileno(self) -> int:
        """The end of a pipe that becomes readable with the reply."""
        return self._read

    def begin(self, how: Beginning) -> None:
        """Nothing to do but to answer."""
        self._how = how
        self.answer(Reply())

    def begun(self) -> Begun:
        """Whatever was asked for is what is reported."""
        return Begun(
            isolation=self._how.isolation or "read committed",
            read_only=self._how.access == "read only",
        )

    def send(self, sql: str, patience: Patience | None = None, values: Binding = NOTHING) -> None:
        """Carry a statement out, or let it wait."""
        self.under_way, self.patience = sql, patience
        if self.lost:
            self.answer(Reply(error=LOST))
            return
        self.order = next(self.engine.statements)
        self.engine.execute(self, sql)

    def answer(self, reply: Reply) -> None:
        """Make a reply ready to be polled."""
        self._reply, self.under_way = reply, ""
        os.write(self._write, b".")

    def read(self, sql: str) -> ServerError | None:
        """It takes any text."""
        return None

    def poll(self) -> Reply | None:
        if self._reply is None:
            return None
        os.read(self._read, 1)
        reply, self._reply = self._reply, None
        if self._how.autocommit:
            self.engine.release(self.name)
        return reply

    def cancel(self) -> None:
        """End what is under way with an error."""
        if self.under_way:
            self.engine.fail(self, ServerError(code="cancel", kind="rejected", message="cancelled"))

    def kill(self) -> None:
        """The same: what is scripted can be cancelled."""
        self.cancel()

    def close(self) -> None:
        """Let everything go."""
        self.engine.release(self.name)
        os.close(self._read)
        os.close(self._write)


class ScriptedEngine:
    """The stand-in server. See ``engines.ports.Engine`` for what each method promises."""

    sandboxed = True  # there is nothing outside

    def __init__(
        self,
        *,
        gives_up_on_deadlock: bool = True,
        undoes: Literal["transaction", "statement"] = "transaction",
    ) -> None:
        """``undoes``: what an error undoes; a deadlock's victim loses its transaction in any
        case.
        """
        self.undoes = undoes
        self.info = TargetInfo(
            server="postgresql", version="scripted", url="scripted", standin=True
        )
        self.capabilities = Capabilities(steers_victim=True)
        self.gives_up = gives_up_on_deadlock
        self.locks: dict[str, _Lock] = {}
        self.loads = 0
        self.sessions: dict[str, ScriptedSession] = {}
        self._numbers = itertools.count(1)
        self.statements = itertools.count(1)

    # -- running -----------------------------------------------------------------------------------

    def execute(self, session: ScriptedSession, sql: str) -> None:
        """Carry out one statement of the four-word language."""
        word, _, rest = sql.partition(" ")
        if word in ("commit", "rollback"):
            self.release(session.name)
            session.answer(Reply())
        elif word in ("lock", "share"):
            mode = EXCLUSIVE if word == "lock" else SHARED
            lock = self.locks.setdefault(rest, _Lock())
            lock.queue.append((session.name, mode))
            self._grant()
        elif word == "work":
            session.looks_left = int(rest)
        elif word == "fail":
            self.fail(session, ServerError(code=rest, kind=rest, message=f"scripted: {rest}"))  # type: ignore[arg-type]
        else:
            session.answer(Reply(rows=0))

    def fail(self, session: ScriptedSession, error: ServerError) -> None:
        """The session waits no longer; what it holds goes with its transaction."""
        for lock in self.locks.values():
            lock.queue = [entry for entry in lock.queue if entry[0] != session.name]
        whole = self.undoes == "transaction" or error.kind in ("deadlock", "lost")
        if whole:
            self.release(session.name)
        session.answer(Reply(error=replace(error, undone="transaction" if whole else "statement")))

    def release(self, name: str) -> None:
        """Release all that ``name`` holds, and grant what that frees."""
        for lock in self.locks.values():
            lock.holders.pop(name, None)
            lock.queue = [entry for entry in lock.queue if entry[0] != name]
        self._grant()

    def _grant(self) -> None:
        granted = True
        while granted:
            granted = False
            for lock in self.locks.values():
                for name, mode in list(lock.queue):
                    if not lock.in_the_way(name, mode):
                        lock.queue.remove((name, mode))
                        lock.holders[name] = (
                            EXCLUSIVE if EXCLUSIVE in (mode, lock.holders.get(name)) else mode
                        )
                        self.sessions[name].answer(Reply(rows=1))
                        granted = True

    def _edges(self) -> list[Edge]:
        return [
            Edge(
                waiter=name,
                holder=who,
                resource=Resource(kind="other", text=text),
                wanted=mode,
                held=held,
                queued=queued,
            )
            for text, lock in self.locks.items()
            for name, mode in lock.queue
            for who, held, queued in lock.in_the_way(name, mode)
        ]

    # -- the protocol ------------------------------------------------------------------------------

    def keeps_numbers(self) -> bool:
        return False

    def renew(self, sessions: Mapping[str, Session]) -> Mapping[str, Session]:
        """Nothing outlives a transaction here."""
        return sessions

    def leave_alone(self, settings: Collection[str]) -> None:
        """There are none."""

    def idle_limits(self) -> tuple[str, ...]:
        """There are none."""
        return ()

    def lose(self, session: Session, how: Literal["killed", "closed"]) -> None:
        """Its locks are free; what it sends after that is answered by its loss."""
        lost = self.sessions[session.name]
        lost.lost = True
        if lost.under_way:
            self.fail(lost, LOST)
        self.release(session.name)

    def poll_waits(self, sessions: Mapping[str, Session], now_ms: float) -> list[Edge]:
        """Who waits for whom; the second look at a closed cycle ends it, as a server's own check
        would.
        """
        for session in self.sessions.values():
            if session.under_way.startswith("work"):
                session.looks_left -= 1
                if session.looks_left <= 0:
                    session.answer(Reply(rows=0))
        edges = [edge for edge in self._edges() if edge.waiter in sessions]
        if self.gives_up:
            self._check_cycles(edges)
        return edges

    def _check_cycles(self, edges: list[Edge]) -> None:
        for cycle in WaitGraph(edges).cycles():
            members = [self.sessions[edge.waiter] for edge in cycle]
            victim = max(members, key=lambda s: (s.patience is Patience.CHOSEN, s.order))
            self.fail(
                victim, ServerError(code="deadlock", kind="deadlock", message="scripted deadlock")
            )

    def notes(self) -> list[str]:
        return []

    def plan(self, sql: str, values: Binding = NOTHING) -> tuple[PathStep, ...]:
        return ()

    def open_session(self, name: str, often: Sequence[str] = ()) -> ScriptedSession:
        session = ScriptedSession(name, next(self._numbers), self)
        self.sessions[name] = session
        return session

    def picture(self, sessions: Mapping[str, Session]) -> tuple[list[LockEntry], str | None]:
        entries = [
            LockEntry(
                transaction=name,
                resource=Resource(kind="other", text=text),
                mode=mode,
                granted=granted,
            )
            for text, lock in self.locks.items()
            for granted, pairs in ((True, lock.holders.items()), (False, lock.queue))
            for name, mode in pairs
        ]
        return entries, None

    def edges_of(
        self,
        error: ServerError,
        victim: Session | None = None,
        names: Mapping[str, str] | None = None,
    ) -> tuple[Edge, ...]:
        """Its errors report nothing further."""
        return ()

    def cycle_statements(self, names: Mapping[str, str]) -> dict[str, str]:
        """Its errors report nothing further."""
        return {}

    def cycle_victim(self, names: Mapping[str, str]) -> str | None:
        """Its errors come with their cycles."""
        return None

    def deadlock_count(self, sessions: Mapping[str, Session]) -> int | None:
        return None

    def settings(self) -> dict[str, str]:
        return {}

    def handlers(self) -> list[tuple[str, tuple[str, ...]]]:
        return []

    def report_of(self, error: ServerError) -> str | None:
        return error.message

    def connections_left(self) -> int:
        """As many as anybody needs."""
        return 1_000

    def make_scratch(self) -> list[str]:
        return []

    def load(self, script: str) -> None:
        """No data; every lock is new."""
        self.loads += 1
        self.locks.clear()

    def add(self, sql: str) -> None:
        """No data."""

    def refuses(self, index: str) -> str | None:
        return None

    def fill(
        self, table: str, columns: Sequence[str], rows: Iterable[tuple[str | int | None, ...]]
    ) -> None:
        """No data."""

    def keep_data(self, what: StatementsEffects) -> None:
        """No data."""

    def data_state(self) -> str:
        """It holds no data, so all states are one."""
        return ""

    def restore_data(self) -> Callable[[], None]:
        """Every lock is new, at once."""
        self.locks.clear()
        return lambda: None

    def use_short_deadlock_timeout(self) -> float:
        return 0.0

    def use_long_deadlock_timeout(self) -> None:
        """Nothing to undo."""

    def analyze(self) -> None:
        """No data."""

    def functions(self) -> frozenset[str]:
        return frozenset()

    def classes(
        self, table: str, column: str, written: Sequence[tuple[bool, str]]
    ) -> dict[tuple[bool, str], int]:
        return {}

    def tables(self) -> dict[str, TableKeys]:
        return {}

    def rows(
        self, limit: int, tables: Mapping[str, TableKeys] | None = None
    ) -> dict[str, TableRows]:
        return {}

    def values_of(self, table: str, column: str, most: int) -> tuple[Value, ...]:
        return ()

    def truth(self, sql: str) -> bool:
        """``true`` and ``false`` are all it knows. Raises DataError for anything else."""
        if sql not in ("true", "false"):
            raise DataError(
                ServerError(code="", kind="rejected", message="neither true nor false"), sql
            )
        return sql == "true"

    def verdict_ms(self, cycle: Sequence[Edge]) -> float:
        """As long as a script may take."""
        return 200.0

    def victim_rule(
        self,
        patience: Patience | None,
        closed: bool | None,
        wanted: Mode = NO_MODE,
        *,
        reported: bool = True,
    ) -> str:
        """Its rule: the chosen one, else the one that closed the cycle, else the first by name."""
        return (
            "the stand-in rolls back the chosen transaction, otherwise the one that closed the"
            " cycle"
        )

    def alive(self) -> bool:
        return True

    def end(self, sessions: Sequence[Session]) -> None:
        for session in sessions:
            session.close()
            self.sessions.pop(session.name, None)

    def loop_place(self) -> dict[str, object]:
        """It cannot be reached from another process."""
        return {}

    def waiting_now(self) -> int | None:
        """It does not count."""
        return None

    def waiting_among(self, numbers: Collection[str]) -> set[str]:
        """Nobody loops here."""
        return set()

    def wait_count(self) -> int | None:
        return None

    def close(self) -> None:
        """Nothing to drop."""
