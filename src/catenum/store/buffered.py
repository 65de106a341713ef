"""A store that a watch does not wait for: what is to be written waits in memory, in its order, and
a thread of its own writes it.

What waits is bounded. Beyond that nothing more is taken, which is told as any store's failure is:
incidents are kept in mind, looks become a gap.
"""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import replace
from functools import partial
from pathlib import Path

from catenum.core.errors import CatenumError, SaveError
from catenum.core.snapshot.incidents import Incident
from catenum.core.snapshot.rates import Step
from catenum.core.snapshot.sample import Sample
from catenum.engines.clock import Clock
from catenum.store.store import Look, Store, look_of

#: Things that wait to be written.
MOST = 20_000
#: How long (s) a failure is waited out, and the end of a watch waits for what is left.
PAUSE_S, LAST_S = 1.0, 10.0
Work = Callable[[Store], None]


class BufferedStore:
    """Takes what a watch writes (see ``Store``)."""

    def __init__(self, store: Store, most: int = MOST) -> None:
        self.store, self.most = store, most
        self._waiting: deque[Work] = deque()
        self._changed = threading.Condition()
        self._ending = False
        self._trouble: str | None = None
        self._lost = 0  # what the store would never take
        self._entered: dict[int, tuple[int | None, str | None]] = {}  # by the incident's identity
        self._thread = threading.Thread(target=self._run, name="catenum-store", daemon=True)
        self._thread.start()

    @property
    def shown(self) -> str:
        """Where it is, without secrets."""
        return self.store.shown

    @property
    def set_aside(self) -> Path | None:
        """Where a damaged one was moved."""
        return self.store.set_aside

    @property
    def trouble(self) -> str | None:
        """Why nothing can be written at the moment."""
        return self._trouble

    @property
    def lost(self) -> int:
        """How many things the store would never take, so that they were dropped."""
        return self._lost

    @property
    def waiting(self) -> int:
        """How many things wait to be written."""
        return len(self._waiting)

    # -- what a watch calls ------------------------------------------------------------------------

    def write(
        self,
        name: str,
        sample: Sample,
        incidents: Sequence[Incident],
        deadlocks: int = 0,
        report: str | None = None,
    ) -> None:
        """All that one sample brought. Raises SaveError where too much waits already."""
        look, copies = look_of(sample, incidents), [_Copy(one) for one in incidents]
        self._put(partial(self._write_look, name, look, copies, deadlocks, report))

    def write_end(self, name: str, incident: Incident) -> None:
        """That an incident is over, without another look. Raises SaveError."""
        self._put(partial(self._write_end, name, _Copy(incident)))

    def rate(self, name: str, steps: Sequence[Step]) -> None:
        """How often statements ran between two moments. Raises SaveError."""
        self._put(lambda store: store.rate(name, steps))

    def gap(self, name: str, since: str, until: str | None, why: str) -> None:
        """A time in which a server was not seen. Raises SaveError."""
        self._put(lambda store: store.gap(name, since, until, why))

    def missed(self, name: str, since: str, until: str, why: str) -> None:
        """A time in which somebody looked and could not see. Raises SaveError."""
        self._put(lambda store: store.missed(name, since, until, why))

    def trim(self, keep_ms: float, most_bytes: int) -> None:
        """Release what is too old or too much, when all before it is written."""
        with suppress(SaveError):
            self._put(lambda store: store.trim(keep_ms, most_bytes))

    def close(self) -> int:
        """Write what is left, for a while; gives how many things are not written at the end, with
        those that the store never took.
        """
        with self._changed:
            self._ending = True
            self._changed.notify()
        self._thread.join(LAST_S)
        left = len(self._waiting) + self._lost
        self.store.close()
        return left

    # -- the thread --------------------------------------------------------------------------------

    def _put(self, work: Work) -> None:
        with self._changed:
            if len(self._waiting) >= self.most:
                raise SaveError(
                    f"{self._trouble or f'{self.shown} is too slow'}, and {self.most:,} things wait"
                )
            self._waiting.append(work)
            self._changed.notify()

    def _run(self) -> None:
        clock, ends_ms = Clock(), None
        while True:
            with self._changed:
                while not self._waiting and not self._ending:
                    self._changed.wait()
                if not self._waiting:
                    return
                work = self._waiting[0]
                if self._ending and ends_ms is None:
                    ends_ms = clock.now_ms() + LAST_S * 1000
            if ends_ms is not None and clock.now_ms() > ends_ms:
                return
            try:
                work(self.store)
            except Exception as error:  # nothing may end the thread, or all that follows is lost
                self._trouble = str(error).splitlines()[0]
                if isinstance(error, CatenumError) and not getattr(error, "refused", False):
                    with self._changed:
                        self._changed.wait(PAUSE_S if not self._ending else PAUSE_S / 5)
                    continue
                self._lost += 1
            else:
                self._trouble = None
            with self._changed:
                self._waiting.popleft()

    def _write_look(
        self,
        name: str,
        look: Look,
        copies: Sequence[_Copy],
        deadlocks: int,
        report: str | None,
        store: Store,
    ) -> None:
        incidents = [copy.as_entered(self._entered) for copy in copies]
        store.write_look(name, look, incidents, deadlocks, report)
        for copy in copies:
            copy.note(self._entered)

    def _write_end(self, name: str, copy: _Copy, store: Store) -> None:
        store.write_end(name, copy.as_entered(self._entered))
        copy.note(self._entered)


class _Copy:
    """An incident as it is now, which its tracker goes on changing."""

    def __init__(self, incident: Incident) -> None:
        self._of = incident
        self._now = replace(
            incident,
            heads={key: replace(head) for key, head in incident.heads.items()},
            statements=dict(incident.statements),
        )

    def as_entered(self, entered: dict[int, tuple[int | None, str | None]]) -> Incident:
        """With its number, and what is stored of it already."""
        known = entered.get(id(self._of), (self._of.number, None))
        self._now.number, self._now.kept_at = known
        return self._now

    def note(self, entered: dict[int, tuple[int | None, str | None]]) -> None:
        """Remember what was entered, until it is over."""
        self._of.number = self._now.number
        if self._now.ended:
            entered.pop(id(self._of), None)
        else:
            entered[id(self._of)] = (self._now.number, self._now.kept_at)
