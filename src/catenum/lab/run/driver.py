"""Meets the conductor's needs on a real engine: the only place that waits for sockets during a
run.
"""

from __future__ import annotations

import select
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from catenum.core.errors import TargetError
from catenum.core.record.recording import Picture, TableKeys, TableRows
from catenum.core.record.waits import Edge
from catenum.core.scenario.model import Scenario
from catenum.engines.clock import Clock
from catenum.engines.ports import Beginning, Begun, Engine, Reply, Session
from catenum.lab.run.conductor import Conductor
from catenum.lab.run.requests import (
    Announce,
    Answer,
    Await,
    Begin,
    Cancel,
    Lose,
    PollWaits,
    Request,
    Send,
    Sleep,
    TakePicture,
    Undo,
)

#: How long a beginning or a rollback, which wait for nobody, may take before the server counts as
#: lost (ms).
PROMPT_MS = 10_000.0
#: Rows of a table that a picture has.
PICTURED_ROWS = 40


def connections_of(scenario: Scenario) -> dict[str, str]:
    """By transaction, its connection, where that has another name."""
    return {
        name: connection
        for connection, names in scenario.connections.items()
        for name in names
        if name != connection
    }


@dataclass
class Driver:
    """Runs a conductor. ``announce`` is called before each move."""

    engine: Engine
    sessions: Mapping[str, Session]
    clock: Clock
    announce: Callable[[Announce], None] | None = None
    #: By transaction, the connection that it runs on, where that is not one of its own name.
    connections: Mapping[str, str] = field(default_factory=dict)
    #: Tables whose rows are read for each picture.
    pictured: Mapping[str, TableKeys] = field(default_factory=dict)
    busy: set[str] = field(default_factory=set)
    _rows: dict[str, TableRows] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._begun: dict[str, str] = {}  # by connection, the transaction that came last

    def _connection(self, name: str) -> str:
        return self.connections.get(name, name)

    def _session(self, name: str) -> Session:
        """The session of a transaction's connection."""
        return self.sessions[self._connection(name)]

    def _on(self, connection: str) -> str:
        """The transaction that a connection is in, or that was its last."""
        return self._begun.get(connection, connection)

    def _named(self, edges: Sequence[Edge]) -> tuple[Edge, ...]:
        """The waits of connections, as waits of their transactions."""
        if not self.connections:
            return tuple(edges)
        return tuple(
            replace(edge, waiter=self._on(edge.waiter), holder=self._on(edge.holder))
            for edge in edges
        )

    def run(self, conductor: Conductor) -> None:
        """Drive ``conductor`` to its end. Raises TargetError where the server goes away."""
        steps = conductor.steps()
        try:
            request = next(steps)
            while True:
                request = steps.send(self._meet(request))
        except StopIteration:
            return

    def prepare(self, name: str, sql: str) -> Reply:
        """Run a statement by itself, on a connection that is in no transaction."""
        self._session(name).send(sql)
        return self._prompt(name)

    def usual_beginning(self, name: str) -> Begun:
        """What the server makes of a transaction of which nothing is said."""
        session = self._session(name)
        session.begin(Beginning())
        self._prompt(name)
        begun = session.begun()
        self.undo(name)
        return begun

    def undo(self, name: str) -> None:
        """Roll back a transaction that waits for nobody."""
        self._session(name).send("rollback")
        self._prompt(name)

    def release(self, names: Sequence[str]) -> None:
        """Roll back transactions whose statements are still under way: each as its answer comes, or
        by ending it.
        """
        left, cancelled = list(names), False
        deadline = self.clock.now_ms() + PROMPT_MS
        while left:
            self.busy.update(left)
            answered = [name for name, _ in self._await(20.0)]
            for name in answered:
                left.remove(name)
                self.undo(name)
            if not answered and not cancelled:
                for name in left:
                    self._session(name).cancel()
                cancelled = True
            if self.clock.now_ms() > deadline:
                raise TargetError(
                    f"the server did not end {', '.join(left)} within {PROMPT_MS / 1000:g} s"
                )

    def _meet(self, request: Request) -> Answer:
        match request:
            case Await(at_most):
                replies = self._await(at_most)
                return Answer(at_ms=self.clock.now_ms(), replies=tuple(replies))
            case PollWaits():
                watched = {self._connection(name): self._session(name) for name in self.busy}
                edges = self.engine.poll_waits(watched, self.clock.now_ms())
                return Answer(at_ms=self.clock.now_ms(), edges=self._named(edges))
            case Send(name, sql, patience, values):
                self._session(name).send(sql, patience, values)
                self.busy.add(name)
            case Begin(name, how):
                self._begun[self._connection(name)] = name
                session = self._session(name)
                session.begin(how)
                reply = self._prompt(name)
                if reply.error is not None:
                    return Answer(at_ms=self.clock.now_ms(), error=reply.error)
                return Answer(at_ms=self.clock.now_ms(), begun=session.begun())
            case Undo() | Cancel() | Lose():
                return self._end(request)
            case TakePicture(move):
                return self._picture(move)
            case Announce():
                if self.announce is not None:
                    self.announce(request)
            case Sleep(until):
                self.clock.rest(until - self.clock.now_ms())
        return Answer(at_ms=self.clock.now_ms())

    def _end(self, request: Undo | Cancel | Lose) -> Answer:
        """End a transaction, a statement or a session."""
        session = self._session(request.transaction)
        match request:
            case Undo(name, savepoint):
                session.send(f"rollback to savepoint {savepoint}" if savepoint else "rollback")
                return Answer(error=self._prompt(name).error, at_ms=self.clock.now_ms())
            case Cancel(_, whole):
                session.kill() if whole else session.cancel()
            case Lose(_, how):
                self.engine.lose(session, how)
        return Answer(at_ms=self.clock.now_ms())

    def _await(self, at_most_ms: float) -> list[tuple[str, Reply]]:
        by_fd = {self._session(name).fileno(): name for name in self.busy}
        readable, _, _ = select.select(list(by_fd), [], [], at_most_ms / 1e3)
        replies = []
        for name in sorted(by_fd[fd] for fd in readable):
            reply = self._session(name).poll()
            if reply is not None:
                self.busy.discard(name)
                self._check_lost(name, reply)
                if reply.error is not None and reply.error.kind == "deadlock":
                    edges = self._named(self.engine.edges_of(reply.error, self._session(name)))
                    reply = replace(reply, edges=edges, report=self.engine.report_of(reply.error))
                replies.append((name, reply))
        return replies

    def _prompt(self, name: str) -> Reply:
        """The reply to something that waits for nobody."""
        session = self._session(name)
        deadline = self.clock.now_ms() + PROMPT_MS
        while self.clock.now_ms() < deadline:
            reply = session.poll()
            if reply is not None:
                self._check_lost(name, reply)
                return reply
            select.select([session.fileno()], [], [], 0.1)
        raise TargetError(f"the server did not answer {name} within {PROMPT_MS / 1000:g} s")

    def is_lost(self, name: str) -> bool:
        """Whether the session of a transaction that is idle has been ended."""
        self._session(name).send("select 1")
        error = self._prompt(name).error
        return error is not None and error.kind == "lost"

    def _check_lost(self, name: str, reply: Reply) -> None:
        if reply.error is not None and reply.error.kind == "lost" and not self.engine.alive():
            raise TargetError(
                f"the server went away: {name} was under way ({reply.error.message})",
                advice=(
                    "Check the server's own log. The next run drops scratch space that was left."
                ),
            )

    def _changed_rows(self) -> dict[str, TableRows]:
        """What another session reads now, of tables where that is not what it was before."""
        rows = self.engine.rows(PICTURED_ROWS, self.pictured)
        changed = {table: found for table, found in rows.items() if self._rows.get(table) != found}
        self._rows = rows
        return changed

    def _picture(self, move: int) -> Answer:
        before = self.clock.now_ms()
        found, note = self.engine.picture(self.sessions)
        locks = [replace(lock, transaction=self._on(lock.transaction)) for lock in found]
        rows = self._changed_rows() if self.pictured else {}
        now = self.clock.now_ms()
        picture = Picture(
            move=move,
            at_ms=round(before, 3),
            locks=tuple(locks),
            cost_ms=round(now - before, 3),
            note=note,
            rows=rows,
        )
        return Answer(at_ms=now, picture=picture)
