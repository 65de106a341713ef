"""The order of moves, as a generator that yields what it needs and never touches a socket or a clock.

    Begin, Send, Undo, Cancel   do this on a transaction's session
    Await                       tell me of replies, waiting at most so long
    Look                        tell me who waits for whom
    TakePicture, Announce, Rest what their names say

A move is over when everything is settled: every statement under way has either been answered, or the server says that
it waits for a lock, in a look taken after the last thing that happened. Statements that merely take long are given
their time. Nothing here depends on how long anything takes, with one exception that makes runs repeatable: a
transaction with a lock timeout of its own is given the time to run into it before the next move is made. So one
schedule has one outcome.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Generator, Sequence
from dataclasses import replace

from catenum.core.recording import Event, Move, Picture, ServerError, Wait, WaitEnd, as_edge
from catenum.core.scenario import Scenario
from catenum.core.waits import Edge, Resource, WaitGraph
from catenum.engines.protocol import Beginning, Patience, Reply
from catenum.lab.lanes import Cycle, Guide, Lane, Moved
from catenum.lab.needs import Announce, Answer, Await, Begin, Cancel, Look, Need, Rest, Send, TakePicture, Undo

Steps = Generator[Need, Answer, None]

#: The first wait for a reply before looking, how much longer each following one is, and the longest (ms).
FIRST_WAIT_MS, GROWTH, LONGEST_WAIT_MS = 0.2, 1.5, 4.0
VERDICT_WAIT_MS = 25.0
CHECK_TAKES_MS = 6.0
NOT_SEEN = Resource(kind="other", text="a lock that the server did not tell")


class Conductor:
    """Makes the moves of one schedule, and keeps what happened.

    The schedule is ``order``, or what ``guide`` chooses move by move.
    """

    def __init__(
        self,
        scenario: Scenario,
        order: Sequence[str],
        *,
        victim: str | None = None,
        limit_ms: float = 60_000.0,
        verdict_ms: Callable[[Sequence[Edge]], float] = lambda ring: 10_000.0,
        pictures: bool = False,
        guide: Guide | None = None,
        check_ms: float = 0.0,
    ) -> None:
        """``check_ms``: how long after its wait began a possible closer of rings checks; its check is waited for."""
        self.check_ms = check_ms
        self.guide = guide
        self.broken_off = False
        self.lanes = {
            name: Lane(name, transaction, index)
            for index, (name, transaction) in enumerate(scenario.transactions.items())
        }
        self.queue = deque(order)
        self.held_back: deque[str] = deque()
        self.victim, self.limit_ms, self.verdict_ms, self.pictures = victim, limit_ms, verdict_ms, pictures
        self.schedule: list[Move] = []
        self.waits: list[Wait] = []
        self.cycles: list[Cycle] = []
        self.taken: list[Picture] = []
        self.stuck = False
        self.surprised = False  # a verdict came for a ring that no look had seen closed
        self.move = 0
        self._moved = Moved("", None)
        self._wave = 0
        self._turn = 0
        self._events: list[tuple[tuple[int, int, int, int], Event]] = []

    @property
    def events(self) -> list[Event]:
        """What happened, in an order that does not depend on which of two simultaneous replies was read first."""
        return [event for _, event in sorted(self._events, key=lambda item: item[0])]

    @property
    def happened(self) -> list[Event]:
        """The same as it was noted: quicker, where the order of simultaneous things does not count."""
        return [event for _, event in self._events]

    def steps(self) -> Steps:
        """The run, as needs."""
        while (lane := self._next()) is not None:
            yield from self._make_move(lane)
            if self.guide is not None:
                self._moved.holders = frozenset(self.waits[i].holder for i in lane.waits)
                self.guide.moved(self._moved)
        self.stuck = not self.broken_off and any(lane.under_way for lane in self.lanes.values())
        for lane in self.lanes.values():
            if lane.under_way:
                lane.status = "cut off"

    # -- choosing ----------------------------------------------------------------------------------------------------

    def _next(self) -> Lane | None:
        if self.guide is not None:
            return self._guided(self.guide)
        for name in self.held_back:
            if self.lanes[name].ready:
                self.held_back.remove(name)
                return self.lanes[name]
        while self.queue:
            lane = self.lanes[self.queue.popleft()]
            if lane.ready:
                return lane
            if lane.under_way:
                self.held_back.append(lane.name)
        lanes = list(self.lanes.values())
        for step in range(len(lanes)):  # what the order left out, and what is tried again, follows in turns
            lane = lanes[(self._turn + step) % len(lanes)]
            if lane.ready:
                self._turn = lane.index + 1
                return lane
        return None

    def _guided(self, guide: Guide) -> Lane | None:
        ready = [lane.name for lane in self.lanes.values() if lane.ready]
        if not ready:
            return None
        waits = frozenset((self.waits[i].waiter, self.waits[i].holder) for i in self._open_waits())
        name = guide.choose(ready, waits)
        self.broken_off = name is None
        return self.lanes[name] if name is not None else None

    def _patience(self, lane: Lane) -> Patience:
        """Only a transaction that others wait for can close a cycle.

        Unless another was chosen, it is the one to check first.
        """
        closes = bool(self._open_waits()) and bool(self.graph().held_up_by(lane.name))
        if self.victim is None:
            return Patience.FIRST if closes else Patience.LAST
        if lane.name != self.victim:
            return Patience.LAST
        return Patience.FIRST if closes else Patience.CHOSEN

    def graph(self) -> WaitGraph:
        """The waits that are open now."""
        return WaitGraph(as_edge(self.waits[i]) for lane in self.lanes.values() for i in lane.waits)

    # -- moving ------------------------------------------------------------------------------------------------------

    def _make_move(self, lane: Lane) -> Steps:
        self.move += 1
        self._wave = 0
        self._moved = Moved(lane.name, lane.statement)
        if self.guide is None:
            yield Announce(self.move, lane.name, lane.sql)
        if lane.idle_until_ms:
            yield Rest(lane.idle_until_ms)
            lane.idle_until_ms = 0.0
        if not lane.begun and not (yield from self._begin(lane)):
            return
        lane.patience = self._patience(lane)
        self.schedule.append(
            Move(
                number=self.move,
                transaction=lane.name,
                statement=lane.statement,
                ends=None if lane.statement else lane.transaction.ends,
            )
        )
        answer = yield Send(lane.name, lane.sql, lane.patience)
        lane.under_way, lane.sent_ms, lane.limit_hit = True, answer.at_ms, False
        self._note(lane, "sent", answer.at_ms, phase=0)
        yield from self._settle(lane)
        if self.pictures:
            answer = yield TakePicture(self.move)
            if answer.picture is not None:
                self.taken.append(answer.picture)

    def _begin(self, lane: Lane) -> Generator[Need, Answer, bool]:
        how = Beginning(
            isolation=lane.transaction.isolation,
            access=lane.transaction.access,
            timeout_ms=lane.transaction.timeout,
        )
        answer = yield Begin(lane.name, how)
        if answer.begun is None:
            self._note(lane, "failed", answer.at_ms, phase=2, error=answer.error)
            lane.over, lane.status = True, "failed"
            self._moved.undone.append(lane.name)
            return False
        lane.begun, lane.status = True, "left open"
        lane.isolation, lane.read_only = answer.begun.isolation, answer.begun.read_only
        return True

    def _settle(self, mover: Lane) -> Steps:
        """Go on until every statement under way was answered or waits, and nothing more will come by itself.

        Replies are taken in together once that is so, failures first: which of several reached us first does not count.
        """
        pause = FIRST_WAIT_MS
        batch: dict[str, tuple[Reply, float]] = {}
        while under_way := [lane for lane in self.lanes.values() if lane.under_way]:
            graph, seen_ms = WaitGraph(), 0.0
            open_still = [lane for lane in under_way if lane.name not in batch]
            if open_still:
                answer = yield Await(pause)
                batch.update({name: (reply, answer.at_ms) for name, reply in answer.replies})
                pause = FIRST_WAIT_MS if answer.replies else pause
                open_still = [lane for lane in open_still if lane.name not in batch]
            if open_still:
                sight = yield Look()
                graph, seen_ms = WaitGraph(sight.edges), sight.at_ms
                working = [lane for lane in open_still if lane.name not in graph.waiters]
                if working:
                    yield from self._keep_limit(working, seen_ms)
                    pause = min(pause * GROWTH, LONGEST_WAIT_MS)
                    continue
            undone = len(self._moved.undone)
            for name in sorted(batch, key=lambda name: (batch[name][0].error is None, self.lanes[name].index)):
                reply, at_ms = batch[name]
                yield from self._on_reply(self.lanes[name], reply, at_ms, mover)
            batch.clear()
            if len(self._moved.undone) > undone or not open_still:
                continue  # a rollback may have let others go on since they were looked at
            if (yield from self._is_settled(graph, seen_ms, mover)):
                return
            pause = VERDICT_WAIT_MS

    def _keep_limit(self, working: list[Lane], now_ms: float) -> Steps:
        for lane in working:
            if now_ms - lane.sent_ms > self.limit_ms and not lane.limit_hit:
                lane.limit_hit = True
                yield Cancel(lane.name)

    def _is_settled(self, graph: WaitGraph, now_ms: float, mover: Lane) -> Generator[Need, Answer, bool]:
        """Everybody under way waits. Note it; settled unless a ring or a lock timeout will end some wait by itself."""
        if self._note_waits(graph, now_ms):
            self._wave += 1
        self._note_cycles(graph, now_ms, mover)
        pending = [cycle for cycle in self.cycles if cycle.pending]
        for cycle in pending:
            if now_ms - cycle.at_ms > self.verdict_ms(cycle.edges) and not cycle.ended_by_us:
                cycle.ended_by_us = True
                yield Cancel(cycle.closer)
        if self.check_ms and mover.under_way and mover.patience is Patience.FIRST and not pending:
            # Its check must be over before the next move, or it could fall for a ring that another closes.
            yield Rest(mover.sent_ms + self.check_ms + CHECK_TAKES_MS)
        timed = any(lane.under_way and lane.transaction.timeout is not None for lane in self.lanes.values())
        return not pending and not timed

    # -- what happened -----------------------------------------------------------------------------------------------

    def _note(
        self,
        lane: Lane,
        what: str,
        at_ms: float,
        *,
        phase: int,
        rows: int | None = None,
        reply: Reply | None = None,
        error: ServerError | None = None,
    ) -> None:
        event = Event(
            at_ms=round(at_ms, 3),
            move=self.move,
            transaction=lane.name,
            attempt=lane.attempt,
            statement=lane.statement,
            sql=lane.sql,
            what=what,  # type: ignore[arg-type]
            rows=reply.rows if reply else rows,
            result=reply.result if reply else None,
            error=error,
        )
        self._events.append(((self.move, self._wave, phase, lane.index), event))

    def _note_waits(self, graph: WaitGraph, at_ms: float) -> bool:
        """Open and close waits so that they match ``graph``. Returns whether anything changed."""
        changed = False
        for lane in self.lanes.values():
            if not lane.under_way:
                continue
            edges = {edge.key: edge for edge in graph.waits_of(lane.name)}
            known = {_key(self.waits[i]): i for i in lane.waits}
            gone = [i for key, i in known.items() if key not in edges]
            for i in gone:
                self._close(i, at_ms, "went on")
                lane.waits.remove(i)
            fresh = [edge for key, edge in edges.items() if key not in known]
            for edge in sorted(fresh, key=lambda edge: edge.key):
                self._open(lane, edge, at_ms)
            if fresh:
                self._note(lane, "waits", at_ms, phase=4)
            changed = changed or bool(gone or fresh)
        return changed

    def _open(self, lane: Lane, edge: Edge, at_ms: float) -> None:
        lane.waits.append(len(self.waits))
        since = at_ms if edge.since_ms is None else max(min(edge.since_ms, at_ms), lane.sent_ms)
        self.waits.append(
            Wait(
                waiter=edge.waiter,
                attempt=lane.attempt,
                statement=lane.statement,
                holder=edge.holder,
                holder_statement=None,
                resource=edge.resource,
                wanted=edge.wanted,
                held=edge.held,
                queued=edge.queued,
                move=self.move,
                since_ms=round(since, 3),
            )
        )

    def _close(self, index: int, at_ms: float, ended: WaitEnd) -> None:
        self.waits[index] = replace(self.waits[index], until_ms=round(at_ms, 3), ended=ended)

    def _note_cycles(self, graph: WaitGraph, at_ms: float, mover: Lane) -> None:
        standing = []
        for edges in graph.cycles():
            members = frozenset(edge.waiter for edge in edges)
            standing.append(members)
            if not any(cycle.pending and cycle.members == members for cycle in self.cycles):
                closer = mover.name if mover.name in members else max(members, key=self._waiting_since)
                self.cycles.append(Cycle(edges, self.move, at_ms, closer))
        for cycle in self.cycles:
            if cycle.pending and cycle.members not in standing:
                cycle.pending = False  # the server let it go by without a victim: it rearranged a queue

    def _waiting_since(self, name: str) -> float:
        return max((self.waits[i].since_ms for i in self.lanes[name].waits), default=0.0)

    def _on_reply(self, lane: Lane, reply: Reply, at_ms: float, mover: Lane) -> Steps:
        cut = lane.limit_hit or any(c.ended_by_us and c.closer == lane.name for c in self.cycles if c.pending)
        if reply.error is None and not cut:
            self._succeed(lane, reply, at_ms, mover)
            return
        error = reply.error or ServerError(code="", kind="limit", message="")  # some functions just return when cut
        if error.kind == "deadlock":
            self._verdict(lane, reply, at_ms, mover)
        elif cut:
            error = self._ended_by_us(lane, error, at_ms)
        for i in lane.waits:
            self._close(i, at_ms, "failed")
        lane.waits.clear()
        self._note(lane, "failed", at_ms, phase=2, error=error)
        self._moved.completed.append((lane.name, lane.statement))
        self._moved.undone.append(lane.name)
        lane.under_way = False
        if error.kind != "lost":
            yield Undo(lane.name)
            rollback = Move(number=self.move, transaction=lane.name, statement=None, ends="rollback")
            self.schedule.append(rollback)
        self._after_failure(lane, error, at_ms)

    def _succeed(self, lane: Lane, reply: Reply, at_ms: float, mover: Lane) -> None:
        phase = 1 if lane is mover and not lane.waits else 3
        if lane.waits:
            for i in lane.waits:
                self._close(i, at_ms, "went on")
            lane.waits.clear()
            self._note(lane, "resumed", at_ms, phase=phase)
        self._note(lane, "done", at_ms, phase=phase, reply=reply)
        self._moved.completed.append((lane.name, lane.statement))
        lane.under_way = False
        if lane.statement is None:
            lane.over = True
            lane.status = "committed" if lane.transaction.ends == "commit" else "rolled back"
            return
        lane.next += 1
        lane.over = lane.statement is None and lane.transaction.ends == "open"

    def _after_failure(self, lane: Lane, error: ServerError, at_ms: float) -> None:
        retry = lane.transaction.retry
        if retry is not None and error.kind in retry.on and lane.attempt <= retry.times:
            lane.attempt += 1
            lane.next, lane.begun = 0, False
            lane.idle_until_ms = at_ms + retry.pause if retry.pause else 0.0
            return
        lane.over, lane.status = True, "failed"

    def _verdict(self, lane: Lane, reply: Reply, at_ms: float, mover: Lane) -> None:
        """The server gave ``lane`` up. Its report fills in what fell between two looks."""
        cycle = next((c for c in self.cycles if c.pending and lane.name in c.members), None)
        if cycle is None:
            self.surprised = True
            seen = {(self.waits[i].waiter, self.waits[i].holder) for i in self._open_waits()}
            for edge in reply.edges:
                known = edge.waiter in self.lanes and self.lanes[edge.waiter].under_way
                if known and (edge.waiter, edge.holder) not in seen:
                    # no look saw it begin; it began when the statement came to it, at the earliest when it was sent
                    self._open(self.lanes[edge.waiter], replace(edge, since_ms=self.lanes[edge.waiter].sent_ms), at_ms)
                    self._note(self.lanes[edge.waiter], "waits", at_ms, phase=4)
            self._wave += 1
            found = [c for c in self.graph().cycles() if lane.name in {edge.waiter for edge in c}]
            cycle = Cycle(found[0] if found else self._closed(lane.name, reply.edges), self.move, at_ms, mover.name)
            self.cycles.append(cycle)
        cycle.victim, cycle.verdict_ms, cycle.pending = lane.name, at_ms, False
        cycle.error, cycle.report = reply.error, reply.report

    def _closed(self, victim: str, edges: tuple[Edge, ...]) -> tuple[Edge, ...]:
        """The reported edges as a ring; a wait that nobody reported, and no look saw, closes it where it is missing."""
        path = [edge for edge in edges if edge.waiter == victim][:1]
        while path and path[-1].holder != victim:
            following = next((e for e in edges if e.waiter == path[-1].holder and e not in path), None)
            missing = Edge(waiter=path[-1].holder, holder=victim, resource=NOT_SEEN, wanted="", held=None)
            path.append(following or missing)
        return tuple(path)

    def _open_waits(self) -> list[int]:
        return [i for lane in self.lanes.values() for i in lane.waits]

    def _ended_by_us(self, lane: Lane, error: ServerError, at_ms: float) -> ServerError:
        for cycle in self.cycles:
            if cycle.pending and cycle.ended_by_us and cycle.closer == lane.name:
                cycle.victim, cycle.verdict_ms, cycle.pending = lane.name, None, False
                note = f"the server did not end this deadlock within {self.verdict_ms(cycle.edges):g} ms; Catenum did"
                return replace(error, kind="deadlock", message=note)
        limit = f"still working after {self.limit_ms / 1000:g} s, the limit (--statement-limit); Catenum ended it"
        return replace(error, kind="limit", message=limit)


def _key(wait: Wait) -> tuple[str, str, str, bool]:
    return (wait.waiter, wait.holder, wait.resource.text, wait.queued)
