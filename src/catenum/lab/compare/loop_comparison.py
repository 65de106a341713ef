"""Contest: the baseline and each remedy under the same load, in short turns, so that whatever else
the machine does hits all alike.

Each variant has scratch space and looping processes of its own; only one variant's gate is open at
a time.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field

from catenum.core.compare.loop_comparison import LoopComparison
from catenum.core.compare.measure import (
    Ratio,
    Turn,
    fewer,
    mean_spread,
    percentile,
    percentile_spread,
    rate,
    ratio,
)
from catenum.core.compare.trial import BASELINE
from catenum.core.compare.verdict import Rank, Verdict
from catenum.core.record.recording import Recording
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.scenario.remedies import apply_remedy, describe
from catenum.engines.ports import Engine
from catenum.lab.load.churn import Churn
from catenum.lab.run.loading import load
from catenum.lab.run.play import PlayOptions, play

#: With fewer pairs no permutation of them is rare enough to support a difference.
LEAST_TURNS = 8
CONFLICTS = ("deadlock", "refused", "timeout")


@dataclass
class Runner:
    """One variant at work: its loops, and what each of its turns made (iterations a second)."""

    name: str
    changes: tuple[str, ...]
    churn: Churn
    played: Recording
    per_second: list[float] = field(default_factory=list)
    turns: list[Turn] = field(default_factory=list)  # conflicts and iterations of each

    def turn(self, seconds: float) -> None:
        """Open the gate for so long."""
        before, conflicts = self.churn.seconds, self.conflicts
        made = self.churn.turn(seconds)
        self.per_second.append(made / max(1e-9, self.churn.seconds - before))
        self.turns.append((self.conflicts - conflicts, made))

    @property
    def conflicts(self) -> int:
        """Iterations that ended in a deadlock, a refusal or a timeout."""
        return sum(self.churn.failures(kind) for kind in CONFLICTS)


def contest(
    connect: Callable[[], Engine],
    scenario: Scenario,
    *,
    copies: Mapping[str, int],
    seconds: float,
    turn_s: float = 0.5,
    commit: bool = False,
    file: ScenarioFile | None = None,
    only: Sequence[str] | None = None,
    progress: Callable[[int, int, str], None] | None = None,
) -> list[LoopComparison]:
    """Run all variants, ``seconds`` each, the baseline first in the result."""
    with ExitStack() as stack:
        runners = [
            stack.enter_context(_runner(connect, name, changes, changed, ddl, copies, commit, file))
            for name, changes, changed, ddl in _variants(connect, scenario, only)
        ]
        rounds = max(LEAST_TURNS, round(seconds / turn_s))
        turn_s = min(turn_s, seconds / rounds)
        for number in range(rounds):
            first = number % len(runners)  # nobody has the same place in every round
            for place, runner in enumerate(runners[first:] + runners[:first]):
                if progress is not None:
                    progress(number * len(runners) + place, rounds * len(runners), runner.name)
                runner.turn(turn_s)
        if progress is not None:
            progress(rounds * len(runners), rounds * len(runners), "")
        return [_result(runner, runners[0]) for runner in runners]


def _variants(
    connect: Callable[[], Engine], scenario: Scenario, only: Sequence[str] | None
) -> Iterator[tuple[str, tuple[str, ...], Scenario, tuple[str, ...]]]:
    engine = connect()
    server = engine.info.server
    engine.close()
    scenario = scenario.for_server(server)
    yield BASELINE, (), scenario, ()
    for name, remedy in scenario.remedies.items():
        if only is None or name in only:
            changed, ddl = apply_remedy(scenario, remedy)
            yield (
                name,
                (*((remedy.about,) if remedy.about else ()), *describe(remedy)),
                changed,
                ddl,
            )


@contextmanager
def _runner(
    connect: Callable[[], Engine],
    name: str,
    changes: tuple[str, ...],
    scenario: Scenario,
    ddl: tuple[str, ...],
    copies: Mapping[str, int],
    commit: bool,
    file: ScenarioFile | None,
) -> Iterator[Runner]:
    engine = connect()
    try:
        engine.make_scratch()
        played = play(engine, scenario, PlayOptions(locks="full"), file=file, ddl=ddl)
        load(engine, scenario, file, ddl)
        churn = Churn(engine, scenario, copies=copies, commit=commit, file=file)
        try:
            churn.ready()
            yield Runner(name, changes, churn, played)
        finally:
            churn.close()
    finally:
        engine.close()


def _result(runner: Runner, baseline: Runner) -> LoopComparison:
    churn = runner.churn
    latencies = [value for tally in churn.tallies.values() for value in tally.latencies]
    faster = ratio(runner.per_second, baseline.per_second) if runner is not baseline else None
    return LoopComparison(
        name=runner.name,
        changes=runner.changes,
        iterations=churn.iterations,
        deadlocks=rate(churn.failures("deadlock"), churn.iterations),
        conflicts=rate(runner.conflicts, churn.iterations),
        lock_waits=churn.waits if churn.engine.capabilities.counts_waits else None,
        locks=runner.played.locks_taken(),
        p50_ms=percentile(latencies, 0.5),
        p95_ms=percentile_spread(latencies, 0.95),
        per_second=mean_spread(runner.per_second),
        faster=faster,
        verdict=judge(baseline, runner, faster) if faster is not None else None,
    )


def judge(baseline: Runner, runner: Runner, faster: Ratio) -> Verdict:
    """The verdict: a difference counts only where the figures support it (95 %)."""
    before, after = (
        (baseline.conflicts, baseline.churn.iterations),
        (runner.conflicts, runner.churn.iterations),
    )
    reported = f"conflicts: {rate(*before)} → {rate(*after)}"
    speed = f"throughput {faster}"
    if runner.churn.stuck:
        reported = ", ".join(f"{name} {number}" for name, number in runner.churn.stuck)
        rank: Rank = "no better" if baseline.churn.stuck else "worse"
        return Verdict(rank=rank, reason=f"{reported} waited to the end for what a session keeps")
    if runner.churn.failures("rejected"):
        return Verdict(
            rank="loses",
            reason=f"a statement was rejected {runner.churn.failures('rejected')} times",
        )
    broken = runner.played.outcome.broken_rules
    if broken and all(value is True for value in baseline.played.outcome.holds.values()):
        return Verdict(rank="loses", reason=f"the data is wrong when played: {', '.join(broken)}")
    if fewer(runner.turns, baseline.turns):
        return Verdict(rank="worse", reason=f"{reported}; {speed}")
    if before[0] and fewer(baseline.turns, runner.turns):
        return Verdict(rank="cures" if after[0] == 0 else "eases", reason=f"{reported}; {speed}")
    if before[0]:
        return Verdict(
            rank="no better", reason=f"{reported}: the figures do not support a difference; {speed}"
        )
    if baseline.churn.stuck:
        return Verdict(
            rank="cures", reason=f"no transaction is blocked indefinitely any more; {speed}"
        )
    waits = _waits(baseline, runner)
    if faster.low > 1.05:
        return Verdict(
            rank="cures" if waits else "eases", reason=f"no conflicts in either; {waits}{speed}"
        )
    slower = ", slower" if faster.high < 0.95 else ""
    return Verdict(
        rank="worse" if slower else "no better",
        reason=f"no conflicts in either{slower}; {waits}{speed}",
    )


def _waits(baseline: Runner, runner: Runner) -> str:
    """Words on lock waits where they have all but gone: below a tenth of the baseline's, each by
    iterations.
    """
    if not baseline.churn.engine.capabilities.counts_waits or not baseline.churn.waits:
        return ""
    before = baseline.churn.waits / max(1, baseline.churn.iterations)
    after = runner.churn.waits / max(1, runner.churn.iterations)
    return f"lock waits per iteration {before:.2g} → {after:.2g}; " if after < before / 10 else ""
