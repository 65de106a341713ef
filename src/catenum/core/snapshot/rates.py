"""How often statements ran, and how long, before, during and after an incident: did it get slower,
or is it just called more?

A server that counts statements is asked every few seconds; what it said lately is remembered, and
of the kinds of statements that take part in an incident the steps between two answers are handed
out: those before it too, and those for some time after it.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from itertools import pairwise
from typing import NamedTuple

from catenum.core.snapshot.incidents import Incident
from catenum.core.snapshot.taker import head_statement
from catenum.core.sql.masking import same_kind

#: So long before and after an incident (ms) the rate is stored.
AROUND_MS = 300_000.0


class Counted(NamedTuple):
    """A kind of statement's counters: executions, their time and the time for locks in all (ms),
    where reported.
    """

    calls: int
    total_ms: float
    lock_ms: float | None


class Step(NamedTuple):
    """What the counters of one kind went up by between two answers, at two wall times."""

    shape: str
    since: str
    until: str
    calls: int
    total_ms: float
    lock_ms: float | None


@dataclass
class RateLog:
    """One server's. ``shape``: what statements of one kind share."""

    shape: Callable[[str], str]
    _answers: deque[tuple[str, float, Mapping[str, Counted]]] = field(default_factory=deque)
    _wanted: dict[str, tuple[str, float]] = field(
        default_factory=dict
    )  # by kind: its shape, and until when (ms)
    _given: dict[str, str] = field(
        default_factory=dict
    )  # by kind: the last answer up to which steps were given

    def take(self, at: str, now_ms: float, counters: Mapping[str, Counted]) -> None:
        """An answer of the server: counters by the statement's text."""
        kinds: dict[str, Counted] = {}
        for text, one in counters.items():
            kind = same_kind(self.shape(text))
            known = kinds.get(kind)
            kinds[kind] = one if known is None else _sum(known, one)
        self._answers.append((at, now_ms, kinds))
        while self._answers and self._answers[0][1] < now_ms - AROUND_MS:
            self._answers.popleft()

    def want(self, incidents: Iterable[Incident], now_ms: float) -> None:
        """The statements of these incidents take part in what is going on."""
        for incident in incidents:
            head, known = head_statement(incident)
            texts = [head] if head and known else []
            texts += [
                text
                for edge in incident.worst.edges
                if (text := incident.worst.session(edge.waiter).statement)
            ]
            for shape in {self.shape(text) for text in texts}:
                self._wanted[same_kind(shape)] = (shape, now_ms + AROUND_MS)

    def steps(self, now_ms: float) -> list[Step]:
        """What was not given so far, of all kinds that are wanted."""
        found: list[Step] = []
        self._wanted = {kind: one for kind, one in self._wanted.items() if one[1] >= now_ms}
        for kind, (shape, _) in self._wanted.items():
            last = self._given.get(kind, "")
            answers = list(self._answers)
            for (since, _, before), (until, _, after) in pairwise(answers):
                one, other = before.get(kind), after.get(kind)
                if until <= last or other is None:
                    continue
                one = one or Counted(0, 0.0, None if other.lock_ms is None else 0.0)
                if other.calls < one.calls:
                    continue  # the counters began anew
                lock = (
                    None
                    if other.lock_ms is None
                    else round(other.lock_ms - (one.lock_ms or 0.0), 3)
                )
                total = round(other.total_ms - one.total_ms, 3)
                found.append(Step(shape, since, until, other.calls - one.calls, total, lock))
                self._given[kind] = until
        return found


def _sum(one: Counted, other: Counted) -> Counted:
    lock = None if one.lock_ms is None or other.lock_ms is None else one.lock_ms + other.lock_ms
    return Counted(one.calls + other.calls, one.total_ms + other.total_ms, lock)
