"""What a watch sees, as metrics that a collector fetches (OpenMetrics text, by prometheus-client).

The only label is the server's name, of which there are as many as the watch has targets, and for
what logs report its kind: no statement, user or key becomes a label. Where nothing is seen, figures
are not a number: blindness and a lost server are not calm.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

from prometheus_client import CollectorRegistry, Counter, Gauge, Info, start_http_server

from catenum.core.errors import InputError
from catenum.core.snapshot.incidents import Incident
from catenum.core.snapshot.sample import Sample
from catenum.core.version import __version__
from catenum.live.events import WatchEvent

LOOPBACK = "127.0.0.1"
#: Name and help of each figure of the latest sample.
GAUGES = {
    "sessions": "Sessions that are connected.",
    "sessions_waiting": "Sessions that wait for a lock.",
    "longest_wait_seconds": "The longest wait for a lock that lasts now.",
    "head_blockers": "Sessions that others wait for, and that wait for nobody.",
    "wait_chain_depth": "The longest chain of waits, or cycle.",
    "idle_transactions": "Open transactions that do nothing.",
    "oldest_idle_transaction_seconds": "The age of the oldest of these.",
    "incidents_open": "Incidents that last now.",
    "sample_cost_seconds": "How long the latest sample took on the server.",
    "sample_time_seconds": "When the latest sample was taken, since 1970.",
}
COUNTERS = {
    "samples": "Samples taken.",
    "samples_blind": "Samples that could not see everything.",
    "sample_cost_seconds": "What all samples took on the server.",
    "gaps": "Times at which the server was lost, or the watch became blind.",
    "incidents": "Incidents that began.",
    "deadlocks": "Deadlocks that the server counted, or its log reported, since the watch began.",
}
#: These say something also where nothing is seen.
_ALWAYS = ("sample_time_seconds",)


class Meter:
    """Counts for the collector, and serves it."""

    def __init__(self, servers: Sequence[str]) -> None:
        self._registry = CollectorRegistry()
        Info("catenum_watch", "What watches.", registry=self._registry).info(
            {"version": __version__}
        )
        self._gauges = {
            name: Gauge(f"catenum_{name}", text, ["server"], registry=self._registry)
            for name, text in GAUGES.items()
        }
        self._counters = {
            name: Counter(
                f"catenum_{'watch_' if name == 'sample_cost_seconds' else ''}{name}",
                text,
                ["server"],
                registry=self._registry,
            )
            for name, text in COUNTERS.items()
        }
        self._up = Gauge(
            "catenum_server_seen",
            "1 where the server was seen whole by the latest sample, 0 where it is lost or the"
            " watch is blind.",
            ["server"],
            registry=self._registry,
        )
        self._logged = Counter(
            "catenum_log_conflicts",
            "Conflicts that the server's log reported, by kind (deadlock, refused, timeout, wait,"
            " ended): of servers whose log is followed.",
            ["server", "kind"],
            registry=self._registry,
        )
        for name in servers:
            self._up.labels(name).set(0)
            self._unknown(name)
            for counter in self._counters.values():
                counter.labels(name)

    def serve(self, address: str, port: int) -> None:
        """Answer a collector, in a thread of its own. Raises InputError where the port cannot be
        had.
        """
        try:
            start_http_server(port, address, registry=self._registry)
        except (OSError, OverflowError) as error:
            what = getattr(error, "strerror", None) or str(error)
            raise InputError(
                f"--metrics {address}:{port}: {what}",
                advice="Give an address of this machine, and a port that is free.",
            ) from error

    def follows_log(self, name: str) -> None:
        """The server's log is followed: what it reports counts from 0."""
        for kind in ("deadlock", "refused", "timeout"):
            self._logged.labels(name, kind)

    def logged(self, name: str, kind: str) -> None:
        """Its log reported a conflict."""
        self._logged.labels(name, kind).inc()

    def sample(self, name: str, sample: Sample, incidents: Sequence[Incident], at_s: float) -> None:
        """A server was looked at."""
        self._counters["samples"].labels(name).inc()
        self._counters["sample_cost_seconds"].labels(name).inc(sample.cost_ms / 1000)
        self._set(name, "sample_time_seconds", at_s)
        self._set(name, "sample_cost_seconds", sample.cost_ms / 1000)
        if sample.blind is not None:
            self._counters["samples_blind"].labels(name).inc()
            self._up.labels(name).set(0)
            self._unknown(name)
            return
        self._up.labels(name).set(1)
        graph, idle = sample.graph, sample.idle_open
        oldest = max((one.transaction_ms or 0.0 for one in idle), default=0.0)
        figures: dict[str, float] = {
            "sessions": sample.connected,
            "sessions_waiting": len(graph.waiters),
            "longest_wait_seconds": sample.longest_wait_ms / 1000,
            "head_blockers": len(graph.heads()),
            "wait_chain_depth": graph.longest_chain(),
            "idle_transactions": len(idle),
            "oldest_idle_transaction_seconds": oldest / 1000,
            "incidents_open": len(incidents),
        }
        for figure, value in figures.items():
            self._set(name, figure, value)

    def deadlocks(self, name: str, count: int) -> None:
        """So many more."""
        self._counters["deadlocks"].labels(name).inc(count)

    def event(self, event: WatchEvent) -> None:
        """Something that the watch says: what began, and what it cannot see any more."""
        if event.what in ("lost", "blind"):
            self._counters["gaps"].labels(event.server).inc()
            self._up.labels(event.server).set(0)
            self._unknown(event.server)
        elif event.what == "began":
            self._counters["incidents"].labels(event.server).inc()

    def _set(self, name: str, figure: str, value: float) -> None:
        self._gauges[figure].labels(name).set(value)

    def _unknown(self, name: str) -> None:
        for figure, gauge in self._gauges.items():
            if figure not in _ALWAYS:
                gauge.labels(name).set(math.nan)


def address_of(text: str) -> tuple[str, int]:
    """``ADDRESS:PORT``; without an address it is loopback. Raises InputError."""
    address, _, port = text.rpartition(":")
    if not port.isdecimal() or not 1 <= int(port) <= 65_535:
        raise InputError(
            f"--metrics {text}: {port!r} is no port",
            advice="Write a port (9180: on this machine only), or ADDRESS:PORT.",
        )
    return address.strip("[]") or LOOPBACK, int(port)
