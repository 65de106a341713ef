"""From the conductor of one schedule to its ``Run``: little enough to keep, and quick, since
thousands are made.

What many schedules share (who took the lock that somebody waits for, how long a chain is) is worked
out once.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from catenum.core.diagnose.holders import attribute
from catenum.core.record.modes import NO_MODE
from catenum.core.record.outcome import ended_well, kind_of
from catenum.core.record.recording import (
    Event,
    Outcome,
    Recording,
    TableKeys,
    TableRows,
    TargetInfo,
    TransactionRecord,
    Wait,
    locks_taken,
)
from catenum.core.record.waits import Edge, Resource, WaitGraph
from catenum.core.space.oracle import PASSED_OVER, Observation, Seen, seen_of, unit
from catenum.core.space.run import DeadlockOutline, LostWork, Run, WaitPair, went_on
from catenum.core.sql.statements import Footprint
from catenum.lab.explore.ignored import Ignored
from catenum.lab.run.conductor import Conductor
from catenum.lab.run.transaction_state import OpenDeadlock, TransactionState


class Summary:
    """Makes runs of one scenario's schedules."""

    def __init__(
        self,
        title: str,
        target: TargetInfo,
        tables: Mapping[str, TableKeys],
        statements: Mapping[str, Sequence[str]],
        footprints: Mapping[tuple[str, int], Footprint],
        ignored: Ignored,
        rows: Mapping[str, TableRows],
    ) -> None:
        self._title, self._target, self._tables = title, target, dict(tables)
        self._statements, self._footprints, self._ignored = statements, footprints, ignored
        self._rows = dict(rows)
        self._attributed: dict[object, tuple[int | None, tuple[int, ...]]] = {}
        self._chains: dict[frozenset[tuple[str, str]], int] = {}

    def run_of(
        self,
        conductor: Conductor,
        path: tuple[str, ...],
        end: str,
        rows: Mapping[str, TableRows],
        holds: dict[str, bool | None],
    ) -> Run:
        """The run that ``conductor`` has made; ``end`` is the fingerprint of what the tables held
        after it.
        """
        states = conductor.states
        events = conductor.log.events
        failed: dict[str, tuple[str, ...]] = {}
        for event in events:
            if event.error is not None:
                failed[event.transaction] = (*failed.get(event.transaction, ()), event.error.kind)
        kind = kind_of(
            events,
            conductor.log.waits,
            stuck=conductor.stuck,
            deadlocked=any(c.victim for c in conductor.log.cycles),
        )
        return Run(
            path=path,
            kind=kind,
            status={name: state.status for name, state in states.items()},
            failed_by=failed,
            attempts={name: state.attempt for name, state in states.items()},
            wait_pairs=tuple(
                dict.fromkeys(self._wait_pair(wait, conductor) for wait in conductor.log.waits)
            ),
            cycles=tuple(
                self._cycle(cycle, conductor) for cycle in conductor.log.cycles if cycle.victim
            ),
            chain=self._chain(conductor.log.waits),
            locks=locks_taken(conductor.log.taken),
            holds=holds,
            observed=self._observation(conductor, events, end, rows),
            ended_well=ended_well(
                ((state.ends, state.status) for state in states.values()),
                events,
                conductor.log.waits,
            ),
            lost=tuple(
                LostWork(event.transaction, event.statement or 0, event.error.kind, event.swallowed)
                for event in events
                if (event.swallowed or event.begins_anew) and event.error is not None
            ),
            broken_off=conductor.broken_off,
            went_on=went_on(events),
            rejected=frozenset(
                (event.transaction, None if event.statement is None else event.statement - 1)
                for event in events
                if event.error is not None and event.error.kind == "rejected"
            ),
        )

    def _observation(
        self, conductor: Conductor, events: Sequence[Event], end: str, rows: Mapping[str, TableRows]
    ) -> Observation:
        seen: dict[str, list[Seen]] = {}
        places: dict[tuple[str, int], int] = {}
        commits: dict[str, int] = {}
        for place, event in enumerate(events):
            state = conductor.states[event.transaction]
            if event.attempt == state.attempt and event.what == "passed":
                self._see(event, state, PASSED_OVER, place, seen, commits)
            if event.attempt == state.attempt and event.swallowed:
                self._see(event, state, _failed(event), place, seen, commits)
            if event.what != "done" or event.attempt != state.attempt:
                continue
            if event.statement is None:
                if event.sql == "commit" and not event.rolled_back:
                    commits[event.transaction] = place
                continue
            step = (event.transaction, event.statement - 1)
            places[step] = place
            read = self._footprints[step]
            left_out = self._ignored.of_result(step)
            found = seen_of(
                event.rows, event.result, left_out, ordered=read.ordered, order_by=read.order_by
            )
            self._see(event, state, found, place, seen, commits)
        committed = tuple(sorted(commits, key=commits.__getitem__))
        return Observation(
            committed=committed,
            seen={name: tuple(seen.get(name, ())) for name in {**conductor.states, **seen}},
            end=end,
            rows=rows,
            places=places,
            commits=commits,
        )

    @staticmethod
    def _see(
        event: Event,
        state: TransactionState,
        what: Seen,
        place: int,
        seen: dict[str, list[Seen]],
        commits: dict[str, int],
    ) -> None:
        """What a statement gave; where it is a transaction of its own, that has committed."""
        name = event.transaction
        if state.transaction.autocommit:
            name = unit(name, event.statement or 0)
            commits[name] = place
        seen.setdefault(name, []).append(what)

    def _chain(self, waits: Sequence[Wait]) -> int:
        longest = 0
        for start in waits:
            standing = frozenset(
                (w.waiter, w.holder)
                for w in waits
                if w.since_ms <= start.since_ms
                and (w.until_ms is None or w.until_ms > start.since_ms)
            )
            if standing not in self._chains:
                nothing = Resource(kind="other", text="")
                edges = (
                    Edge(waiter=w, holder=h, resource=nothing, wanted=NO_MODE, held=None)
                    for w, h in standing
                )
                self._chains[standing] = WaitGraph(edges).longest_chain()
            longest = max(longest, self._chains[standing])
        return longest

    def _wait_pair(self, wait: Wait, conductor: Conductor) -> WaitPair:
        holder_statement: int | None = None
        candidates: tuple[int, ...] = ()
        if wait.holder in conductor.states:
            sent = [
                (event.statement, tuple(event.values.items()))
                for event in conductor.log.happened
                if event.transaction == wait.holder
                and event.what == "sent"
                and event.at_ms <= wait.since_ms
            ]
            key = (
                wait.waiter,
                wait.statement,
                wait.holder,
                wait.resource.identity,
                wait.wanted,
                wait.held,
                wait.taken_by,
                tuple(sent),
            )
            if key not in self._attributed:
                self._attributed[key] = self._attribute(wait, conductor)
            holder_statement, candidates = self._attributed[key]
        return WaitPair(
            wait.waiter,
            wait.statement,
            wait.holder,
            holder_statement,
            wait.resource.text,
            str(wait.wanted),
            candidates,
        )

    def _attribute(self, wait: Wait, conductor: Conductor) -> tuple[int | None, tuple[int, ...]]:
        recording = Recording(
            scenario=self._title,
            about=None,
            target=self._target,
            started="",
            duration_ms=0,
            order=(),
            schedule=(),
            outcome=Outcome(kind="waited"),
            transactions=tuple(
                TransactionRecord(
                    name=state.name,
                    session="",
                    isolation=state.isolation,
                    asked=None,
                    read_only=False,
                    ends="commit",
                    status=state.status,
                    attempts=state.attempt,
                    statements=tuple(self._statements[state.name]),
                    labels=(),
                )
                for state in conductor.states.values()
            ),
            events=tuple(conductor.log.events),
            waits=(wait,),
            tables=self._tables,
            rows=self._rows,
        )
        found = attribute(recording)[0]
        return found.holder_statement, found.holder_candidates

    def _cycle(self, cycle: OpenDeadlock, conductor: Conductor) -> DeadlockOutline:
        edges = list(cycle.edges)
        first = min(range(len(edges)), key=lambda i: edges[i].waiter) if edges else 0
        edges = [*edges[first:], *edges[:first]]
        members = []
        for edge in edges:
            statements = [
                w.statement
                for w in conductor.log.waits
                if (w.waiter, w.holder) == (edge.waiter, edge.holder)
                and w.move <= cycle.move
                and w.attempt == cycle.attempts.get(edge.waiter, w.attempt)
            ]
            members.append(
                (edge.waiter, statements[-1] if statements else cycle.under_way.get(edge.waiter))
            )
        resources = tuple(edge.resource.text for edge in edges)
        named = all(edge.resource.named for edge in edges)
        return DeadlockOutline(tuple(members), resources, cycle.victim, cycle.ended_by_us, named)


def _failed(event: Event) -> Seen:
    """What a statement gave that failed, in a transaction that went on: the error."""
    kind, code = (event.error.kind, event.error.code) if event.error else ("", "")
    return Seen(None, f"failed {kind} {code}", f"failed ({kind})")
