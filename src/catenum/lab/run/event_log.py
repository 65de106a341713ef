"""What a conductor keeps of a run: moves, events, waits, deadlocks, pictures.

Kept apart from the rules by which moves are made: here nothing is decided.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

from catenum.core.record.modes import NO_MODE
from catenum.core.record.recording import (
    AfterFailure,
    Event,
    Move,
    Picture,
    ServerError,
    Wait,
    WaitEnd,
    as_edge,
)
from catenum.core.record.values import NOTHING, Binding
from catenum.core.record.waits import Edge, Resource, WaitGraph
from catenum.engines.ports import Reply
from catenum.lab.run.transaction_state import OpenDeadlock, TransactionState

NOT_SEEN = Resource(kind="other", text="a lock that the server did not report")
#: Whom a victim waited for, where neither a check nor a report told it.
UNSEEN = "a session that was not seen"


class EventLog:
    """The record of one run as it goes."""

    def __init__(self, states: Mapping[str, TransactionState]) -> None:
        self.states = states
        self.schedule: list[Move] = []
        self.waits: list[Wait] = []
        self.cycles: list[OpenDeadlock] = []
        self.taken: list[Picture] = []
        self.move = 0
        self.wave = 0
        self._events: list[tuple[tuple[int, int, int, int], Event]] = []

    @property
    def events(self) -> list[Event]:
        """What happened, in an order that does not depend on which of two simultaneous replies was
        read first.
        """
        return [event for _, event in sorted(self._events, key=lambda item: item[0])]

    @property
    def happened(self) -> list[Event]:
        """The same as it was noted: quicker, where the order of simultaneous things does not
        count.
        """
        return [event for _, event in self._events]

    def note(
        self,
        state: TransactionState,
        what: str,
        at_ms: float,
        *,
        phase: int,
        rows: int | None = None,
        reply: Reply | None = None,
        error: ServerError | None = None,
        values: Binding = NOTHING,
        kept: Binding = NOTHING,
        condition: str | None = None,
        then: AfterFailure | None = None,
    ) -> None:
        """Something happened to the transaction of ``state``; ``phase`` orders what happens at
        once.
        """
        event = Event(
            at_ms=round(at_ms, 3),
            move=self.move,
            transaction=state.name,
            attempt=state.attempt,
            statement=state.statement,
            sql=state.sql,
            what=what,  # type: ignore[arg-type]
            rows=reply.rows if reply else rows,
            result=reply.result if reply else None,
            error=error,
            values={name: value.text for name, value in values},
            kept={name: value.text for name, value in kept},
            condition=condition,
            then=then,
            rolled_back=reply is not None and reply.rolled_back,
        )
        self._events.append(((self.move, self.wave, phase, state.index), event))

    def note_waits(
        self, graph: WaitGraph, at_ms: float, how_ended: Callable[[Wait], WaitEnd]
    ) -> bool:
        """Open and close waits so that they match ``graph``. Returns whether anything changed."""
        changed = False
        for state in self.states.values():
            if not state.under_way:
                continue
            edges = {edge.identity: edge for edge in graph.waits_of(state.name)}
            known = {as_edge(self.waits[i]).identity: i for i in state.waits}
            gone = [i for key, i in known.items() if key not in edges]
            fresh = [edge for key, edge in edges.items() if key not in known]
            holders = {edge.holder for edge in edges.values()}
            for i in gone:
                # who waits for nobody now is perhaps only between two waits, or was not seen
                is_over = bool(fresh) and self.waits[i].holder not in holders
                self.close(i, at_ms, how_ended(self.waits[i]) if is_over else "went on")
                state.waits.remove(i)
            for edge in sorted(fresh, key=_order):
                self.open(state, edge, at_ms)
            if fresh:
                self.note(state, "waits", at_ms, phase=4)
            changed = changed or bool(gone or fresh)
        return changed

    def open(self, state: TransactionState, edge: Edge, at_ms: float) -> None:
        """A wait begins."""
        state.waits.append(len(self.waits))
        since = at_ms if edge.since_ms is None else max(min(edge.since_ms, at_ms), state.sent_ms)
        self.waits.append(
            Wait(
                waiter=edge.waiter,
                attempt=state.attempt,
                statement=state.statement,
                holder=edge.holder,
                holder_statement=None,
                resource=edge.resource,
                wanted=edge.wanted,
                held=edge.held,
                queued=edge.queued,
                taken_by=edge.taken_by,
                move=self.move,
                since_ms=round(since, 3),
            )
        )

    def close(self, index: int, at_ms: float, ended: WaitEnd) -> None:
        """A wait is over."""
        self.waits[index] = replace(self.waits[index], until_ms=round(at_ms, 3), ended=ended)

    def forget_takers(self, move: int) -> None:
        """Who took what the closing wait is for: whether a check comes before the server's verdict
        is chance.
        """
        for i in self.open_waits():
            if self.waits[i].move == move:
                self.waits[i] = replace(self.waits[i], taken_by=None)

    def graph(self) -> WaitGraph:
        """The waits that are open now."""
        return WaitGraph(
            as_edge(self.waits[i]) for state in self.states.values() for i in state.waits
        )

    def open_waits(self) -> list[int]:
        """The waits that are open now, as positions in ``waits``."""
        return [i for state in self.states.values() for i in state.waits]

    def who_waits(self) -> frozenset[tuple[str, str]]:
        """Who waits for whom now."""
        return frozenset((self.waits[i].waiter, self.waits[i].holder) for i in self.open_waits())

    def note_cycles(self, graph: WaitGraph, at_ms: float, mover: TransactionState) -> None:
        """Cycles that close, and those that the server let go."""
        standing = []
        for edges in graph.cycles():
            members = frozenset(edge.waiter for edge in edges)
            standing.append(members)
            if not any(c.stands and c.members == members for c in self.cycles):
                closer = (
                    mover.name if mover.name in members else max(members, key=self._waiting_since)
                )
                attempts = {
                    name: self.states[name].attempt for name in members if name in self.states
                }
                self.cycles.append(OpenDeadlock(edges, self.move, at_ms, closer, attempts=attempts))
        for cycle in self.cycles:
            if cycle.pending and cycle.members not in standing:
                cycle.pending = (
                    False  # the server let it go by without a victim: it rearranged a queue
                )

    def _waiting_since(self, name: str) -> float:
        return max((self.waits[i].since_ms for i in self.states[name].waits), default=0.0)

    def closed(self, victim: str, edges: tuple[Edge, ...]) -> tuple[Edge, ...]:
        """The edges that were reported or seen as a cycle; a wait that was neither closes it where
        it is missing.

        A wait that was seen may be over by now: every member of a cycle waits, so one for somebody
        who does not is left out. Where nothing tells whom the victim waited for, its own wait is
        all there is of the cycle.
        """
        seen, since = self.graph(), self.states[victim].sent_ms
        edges = (*edges, *(edge for state in self.states for edge in seen.waits_of(state)))
        waiters = {edge.waiter for edge in edges}
        # who came to wait behind it before it waited itself may have been let go by its end already
        lately = (wait for wait in self.waits if wait.until_ms is None or wait.until_ms >= since)
        behind = WaitGraph(map(as_edge, lately)).held_up_by(victim)
        holder = next(iter(behind)) if len(behind) == 1 else UNSEEN
        path = [next((edge for edge in edges if edge.waiter == victim), _missing(victim, holder))]
        while path[-1].holder not in (victim, UNSEEN):
            onward = (e for e in edges if e.waiter == path[-1].holder and e not in path)
            following = next((e for e in onward if e.holder == victim or e.holder in waiters), None)
            path.append(following or _missing(path[-1].holder, victim))
        return tuple(path)


def _missing(waiter: str, holder: str) -> Edge:
    return Edge(waiter=waiter, holder=holder, resource=NOT_SEEN, wanted=NO_MODE, held=None)


def _order(edge: Edge) -> tuple[object, ...]:
    return (edge.waiter, edge.holder, edge.resource.sort_key, edge.queued)
