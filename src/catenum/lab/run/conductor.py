"""The order of moves, as a generator that yields what it needs and never touches a socket or a clock.

    Begin, Send, Undo, Cancel   do this on a transaction's session
    Await                       report replies, waiting at most so long
    Look                        report who waits for whom
    TakePicture, Announce, Rest what their names say

A move is over when everything is settled: every statement under way has either been answered, or the server says that
it waits for a lock, in a check taken after the last thing that happened. Statements that merely take long are given
their time. Nothing here depends on how long anything takes, with one exception that makes runs repeatable: a
transaction with a lock timeout of its own is given the time to run into it before the next move is made. So one
schedule has one outcome.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Sequence
from dataclasses import replace
from typing import Literal

from catenum.core.record.recording import Move, ServerError
from catenum.core.record.values import NOTHING, NULL, Value
from catenum.core.record.waits import Edge, WaitGraph
from catenum.core.scenario.conditions import Comparison, ConditionError, MissingValue
from catenum.core.scenario.model import Scenario, Statement
from catenum.core.space.moves import MoveResult
from catenum.engines.ports import Beginning, Patience, Reply
from catenum.lab.run.choosing import Choice
from catenum.lab.run.journal import Journal
from catenum.lab.run.lanes import Guide, Lane, OpenDeadlock
from catenum.lab.run.needs import Announce, Answer, Await, Begin, Cancel, Look, Need, Rest, Send, TakePicture, Undo

Steps = Generator[Need, Answer, None]
Situation = tuple[object, ...]

#: The first wait for a reply before looking, how much longer each following one is, and the longest (ms).
FIRST_WAIT_MS, GROWTH, LONGEST_WAIT_MS = 0.2, 1.5, 4.0
#: Before the first look a statement is given a part of what a look takes, and no longer than this: most are over by
#: then, and the look would only keep their replies waiting.
FIRST_WAIT, MOST_FIRST_WAIT_MS = 0.6, 2.0
VERDICT_WAIT_MS = 25.0
#: A statement that goes on for so long (ms) after it was cancelled is ended with its session.
STUBBORN_MS = 3_000.0
CHECK_TAKES_MS = 6.0


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
        verdict_ms: Callable[[Sequence[Edge]], float] = lambda cycle: 10_000.0,
        pictures: bool = False,
        guide: Guide | None = None,
        check_ms: float = 0.0,
        value_names: Callable[[str], tuple[str, ...]] = lambda sql: (),
        limits_waits: Callable[[str], bool] = lambda sql: False,
        is_duplicate: Callable[[str], bool] = lambda code: False,
        waited: set[Situation] | None = None,
    ) -> None:
        """``check_ms``: how long after its wait began a possible closer of cycles checks; its check is waited for.

        ``value_names`` gives the names of a statement's parameters; ``limits_waits`` tells whether one sets a limit on
        the waits that come after it; ``is_duplicate``, whether an error's code means that a key exists. ``waited``:
        where a statement had to wait in earlier schedules; this one adds its
        own. Nothing but how soon a check is made depends on that.
        """
        self.check_ms, self.value_names, self.limits_waits = check_ms, value_names, limits_waits
        self.is_duplicate = is_duplicate
        self.guide = guide
        self.lanes = {
            name: Lane(name, transaction, index)
            for index, (name, transaction) in enumerate(scenario.transactions.items())
        }
        self.journal = Journal(self.lanes)
        self.choice = Choice(self.lanes, order, guide, self.journal)
        self.victim, self.limit_ms, self.verdict_ms, self.pictures = victim, limit_ms, verdict_ms, pictures
        self.stuck = False
        self.surprised = False  # a verdict came for a cycle that no check had seen closed
        self._moved = MoveResult("", None)
        self._waited: set[Situation] = set() if waited is None else waited
        self._look_ms = 1.0  # what the last look took; of the first it is not known yet

    @property
    def broken_off(self) -> bool:
        """Whether the guide ended the run before all moves were made."""
        return self.choice.broken_off

    def steps(self) -> Steps:
        """The run, as needs."""
        while (lane := self.choice.next()) is not None:
            yield from self._make_move(lane)
            if self.guide is not None:
                self._moved.holders = frozenset(self.journal.waits[i].holder for i in lane.waits)
                self._moved.waits = self.journal.who_waits()
                self.guide.moved(self._moved)
        self.stuck = not self.broken_off and any(lane.under_way for lane in self.lanes.values())
        for lane in self.lanes.values():
            if lane.under_way:
                lane.status = "cut off"

    # -- choosing ----------------------------------------------------------------------------------------------------

    def _patience(self, lane: Lane) -> Patience:
        """Only a transaction that others wait for can close a cycle.

        Unless another was chosen, it is the one to check first.
        """
        closes = bool(self.journal.open_waits()) and bool(self.journal.graph().held_up_by(lane.name))
        if self.victim is None:
            return Patience.FIRST if closes else Patience.LAST
        if lane.name != self.victim:
            return Patience.LAST
        return Patience.FIRST if closes else Patience.CHOSEN

    # -- moving ------------------------------------------------------------------------------------------------------

    def _make_move(self, lane: Lane) -> Steps:
        self.journal.move += 1
        self.journal.wave = 0
        self._moved = MoveResult(lane.name, lane.statement)
        if self.guide is None:
            yield Announce(self.journal.move, lane.name, lane.sql)
        if lane.idle_until_ms:
            yield Rest(lane.idle_until_ms)
            lane.idle_until_ms = 0.0
        if (yield from self._decide(lane)):
            return
        if not lane.begun and not (yield from self._begin(lane)):
            return
        lane.patience = self._patience(lane)
        self.journal.schedule.append(
            Move(
                number=self.journal.move,
                transaction=lane.name,
                statement=lane.statement,
                ends=None if lane.statement else lane.ends,
            )
        )
        answer = yield Send(lane.name, lane.sql, lane.patience, self._moved.bound)
        lane.under_way, lane.sent_ms = True, answer.at_ms
        lane.limit_hit = lane.killed = False
        self.journal.note(lane, "sent", answer.at_ms, phase=0, values=self._moved.bound)
        yield from self._settle(lane)
        if self.pictures:
            answer = yield TakePicture(self.journal.move)
            if answer.picture is not None:
                self.journal.taken.append(answer.picture)

    def _decide(self, lane: Lane) -> Generator[Need, Answer, bool]:
        """Whether the move is over without a statement: its condition is not true, or a value is missing."""
        statement = lane.upcoming
        if statement is None:
            return False
        key: Literal["sql", "when"] = "when"
        try:
            comparison = lane.carried.undecided(statement)
            key = "sql"
            bound = lane.carried.bound(self.value_names(statement.text)) if comparison is None else NOTHING
        except MissingValue as missing:
            yield from self._fault(lane, key, lane.carried.why_missing(missing.name))
            return True
        except ConditionError as error:
            yield from self._fault(lane, key, str(error))
            return True
        self._moved.bound = bound
        if comparison is None:
            return False
        return (yield from self._pass_over(lane, statement, comparison))

    def _pass_over(self, lane: Lane, statement: Statement, comparison: Comparison) -> Generator[Need, Answer, bool]:
        """The statement is not run. Returns whether that was all: ``otherwise`` may end the transaction."""
        answer = yield Rest(0.0)
        sides = (side for side in (comparison.left, comparison.right) if side is not None and side.name is not None)
        values = tuple((str(side.name), lane.carried.values.get(str(side.name), NULL)) for side in sides)
        self.journal.note(lane, "passed", answer.at_ms, phase=0, values=values, condition=str(comparison))
        self.journal.schedule.append(Move(number=self.journal.move, transaction=lane.name, statement=lane.statement))
        self._moved.completed.append((lane.name, lane.statement))
        self._moved.passed = True
        end = statement.otherwise or "skip"
        lane.pass_over(statement)
        if end == "skip":
            return True
        lane.decided, lane.next, lane.over = end, len(lane.transaction.statements), False
        if not lane.begun:  # there is nothing to end yet
            lane.over, lane.status = True, "committed" if end == "commit" else "rolled back"
            self._moved.completed.append((lane.name, None))
            return True
        return False

    def _fault(self, lane: Lane, key: Literal["sql", "when"], message: str) -> Steps:
        """The transaction cannot go on by what the scenario says: no server was asked."""
        self.journal.schedule.append(Move(number=self.journal.move, transaction=lane.name, statement=lane.statement))
        answer = yield Rest(0.0)
        yield from self._fail(lane, ServerError(code="", kind="rejected", message=message, key=key), answer.at_ms)

    def _begin(self, lane: Lane) -> Generator[Need, Answer, bool]:
        how = Beginning(
            isolation=lane.transaction.isolation,
            access=lane.transaction.access,
            timeout_ms=lane.transaction.timeout,
        )
        answer = yield Begin(lane.name, how)
        if answer.begun is None:
            self.journal.note(lane, "failed", answer.at_ms, phase=2, error=answer.error)
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
        situation = self._situation(mover)
        pause = first = max(FIRST_WAIT_MS, min(self._look_ms * FIRST_WAIT, MOST_FIRST_WAIT_MS))
        if situation in self._waited:
            pause = FIRST_WAIT_MS
        batch: dict[str, tuple[Reply, float]] = {}
        while under_way := [lane for lane in self.lanes.values() if lane.under_way]:
            graph, seen_ms = WaitGraph(), 0.0
            open_still = [lane for lane in under_way if lane.name not in batch]
            if open_still:
                answer = yield Await(pause)
                batch.update({name: (reply, answer.at_ms) for name, reply in answer.replies})
                pause = first if answer.replies else pause
                open_still = [lane for lane in open_still if lane.name not in batch]
                if open_still and any(self._lets_go(name, reply) for name, reply in answer.replies):
                    continue  # whoever waited for it is about to answer: a check would only be in the way
            if open_still:
                asked_ms = answer.at_ms
                sight = yield Look()
                self._look_ms = sight.at_ms - asked_ms
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
            if mover.under_way:
                self._waited.add(situation)
            if (yield from self._is_settled(graph, seen_ms, mover)):
                return
            pause = VERDICT_WAIT_MS

    def _situation(self, mover: Lane) -> Situation:
        """Whose move it is, and how far the others are."""
        others = (lane for lane in self.lanes.values() if lane is not mover)
        return (mover.name, mover.next, *((lane.next, lane.begun, lane.under_way, lane.over) for lane in others))

    def _lets_go(self, name: str, reply: Reply) -> bool:
        """Whether a transaction's locks are gone with this reply."""
        if reply.error is not None:
            return reply.error.kind == "deadlock"
        return self.lanes[name].sql in ("commit", "rollback")

    def _keep_limit(self, working: list[Lane], now_ms: float) -> Steps:
        for lane in working:
            if now_ms - lane.sent_ms > self.limit_ms and not lane.limit_hit:
                lane.limit_hit = True
                yield Cancel(lane.name)
            elif now_ms - lane.sent_ms > self.limit_ms + STUBBORN_MS and not lane.killed:
                lane.killed = True
                yield Cancel(lane.name, whole=True)

    def _is_settled(self, graph: WaitGraph, now_ms: float, mover: Lane) -> Generator[Need, Answer, bool]:
        """Everybody under way waits. Note it; settled unless a cycle or a lock timeout will end some wait by itself."""
        if self.journal.note_waits(graph, now_ms):
            self.journal.wave += 1
        self.journal.note_cycles(graph, now_ms, mover)
        pending = [cycle for cycle in self.journal.cycles if cycle.pending]
        for cycle in pending:
            if now_ms - cycle.at_ms > self.verdict_ms(cycle.edges) and not cycle.ended_by_us:
                cycle.ended_by_us = True
                yield Cancel(cycle.closer)
        if self.check_ms and mover.under_way and mover.patience is Patience.FIRST and not pending:
            # Its check must be over before the next move, or it could fall for a cycle that another closes.
            yield Rest(mover.sent_ms + self.check_ms + CHECK_TAKES_MS)
        timed = any(lane.under_way and lane.timed for lane in self.lanes.values())
        return not pending and not timed

    # -- what happened -----------------------------------------------------------------------------------------------

    def _on_reply(self, lane: Lane, reply: Reply, at_ms: float, mover: Lane) -> Steps:
        cut = lane.limit_hit or any(c.ended_by_us and c.closer == lane.name for c in self.journal.cycles if c.pending)
        if reply.error is None and not cut:
            yield from self._succeed(lane, reply, at_ms, mover)
            return
        error = reply.error or ServerError(code="", kind="limit", message="")  # some functions just return when cut
        if error.kind == "deadlock":
            self._verdict(lane, reply, at_ms, mover)
        elif cut:
            error = self._ended_by_us(lane, error, at_ms)
        for i in lane.waits:
            self.journal.close(i, at_ms, "failed")
        lane.waits.clear()
        yield from self._fail(lane, error, at_ms)

    def _fail(self, lane: Lane, error: ServerError, at_ms: float, *, phase: int = 2) -> Steps:
        """Note the failure and roll the transaction back; then it is over, or begins again."""
        self.journal.note(lane, "failed", at_ms, phase=phase, error=error)
        self._moved.completed.append((lane.name, lane.statement))
        self._moved.undone.append(lane.name)
        lane.under_way = False
        if error.kind != "lost" and lane.begun:
            yield Undo(lane.name)
            rollback = Move(number=self.journal.move, transaction=lane.name, statement=None, ends="rollback")
            self.journal.schedule.append(rollback)
        self._after_failure(lane, error, at_ms)

    def _succeed(self, lane: Lane, reply: Reply, at_ms: float, mover: Lane) -> Steps:
        phase = 1 if lane is mover and not lane.waits else 3
        if lane.waits:
            for i in lane.waits:
                self.journal.close(i, at_ms, "went on")
            lane.waits.clear()
            self.journal.note(lane, "resumed", at_ms, phase=phase)
        lane.limits_itself = lane.limits_itself or self.limits_waits(lane.sql)
        try:
            kept = self._kept(lane, reply)
        except ValueError as error:
            fault = ServerError(code="", kind="rejected", message=str(error), key="keep")
            yield from self._fail(lane, fault, at_ms)
            return
        self.journal.note(lane, "done", at_ms, phase=phase, reply=reply, kept=tuple(kept.items()))
        lacking = self._lacking(lane, reply)
        if lacking is not None:
            yield from self._fail(lane, lacking, at_ms, phase=phase)
            return
        self._moved.completed.append((lane.name, lane.statement))
        self._moved.rows[lane.name, lane.statement] = reply.rows
        lane.under_way = False
        if lane.statement is None:
            lane.over = True
            lane.status = "committed" if lane.ends == "commit" else "rolled back"
            if lane.status == "committed":
                self._moved.committed.append(lane.name)
            return
        lane.next += 1
        lane.over = lane.statement is None and lane.ends == "open"

    def _kept(self, lane: Lane, reply: Reply) -> dict[str, Value]:
        if lane.upcoming is None:
            return {}
        return lane.carried.keep(lane.upcoming, lane.next + 1, reply.rows, reply.result)

    def _lacking(self, lane: Lane, reply: Reply) -> ServerError | None:
        """The refusal of a statement that is done but did not bring what it requires."""
        if lane.upcoming is None:
            return None
        try:
            lacking = lane.carried.lacking(lane.upcoming, reply.rows)
        except MissingValue as missing:
            return ServerError(code="", kind="rejected", message=lane.carried.why_missing(missing.name), key="require")
        except ConditionError as error:
            return ServerError(code="", kind="rejected", message=str(error), key="require")
        if lacking is None:
            return None
        message = lane.carried.said_of(lacking, reply.rows)
        return ServerError(code="", kind="refused", message=message, check="required")

    def _after_failure(self, lane: Lane, error: ServerError, at_ms: float) -> None:
        retry = lane.transaction.retry
        kinds = {error.kind, "duplicate"} if self.is_duplicate(error.code) else {error.kind}
        if retry is not None and kinds & set(retry.on) and lane.attempt <= retry.times:
            lane.begin_again()
            lane.idle_until_ms = at_ms + retry.pause if retry.pause else 0.0
            return
        lane.over, lane.status = True, "failed"

    def _verdict(self, lane: Lane, reply: Reply, at_ms: float, mover: Lane) -> None:
        """The server gave ``lane`` up. Its report fills in what fell between two checks."""
        cycle = next((c for c in self.journal.cycles if c.pending and lane.name in c.members), None)
        reported = [c for c in WaitGraph(reply.edges).cycles() if lane.name in {edge.waiter for edge in c}]
        whole = bool(reported) and all(edge.held is not None for edge in reported[0])
        if cycle is not None and whole and {edge.waiter for edge in reported[0]} == cycle.members:
            cycle.edges = reported[0]  # what the server says of it counts, not what was seen on the way
        if cycle is None:
            self.surprised = True
            seen = {(self.journal.waits[i].waiter, self.journal.waits[i].holder) for i in self.journal.open_waits()}
            for edge in reply.edges:
                known = edge.waiter in self.lanes and self.lanes[edge.waiter].under_way
                if known and (edge.waiter, edge.holder) not in seen:
                    # no check saw it begin; it began when the statement came to it, at the earliest when it was sent
                    self.journal.open(
                        self.lanes[edge.waiter], replace(edge, since_ms=self.lanes[edge.waiter].sent_ms), at_ms
                    )
                    self.journal.note(self.lanes[edge.waiter], "waits", at_ms, phase=4)
            self.journal.wave += 1
            found = [c for c in self.journal.graph().cycles() if lane.name in {edge.waiter for edge in c}]
            cycle = OpenDeadlock(
                found[0] if found else self.journal.closed(lane.name, reply.edges),
                self.journal.move,
                at_ms,
                mover.name,
                {other.name: other.statement for other in self.lanes.values() if other.under_way or other is lane},
                {other.name: other.attempt for other in self.lanes.values()},
            )
            self.journal.cycles.append(cycle)
        cycle.victim, cycle.verdict_ms, cycle.pending = lane.name, at_ms, False
        cycle.error, cycle.report = reply.error, reply.report
        self.journal.forget_takers(self.journal.move)

    def _ended_by_us(self, lane: Lane, error: ServerError, at_ms: float) -> ServerError:
        for cycle in self.journal.cycles:
            if cycle.pending and cycle.ended_by_us and cycle.closer == lane.name:
                cycle.victim, cycle.verdict_ms, cycle.pending = lane.name, None, False
                note = f"the server did not end this deadlock within {self.verdict_ms(cycle.edges):g} ms; Catenum did"
                return replace(error, kind="deadlock", message=note)
        limit = f"still working after {self.limit_ms / 1000:g} s, the limit (--statement-limit); Catenum ended it"
        return replace(error, kind="limit", message=limit)
