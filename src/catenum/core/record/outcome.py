"""The outcome of a schedule: the worst kind that applies."""

from __future__ import annotations

from collections.abc import Iterable

from catenum.core.record.recording import Event, Kind, Outcome, Recording, Status, Wait

#: From best to worst; the worst that applies is the schedule's kind.
KINDS: tuple[Kind, ...] = ("clean", "waited", "timeout", "refused", "deadlock", "stuck", "error")

MEANING: dict[Kind, str] = {
    "clean": "nobody waited",
    "waited": "a transaction waited, and continued when the lock was free",
    "timeout": "a wait ended by its timeout",
    "refused": (
        "a transaction was refused, by the server to keep its level's guarantee, or by its own"
        " 'require'"
    ),
    "deadlock": "transactions waited for each other in a cycle; one was rolled back",
    "stuck": "a transaction still waits for a lock that is not released",
    "error": "a statement was rejected, or a commit was",
}

_OF_FAILURE: dict[str, Kind] = {
    "deadlock": "deadlock",
    "refused": "refused",
    "timeout": "timeout",
    "limit": "error",
    "lost": "error",
    "rejected": "error",
}

#: How a transaction stands after a run in which all went as intended, by how it ends.
AS_MEANT: dict[str, Status] = {
    "commit": "committed",
    "rollback": "rolled back",
    "open": "left open",
    "close": "rolled back",
}

#: Errors that come from other transactions, not from the statement itself.
BY_OTHERS = frozenset(("deadlock", "refused", "timeout"))


def kind_of(
    events: Iterable[Event], waits: Iterable[Wait], *, stuck: bool, deadlocked: bool = False
) -> Kind:
    """The kind of a run from what happened in it."""
    waits = list(waits)
    kinds: list[Kind] = ["clean"]
    if waits:
        kinds.append("waited")
    if any(map(is_caught, waits)):
        kinds.append("timeout")
    if deadlocked:
        kinds.append("deadlock")
    if stuck:
        kinds.append("stuck")
    for event in events:
        if event.error is not None:
            kind = _OF_FAILURE[event.error.kind]
            # what the application expects and goes on after is its own affair
            kinds.append("clean" if kind == "error" and event.then is not None else kind)
        elif event.rolled_back:
            kinds.append("error")
    return max(kinds, key=KINDS.index)


def is_conflict(outcome: Outcome) -> bool:
    """Whether the outcome is one that a build should fail on."""
    wrong = outcome.data == "anomaly" or bool(outcome.broken_rules)
    return outcome.kind not in ("clean", "waited") or wrong


def all_ended_well(recording: Recording) -> bool:
    """Whether every transaction ended as intended, after a retry if necessary."""
    ends = ((record.ends, record.status) for record in recording.transactions)
    return not recording.hidden_deadlocks and ended_well(ends, recording.events, recording.waits)


def ended_well(
    ends: Iterable[tuple[str, Status]], events: Iterable[Event], waits: Iterable[Wait]
) -> bool:
    """The same of a run's parts. ``ends``: how each transaction was to end, and how it stands."""
    as_meant = all(status == AS_MEANT.get(end) for end, status in ends)
    return as_meant and not any(map(lost_work, events)) and not any(map(is_caught, waits))


def is_caught(wait: Wait) -> bool:
    """Whether it ended without the lock, by an error that code of the scenario caught."""
    return wait.ended == "caught"


def lost_work(event: Event) -> bool:
    """Whether a transaction went on without a statement that others made fail, or without what it
    had done before that.
    """
    by_others = event.error is not None and event.error.kind in BY_OTHERS
    return by_others and (event.swallowed or event.begins_anew)
