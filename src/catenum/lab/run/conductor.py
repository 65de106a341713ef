"""The order of moves, as a generator that yields what it needs and never touches a socket or a
clock.

    Begin, Send, Undo, Cancel   do this on a transaction's session
    Await                       report replies, waiting at most so long
    Look                        report who waits for whom
    TakePicture, Announce, Rest what their names say

A move is over when everything is settled: every statement under way has either been answered, or
the server says that it waits for a lock, in a check taken after the last thing that happened.
Statements that merely take long are given their time. Nothing here depends on how long anything
takes, with one exception that makes runs repeatable: a transaction with a lock timeout of its own
is given the time to run into it before the next move is made. So one schedule has one outcome.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Generator, Sequence
from dataclasses import replace
from typing import Literal

from catenum.core.record.outcome import is_caught
from catenum.core.record.recording import AfterFailure, Move, ServerError, Wait, WaitEnd
from catenum.core.record.values import NOTHING, NULL, Binding, Value
from catenum.core.record.waits import Edge, WaitGraph
from catenum.core.scenario.conditions import Comparison, ConditionError, MissingValue
from catenum.core.scenario.model import ROLL_BACK, NextStep, Scenario, Statement
from catenum.core.servers import Rules
from catenum.core.space.moves import MoveResult
from catenum.engines.ports import Beginning, Patience, Reply
from catenum.lab.run.choosing import Choice
from catenum.lab.run.event_log import EventLog
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
from catenum.lab.run.transaction_state import Guide, OpenDeadlock, TransactionState

Steps = Generator[Request, Answer, None]
Situation = tuple[object, ...]

#: The first wait for a reply before looking, how much longer each following one is, and the longest
#: (ms).
FIRST_WAIT_MS, GROWTH, LONGEST_WAIT_MS = 0.2, 1.5, 4.0
#: Before the first look a statement is given a part of what a look takes, and no longer than this:
#: most are over by then, and the look would only keep their replies waiting.
FIRST_WAIT, MOST_FIRST_WAIT_MS = 0.6, 2.0
VERDICT_WAIT_MS = 25.0
#: A statement that goes on for so long (ms) after it was cancelled is ended with its session.
STUBBORN_MS = 3_000.0
CHECK_TAKES_MS = 6.0
#: In place of a lock timeout that runs out when the order says so: an hour.
NEVER_MS = 3_600_000
RAN_OUT = "lock timeout (by the order: Catenum cancelled the statement in its place)"
ENDS_BY_ITSELF = ServerError(
    code="",
    kind="rejected",
    undone="nothing",
    message=(
        "it ended its transaction by itself: what came before it is committed or rolled back"
        " already, and the statements after it would not be in that transaction"
    ),
    hint="Put what comes after it in a transaction of its own, with the key 'connection'.",
    key="sql",
)


class Conductor:
    """Makes the moves of one schedule, and keeps what happened.

    The schedule is ``order``, or what ``guide`` chooses move by move.
    """

    def __init__(
        self,
        scenario: Scenario,
        order: Sequence[str],
        rules: Rules,
        *,
        victim: str | None = None,
        limit_ms: float = 60_000.0,
        verdict_ms: Callable[[Sequence[Edge]], float] = lambda cycle: 10_000.0,
        pictures: bool = False,
        guide: Guide | None = None,
        check_ms: float = 0.0,
        waited: set[Situation] | None = None,
        among: Collection[str] | None = None,
        catches_errors: bool = False,
    ) -> None:
        """``check_ms``: how long after its wait began a possible closer of cycles checks; its check
        is waited for.

        ``waited``: where a statement had to wait in earlier schedules; this one adds its own.
        Nothing but how soon a check is made depends on that. ``among``: the transactions that are
        made, where not all are; they wait for no other on their connection. ``catches_errors``:
        code of the scenario may catch a deadlock, with which the server ends a transaction.
        """
        self.catches_errors = catches_errors
        self.ended_by_itself: list[tuple[str, int]] = []  # statements that ended their transaction
        self.check_ms, self.guide = check_ms, guide
        self._sql, self._errors = rules.sql, rules.errors
        self._limited = {
            name
            for name in scenario.transactions
            if any(map(rules.sql.limits_waits, scenario.before_on_connection(name)))
        }
        #: Whose sessions the server may end, when their clients are silent for long.
        self.may_end = {
            name
            for name in scenario.transactions
            if any(map(rules.sql.limits_silence, scenario.texts_on_connection(name)))
        }
        self.states = {
            name: TransactionState(name, transaction, index, limits_itself=name in self._limited)
            for index, (name, transaction) in enumerate(scenario.transactions.items())
        }
        for name, before in scenario.previous.items():
            while before and among is not None and before not in among:
                before = scenario.previous.get(before, "")
            self.states[name].previous = self.states.get(before)
        self.by_order = scenario.timeouts == "by order"
        self.ran_out_early = False  # a timeout ran out before its turn
        self._running_out: TransactionState | None = None
        self.log = EventLog(self.states)
        self.choice = Choice(self.states, order, guide, self.log, by_order=self.by_order)
        self.victim, self.limit_ms, self.verdict_ms, self.pictures = (
            victim,
            limit_ms,
            verdict_ms,
            pictures,
        )
        self.stuck = False
        self.lost: set[str] = set()  # transactions whose session was ended from outside, or closed
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
        while (state := self.choice.next()) is not None:
            if state.under_way:
                yield from self._let_run_out(state)
            else:
                yield from self._make_move(state)
            if self.guide is not None:
                self._moved.holders = frozenset(self.log.waits[i].holder for i in state.waits)
                self._moved.waits = self.log.who_waits()
                self.guide.moved(self._moved)
        self.stuck = not self.broken_off and any(state.under_way for state in self.states.values())
        for state in self.states.values():
            if state.under_way:
                state.status = "cut off"

    # -- choosing ----------------------------------------------------------------------------------

    def _patience(self, state: TransactionState) -> Patience:
        """Only a transaction that others wait for can close a cycle.

        Unless another was chosen, it is the one to check first.
        """
        closes = bool(self.log.open_waits()) and bool(self.log.graph().held_up_by(state.name))
        if self.victim is None:
            return Patience.FIRST if closes else Patience.LAST
        if state.name != self.victim:
            return Patience.LAST
        return Patience.FIRST if closes else Patience.CHOSEN

    # -- moving ------------------------------------------------------------------------------------

    def _let_run_out(self, state: TransactionState) -> Steps:
        """The lock timeout of a statement that waits runs out now: that is the move."""
        self.log.move += 1
        self.log.wave = 0
        self._moved = MoveResult(state.name, state.statement)
        if self.guide is None:
            yield Announce(self.log.move, state.name, f"its lock timeout runs out: {state.sql}")
        self._note_move(state)
        self._running_out = state
        yield Cancel(state.name)
        yield from self._settle(state)
        self._running_out = None
        if self.pictures:
            yield from self._take_picture()

    def _make_move(self, state: TransactionState) -> Steps:
        self.log.move += 1
        self.log.wave = 0
        self._moved = MoveResult(state.name, state.statement)
        if self.guide is None:
            yield Announce(self.log.move, state.name, state.sql)
        if state.idle_until_ms:
            yield Sleep(state.idle_until_ms)
            state.idle_until_ms = 0.0
        if (yield from self._decide(state)):
            return
        by_itself = not state.begun and state.transaction.begins is not None
        if not state.begun and not (yield from self._begin(state, noted=by_itself)):
            return
        if by_itself:
            return
        state.patience = self._patience(state)
        statement = state.upcoming
        if statement is None and state.ends == "close":
            yield from self._lose(state, state, "closed")
            return
        if statement is not None and statement.kill is not None:
            yield from self._lose(state, self.states[statement.kill], "killed")
            return
        self._note_move(state)
        yield from self._send(state, self._moved.bound, phase=0)
        yield from self._settle(state)
        if self.pictures:
            yield from self._take_picture()

    def _note_move(self, state: TransactionState) -> None:
        ends = None if state.statement else state.ends
        self.log.schedule.append(
            Move(number=self.log.move, transaction=state.name, statement=state.statement, ends=ends)
        )

    def _send(self, state: TransactionState, bound: Binding, *, phase: int) -> Steps:
        answer = yield Send(state.name, state.sql, state.patience or Patience.LAST, bound)
        state.under_way, state.sent_ms = True, answer.at_ms
        state.limit_hit = state.killed = False
        self.log.note(state, "sent", answer.at_ms, phase=phase, values=bound)

    def _send_at_once(self, state: TransactionState, phase: int) -> Steps:
        """What was sent with the statement that has just been answered, and is run now."""
        statement = state.upcoming
        if statement is None or not statement.at_once:
            return
        try:
            bound = state.carried.bound(self._sql.value_names(statement.text))
        except MissingValue as missing:
            why = state.carried.why_missing(missing.name)
            yield from self._fault(state, "sql", why)
            return
        self._note_move(state)
        yield from self._send(state, bound, phase=phase)

    def _lose(
        self, state: TransactionState, lost: TransactionState, how: Literal["killed", "closed"]
    ) -> Steps:
        """The move of ``state`` ends the session of ``lost``: that of another, or its own."""
        self._note_move(state)
        answer = yield Sleep(0.0)
        self.log.note(state, "sent", answer.at_ms, phase=0)
        answer = yield Lose(lost.name, how)
        self.lost.add(lost.name)
        self.log.note(state, "done", answer.at_ms, phase=1)
        self._moved.completed.append((state.name, state.statement))
        self._moved.released.append(lost.name)
        if lost is state:
            state.over, state.status = True, "rolled back"
        else:
            self._advance(state)
            if lost.over and lost.status == "left open":
                lost.status = "killed"
        yield from self._settle(state)
        if self.pictures:
            yield from self._take_picture()

    def _take_picture(self) -> Steps:
        answer = yield TakePicture(self.log.move)
        if answer.picture is not None:
            self.log.taken.append(answer.picture)

    def _decide(self, state: TransactionState) -> Generator[Request, Answer, bool]:
        """Whether the move is over without a statement: its condition is not true, or a value is
        missing.
        """
        statement = state.upcoming
        if statement is None:
            return False
        key: Literal["sql", "when"] = "when"
        try:
            comparison = state.carried.undecided(statement)
            key = "sql"
            bound = (
                state.carried.bound(self._sql.value_names(statement.text))
                if comparison is None
                else NOTHING
            )
        except MissingValue as missing:
            yield from self._fault(state, key, state.carried.why_missing(missing.name))
            return True
        except ConditionError as error:
            yield from self._fault(state, key, str(error))
            return True
        self._moved.bound = bound
        if comparison is None:
            return False
        return (yield from self._pass_over(state, statement, comparison))

    def _pass_over(
        self, state: TransactionState, statement: Statement, comparison: Comparison
    ) -> Generator[Request, Answer, bool]:
        """The statement is not run. Returns whether that was all: ``otherwise`` may end the
        transaction.
        """
        answer = yield Sleep(0.0)
        sides = (
            side
            for side in (comparison.left, comparison.right)
            if side is not None and side.name is not None
        )
        values = tuple(
            (str(side.name), state.carried.values.get(str(side.name), NULL)) for side in sides
        )
        self.log.note(
            state, "passed", answer.at_ms, phase=0, values=values, condition=str(comparison)
        )
        self._note_move(state)
        self._moved.completed.append((state.name, state.statement))
        self._moved.passed = True
        end = statement.otherwise or "skip"
        state.pass_over(statement)
        if end == "skip":
            return True
        state.decided, state.next, state.over = end, len(state.transaction.statements), False
        if not state.begun:  # there is nothing to end yet
            state.over, state.status = True, "committed" if end == "commit" else "rolled back"
            self._moved.completed.append((state.name, None))
            return True
        return False

    def _fault(self, state: TransactionState, key: Literal["sql", "when"], message: str) -> Steps:
        """The transaction cannot go on by what the scenario says: no server was asked."""
        self._note_move(state)
        answer = yield Sleep(0.0)
        yield from self._fail(
            state, ServerError(code="", kind="rejected", message=message, key=key), answer.at_ms
        )

    def _begin(self, state: TransactionState, *, noted: bool) -> Generator[Request, Answer, bool]:
        """Whether the transaction could begin. ``noted``: its beginning is a move of its own."""
        if noted:
            self._note_move(state)
            answer = yield Sleep(0.0)
            self.log.note(state, "sent", answer.at_ms, phase=0)
        waits_long = self.by_order and state.timed
        how = Beginning(
            isolation=state.transaction.isolation,
            access=state.transaction.access,
            timeout_ms=NEVER_MS if waits_long else state.transaction.timeout,
            limits_itself=state.name in self._limited and not waits_long,
            goes_on=state.transaction.goes_on,
            autocommit=state.transaction.autocommit,
            text=state.transaction.begins,
        )
        answer = yield Begin(state.name, how)
        if answer.begun is None:
            self.log.note(state, "failed", answer.at_ms, phase=2, error=answer.error)
            state.over, state.status = True, "failed"
            self._moved.undone.append(state.name)
            return False
        state.begun, state.status = True, "left open"
        state.in_transaction = not state.transaction.autocommit
        state.isolation, state.read_only = answer.begun.isolation, answer.begun.read_only
        if noted:
            self.log.note(state, "done", answer.at_ms, phase=1)
            self._moved.completed.append((state.name, state.statement))
            self._advance(state)
        return True

    def _settle(self, mover: TransactionState) -> Steps:
        """Go on until every statement under way was answered or waits, and nothing more will come
        by itself.

        Replies are taken in together once that is so, failures first: which of several reached us
        first does not count.
        """
        situation = self._situation(mover)
        pause = first = max(FIRST_WAIT_MS, min(self._look_ms * FIRST_WAIT, MOST_FIRST_WAIT_MS))
        if situation in self._waited:
            pause = FIRST_WAIT_MS
        batch: dict[str, tuple[Reply, float]] = {}
        while under_way := [state for state in self.states.values() if state.under_way]:
            graph, seen_ms = WaitGraph(), 0.0
            open_still = [state for state in under_way if state.name not in batch]
            if open_still:
                answer = yield Await(pause)
                batch.update({name: (reply, answer.at_ms) for name, reply in answer.replies})
                pause = first if answer.replies else pause
                open_still = [state for state in open_still if state.name not in batch]
                if open_still and any(self._lets_go(name, reply) for name, reply in answer.replies):
                    # whoever waited for it is about to answer: a check would only be in the way
                    continue
            if open_still:
                asked_ms = answer.at_ms
                sight = yield PollWaits()
                self._look_ms = sight.at_ms - asked_ms
                graph, seen_ms = WaitGraph(sight.edges), sight.at_ms
                working = [state for state in open_still if state.name not in graph.waiters]
                if working:
                    yield from self._keep_limit(working, seen_ms)
                    pause = min(pause * GROWTH, LONGEST_WAIT_MS)
                    continue
            undone = len(self._moved.undone)
            for name in sorted(
                batch, key=lambda name: (batch[name][0].error is None, self.states[name].index)
            ):
                reply, at_ms = batch[name]
                yield from self._on_reply(self.states[name], reply, at_ms, mover)
            batch.clear()
            if len(self._moved.undone) > undone or not open_still:
                continue  # a rollback may have let others go on since they were looked at
            if mover.under_way:
                self._waited.add(situation)
            if (yield from self._is_settled(graph, seen_ms, mover)):
                return
            pause = VERDICT_WAIT_MS

    def _situation(self, mover: TransactionState) -> Situation:
        """Whose move it is, and how far the others are."""
        others = (state for state in self.states.values() if state is not mover)
        return (
            mover.name,
            mover.next,
            *((state.next, state.begun, state.under_way, state.over) for state in others),
        )

    def _lets_go(self, name: str, reply: Reply) -> bool:
        """Whether a transaction's locks are gone with this reply."""
        if reply.error is not None:
            return reply.error.kind == "deadlock"
        return self.states[name].sql in ("commit", "rollback")

    def _keep_limit(self, working: list[TransactionState], now_ms: float) -> Steps:
        for state in working:
            if now_ms - state.sent_ms > self.limit_ms and not state.limit_hit:
                state.limit_hit = True
                yield Cancel(state.name)
            elif now_ms - state.sent_ms > self.limit_ms + STUBBORN_MS and not state.killed:
                state.killed = True
                yield Cancel(state.name, whole=True)

    def _is_settled(
        self, graph: WaitGraph, now_ms: float, mover: TransactionState
    ) -> Generator[Request, Answer, bool]:
        """Everybody under way waits. Note it; settled unless a cycle or a lock timeout will end
        some wait by itself.
        """
        if self.log.note_waits(graph, now_ms, self._how_ended):
            self.log.wave += 1
        self.log.note_cycles(graph, now_ms, mover)
        pending = [cycle for cycle in self.log.cycles if cycle.pending]
        for cycle in pending:
            if now_ms - cycle.at_ms > self.verdict_ms(cycle.edges) and not cycle.ended_by_us:
                if any(self.states[name].timed for name in cycle.members if name in self.states):
                    cycle.pending, cycle.left_to_timeout = False, True
                    continue
                cycle.ended_by_us = True
                yield Cancel(cycle.closer)
        pending = [cycle for cycle in pending if cycle.pending]
        if self.check_ms and mover.under_way and mover.patience is Patience.FIRST and not pending:
            # Its check must be over before the next move, or it could fall for a cycle that another
            # closes.
            yield Sleep(mover.sent_ms + self.check_ms + CHECK_TAKES_MS)
        timed = any(state.under_way and self._runs_out(state) for state in self.states.values())
        return not pending and not timed

    def _runs_out(self, state: TransactionState) -> bool:
        """Whether the wait of a statement under way ends by its timeout before the next move."""
        return state.timed and (not self.by_order or state is self._running_out)

    # -- what happened -----------------------------------------------------------------------------

    def _on_reply(
        self, state: TransactionState, reply: Reply, at_ms: float, mover: TransactionState
    ) -> Steps:
        reply = self._as_timeout(state, reply)
        cut = state.limit_hit or any(
            c.ended_by_us and c.closer == state.name for c in self.log.cycles if c.pending
        )
        if reply.error is None and not cut:
            yield from self._succeed(state, reply, at_ms, mover)
            return
        error = reply.error or ServerError(
            code="", kind="limit", message=""
        )  # some functions just return when cut
        if error.kind == "deadlock":
            self._verdict(state, reply, at_ms, mover)
        elif cut:
            error = self._ended_by_us(state, error)
        if error.kind == "timeout":
            self._note_timeout(state)
        for i in state.waits:
            self.log.close(i, at_ms, "failed")
        state.waits.clear()
        yield from self._fail(state, error, at_ms)

    def _as_timeout(self, state: TransactionState, reply: Reply) -> Reply:
        """A reply that a lock timeout gave, whatever the server calls it: the error says so."""
        if state is self._running_out:
            error = reply.error or ServerError(code="", kind="timeout", message="")
            return replace(reply, error=replace(error, kind="timeout", message=RAN_OUT))
        if reply.error and state.waits and reply.error.code in self._errors.time_limits:
            return replace(reply, error=replace(reply.error, kind="timeout"))
        return reply

    def _note_timeout(self, state: TransactionState) -> None:
        """A wait ran out: it may have ended a cycle, or have come before its turn."""
        for cycle in self.log.cycles:
            if cycle.left_to_timeout and cycle.victim is None and state.name in cycle.members:
                cycle.victim = state.name
        if state.waits and self.by_order and state is not self._running_out:
            self.ran_out_early = True

    def _fail(
        self, state: TransactionState, error: ServerError, at_ms: float, *, phase: int = 2
    ) -> Steps:
        """Note the failure and do what the application does after it: roll the transaction back,
        which then is over or begins again, or go on in it.
        """
        if state.transaction.autocommit and error.undone == "transaction":
            error = replace(error, undone="statement")  # which is the whole transaction
        following = self._following(state, error)
        if following.what == "back to" and (yield from self._go_back(state, following)):
            following = ROLL_BACK
        then = following.then
        self.log.note(state, "failed", at_ms, phase=phase, error=error, then=then)
        if then is not None:
            self._go_on(state, then)
            return
        self._moved.completed.append((state.name, state.statement))
        self._moved.undone.append(state.name)
        state.under_way = False
        if error.kind != "lost" and state.begun and not state.transaction.autocommit:
            yield Undo(state.name)
            rollback = Move(
                number=self.log.move, transaction=state.name, statement=None, ends="rollback"
            )
            self.log.schedule.append(rollback)
        self._after_failure(state, error, at_ms)

    def _following(self, state: TransactionState, error: ServerError) -> NextStep:
        """What the application does after the error. A lost connection, or a fault of the
        scenario's own, leaves nothing to go on in.
        """
        own = error.key is not None or error.check == "required"
        if error.kind in ("lost", "limit") or own or not state.begun:
            return ROLL_BACK
        return state.after(self._kinds(error))

    def _go_back(self, state: TransactionState, to: NextStep) -> Generator[Request, Answer, bool]:
        """Return to the savepoint; whether the server refused that, having undone the whole
        transaction.
        """
        answer = yield Undo(state.name, to.savepoint)
        return answer.error is not None

    def _go_on(self, state: TransactionState, then: AfterFailure) -> None:
        """The transaction goes on after an error, whatever the server undid with it."""
        state.in_transaction = False
        state.under_way = False
        self._moved.released.append(state.name)
        if then == "retry":
            state.repeated += 1
            return
        self._moved.completed.append((state.name, state.statement))
        self._advance(state)

    def _advance(self, state: TransactionState) -> None:
        state.next, state.repeated = state.next + 1, 0
        state.over = state.has_no_end
        if state.over and state.transaction.autocommit:
            state.status = "committed"

    def _succeed(
        self, state: TransactionState, reply: Reply, at_ms: float, mover: TransactionState
    ) -> Steps:
        phase = 1 if state is mover and not state.waits else 3
        caught = False
        if state.waits:
            for i in state.waits:
                self.log.close(i, at_ms, self._how_ended(self.log.waits[i]))
                caught = caught or is_caught(self.log.waits[i])
            state.waits.clear()
            self.log.note(state, "resumed", at_ms, phase=phase)
        state.limits_itself = state.limits_itself or self._sql.limits_waits(state.sql)
        if state.in_transaction and not reply.in_transaction and state.statement is not None:
            state.in_transaction = False
            # InnoDB may roll the transaction back with a timeout that the statement catches
            if not caught and not self._sql.commits_by_itself(state.sql):
                self.ended_by_itself.append((state.name, state.statement))
                if not self.catches_errors:
                    yield from self._fail(state, ENDS_BY_ITSELF, at_ms)
                    return
        try:
            kept = self._kept(state, reply)
        except ValueError as error:
            fault = ServerError(code="", kind="rejected", message=str(error), key="keep")
            yield from self._fail(state, fault, at_ms)
            return
        self.log.note(state, "done", at_ms, phase=phase, reply=reply, kept=tuple(kept.items()))
        lacking = self._lacking(state, reply)
        if lacking is not None:
            yield from self._fail(state, lacking, at_ms, phase=phase)
            return
        self._moved.completed.append((state.name, state.statement))
        self._moved.rows[state.name, state.statement] = reply.rows
        state.under_way = False
        if state.statement is None:
            state.over = True
            committed = state.ends == "commit" and not reply.rolled_back
            state.status = "committed" if committed else "rolled back"
            if state.status == "committed":
                self._moved.committed.append(state.name)
            return
        if state.transaction.autocommit:
            self._moved.released.append(state.name)
        self._advance(state)
        yield from self._send_at_once(state, phase)

    def _how_ended(self, wait: Wait) -> WaitEnd:
        """How a wait ended of which the client received no error. Nobody lets go of a lock without
        a statement: where its holder has had none since, the wait ended by an error, most often
        a timeout, and code of the scenario caught that.
        """
        holder = self.states.get(wait.holder)
        if not self.catches_errors or holder is None or wait.queued:
            return "went on"
        holds = holder.status == "left open" and not holder.under_way
        may_be_lost = holder.name in self.lost | self.may_end
        since = any(
            event.transaction == holder.name and event.at_ms >= wait.since_ms
            for event in self.log.happened
        )
        return "caught" if holds and not may_be_lost and not since else "went on"

    def _kept(self, state: TransactionState, reply: Reply) -> dict[str, Value]:
        if state.upcoming is None:
            return {}
        return state.carried.keep(state.upcoming, state.next + 1, reply.rows, reply.result)

    def _lacking(self, state: TransactionState, reply: Reply) -> ServerError | None:
        """The refusal of a statement that is done but did not bring what it requires."""
        if state.upcoming is None:
            return None
        try:
            lacking = state.carried.lacking(state.upcoming, reply.rows)
        except MissingValue as missing:
            return ServerError(
                code="",
                kind="rejected",
                message=state.carried.why_missing(missing.name),
                key="require",
            )
        except ConditionError as error:
            return ServerError(code="", kind="rejected", message=str(error), key="require")
        if lacking is None:
            return None
        message = state.carried.said_of(lacking, reply.rows)
        return ServerError(code="", kind="refused", message=message, check="required")

    def _kinds(self, error: ServerError) -> set[str]:
        return {error.kind, "duplicate"} if self._errors.is_duplicate(error.code) else {error.kind}

    def _after_failure(self, state: TransactionState, error: ServerError, at_ms: float) -> None:
        retry = state.transaction.retry
        if (
            retry is not None
            and self._kinds(error) & set(retry.on)
            and state.attempt <= retry.times
        ):
            state.begin_again()
            state.idle_until_ms = at_ms + retry.pause if retry.pause else 0.0
            return
        state.over, state.status = True, "failed"

    def _verdict(
        self, state: TransactionState, reply: Reply, at_ms: float, mover: TransactionState
    ) -> None:
        """The server gave ``state`` up. Its report fills in what fell between two checks."""
        cycle = next((c for c in self.log.cycles if c.pending and state.name in c.members), None)
        if cycle is None:
            cycle = self._unseen_cycle(state, reply.edges, at_ms, mover)
            self.log.cycles.append(cycle)
        else:
            reported = _cycle_of(state.name, WaitGraph(reply.edges))
            whole = bool(reported) and all(edge.held is not None for edge in reported)
            if whole and {edge.waiter for edge in reported} == cycle.members:
                cycle.edges = reported  # what the server says counts, not what was seen on the way
        cycle.victim, cycle.verdict_ms, cycle.pending = state.name, at_ms, False
        cycle.error, cycle.report = reply.error, reply.report
        self.log.forget_takers(self.log.move)

    def _unseen_cycle(
        self,
        state: TransactionState,
        edges: tuple[Edge, ...],
        at_ms: float,
        mover: TransactionState,
    ) -> OpenDeadlock:
        """A cycle that no check saw closed: what the server tells of it is added to the waits."""
        self.surprised = True
        seen = {(self.log.waits[i].waiter, self.log.waits[i].holder) for i in self.log.open_waits()}
        for edge in edges:
            waiter = self.states.get(edge.waiter)
            if waiter is None or not waiter.under_way or (edge.waiter, edge.holder) in seen:
                continue
            # it began when the statement came to it, at the earliest when it was sent
            self.log.open(waiter, replace(edge, since_ms=waiter.sent_ms), at_ms)
            self.log.note(waiter, "waits", at_ms, phase=4)
        self.log.wave += 1
        found = _cycle_of(state.name, self.log.graph())
        return OpenDeadlock(
            found or self.log.closed(state.name, edges),
            self.log.move,
            at_ms,
            mover.name,
            {
                other.name: other.statement
                for other in self.states.values()
                if other.under_way or other is state
            },
            {other.name: other.attempt for other in self.states.values()},
        )

    def _ended_by_us(self, state: TransactionState, error: ServerError) -> ServerError:
        for cycle in self.log.cycles:
            if cycle.pending and cycle.ended_by_us and cycle.closer == state.name:
                cycle.victim, cycle.verdict_ms, cycle.pending = state.name, None, False
                note = (
                    f"the server did not end this deadlock within {self.verdict_ms(cycle.edges):g}"
                    " ms; Catenum did"
                )
                return replace(error, kind="deadlock", message=note)
        limit = (
            f"still working after {self.limit_ms / 1000:g} s, the limit (--statement-limit);"
            " Catenum ended it"
        )
        return replace(error, kind="limit", message=limit)


def _cycle_of(name: str, graph: WaitGraph) -> tuple[Edge, ...]:
    """The first cycle in which a transaction waits; empty where there is none."""
    found = (c for c in graph.cycles() if name in {edge.waiter for edge in c})
    return next(found, ())
