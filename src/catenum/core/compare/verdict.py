"""Compares a remedy's runs with the baseline's and says whether it wins, by rules to check.

1. A remedy that breaks a rule of ``holds``, or lets data be an anomaly, where the baseline did not,
   loses, whatever else it cures.
2. A remedy whose statements are rejected loses, unless every transaction that had one began again
   and came to its end.
3. It *cures* when no schedule ends in a conflict, or every conflict was met by a retry and every
   transaction came to its end.
4. It *eases* when its worst outcome is milder than the baseline's, or the data is right where the
   baseline's was wrong.
5. Otherwise it changes nothing, or makes it worse; but where somebody waited for a whole table that
   no statement asks for, and nobody does any more, it eases.
6. One that makes several transactions of one does not cure unless a rule of ``holds`` says that
   others may see what is in between.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from statistics import median
from typing import Literal

from catenum.core.record.outcome import KINDS, all_ended_well
from catenum.core.record.recording import Kind, Recording
from catenum.core.scenario.model import Scenario
from catenum.core.servers import rules_of
from catenum.core.space.escalated import escalated
from catenum.core.space.exploration import Exploration
from catenum.core.text import counted, listed

#: The name under which the comparison with serial orders is listed beside the user's rules.
SERIAL = "the data equals a serial order"
Rank = Literal["cures", "eases", "no better", "worse", "loses"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Figures:
    """The results of one variant's runs, over all its schedules. Times in ms; ``locks`` None where
    not looked at.
    """

    runs: int
    kinds: dict[Kind, int]
    waits: int
    longest_chain: int
    locks: int | None
    time_ms: float
    broken: tuple[str, ...]
    ended_well: int
    attempts: int
    anomalies: int = 0
    #: Whether these are all schedules that can differ, so that what is not among them cannot
    #: happen.
    complete: bool = False
    #: Schedules that end in an error which a serial order ends in, too: that is no conflict.
    as_serially: int = 0
    #: Tables for whose whole somebody waited though no statement asks for it.
    escalated: frozenset[str] = frozenset()

    @property
    def errors(self) -> int:
        """Schedules in which a statement is rejected, without those where a serial order would."""
        return self.kinds.get("error", 0) - self.as_serially

    @property
    def worst(self) -> Kind:
        """The worst outcome of any schedule."""
        found = {kind for kind in self.kinds if kind != "error" or self.errors}
        return max(found or self.kinds, key=KINDS.index)

    @property
    def conflicts(self) -> int:
        """How many schedules ended in anything worse than waiting."""
        worse = KINDS[KINDS.index("waited") + 1 :]
        return sum(self.kinds.get(kind, 0) for kind in worse) - self.as_serially


@dataclass(frozen=True, slots=True, kw_only=True)
class Verdict:
    """A remedy's rank and the reason, in words that name the figures."""

    rank: Rank
    reason: str

    @property
    def wins(self) -> bool:
        """Whether it can be recommended as it stands."""
        return self.rank == "cures"


def figures(recordings: Sequence[Recording]) -> Figures:
    """The figures of one variant. Raises ValueError for no recordings."""
    if not recordings:
        raise ValueError("no runs to compare")
    locks = [recording.locks_taken() for recording in recordings]
    broken = [title for r in recordings for title in r.outcome.broken_rules]
    broken += [SERIAL for r in recordings if r.outcome.data == "anomaly"]
    return Figures(
        runs=len(recordings),
        kinds=dict(Counter(recording.outcome.kind for recording in recordings)),
        waits=sum(len({(w.waiter, w.attempt, w.statement) for w in r.waits}) for r in recordings),
        longest_chain=max(recording.longest_chain() for recording in recordings),
        locks=None if any(count is None for count in locks) else sum(count or 0 for count in locks),
        time_ms=median(recording.duration_ms for recording in recordings),
        broken=tuple(dict.fromkeys(broken)),
        ended_well=sum(all_ended_well(recording) for recording in recordings),
        anomalies=sum(recording.outcome.data == "anomaly" for recording in recordings),
        attempts=sum(t.attempts for r in recordings for t in r.transactions),
    )


def figures_of(
    explored: Exploration,
    scenario: Scenario,
    given: Recording | None,
    *,
    failed_serially: Collection[str] = (),
) -> Figures:
    """The figures of one variant over an exploration; locks and time come from ``given``, where a
    schedule was played in full. ``failed_serially``: who fails in some serial order.
    """
    tally = explored.tally
    whole = escalated(tally.wait_pairs.values(), scenario, rules_of(explored.target.server))
    as_serially = sum(
        entry.count
        for entry in tally.outcomes.values()
        if entry.kind == "error" and entry.rejected and entry.rejected <= set(failed_serially)
    )
    broken = [*tally.broken_rules, *([SERIAL] if tally.anomalies else [])]
    return Figures(
        runs=tally.schedules,
        kinds={kind: count for kind in KINDS if (count := tally.count_of(kind))},
        waits=tally.waits,
        longest_chain=tally.chain,
        locks=given.locks_taken() if given is not None else None,
        time_ms=given.duration_ms if given is not None else 0.0,
        broken=tuple(broken),
        ended_well=tally.ended_well,
        attempts=tally.tries,
        anomalies=tally.anomalies,
        complete=explored.reach.complete,
        as_serially=as_serially,
        escalated=frozenset(table for _, table in whole),
    )


def judge(baseline: Figures, remedy: Figures, *, parted: bool = False) -> Verdict:
    """The verdict on a remedy, by the rules at the head of this module. ``parted``: it makes
    several transactions of one, and no rule says whether others may see what is in between.
    """
    verdict = _by_figures(baseline, remedy)
    if parted and verdict.rank == "cures":
        unknown = "no rule ('holds') says whether others may see its parts apart"
        return Verdict(rank="eases", reason=f"{verdict.reason}; {unknown}")
    if verdict.rank == "no better" and baseline.escalated and not remedy.escalated:
        # smaller transactions have more schedules with waits, which says nothing of them
        whole = listed(sorted(baseline.escalated))
        reason = f"nobody waits for the whole of {whole} any more; who still waits, waits for a row"
        return Verdict(rank="eases", reason=reason)
    return verdict


def _by_figures(baseline: Figures, remedy: Figures) -> Verdict:
    if not remedy.runs:
        return Verdict(rank="no better", reason="no schedule was run in the time that it was given")
    fresh = [title for title in remedy.broken if title not in baseline.broken]
    if fresh:
        return Verdict(rank="loses", reason=f"the data is wrong: {_faults(fresh)}")
    rejected = remedy.errors > baseline.errors
    if rejected and remedy.ended_well < remedy.runs:  # else who began again came to an end
        return Verdict(
            rank="loses", reason=f"a statement is rejected in {_how_often(remedy.errors, remedy)}"
        )
    if remedy.broken and len(remedy.broken) < len(baseline.broken):
        mended = _faults([title for title in baseline.broken if title not in remedy.broken])
        return Verdict(
            rank="eases", reason=f"corrected: {mended}; still wrong: {_faults(remedy.broken)}"
        )
    if remedy.broken:
        return Verdict(
            rank="no better", reason=f"the data is still wrong: {_faults(remedy.broken)}"
        )
    had = baseline.conflicts > 0 or bool(baseline.broken)
    if not had:
        return _where_nothing_was_wrong(baseline, remedy)
    before, after = _described(baseline), _described(remedy)
    mended = " and the data is right" if baseline.broken else ""
    if remedy.conflicts == 0:
        return Verdict(rank="cures", reason=f"{before} → {after}{mended}")
    if remedy.ended_well == remedy.runs:
        return Verdict(
            rank="cures",
            reason=f"{before} → resolved by a retry, every transaction succeeded{mended}",
        )
    if baseline.broken or KINDS.index(remedy.worst) < KINDS.index(baseline.worst):
        return Verdict(
            rank="eases",
            reason=f"{before} → {after}{mended}; the failed transaction must still be retried",
        )
    if KINDS.index(remedy.worst) == KINDS.index(baseline.worst):
        rank: Rank = "eases" if remedy.conflicts < baseline.conflicts else "no better"
        return Verdict(rank=rank, reason=f"{before} → {after}")
    return Verdict(rank="worse", reason=f"{before} → {after}")


def _where_nothing_was_wrong(baseline: Figures, remedy: Figures) -> Verdict:
    """The baseline has no conflict; a remedy can still shorten the waiting, or spoil it."""
    shorter = remedy.longest_chain < baseline.longest_chain
    chain = (
        f"waits {baseline.waits} → {remedy.waits}, longest chain {baseline.longest_chain} →"
        f" {remedy.longest_chain}"
    )
    if remedy.conflicts and remedy.ended_well < remedy.runs:
        rank: Rank = "eases" if shorter else "worse"
        return Verdict(
            rank=rank,
            reason=f"{chain}; but {_described(remedy)}, and the failed transaction must be retried",
        )
    if shorter or remedy.waits < baseline.waits:
        return Verdict(rank="cures" if shorter or remedy.waits == 0 else "eases", reason=chain)
    return Verdict(rank="no better", reason=chain)


def held_shorter(held: tuple[int, int], otherwise: Verdict) -> Verdict:
    """Where schedules do not tell the difference: which can happen says nothing of how long a lock
    is held. ``held``: over how many statements, before and after.
    """
    before, after = held
    if after >= before:
        return otherwise
    over = f"over {counted(after, 'statement')} instead of {before}"
    reason = f"locks that others wait for are held {over}; {otherwise.reason}"
    return Verdict(rank="eases", reason=reason)


def _described(numbers: Figures) -> str:
    if numbers.broken and not numbers.conflicts:
        return (
            f"wrong data in {numbers.runs} of {numbers.runs}" if numbers.runs == 1 else "wrong data"
        )
    if numbers.conflicts:
        return f"{numbers.worst} in {_how_often(numbers.kinds[numbers.worst], numbers)}"
    return "nobody waits" if numbers.waits == 0 else "only waiting"


def _faults(titles: Sequence[str]) -> str:
    """What is wrong with the data: rules that are false, results that no serial order gives."""
    named = (
        f"the rule '{title}' is false" if title != SERIAL else "no serial order gives it"
        for title in titles
    )
    return "; ".join(named)


def _how_often(count: int, numbers: Figures) -> str:
    return f"{count} of {numbers.runs}"
