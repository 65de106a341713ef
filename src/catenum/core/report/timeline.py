"""A recording's timeline: what happened, one row after another, in words; for every renderer."""

from __future__ import annotations

from dataclasses import dataclass

from catenum.core.record.outcome import is_caught
from catenum.core.record.recording import Event, Recording, Wait
from catenum.core.report.after_error import what_follows
from catenum.core.servers import rules_of
from catenum.core.text import decided, duration, one_line, with_values

ENDED = {
    "commit": "committed",
    "rollback": "rolled back",
    "close": "connection closed: the server rolled back",
}


@dataclass(frozen=True)
class Row:
    """One happening: in which lane, its text, and which lanes wait or have a transaction open
    meanwhile.
    """

    move: int | None
    at_ms: float
    lane: int
    sign: str
    text: str
    tone: str
    waiting: frozenset[int]
    open: frozenset[int]
    banner: bool = False


def timeline_rows(recording: Recording) -> list[Row]:
    """The recording's events as rows, in order."""
    lanes = {record.name: index for index, record in enumerate(recording.transactions)}
    waiting: set[int] = set()
    opened: set[int] = set()
    rows: list[Row] = []
    shown_cycles: set[int] = set()
    last_move = 0
    for event in recording.events:
        lane = lanes[event.transaction]
        for index, deadlock in enumerate(recording.deadlocks):
            fell = deadlock.by_timeout and event.transaction == deadlock.victim
            after_cycle = event.what == "failed" and (event.move == deadlock.move or fell)
            if index not in shown_cycles and after_cycle:
                shown_cycles.add(index)
                names = [member.transaction for member in deadlock.members]
                around = (
                    " → ".join([*names, names[0]])
                    if len(names) > 1
                    else f"{names[0]} → ? (the rest was not seen)"
                )
                text = f"the cycle is closed: {around}"
                rows.append(
                    Row(
                        None,
                        deadlock.at_ms,
                        0,
                        "◆",
                        text,
                        "bad",
                        frozenset(waiting),
                        frozenset(opened),
                        True,
                    )
                )
        if event.what == "resumed":
            continue  # told together with what it led to
        sign, text, tone = _described(recording, event)
        waiting.discard(lane)
        move = event.move if event.move != last_move else None
        last_move = event.move
        rows.append(
            Row(
                move,
                event.at_ms,
                lane,
                sign,
                text,
                tone,
                frozenset(waiting),
                frozenset(opened - {lane}),
            )
        )
        if event.what == "waits":
            waiting.add(lane)
        if event.what != "passed":
            opened.add(lane)
        if (event.what == "failed" and event.then is None) or (
            event.what == "done" and event.statement is None
        ):
            opened.discard(lane)
    return rows


def _described(recording: Recording, event: Event) -> tuple[str, str, str]:
    """Sign, text and tone of an event."""
    if event.what == "sent":
        number = f"{event.statement}. " if event.statement else ""
        again = f"(attempt {event.attempt}) " if event.attempt > 1 and event.statement == 1 else ""
        values = f"   with {with_values(event.values)}" if event.values else ""
        return "▷", f"{again}{number}{one_line(event.sql)}{values}", "plain"
    if event.what == "passed":
        return "↷", f"{event.statement}. not run: {decided(event.condition, event.values)}", "faint"
    if event.what == "waits":
        reported = "; ".join(dict.fromkeys(_wait_text(w) for w in _waits_at(recording, event)))
        return "◷", f"waits {reported or 'for a lock'}", "wait"
    if event.what == "failed":
        text, follows = _failure(recording, event), what_follows(recording, event)
        return "✗", f"{text}; {follows}" if follows else text, "bad"
    after = _after_wait(recording, event)
    if event.rolled_back:
        return "✗", f"{after}commit answered with a rollback", "bad"
    if event.statement is None:
        return "✓", after + ENDED.get(event.sql, event.sql), "good"
    kept = f"; keeps {with_values(event.kept)}" if event.kept else ""
    return "✓", after + _answer(event) + kept, "good"


def _failure(recording: Recording, event: Event) -> str:
    """What has failed: the trade's word for it, or the server's message."""
    error = event.error
    if error is None:
        return "failed"
    if error.check == "required":
        return error.message
    if error.code in rules_of(recording.target.server).errors.time_limits:
        return "time limit" if error.kind == "timeout" else error.message
    if error.kind == "deadlock" and error.undone == "statement":
        return "deadlock victim: statement given up"
    words = {"deadlock": "deadlock victim", "refused": "refused", "timeout": "lock timeout"}
    return words.get(error.kind, error.message)


def _answer(event: Event) -> str:
    """How many rows, and the value where it is only one."""
    count = "done" if event.rows is None else f"{event.rows} row{'' if event.rows == 1 else 's'}"
    result = event.result
    if result is None or len(result.rows) != 1 or len(result.columns) != 1:
        return count
    value = result.rows[0][0]
    if value == "":
        return count
    return f"{count}: {'null' if value is None else value}"


def _waits_at(recording: Recording, event: Event) -> list[Wait]:
    own = [
        w
        for w in recording.waits
        if w.waiter == event.transaction and w.move <= event.move and w.since_ms <= event.at_ms
    ]
    lasting = [w for w in own if w.until_ms is None or w.until_ms > event.at_ms]
    return lasting or own[-1:]


def _wait_text(wait: Wait) -> str:
    place = "behind " if wait.queued else "for "
    since = f" (its {wait.holder_numbers})" if wait.holder_numbers else ""
    return f"{place}{wait.holder}{since} over {wait.resource.text}"


def _after_wait(recording: Recording, event: Event) -> str:
    """How long the statement had waited before ``event``; empty where it had not."""
    own = [
        w
        for w in recording.waits
        if (w.waiter, w.attempt, w.statement) == (event.transaction, event.attempt, event.statement)
        and w.until_ms is not None
        and w.until_ms <= event.at_ms
        and w.ended in ("went on", "caught")
    ]
    if not own:
        return ""
    lasted = max(w.until_ms or 0.0 for w in own) - min(w.since_ms for w in own)
    without = " without the lock" if is_caught(own[-1]) else ""
    return f"continued after {duration(lasted)}{without}; "


def summary(recording: Recording) -> str:
    """One line: the outcome of the schedule."""
    holds = recording.outcome.holds
    parts = [f"outcome: {recording.outcome.kind}"]
    if holds:
        false = recording.outcome.broken_rules
        parts.append(
            "rules: all true" if not false else f"rules: {len(false)} of {len(holds)} NOT true"
        )
    if recording.waits:
        parts.append(f"longest chain: {recording.longest_chain()}")
    parts.append(f"{duration(recording.duration_ms)}")
    return " · ".join(parts)
