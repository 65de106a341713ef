"""Waits that go from one server to another: through a foreign table, or through the client that has
sessions on both.

No server tells of these. Two sessions are one piece of work where one names the other in its
application name (as ``postgres_fdw.application_name = 'fdw %p'`` has it), where the process of one
holds the client's end of the other's connection, or where both run a statement with the same
``traceparent`` (W3C Trace Context) in a comment. Of such a pair the one that stands idle in its
transaction goes on when the other does.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Literal

from catenum.core.record.modes import Mode
from catenum.core.record.waits import Edge, Resource
from catenum.core.snapshot.groups import groups_of
from catenum.core.snapshot.sample import Sample, SessionInfo

By = Literal["application name", "connection", "client", "traceparent"]
#: The client's end of a connection: address and port; and the process that has it, where this
#: machine can see it.
Ends = Mapping[tuple[str, int], int]

_TRACE = re.compile(r"traceparent\W{1,3}([0-9a-f]{2}-[0-9a-f]{32}-[0-9a-f]{16}-[0-9a-f]{2})")
_NUMBER = re.compile(r"(?<!\d)\d{2,10}(?!\d)")
#: Clocks of two servers are taken to be no further apart (s).
CLOCKS_S = 5.0
WORK = Mode("other", "to go on")


@dataclass(frozen=True, slots=True)
class Place:
    """A session of a server, by the server's name and its number there."""

    server: str
    session: str

    @property
    def name(self) -> str:
        """How it is called among sessions of several servers."""
        return f"{self.server} session {self.session}"


@dataclass(frozen=True, slots=True)
class Link:
    """Two sessions that are one piece of work. ``owner`` began ``other``, unless a client or a
    trace has both.
    """

    owner: Place
    other: Place
    by: By


def links(samples: Mapping[str, Sample], ends: Ends | None = None) -> list[Link]:
    """The pairs, each once. A pair that could be another one as well is left out."""
    found: dict[tuple[Place, Place], Link] = {}
    for link in (*_by_name(samples), *_by_end(samples, ends or {}), *_by_trace(samples)):
        if (link.owner, link.other) not in found and (link.other, link.owner) not in found:
            found[link.owner, link.other] = link
    return list(found.values())


def _sessions(samples: Mapping[str, Sample]) -> Iterator[tuple[str, SessionInfo]]:
    for name, sample in samples.items():
        for session in sample.sessions:
            yield name, session


def _by_name(samples: Mapping[str, Sample]) -> Iterator[Link]:
    for server, session in _sessions(samples):
        numbers = set(_NUMBER.findall(session.application or ""))
        owners = [
            Place(other, number)
            for other, sample in samples.items()
            if other != server
            for number in numbers
            if number in sample.by_id and _can_own(sample.by_id[number], session)
        ]
        if len(owners) == 1:
            yield Link(owners[0], Place(server, session.id), "application name")


def _can_own(owner: SessionInfo, other: SessionInfo) -> bool:
    """A connection is begun after the session that begins it."""
    if owner.background or owner.transaction_ms is None:
        return False
    try:
        begun = datetime.fromisoformat(other.started or "") - datetime.fromisoformat(
            owner.started or ""
        )
    except ValueError:
        return True  # one of them does not tell when it began
    return begun.total_seconds() > -CLOCKS_S


def _by_end(samples: Mapping[str, Sample], ends: Ends) -> Iterator[Link]:
    """A process that has the client's end: a session of another server by its number, or a client
    of several.
    """
    clients: dict[int, list[Place]] = defaultdict(list)
    for server, session in _sessions(samples):
        process = ends.get((session.host or "", session.port or 0))
        if process is None:
            continue
        number = str(process)
        owners = [
            Place(name, number)
            for name, s in samples.items()
            if name != server and number in s.by_id
        ]
        if len(owners) == 1:
            yield Link(owners[0], Place(server, session.id), "connection")
        elif not owners:
            clients[process].append(Place(server, session.id))
    for places in clients.values():
        if len(places) == 2 and places[0].server != places[1].server:
            yield Link(places[0], places[1], "client")


def _by_trace(samples: Mapping[str, Sample]) -> Iterator[Link]:
    reported: dict[str, list[Place]] = defaultdict(list)
    for server, session in _sessions(samples):
        for trace in set(_TRACE.findall(session.statement or "")):
            reported[trace].append(Place(server, session.id))
    for places in reported.values():
        if len(places) == 2 and places[0].server != places[1].server:
            yield Link(places[0], places[1], "traceparent")


def together(samples: Mapping[str, Sample], found: list[Link]) -> Sample | None:
    """The samples as one, with the waits that go across; only what hangs together over two servers.
    None: nothing does.
    """
    crossing = [edge for link in found for edge in _edges(samples, link)]
    if not crossing:
        return None
    parts = [_placed(server, sample) for server, sample in samples.items()]
    first = next(iter(samples.values()))
    whole = replace(
        first,
        target=replace(first.target, url=" + ".join(sorted(samples))),
        sessions=tuple(one for part in parts for one in part.sessions),
        edges=(*crossing, *(one for part in parts for one in part.edges)),
        connected=sum(sample.connected for sample in samples.values()),
        cost_ms=0.0,
        rows_read=0,
        deadlocks=None,
        locks=(),
        notes=tuple(_described(link) for link in found),
        held=tuple(one for part in parts for one in part.held),
        inexact=frozenset(edge.waiter for edge in crossing).union(*(one.inexact for one in parts)),
        suspects=(),
        by_id={},
    )
    kept = _hang_together(whole, {edge.identity for edge in crossing})
    if not kept:
        return None
    return replace(
        whole,
        sessions=tuple(session for session in whole.sessions if session.id in kept),
        edges=tuple(edge for edge in whole.edges if edge.waiter in kept),
        by_id={},
    )


def _placed(server: str, sample: Sample) -> Sample:
    """With the server in the names of sessions and of what they wait for."""
    names = {session.id: Place(server, session.id).name for session in sample.sessions}
    edges = (
        replace(
            edge,
            waiter=names.get(edge.waiter) or f"{server}: {edge.waiter}",
            holder=names.get(edge.holder) or f"{server}: {edge.holder}",
            resource=_there(edge.resource, server),
        )
        for edge in sample.edges
    )
    return replace(
        sample,
        sessions=tuple(replace(one, id=names[one.id]) for one in sample.sessions),
        edges=tuple(edges),
        held=tuple(
            replace(one, session=names.get(one.session, one.session)) for one in sample.held
        ),
        inexact=frozenset(names[name] for name in sample.inexact if name in names),
        by_id={},
    )


def _hang_together(whole: Sample, crossing: Collection[object]) -> set[str]:
    """Members of the groups in which somebody waits for a lock, and somebody for another server."""
    kept: set[str] = set()
    for group in groups_of(whole):
        across = {edge.identity in crossing for edge in whole.edges if edge.waiter in group.waiting}
        if len(across) == 2:
            kept |= group.members
    return kept


def _described(link: Link) -> str:
    how = "the process that has both" if link.by == "client" else f"the {link.by}"
    return f"{link.owner.name} and {link.other.name} are one piece of work, by {how}"


def _edges(samples: Mapping[str, Sample], link: Link) -> Iterator[Edge]:
    """Which of the two goes on when the other does."""
    owner = samples[link.owner.server].session(link.owner.session)
    other = samples[link.other.server].session(link.other.session)
    idle = "idle in a transaction"
    if owner.state == idle and other.state == idle:
        if link.by in ("traceparent", "client"):
            return  # it is the turn of the client that has both
        waiter, holder, waits = link.other, link.owner, other.state_ms
    elif owner.state == idle:
        waiter, holder, waits = link.owner, link.other, owner.state_ms
    elif other.state == idle:
        waiter, holder, waits = link.other, link.owner, other.state_ms
    elif link.by in ("application name", "connection") and owner.state == "waits":
        bounds = [ms for ms in (owner.statement_ms, other.statement_ms) if ms is not None]
        waiter, holder, waits = link.owner, link.other, min(bounds, default=None)
    else:
        return
    text = (
        f"what it does on {holder.server}"
        if waiter == link.owner
        else f"what its owner does on {holder.server}"
    )
    yield Edge(
        waiter=waiter.name,
        holder=holder.name,
        resource=Resource(kind="other", text=text),
        wanted=WORK,
        held=None,
        since_ms=-waits if waits is not None else None,
    )


def _there(resource: Resource, server: str) -> Resource:
    """A thing of one server is not the same thing on another."""
    return replace(
        resource,
        text=f"{resource.text} on {server}",
        database=f"{server}/{resource.database or ''}",
    )


def look_across(samples: Mapping[str, Sample], ends: Callable[[], Ends]) -> Sample | None:
    """What goes across servers, of samples that were taken at about the same time. ``ends`` is
    asked where it helps.
    """
    waits = any(sample.edges for sample in samples.values())
    if len(samples) < 2 or not waits:
        return None
    return together(
        samples, links(samples, ends() if any(s.port for _, s in _sessions(samples)) else {})
    )


def standing(before: Sample | None, now: Sample | None) -> Sample | None:
    """What two looks running show alike: the servers are not seen at one moment, so that one look
    can show a wait that was over on one server when the other was looked at.
    """
    if before is None or now is None:
        return None
    known = {(edge.identity, before.session(edge.waiter).transaction) for edge in before.edges}
    edges = tuple(
        edge for edge in now.edges if (edge.identity, now.session(edge.waiter).transaction) in known
    )
    if not edges:
        return None
    return replace(now, edges=edges, by_id={})
