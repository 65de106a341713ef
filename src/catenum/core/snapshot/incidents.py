"""Incidents: what a series of samples has in common.

An incident is the time in which sessions wait over the same thing, whoever holds it: a hot row over
a minute is one incident with many successive heads. It is recognised by its head's transaction, by
what is waited for, or, where the server does not tell the row, by the table and the sessions that
wait. It keeps the moment at which most waited, and the statements of every session in it that were
seen in the same transaction: what no server tells afterwards.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from statistics import median

from catenum.core.record.waits import WaitGraph
from catenum.core.servers import rules_of
from catenum.core.snapshot.groups import Group, groups_of, part_of
from catenum.core.snapshot.sample import PILE, Sample, SessionInfo, masked_session
from catenum.core.snapshot.statements import StatementsSeen

#: An incident with one head after the other is over when so many looks do not show it.
LOOKS_TO_END = 2
#: Heads that are kept of one incident: those that held longest.
MOST_HEADS = 200

Key = tuple[str, str | None]
HeadKey = tuple[str, str | None, str | None]


@dataclass
class Head:
    """One transaction that held others up. Lengths in ms.

    ``held_ms``: how long it has held others up, as far as that is known; ``exact``: the server told
    it, otherwise it is the most that it can be. ``looks``: in how many looks it was seen so.
    ``waiting``: behind it, at the worst.
    """

    session: SessionInfo
    first_seen: str
    last_seen: str
    held_ms: float = 0.0
    exact: bool = False
    looks: int = 0
    waiting: int = 0

    @property
    def key(self) -> HeadKey:
        """Its session and transaction."""
        return _head_key(self.session)


@dataclass
class Incident:
    """Sessions that wait over one thing, or a cycle. Times are the samples' (RFC 3339); lengths in
    ms.

    ``head``: the one that has held others up for longest. ``now``: who does at the latest look.
    ``wait_ms``: of everybody held up, added up over the samples. ``worst``: the sample at which
    most waited.
    """

    first_seen: str
    last_seen: str
    worst: Sample
    over: str
    worst_waiting: int = 0
    cycle: bool = False
    ended: str | None = None
    wait_ms: float = 0.0
    longest_ms: float = 0.0
    chain: int = 0
    heads: dict[HeadKey, Head] = field(default_factory=dict)
    now: tuple[HeadKey, ...] = ()
    head_count: int = 0
    waiting: frozenset[Key] = frozenset()
    objects: frozenset[tuple[object, ...]] = frozenset()
    tables: frozenset[str] = frozenset()
    statements: dict[str, tuple[str, ...]] = field(default_factory=dict)
    missing: int = 0  # looks in a row that did not show it
    unseen_at: str | None = None  # the first of these
    kept_at: str | None = None  # the worst moment that the store has
    number: int | None = None  # in the store
    source: str = (
        "watch"  # or "across": what goes over several servers, each of which has its own part
    )
    first_head: str = ""
    over_masked: str = ""  # the same as ``over``, without values

    def masked(self) -> Incident:
        """The same without literals in statements and keys; what it is, is the unmasked one's to
        tell.
        """
        masked = rules_of(self.worst.target.server).sql.masked
        heads = {
            key: replace(head, session=masked_session(head.session, masked))
            for key, head in self.heads.items()
        }
        statements = {name: tuple(map(masked, texts)) for name, texts in self.statements.items()}
        worst = self.worst.masked()
        return replace(self, worst=worst, heads=heads, statements=statements, over=self.over_masked)

    @property
    def key(self) -> str:
        """What makes it the same one in all that is said of it."""
        return f"{self.first_seen}/{self.first_head}"

    @property
    def longest_held(self) -> Head:
        """The head to blame: the one that has held others up for longest."""
        return max(self.heads.values(), key=lambda head: (head.held_ms, head.waiting))

    @property
    def head(self) -> SessionInfo:
        return self.longest_held.session

    @property
    def is_pile(self) -> bool:
        """Whether many waited for one head after the other: it goes on while anybody waits over the
        same thing.
        """
        return self.head_count > 1 and self.worst_waiting >= PILE

    @property
    def typical_ms(self) -> float | None:
        """How long a head held, typically; None for a single one, and where the server does not
        tell how long they held.

        A hold that is seen once is seen on average after half of its length (Cox, Renewal Theory,
        1962, 5.4).
        """
        reported = [
            head.held_ms * (2 if head.looks == 1 else 1)
            for head in self.heads.values()
            if head.exact
        ]
        return median(reported) if self.head_count > 1 and reported else None


@dataclass
class Change:
    """What a sample changed: incidents that began, went on, or ended with it."""

    began: list[Incident] = field(default_factory=list)
    went_on: list[Incident] = field(default_factory=list)
    ended: list[Incident] = field(default_factory=list)
    deadlocks: int = 0  # how many more the server has counted


class DeadlockCount:
    """Counts each deadlock once: the server's counter and its reports come in either order, and
    either may be missing.

    A counter moves at once; the report stands in a log some time before or after that.
    """

    def __init__(self) -> None:
        self._unreported = 0  # counted and told, their report may follow
        self._uncounted = 0  # told by their report, the counter may follow

    def take(self, counted: int, reports: int, *, has_counter: bool) -> int:
        """How many deadlocks are news. ``counted``: how far the counter moved; ``reports``: how
        many came in.
        """
        known = min(counted, self._uncounted)
        self._uncounted -= known
        news = counted - known
        awaited = self._unreported + news
        unexpected = max(0, reports - awaited)
        self._unreported = max(0, awaited - reports)
        if has_counter:
            self._uncounted += unexpected
        return news + unexpected


class IncidentTracker:
    """Follows one server's samples. Waits that do not last for ``at_least_ms`` are a busy server's
    daily life, unless ten sessions or more wait over the same thing in two looks running.
    """

    def __init__(self, at_least_ms: float = 0.0, source: str = "watch") -> None:
        self.at_least_ms, self.source = at_least_ms, source
        self.open: list[Incident] = []
        self.seen = StatementsSeen()
        self._deadlocks: int | None = None
        self._piles: set[tuple[object, ...]] = set()
        self._before: dict[Key, float] = {}
        self._waits: dict[Key, float] = {}  # who waited at the last look, and for how long (ms)

    def update(self, sample: Sample, *, since_last_ms: float) -> Change:
        """Take a sample in. ``since_last_ms``: how long the last one was ago, on our clock."""
        change = Change()
        self.seen.take(sample)
        self._before, self._waits = self._waits, self._lengths(sample, since_last_ms)
        groups = groups_of(sample)
        piles = {name for group in groups if len(group.waiting) >= PILE for name in _piled(group)}
        taken = self._matched(groups, sample)
        for group in groups:
            incident = taken.get(group)
            if incident is None:
                if not self._counts(group):
                    continue
                incident = Incident(sample.at, sample.at, sample, _over(group), source=self.source)
                incident.over_masked = _over(group, masked=True)
                incident.first_head = group.heads[0]
                self.open.append(incident)
                change.began.append(incident)
            else:
                change.went_on.append(incident)
            self._grow(incident, sample, group, since_last_ms)
        standing = {id(incident) for incident in (*change.began, *change.went_on)}
        for incident in [one for one in self.open if id(one) not in standing]:
            self._not_seen(incident, sample.at, change)
        self._piles = piles
        if sample.deadlocks is not None:
            if self._deadlocks is not None and sample.deadlocks > self._deadlocks:
                change.deadlocks = sample.deadlocks - self._deadlocks
            self._deadlocks = sample.deadlocks
        return change

    def lost(self, at: str, *, counts: bool = False) -> list[Incident]:
        """The server cannot be seen any more: whatever was open is over as far as anybody knows.
        ``counts``: what the server counts still goes on from where it was.
        """
        ended, self.open = self.open, []
        for incident in ended:
            incident.ended = incident.unseen_at or at
        self._deadlocks = self._deadlocks if counts else None
        self._piles, self._before, self._waits = set(), {}, {}
        return ended

    def statements_of(self, session: SessionInfo, before: tuple[str, ...] = ()) -> tuple[str, ...]:
        """The statements seen so far in the session's transaction."""
        return self.seen.statements_of(session) or before

    def _lengths(self, sample: Sample, since_last_ms: float) -> dict[Key, float]:
        """How long each has waited (ms). Who waits for a hot row begins to wait anew with each that
        has it; one that waited at the last look too, in the same statement, is taken to have waited
        all the time.
        """
        found = {}
        for name in sample.graph.waiters:
            session, waits = sample.session(name), sample.waited_ms(name)
            before = self._waits.get(session.key)
            runs_ms = session.statement_ms
            if before is not None and runs_ms is not None and runs_ms > since_last_ms:
                waits = max(waits, min(runs_ms, before + since_last_ms))
            found[session.key] = waits
        return found

    # -- what belongs to what ----------------------------------------------------------------------

    def _counts(self, group: Group) -> bool:
        """Whether a group makes an incident."""
        piled = len(group.waiting) >= PILE and not self._piles.isdisjoint(_piled(group))
        return group.cycle or group.longest_ms >= self.at_least_ms or piled

    def _matched(self, groups: list[Group], sample: Sample) -> dict[Group, Incident]:
        """Which group goes on with which incident: the surest likeness first. A group that does not
        count by itself goes on with one of the same head or with a pile, not with whatever was
        waited for by others before.
        """
        likeness = []
        for group in groups:
            heads = {_head_key(sample.session(name)) for name in group.heads}
            for incident in self.open:
                same = _likeness(incident, group, heads, sample)
                if same > 1 or (same == 1 and (self._counts(group) or incident.is_pile)):
                    likeness.append((same, len(group.waiting), group, incident))
        found: dict[Group, Incident] = {}
        gone: set[int] = set()
        for _, _, group, incident in sorted(likeness, key=lambda one: one[:2], reverse=True):
            if group not in found and id(incident) not in gone:
                found[group] = incident
                gone.add(id(incident))
        return found

    def _not_seen(self, incident: Incident, at: str, change: Change) -> None:
        incident.missing += 1
        incident.unseen_at = incident.unseen_at or at
        if incident.head_count < 2 or incident.missing >= LOOKS_TO_END:
            incident.ended = incident.unseen_at
            self.open.remove(incident)
            change.ended.append(incident)

    # -- what becomes of it ------------------------------------------------------------------------

    def _grow(self, incident: Incident, sample: Sample, group: Group, since_last_ms: float) -> None:
        waits = {name: self._waits[sample.session(name).key] for name in group.waiting}
        incident.missing, incident.unseen_at = 0, None
        incident.last_seen = sample.at
        incident.cycle = incident.cycle or group.cycle
        # A wait counts for as long as it has lasted, but for no longer than since the last check.
        incident.wait_ms += sum(
            min(wait, since_last_ms) if wait else since_last_ms for wait in waits.values()
        )
        incident.longest_ms = max(incident.longest_ms, *waits.values())
        incident.waiting = frozenset(sample.session(name).key for name in group.waiting)
        incident.objects = frozenset(resource.identity for resource in group.objects)
        incident.tables = _tables(group)
        if incident.over != _over(group):
            incident.over = _over(group, moved=True)
            incident.over_masked = _over(group, moved=True, masked=True)
        self._heads(incident, sample, group, since_last_ms)
        chain = WaitGraph(e for e in sample.edges if e.waiter in group.waiting).longest_chain()
        if (len(group.waiting), chain) >= (incident.worst_waiting, incident.chain):
            incident.worst, incident.worst_waiting = (
                part_of(sample, group.members),
                len(group.waiting),
            )
        incident.chain = max(incident.chain, chain)
        for name in group.members:
            incident.statements[name] = self.statements_of(
                sample.session(name), incident.statements.get(name, ())
            )

    def _heads(
        self, incident: Incident, sample: Sample, group: Group, since_last_ms: float
    ) -> None:
        graph = sample.graph
        incident.now = tuple(_head_key(sample.session(name)) for name in group.heads)
        for name in group.heads:
            session = sample.session(name)
            head = incident.heads.get(_head_key(session))
            reported = sample.holds_up(name)
            most = reported.ms
            if not reported.exact and session.key in self._before:
                most = min(most, since_last_ms)  # it waited itself at the last look
            if head is None:
                head = incident.heads[_head_key(session)] = Head(session, sample.at, sample.at)
                incident.head_count += 1
            elif reported.exact:
                most = max(most, head.held_ms)
            else:  # however long its waiters have waited: some of that was for another
                most = max(head.held_ms, min(reported.ms, head.held_ms + since_last_ms))
            head.session, head.last_seen, head.held_ms, head.exact = (
                session,
                sample.at,
                most,
                reported.exact,
            )
            head.looks += 1
            head.waiting = max(head.waiting, len(graph.held_up_by(name)))
        if len(incident.heads) > MOST_HEADS:
            least = min(
                (head for head in incident.heads.values() if head.key not in incident.now),
                key=_length,
            )
            del incident.heads[least.key]


def _length(head: Head) -> float:
    return head.held_ms


def _head_key(session: SessionInfo) -> HeadKey:
    return (*session.key, session.transaction)


def _piled(group: Group) -> Iterable[tuple[object, ...]]:
    """What a pile is known by again: what is waited for, or, where no row is told, its table."""
    for resource in group.objects:
        table = ("table", resource.database, resource.table)
        yield resource.identity if resource.named or resource.table is None else table


def _tables(group: Group) -> frozenset[str]:
    return frozenset(f"{each.database or ''}/{each.table}" for each in group.objects if each.table)


def _likeness(incident: Incident, group: Group, heads: set[HeadKey], sample: Sample) -> int:
    """How surely a group goes on with an incident: 3 by its head's transaction, 2 by sessions that
    still wait over a row that is not told, of a table that is, 1 by what is waited for, 0 not at
    all.
    """
    if not heads.isdisjoint(incident.now):
        return 3
    vague = not any(resource.named for resource in group.objects)
    if vague and not incident.tables.isdisjoint(_tables(group)):
        still = {sample.session(name).key for name in group.members} & incident.waiting
        if still:
            return 2 if incident.head_count > 1 or len(group.waiting) >= PILE else 1
    return int(not incident.objects.isdisjoint(resource.identity for resource in group.objects))


def _over(group: Group, *, moved: bool = False, masked: bool = False) -> str:
    """What is waited for, in words; a row that has had several places (each update gives it a new
    one) by its table.
    """
    resource = next(iter(group.objects), None)
    if resource is None:
        return "what is not reported"
    if moved and resource.kind == "row" and not resource.named and resource.table:
        return f"a row of {resource.table}"
    return (resource.masked() if masked else resource).text
