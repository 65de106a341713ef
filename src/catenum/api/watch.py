"""Following running servers: samples, incidents, what is kept of them."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path

from catenum.api import now
from catenum.api.files import require
from catenum.api.lengths import Duration, milliseconds
from catenum.api.listener import SILENT, Listener
from catenum.api.servers import find_target, refuse_profile
from catenum.core.snapshot.sample import Sample
from catenum.core.text import counted
from catenum.engines.targets import Target
from catenum.live.events import WatchEvent
from catenum.live.watch import Watch, WatchOptions
from catenum.store.buffered import BufferedStore
from catenum.store.places import StorePlace, place_of
from catenum.store.store import Store, writer


@dataclass(frozen=True)
class Watched:
    """How a watch ended: the servers of which no check ever saw all, with why; ``abandoned``: no
    server was monitored any longer; ``unstored``: at the end the store could not be written to.
    """

    never_seen: dict[str, str | None] = field(default_factory=dict)
    abandoned: bool = False
    unstored: bool = False

    def __bool__(self) -> bool:
        return not (self.never_seen or self.abandoned or self.unstored)


def name_of(word: str | None, shown: str) -> str:
    """What a target goes by in the store: as it was typed, without secrets."""
    return shown if word is None or "://" in word else word


def watch(
    targets: Sequence[str] | Mapping[str, Target],
    *,
    options: WatchOptions | None = None,
    store: str | Path | None = None,
    time_limit: Duration | None = None,
    stop: threading.Event | None = None,
    metrics: str | None = None,
    tell: Callable[[WatchEvent], None] = lambda event: None,
    seen: Callable[[str, Sample], None] | None = None,
    began: Callable[[Store | BufferedStore | None], None] = lambda store: None,
    listener: Listener = SILENT,
) -> Watched:
    """Watch servers, by the names they go by, until ``stop`` is set or the time is over.

    ``store``: the file, or the URL of the PostgreSQL database, for what is seen (None: nothing is
    kept); ``metrics``: the address and port
    where a collector is answered; ``tell`` is given each event, ``seen`` each sample, ``began`` the
    store before the first look. Raises InputError, SaveError, LibraryError.
    """
    options = options or WatchOptions()
    if not isinstance(targets, Mapping):
        asked = {one: find_target(one, listener, settle=False) for one in targets}
        targets = {name_of(word, one.shown): one for word, one in asked.items()}
    for one in targets.values():
        refuse_profile(one, "watch")
    meter = None
    if metrics is not None:
        require("prometheus_client", "--metrics")
        from catenum.live.metrics import Meter, address_of

        address, port = address_of(metrics)
        meter = Meter(list(targets))
        for name, _ in options.logs:
            meter.follows_log(name)
    kept = _store_at(place_of(store), list(targets)) if store is not None else None
    stop = stop or threading.Event()
    length = milliseconds(time_limit) if time_limit is not None else None
    timer = threading.Timer(length / 1000, stop.set) if length is not None else None
    running: Watch | None = None
    left = 0
    try:
        servers = {name: partial(now.connect_monitor, one) for name, one in targets.items()}
        running = Watch(servers, options, kept, tell, seen, stop)
        if meter is not None:
            meter.serve(address, port)
            running.meter = meter
        began(kept)
        if timer is not None:
            timer.daemon = True
            timer.start()
        running.run()
    finally:
        if timer is not None:
            timer.cancel()
        failing = running is not None and running.store_fails
        if isinstance(kept, BufferedStore):
            left = kept.close()
            failing = kept.waiting > 0
        elif kept is not None:
            kept.close()
        if kept is not None and failing:
            listener.warn(f"the last of what was seen is not stored in {kept.shown}")
        elif kept is not None and left:
            listener.warn(f"{kept.shown} did not take {counted(left, 'thing')} that was seen")
    return Watched(dict(running.never_seen), running.abandoned, failing)


def _store_at(place: StorePlace, servers: Sequence[str]) -> Store | BufferedStore:
    """The store for a watch, which is the only one that writes of these servers. Raises SaveError,
    InputError, TargetError.
    """
    store = writer(place)
    if not store.database.shared:
        return store
    try:
        for name in servers:
            store.claim(name)
    except BaseException:
        store.close()
        raise
    return BufferedStore(store)
