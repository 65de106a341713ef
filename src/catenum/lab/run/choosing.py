"""Which transaction moves next: by the order that was given, by a guide, or in turns."""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping, Sequence

from catenum.lab.run.event_log import EventLog
from catenum.lab.run.transaction_state import Guide, TransactionState


class Choice:
    """Takes the moves of ``order``, then turns; or asks ``guide``, where there is one."""

    def __init__(
        self,
        states: Mapping[str, TransactionState],
        order: Sequence[str],
        guide: Guide | None,
        log: EventLog,
        *,
        by_order: bool = False,
    ) -> None:
        """``by_order``: who waits with a timeout can be chosen, too: it runs out then."""
        self.states, self.guide, self.log, self.by_order = states, guide, log, by_order
        self.queue = deque(order)
        self.held_back: deque[str] = deque()
        self.broken_off = False
        self._turn = 0

    def next(self) -> TransactionState | None:
        """The transaction that moves next; None where nobody can, or the guide breaks off."""
        if self.guide is not None:
            return self._guided(self.guide)
        for name in self.held_back:
            if self.states[name].ready:
                self.held_back.remove(name)
                return self.states[name]
        while self.queue:
            state = self.states[self.queue.popleft()]
            if state.ready or self._may_run_out(state):
                return state
            if state.under_way or (state.comes_later and not state.over):
                self.held_back.append(state.name)
        states = list(self.states.values())
        for step in range(
            len(states)
        ):  # what the order left out, and what is tried again, follows in turns
            state = states[(self._turn + step) % len(states)]
            if state.ready:
                self._turn = state.index + 1
                return state
        return next((state for state in states if self._may_run_out(state)), None)

    def _may_run_out(self, state: TransactionState) -> bool:
        return self.by_order and state.under_way and state.timed and bool(state.waits)

    def _guided(self, guide: Guide) -> TransactionState | None:
        ready = [
            state.name for state in self.states.values() if state.ready or self._may_run_out(state)
        ]
        if not ready:
            return None
        name = guide.choose(ready, self.log.who_waits())
        self.broken_off = name is None
        return self.states[name] if name is not None else None
