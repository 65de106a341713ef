"""Which transaction moves next: by the order that was given, by a guide, or in turns."""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping, Sequence

from catenum.lab.run.journal import Journal
from catenum.lab.run.lanes import Guide, Lane


class Choice:
    """Takes the moves of ``order``, then turns; or asks ``guide``, where there is one."""

    def __init__(self, lanes: Mapping[str, Lane], order: Sequence[str], guide: Guide | None, journal: Journal) -> None:
        self.lanes, self.guide, self.journal = lanes, guide, journal
        self.queue = deque(order)
        self.held_back: deque[str] = deque()
        self.broken_off = False
        self._turn = 0

    def next(self) -> Lane | None:
        """The transaction that moves next; None where nobody can, or the guide breaks off."""
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
        name = guide.choose(ready, self.journal.who_waits())
        self.broken_off = name is None
        return self.lanes[name] if name is not None else None
