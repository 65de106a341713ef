"""Made-up samples of a server in use, one after another, drawn by chance: a stand-in, and called
one by its target.

What a watch makes of them is printed for the corpus: incidents, alarms, rates, stories, waits
across servers.
"""

from __future__ import annotations

import random
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta

from catenum.core.record.modes import Mode
from catenum.core.record.recording import LockEntry, TargetInfo
from catenum.core.record.waits import Edge, Resource
from catenum.core.servers import rules_of
from catenum.core.snapshot.across import look_across, standing
from catenum.core.snapshot.alarms import Alarms, Thresholds
from catenum.core.snapshot.incidents import DeadlockCount, IncidentTracker
from catenum.core.snapshot.own import without_runs
from catenum.core.snapshot.rates import Counted, RateLog
from catenum.core.snapshot.sample import Held, Sample, SessionInfo, Suspect, Timeout
from catenum.core.snapshot.sample_recording import recording_of
from catenum.core.snapshot.story import headline_of, tell_across, tell_sample
from catenum.core.snapshot.taker import head_statement
from catenum.core.snapshot.verdict import verdict

START = datetime(2026, 11, 23, 2, 0, tzinfo=UTC)
MODES = {
    "postgresql": ("FOR NO KEY UPDATE", "FOR UPDATE", "AccessExclusiveLock"),
    "mysql": ("X record", "S next-key", "MDL_EXCLUSIVE"),
}
RESOURCES = (
    *(
        Resource(kind="row", text=f"slot(id={n})", table="slot", key=(("id", str(n)),))
        for n in (7, 42)
    ),
    Resource(kind="table", text="berth", table="berth"),
    Resource(kind="advisory", text="advisory lock 7", key=(("number", "7"),)),
    Resource(kind="transaction", text="transaction 4711"),
    Resource(kind="other", text="something of slot", table="slot"),
)
STATEMENTS = (
    "update slot set boxes = {n} where id = 42", "select * from slot where id = {n} for update", "delete from berth where id = {n}",
    "insert into slot values ({n}, 0)", "alter table berth add column note{n} int", "select pg_advisory_xact_lock(7)", "commit",
)  # fmt: skip


def at(second: float) -> str:
    return (
        (START + timedelta(seconds=second))
        .isoformat(timespec="milliseconds")
        .replace("+00:00", "Z")
    )


@dataclass
class Night:
    """One server's sessions, as chance has them go on."""

    chance: random.Random
    server: str
    sessions: dict[str, SessionInfo] = field(default_factory=dict)
    waits: dict[str, tuple[str, Resource, str, float]] = field(default_factory=dict)
    deadlocks: int = 3
    second: float = 0.0

    def step(self) -> Sample:
        """A second or more goes by."""
        self.second += self.chance.choice((1.0, 1.0, 1.0, 2.5, 40.0))
        for name in [name for name in self.sessions if self.chance.random() < 0.08]:
            self.end(name)
        while len(self.sessions) < 3 or (len(self.sessions) < 14 and self.chance.random() < 0.4):
            self.begin()
        for name in [name for name in self.waits if self.chance.random() < 0.12]:
            del self.waits[name]
        for name in list(self.sessions):
            if name not in self.waits and self.chance.random() < 0.35:
                self.wait(name)
        self.deadlocks += self.chance.choice((0, 0, 0, 0, 1, 5))
        return self.sample()

    def begin(self) -> None:
        number = str(self.chance.randint(1, 30))
        self.sessions[number] = SessionInfo(
            id=number,
            started=self.chance.choice((at(self.second), None)),
            user=self.chance.choice(("yard", None)),
            application=self.chance.choice(
                (
                    "gate",
                    "clerk",
                    f"link to {self.chance.randint(1, 30)}",
                    "catenum 0a1b2c3d early",
                    None,
                )
            ),
            host=self.chance.choice(("10.0.0.7", "local", None)),
            database="port",
            state=self.chance.choice(
                ("idle in a transaction", "working", "idle", "not reported", "waits")
            ),
            waits_on=self.chance.choice((None, None, "input and output")),
            transaction=self.chance.choice((f"t{number}-{self.second}", None)),
            transaction_ms=self.chance.choice((900.0, 61_000.0, None)),
            statement_ms=self.chance.choice((800.0, None)),
            state_ms=self.chance.choice((800.0, 90_000.0, None)),
            isolation=self.chance.choice(("read committed", "repeatable read", "not reported")),
            statement=self.chance.choice(
                (*(s.format(n=self.chance.randint(1, 50)) for s in STATEMENTS), None)
            ),
            cut=self.chance.random() < 0.1,
            rows_changed=self.chance.choice((0, 1, 12_000, None)),
            background=self.chance.random() < 0.05,
            kind=self.chance.choice((None, None, None, "replication applier")),
            undoing=self.chance.random() < 0.05,
            killed=self.chance.random() < 0.05,
            earlier=tuple(
                self.chance.sample(
                    [s.format(n=42) for s in STATEMENTS], self.chance.choice((0, 0, 1, 2))
                )
            ),
            earlier_cut=self.chance.random() < 0.1,
            took=self.chance.choice((None, None, "update slot set boxes = 1 where id = 42")),
            failed=self.chance.random() < 0.05,
        )

    def end(self, name: str) -> None:
        del self.sessions[name]
        self.waits = {
            waiter: wait for waiter, wait in self.waits.items() if name not in (waiter, wait[0])
        }

    def wait(self, name: str) -> None:
        others = [other for other in self.sessions if other != name]
        holder = self.chance.choice(others)
        self.waits[name] = (
            holder,
            self.chance.choice(RESOURCES),
            self.chance.choice(MODES[self.server]),
            self.second,
        )

    def sample(self) -> Sample:
        edges, heads = [], {wait[0] for wait in self.waits.values()}
        for name, (holder, resource, mode, since) in self.waits.items():
            ms = self.chance.choice(
                (-(self.second - since) * 1000 - 400, -(self.second - since) * 1000 - 400, None)
            )
            held = self.chance.choice((None, Mode.read(MODES[self.server][0])))
            queued = self.chance.random() < 0.1
            edges.append(
                Edge(
                    waiter=name,
                    holder=holder,
                    resource=resource,
                    wanted=Mode.read(mode),
                    held=held,
                    since_ms=ms,
                    queued=queued,
                )
            )
        sessions = [
            replace(one, state="waits for a lock") if one.id in self.waits else one
            for one in self.sessions.values()
        ]
        waiting = sorted(self.waits)
        draw = self.chance.random
        return Sample(
            at=at(self.second),
            target=TargetInfo(server=self.server, version="15", url="made up", standin=True),
            sessions=tuple(sessions),
            edges=tuple(edges),
            connected=len(sessions) + 2,
            cost_ms=1.5,
            rows_read=len(sessions),
            deadlocks=self.chance.choice((self.deadlocks, self.deadlocks, None)),
            locks=tuple(LockEntry(transaction=n, resource=RESOURCES[0], mode=Mode.read(MODES[self.server][0]), granted=n not in self.waits) for n in sorted(heads)[:2]),
            notes=("one note",) if draw() < 0.1 else (),
            blind="the login may not see everybody" if draw() < 0.1 else None,
            suspects=tuple(Suspect(waiter=n, session=h, why=why) for n in waiting[:2] for h, why in zip(sorted(self.sessions)[:5], 2 * ["it is idle", "it has read", "it has read"], strict=False) if h != n and draw() < 0.4),
            held=tuple(Held(session=h, ms=1234.5, exact=draw() < 0.5) for h in sorted(heads) if draw() < 0.5),
            inexact=frozenset(n for n in waiting if draw() < 0.2),
            timeouts=tuple(Timeout(session=n, ms=30_000.0, own=draw() < 0.5) for n in waiting if draw() < 0.3),
        )  # fmt: skip


def printed(lines: object) -> str:
    return "".join(
        f"    {section.title}\n"
        + "".join(
            f"      {'  ' * line.indent}{line.text} [{line.tone}]\n" for line in section.lines
        )
        for section in lines
    )


def watched(server: str, seed: int, steps: int = 18) -> Iterator[str]:
    """What a watch says of one night."""
    night = Night(random.Random(seed), server)
    at_least = (0.0, 1500.0)[seed % 2]
    tracker, counts, rates = (
        IncidentTracker(at_least),
        DeadlockCount(),
        RateLog(rules_of(server).sql.shape),
    )
    alarms = Alarms(Thresholds(longer_than_ms=2_000.0, waiting=4, idle_ms=60_000.0, deadlocks=3))
    before, now_ms, calls = 0.0, 0.0, 0
    for number in range(steps):
        sample = without_runs(night.step())
        since, before = (night.second - before) * 1000, night.second
        now_ms += since
        if number == 11:
            yield f"lost: {[one.key for one in tracker.lost(sample.at, counts=seed % 3 == 0)]}\n"
            alarms.lost()
        change = tracker.update(sample, since_last_ms=since)
        reported = seed % 2 if change.deadlocks else 0
        news = counts.take(change.deadlocks, reported, has_counter=sample.deadlocks is not None)
        yield f"{sample.at} {headline_of(sample)} | {change.deadlocks} counted, {news} new\n"
        for word, found in (
            ("began", change.began),
            ("went on", change.went_on),
            ("ended", change.ended),
        ):
            for one in found:
                heads = [
                    (h.session.id, round(h.held_ms), h.exact, h.waiting) for h in one.heads.values()
                ]
                typical = one.typical_ms if one.typical_ms is None else round(one.typical_ms)
                yield f"  {word}: {one.key} over {one.over}, heads {heads}, {one.head_count}, cycle {one.cycle}, pile {one.is_pile}, "
                yield f"chain {one.chain}, waiting {one.worst_waiting}, {round(one.wait_ms)} ms, longest {round(one.longest_ms)}, {typical}, "
                yield f"{one.first_seen}..{one.last_seen} {one.ended} {head_statement(one)} masked {one.masked().over}\n"
        for alarm in alarms.take(sample, tracker.open, news, now_ms):
            yield f"  alarm {alarm.what} {alarm.id}: {alarm.text} {alarm.sessions} {alarm.age_ms} {alarm.count} {alarm.limit}\n"
        calls += 7
        rates.take(sample.at, now_ms, {"update slot set boxes = 3 where id = 42": Counted(calls, calls * 2.0, None if seed % 3 else calls * 1.0),
                                       "update slot  set boxes = 9 where id = 1": Counted(1, 1.0, 0.5)})  # fmt: skip
        rates.want(tracker.open, now_ms)
        yield "".join(f"  rate {step}\n" for step in rates.steps(now_ms))
        if number % 3 == 0:
            yield printed(tell_sample(sample))
            yield printed(tell_sample(sample.masked()))
            yield "".join(
                f"  {one.id}: {verdict(one, rules_of(server), partial=sample.partial)}\n"
                for one in sample.sessions
            )
            found = recording_of(
                sample,
                {one.id: tracker.statements_of(one) for one in sample.sessions},
                title="night",
            )
            yield f"  findings {[(f.id, f.transactions) for f in found.findings]} {found.outcome.kind} {[w.holder for w in found.waits]}\n"


def across(seed: int, steps: int = 12) -> Iterator[str]:
    """What goes from one of two servers to the other."""
    chance = random.Random(seed)
    nights = {
        name: Night(chance, server) for name, server in (("yard", "postgresql"), ("gate", "mysql"))
    }
    last: Sample | None = None
    for _ in range(steps):
        samples: Mapping[str, Sample] = {
            name: _traced(night.step(), chance) for name, night in nights.items()
        }
        found = look_across(
            samples, lambda: {("10.0.0.7", 5001): 7, ("10.0.0.7", 5002): 7, ("10.0.0.7", 5003): 12}
        )
        shown = standing(last, found)
        last = found
        yield f"{[s.at for s in samples.values()]}: {found is not None}, stands {shown is not None}\n"
        if found is not None:
            yield printed(tell_across(found))
            yield f"    {[(e.waiter, e.holder, e.resource.text) for e in found.edges]}\n"


def _traced(sample: Sample, chance: random.Random) -> Sample:
    """With clients' ports, and traces in statements."""
    sessions = [
        replace(one, port=chance.choice((None, 5001, 5002, 5003)), host="10.0.0.7",
                statement=f"{one.statement} /*traceparent='00-{'ab' * 16}-{'cd' * 8}-01'*/" if chance.random() < 0.2 else one.statement)
        for one in sample.sessions
    ]  # fmt: skip
    return replace(sample, sessions=tuple(sessions), by_id={})
