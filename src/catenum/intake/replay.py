"""Plays a restaged scenario and says whether the same cycle came; where not, tries what could
explain it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace

from catenum.core.errors import CatenumError
from catenum.core.logs.conflicts import Conflict
from catenum.core.logs.restage import Staged
from catenum.core.record.recording import Deadlock, Recording
from catenum.core.scenario.reader import read_scenario
from catenum.core.servers import Rules, rules_of
from catenum.core.text import shortened
from catenum.engines.ports import DataError, Engine
from catenum.lab.load.churn import Churn
from catenum.lab.load.cycles import cycles
from catenum.lab.run.loading import load
from catenum.lab.run.play import PlayOptions, play

#: Orders of the last moves that are tried.
MOST_ORDERS = 6
#: Definitions that are left out at the most, since the server rejects them.
MOST_LEFT_OUT = 60
#: How long loops run for a deadlock that only timing brings (s).
LOOPS_S = 6.0


@dataclass(slots=True)
class Replay:
    """What came of it. ``tried``: each change with its outcome, the one that brought the cycle
    last.
    """

    same: bool
    recording: Recording | None
    staged: Staged
    tried: list[tuple[str, str]] = field(default_factory=list)
    differs: list[str] = field(default_factory=list)


def replay(
    engine: Engine,
    conflict: Conflict,
    staged: Staged,
    tell: Callable[[str], None] = lambda text: None,
) -> Replay:
    """Play it, and its variants until the captured cycle comes. Raises InputError, TargetError as a
    play does.
    """
    staged = accepted(engine, conflict, staged)
    found = Replay(False, None, staged)
    for what, variant in _variants(staged):
        tell(f"playing: {what}")
        file = read_scenario(variant.text().encode(), "restaged")
        try:
            recording = play(engine, file.scenario, PlayOptions(), file=file)
        except CatenumError as error:
            found.tried.append((what, str(error).split("\n", maxsplit=1)[0]))
            found.differs = [str(error)]
            if found.recording is None and variant is staged:
                raise
            continue
        differs = differences(conflict, recording)
        found.tried.append((what, recording.outcome.kind if differs else "the same"))
        if found.recording is None or not differs:
            found.recording, found.staged, found.differs = recording, variant, differs
        if not differs:
            found.same = True
            return _without_bystanders(engine, conflict, found, tell)
    return (
        _in_loops(engine, conflict, staged, found, tell) if conflict.kind == "deadlock" else found
    )


def accepted(engine: Engine, conflict: Conflict, staged: Staged) -> Staged:
    """Without those definitions that this server rejects, one by one, each with a note. What makes
    a table of the conflict, or fills one, is not left out: then the server's word is the answer.
    """
    rules = rules_of(conflict.server)
    for _ in range(MOST_LEFT_OUT):
        try:
            engine.load(staged.data)
            break
        except DataError as error:
            at = (error.error.position or 0) - 1
            pieces = list(rules.sql.split(staged.data))
            rejected = next((sql for start, sql in reversed(pieces) if start <= at), None)
            if rejected is None or _is_needed(rejected, conflict, rules):
                break  # playing says what is wrong
            kept = "\n".join(f"{sql.rstrip().rstrip(';')};" for _, sql in pieces if sql != rejected)
            note = (
                f"Left out, since the server rejects it ({error.error.message}):"
                f" {shortened(rejected, 90)}"
            )
            staged = replace(staged, data=kept, notes=[*staged.notes, note])
    return staged


_MADE = re.compile(
    r"(?i)\s*(?:create\s+(?:unlogged\s+)?table\s+(?:if\s+not\s+exists\s+)?|insert\s+into\s+)([^\s(]+)"
)


def _is_needed(sql: str, conflict: Conflict, rules: Rules) -> bool:
    made = _MADE.match(sql)
    named = {
        table.lower()
        for member in conflict.members
        for table, _ in rules.sql.tables_of(member.statement or "")
    }
    return made is not None and made[1].strip('"`').lower() in {
        *named,
        *map(str.lower, conflict.relations),
    }


def _without_bystanders(
    engine: Engine, conflict: Conflict, found: Replay, tell: Callable[[str], None]
) -> Replay:
    """Without those who only stood in the queue: whoever the cycle of the others does not need."""
    for name in list(found.staged.transactions) if conflict.kind == "deadlock" else ():
        staged = found.staged
        if len(staged.transactions) < 3:
            break
        left = {other: one for other, one in staged.transactions.items() if other != name}
        fewer = replace(
            staged,
            transactions=left,
            order=[other for other in staged.order if other != name],
            victim=staged.victim if staged.victim != name else None,
            later={other: count for other, count in staged.later.items() if other != name},
        )
        tell(f"playing: without {name}")
        file = read_scenario(fewer.text().encode(), "restaged")
        try:
            recording = play(engine, file.scenario, PlayOptions(), file=file)
        except CatenumError:
            continue
        waited = {
            recording.sql(m.transaction, m.statement)
            for c in recording.deadlocks
            for m in c.members
        }
        if (
            recording.outcome.kind == "deadlock"
            and len(waited) == len(left)
            and _last(fewer) == waited
        ):
            found.tried.append((f"without {name}", "the same, with fewer members"))
            note = (
                f"{name} only stood in the queue: the cycle of the others comes without it, so it"
                " is left out."
            )
            notes = [one for one in fewer.notes if not one.startswith(f"{name}: ")]
            found.staged, found.recording = replace(fewer, notes=[*notes, note]), recording
    return found


def _last(staged: Staged) -> set[str | None]:
    texts = (
        (one["statements"], staged.later.get(name, 0)) for name, one in staged.transactions.items()
    )
    lasts = [one[-1 - later] for one, later in texts if isinstance(one, list)]
    return {one["sql"] if isinstance(one, dict) else one for one in lasts}


def _in_loops(
    engine: Engine, conflict: Conflict, staged: Staged, found: Replay, tell: Callable[[str], None]
) -> Replay:
    """Uncontrolled, for what happens inside a statement; then with filler rows, so that indexes are
    used.
    """
    filled = replace(staged, fill=staged.filler)
    for what, variant in (
        ("in loops", staged),
        *([("in loops, with filler rows", filled)] if staged.filler else []),
    ):
        tell(f"playing: {what}")
        file = read_scenario(variant.text().encode(), "restaged")
        scenario = file.scenario.for_server(engine.info.server)
        try:
            load(engine, scenario, file)
            churn = Churn(
                engine, scenario, copies=dict.fromkeys(scenario.transactions, 1), file=file
            )
            try:
                churn.ready()
                while churn.seconds < LOOPS_S and not churn.failures("deadlock"):
                    churn.turn(1.0, "deadlock")
            finally:
                churn.close()
            met = [kind.recording for kind in cycles(churn)]
        except CatenumError as error:
            found.tried.append((what, str(error).split("\n", maxsplit=1)[0]))
            continue
        reported = [differences(conflict, recording) for recording in met]
        same = next(
            (recording for recording, differs in zip(met, reported, strict=True) if not differs),
            None,
        )
        outcome = (
            "the same"
            if same
            else "another deadlock"
            if met
            else f"no deadlock in {churn.iterations:,} iterations"
        )
        found.tried.append((what, outcome))
        if same is not None:
            found.same, found.recording, found.staged, found.differs = True, same, variant, []
            break
    return found


def _variants(staged: Staged) -> Iterator[tuple[str, Staged]]:
    """As it is; then the last moves in other orders; then other isolation levels; then early moves
    the other way.
    """
    yield "as it is", staged
    names = list(staged.transactions)
    after = sum(staged.later.get(name, 0) for name in names)
    before, tail = (
        staged.order[: len(staged.order) - after],
        staged.order[len(staged.order) - after :],
    )
    early, last = before[: -len(names)], before[-len(names) :]
    for turn in range(1, min(len(names), MOST_ORDERS)):
        turned = [*last[turn:], *last[:turn]]
        yield (
            f"the last moves in the order {' '.join(turned)}",
            _changed(staged, order=[*early, *turned, *tail]),
        )
    if early:
        turned = list(reversed(early))
        yield (
            f"the earlier moves in the order {' '.join(turned)}",
            _changed(staged, order=[*turned, *last, *tail]),
        )
    rules = rules_of(staged.server)
    unknown = [name for name, one in staged.transactions.items() if "isolation" not in one]
    for level in rules.locks.distinct_levels if unknown else ():
        transactions = {
            name: {"isolation": level, **one} if name in unknown else one
            for name, one in staged.transactions.items()
        }
        yield f"at {level}", _changed(staged, transactions=transactions)


def _changed(
    staged: Staged,
    *,
    order: list[str] | None = None,
    transactions: dict[str, dict[str, object]] | None = None,
) -> Staged:
    return replace(
        staged, order=order or staged.order, transactions=transactions or staged.transactions
    )


def differences(conflict: Conflict, recording: Recording) -> list[str]:
    """In what the outcome is not the captured one: kind, members, statements, relations, indexes,
    victim.
    """
    wanted = conflict.outcome if conflict.kind != "ended" else "waited"  # nobody ends it here
    stands = (
        wanted == "waited" and recording.outcome.kind == "stuck"
    )  # who holds the lock is left open here, too
    if recording.outcome.kind != wanted and not stands:
        failed = (
            e
            for e in recording.events
            if e.error is not None and e.error.kind in ("rejected", "limit")
        )
        why = next(
            (f": {e.transaction}: {e.error.message}" for e in failed if e.error is not None), ""
        )
        return [f"the outcome is {recording.outcome.kind}, not {wanted}{why}"]
    rules = rules_of(conflict.server)
    if conflict.kind != "deadlock":
        waiting = {
            rules.sql.shape(one.statement or "")
            for w in conflict.waits
            if (one := conflict.member(w.waiter))
        }
        came = {
            rules.sql.shape(recording.sql(wait.waiter, wait.statement) or "")
            for wait in recording.waits
        }
        return [] if waiting <= came else ["another statement waited"]
    found: list[str] = []
    for cycle in recording.deadlocks:
        found = list(_other_cycle(conflict, recording, cycle, rules))
        if not found:
            return []
    return found or ["no cycle was seen"]


def _other_cycle(
    conflict: Conflict, recording: Recording, cycle: Deadlock, rules: Rules
) -> Iterator[str]:
    """In what a cycle is not the captured one."""
    shapes = sorted(rules.sql.shape(member.statement or "") for member in conflict.members)
    mine = sorted(
        rules.sql.shape(recording.sql(member.transaction, member.statement) or "")
        for member in cycle.members
    )
    if len(mine) != len(shapes):
        yield f"its cycle has {len(mine)} members, not {len(shapes)}"
    elif sorted(map(_plain, mine)) != sorted(map(_plain, shapes)):
        yield "other statements waited in it"
    modes = sorted(
        wait.mode for wait in conflict.waits if wait.provenance.get("mode") == "captured"
    )
    wanted = sorted(str(member.wanted) for member in cycle.members)
    if rules.locks.reports_modes and len(modes) == len(wanted) and modes != wanted:
        yield f"the locks waited for were {', '.join(wanted)}, not {', '.join(modes)}"
    tables = sorted({member.resource.table for member in cycle.members if member.resource.table})
    if conflict.relations and tables and set(tables) != set(conflict.relations):
        yield f"it was over {', '.join(tables)}, not {', '.join(conflict.relations)}"
    indexes = {wait.index for wait in conflict.waits if wait.index}
    played = {member.resource.index for member in cycle.members if member.resource.index}
    if indexes and played and not indexes <= played:
        yield f"it was through {', '.join(sorted(played))}, not {', '.join(sorted(indexes))}"


def _plain(shape: str) -> str:
    return "".join(shape.split())
