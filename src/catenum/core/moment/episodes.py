"""Episodes: what a series of samples has in common.

An episode is the time in which one session holds others up (or a cycle stands), from the first sample that shows it to
the first that does not. It keeps the moment at which most waited, and the statements of every session in it that were
seen in the same transaction: what no server tells afterwards.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from catenum.core.moment.sample import Sample, SessionInfo
from catenum.core.record.waits import WaitGraph

#: Statements of one transaction that are remembered; the first and the last ones stay.
MOST_STATEMENTS = 30
#: Transactions whose statements are remembered at a time.
MOST_TRANSACTIONS = 20_000

Key = tuple[str, str | None]


@dataclass
class Episode:
    """One session that holds others up, or a cycle. Times are the samples' (RFC 3339); lengths in ms.

    ``wait_ms``: of everybody held up, added up over the samples. ``worst``: the sample at which most waited.
    """

    head: SessionInfo
    first_seen: str
    last_seen: str
    worst: Sample
    worst_waiting: int
    cycle: bool = False
    ended: str | None = None
    wait_ms: float = 0.0
    longest_ms: float = 0.0
    chain: int = 0
    waiters: set[Key] = field(default_factory=set)
    statements: dict[str, tuple[str, ...]] = field(default_factory=dict)
    reported: bool = False
    kept_at: str | None = None  # the worst moment that the store has
    number: int | None = None  # in the store

    @property
    def key(self) -> Key:
        """The head's session."""
        return self.head.key


@dataclass
class Change:
    """What a sample changed: episodes that began, went on, or ended with it."""

    began: list[Episode] = field(default_factory=list)
    went_on: list[Episode] = field(default_factory=list)
    ended: list[Episode] = field(default_factory=list)
    deadlocks: int = 0  # how many more the server has counted


class DeadlockCount:
    """Counts each deadlock once: the server's counter and its reports come in either order, and either may be missing.

    A counter moves at once; the report stands in a log some time before or after that.
    """

    def __init__(self) -> None:
        self._unreported = 0  # counted and told, their report may follow
        self._uncounted = 0  # told by their report, the counter may follow

    def take(self, counted: int, reports: int, *, has_counter: bool) -> int:
        """How many deadlocks are news. ``counted``: how far the counter moved; ``reports``: how many came in."""
        known = min(counted, self._uncounted)
        self._uncounted -= known
        news = counted - known
        awaited = self._unreported + news
        unexpected = max(0, reports - awaited)
        self._unreported = max(0, awaited - reports)
        if has_counter:
            self._uncounted += unexpected
        return news + unexpected


class EpisodeTracker:
    """Follows one server's samples. Waits that do not last for ``at_least_ms`` are a busy server's daily life."""

    def __init__(self, at_least_ms: float = 0.0) -> None:
        self.at_least_ms = at_least_ms
        self.open: dict[Key, Episode] = {}
        self._seen: dict[tuple[Key, int], list[str]] = {}
        self._deadlocks: int | None = None
        self._before_ms: dict[Key, float] = {}

    def update(self, sample: Sample, *, since_last_ms: float) -> Change:
        """Take a sample in. ``since_last_ms``: how long the last one was ago, on our clock."""
        change = Change()
        self._remember(sample)
        graph = sample.graph
        standing: set[Key] = set()
        for head, members, cycle in _groups(graph):
            session = sample.session(head)
            lasts = max((sample.waited_ms(name) for name in members), default=0.0)
            if lasts < self.at_least_ms and session.key not in self.open and not cycle:
                continue
            standing.add(session.key)
            episode = self.open.get(session.key)
            if episode is None:
                episode = Episode(session, sample.at, sample.at, sample, 0, cycle=cycle)
                self.open[session.key] = episode
                change.began.append(episode)
            else:
                change.went_on.append(episode)
            self._grow(episode, sample, members, since_last_ms)
        for key in [key for key in self.open if key not in standing]:
            episode = self.open.pop(key)
            episode.ended = sample.at
            change.ended.append(episode)
        if sample.deadlocks is not None:
            if self._deadlocks is not None and sample.deadlocks > self._deadlocks:
                change.deadlocks = sample.deadlocks - self._deadlocks
            self._deadlocks = sample.deadlocks
        return change

    def lost(self, at: str) -> list[Episode]:
        """The server cannot be seen any more: whatever was open is over as far as anybody knows."""
        ended = list(self.open.values())
        for episode in ended:
            episode.ended = at
        self.open.clear()
        self._deadlocks = None
        return ended

    def _grow(self, episode: Episode, sample: Sample, members: set[str], since_last_ms: float) -> None:
        waits = {name: sample.waited_ms(name) for name in members}
        episode.last_seen = sample.at
        # A wait counts for as long as it has lasted, but for no longer than since the last check.
        episode.wait_ms += sum(min(wait, since_last_ms) if wait else since_last_ms for wait in waits.values())
        episode.longest_ms = max(episode.longest_ms, *waits.values()) if waits else episode.longest_ms
        episode.waiters |= {sample.session(name).key for name in members}
        chain = WaitGraph(e for e in sample.edges if e.waiter in members).longest_chain()
        if (len(members), chain) >= (episode.worst_waiting, episode.chain):
            episode.worst, episode.worst_waiting = _part(sample, members | {episode.head.id}), len(members)
        episode.chain = max(episode.chain, chain)
        for name in (episode.head.id, *members):
            episode.statements[name] = self.statements_of(sample.session(name), episode.statements.get(name, ()))

    # -- the statements of a transaction -----------------------------------------------------------------------------

    def _remember(self, sample: Sample) -> None:
        """Note the statement of every transaction in sight; forget those that are over."""
        current = {}
        for session in sample.sessions:
            if session.transaction_ms is None or not session.statement:
                continue
            known = self._seen.get((session.key, 0), [])
            age, before = session.transaction_ms, self._before_ms.get(session.key)
            if before is not None and age < before:
                known = []  # another transaction by now
            if not known or known[-1] != session.statement:
                known = [*known, session.statement]
            if len(known) > MOST_STATEMENTS:
                known = [*known[:5], *known[-(MOST_STATEMENTS - 5) :]]
            current[session.key, 0] = known
            if len(current) >= MOST_TRANSACTIONS:
                break
        self._seen = current
        self._before_ms = {s.key: s.transaction_ms for s in sample.sessions if s.transaction_ms is not None}

    def statements_of(self, session: SessionInfo, before: tuple[str, ...] = ()) -> tuple[str, ...]:
        """The statements seen so far in the session's transaction."""
        return tuple(self._seen.get((session.key, 0), ())) or before


def _groups(graph: WaitGraph) -> Iterator[tuple[str, set[str], bool]]:
    """Each head blocker with everybody it holds up, and each cycle by its first member."""
    for head in graph.heads():
        yield head, graph.held_up_by(head), False
    for cycle in graph.cycles():
        first = min(edge.waiter for edge in cycle)
        yield first, graph.held_up_by(first) | {edge.waiter for edge in cycle}, True


def _part(sample: Sample, names: set[str]) -> Sample:
    """What of a sample concerns some sessions: the rest of a busy server is no part of an episode."""
    return Sample(
        at=sample.at,
        target=sample.target,
        sessions=tuple(session for session in sample.sessions if session.id in names),
        edges=tuple(edge for edge in sample.edges if edge.waiter in names),
        connected=sample.connected,
        cost_ms=sample.cost_ms,
        rows_read=sample.rows_read,
        deadlocks=sample.deadlocks,
        notes=sample.notes,
    )
