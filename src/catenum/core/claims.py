"""What an exploration allows to be said, in sentences: proved where every class was run, else only not seen."""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.exploration import Exploration
from catenum.core.tally import OutcomeEntry


def claims(exploration: Exploration) -> list[str]:
    """The sentences that matter: of deadlocks, of data, of rules, of retries."""
    return [*_deadlocks_and_data(exploration), *_rules(exploration), *_tries(exploration)]


def _deadlocks_and_data(exploration: Exploration) -> Iterator[str]:
    tally = exploration.tally
    deadlocks = tally.met("deadlock")
    unchecked = sum(entry.count for entry in tally.outcomes.values() if entry.data == "unchecked")
    checked = not tally.anomalies and unchecked < tally.schedules
    if deadlocks:
        rings = f", {len(tally.rings)} different rings" if len(tally.rings) > 1 else ""
        yield f"{deadlocks:,} of {tally.schedules:,} schedules deadlock{rings}"
    if tally.anomalies:
        names: dict[str, int] = {}
        for entry in tally.outcomes.values():
            if entry.anomaly:
                names[entry.anomaly] = names.get(entry.anomaly, 0) + entry.count
        told = ", ".join(f"{name} in {count:,}" for name, count in sorted(names.items(), key=lambda i: -i[1]))
        yield f"{tally.anomalies:,} of {tally.schedules:,} schedules give data that no serial order gives: {told}"
    if not deadlocks or checked:
        yield _what_never_comes(exploration, deadlock=not deadlocks, wrong_data=checked)
    if unchecked:
        yield f"data was not checked in {unchecked:,} schedules: what committed there cannot run alone"


def _what_never_comes(exploration: Exploration, *, deadlock: bool, wrong_data: bool) -> str:
    """Proved, where all schedules were run; otherwise only not seen in so many."""
    if exploration.reach.complete:
        parts = ["deadlocks"] * deadlock + ["gives data that no serial order gives"] * wrong_data
        return f"proved: no schedule of these statements {', and none '.join(parts)}"
    parts = ["a deadlock"] * deadlock + ["wrong data"] * wrong_data
    what = f"neither {parts[0]} nor {parts[1]} was seen" if len(parts) > 1 else f"{parts[0]} was not seen"
    return f"{what} in {exploration.tally.schedules:,} schedules; that proves nothing of the others"


def _rules(exploration: Exploration) -> Iterator[str]:
    tally = exploration.tally
    for title, count in tally.broken_rules.items():
        serial = sum(e.count for e in tally.outcomes.values() if e.data == "serial" and e.holds.get(title) is not True)
        text = f"the rule '{title}' is false after {count:,} of {tally.schedules:,} schedules"
        if serial:
            text += (
                f"; in {serial:,} of them all went as if one after another, so no isolation level mends that: "
                "the statements themselves do not keep it"
            )
        yield text


def _tries(exploration: Exploration) -> Iterator[str]:
    tally = exploration.tally
    if tally.attempts and max(tally.attempts.values()) > 1:
        most = ", ".join(f"{name} {n}" for name, n in tally.attempts.items() if n > 1)
        ended = f"{tally.ended_well:,} of {tally.schedules:,} schedules come to the end they were meant to have"
        given_up = tally.schedules - tally.ended_well
        tail = "" if not given_up else f"; in {given_up:,} somebody was refused as often as it may try"
        yield f"with retries {ended} (most attempts: {most}){tail}"


def describe_outcome(entry: OutcomeEntry) -> str:
    """Who failed by what, and which rules are false, in a few words."""
    parts = []
    for name, kinds in entry.failed_by.items():
        gone = entry.status.get(name) == "failed"
        word = {"deadlock": "given up", "refused": "refused", "timeout": "timed out"}.get(kinds[-1], "rejected")
        times = f" {len(kinds)}×" if len(kinds) > 1 else ""
        parts.append(f"{name} {word}{times}" + ("" if gone else ", then done"))
    left = [name for name, status in entry.status.items() if status == "cut off"]
    if left:
        parts.append(f"{', '.join(left)} still wait{'s' if len(left) == 1 else ''}")
    parts.extend(f"'{title}' false" for title, value in entry.holds.items() if value is not True)
    return "; ".join(parts)
