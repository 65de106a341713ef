"""The outcome of a recording, and why, in a sentence or two: the first thing that anybody reads of
it.
"""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.record.outcome import is_caught
from catenum.core.record.recording import OVER, Event, Recording
from catenum.core.servers import rules_of
from catenum.core.text import duration, listed, named


def headline(recording: Recording) -> str:
    """What it was, and why it was that, in a sentence or two."""
    kind = recording.outcome.kind
    text = {
        "clean": _clean,
        "waited": _waited,
        "timeout": _given_up,
        "refused": _refused,
        "deadlock": _deadlock,
        "stuck": _stuck,
        "error": _error,
    }[kind](recording)
    broken = [title for title, value in recording.outcome.holds.items() if value is False]
    if broken:
        text += (
            f" Yet the data is wrong: {listed(broken)} {'is' if len(broken) == 1 else 'are'} false."
        )
    return text


def _clean(recording: Recording) -> str:
    return "No block and no deadlock: nobody waited for a lock."


def _waited(recording: Recording) -> str:
    longest = max(recording.waits, key=lambda wait: wait.length_ms)
    ends = {wait.waiter: wait.ended for wait in recording.waits}
    went, failed, lasted = (
        sorted(n for n, end in ends.items() if end == how)
        for how in ("went on", "failed", "lasted")
    )
    reported = [f"{listed(went)} waited, and continued when the lock was free"] if went else []
    reported += [f"{listed(failed)} waited, and then failed"] if failed else []
    reported += (
        [f"{listed(lasted)} waited, and what became of that is not reported"] if lasted else []
    )
    return (
        f"Block, not deadlock: {'; '.join(reported)}; there was no cycle. "
        f"Longest wait: {longest.waiter} for {longest.holder} over {longest.resource.text}, "
        f"{duration(longest.length_ms)}; "
        f"longest chain: {recording.longest_chain()}."
    )


def _given_up(recording: Recording) -> str:
    failed = _failed(recording, "timeout")
    if not failed:
        reported = [
            f"{wait.waiter} waited for {wait.holder} over {wait.resource.text} and continued after"
            f" {duration(wait.length_ms)} without the lock: its code caught the error"
            for wait in filter(is_caught, recording.waits)
        ]
        return "Block, not deadlock: " + (
            "; ".join(reported) or "a wait ended by an error that code of the scenario caught"
        )
    names = list(dict.fromkeys(event.transaction for event in failed))
    by_statement = {record.name for record in recording.transactions if record.autocommit}
    undone = [
        name
        for name in dict.fromkeys(event.transaction for event in failed if event.then is None)
        if name not in by_statement
    ]
    rolled = f"; {listed(undone)} {_was(undone)} rolled back" if undone != names and undone else ""
    rolled = f" and {_was(names)} rolled back" if undone == names else rolled
    limits = rules_of(recording.target.server).errors.time_limits
    by_limit = all(event.error is not None and event.error.code in limits for event in failed)
    what = "a time limit while it waited" if by_limit else "the lock timeout"
    return f"Block, not deadlock: {listed(names)} ran into {what}{rolled}." + _after(
        recording, names
    )


def _refused(recording: Recording) -> str:
    failed = _failed(recording, "refused")
    names = list(dict.fromkeys(event.transaction for event in failed))
    own = list(dict.fromkeys(event.transaction for event in failed if _required(event)))
    by_server = [
        name for name in names if any(e.transaction == name and not _required(e) for e in failed)
    ]
    reported = (
        [f"the server refused {listed(by_server)} to keep the guarantee of the isolation level"]
        if by_server
        else []
    )
    reported += (
        [f"{listed(own)} did not find what {'it requires' if len(own) == 1 else 'they require'}"]
        if own
        else []
    )
    rolled = f", and {_was(own)} rolled back" if own else ""
    return f"Neither block nor deadlock: {'; '.join(reported)}{rolled}." + _after(recording, names)


def _required(event: Event) -> bool:
    """Whether a failure is by what the scenario requires, and not by the server."""
    return event.error is not None and event.error.check == "required"


def _deadlock(recording: Recording) -> str:
    cycle = recording.deadlocks[0] if recording.deadlocks else None
    victims = list(dict.fromkeys(event.transaction for event in _failed(recording, "deadlock")))
    victims = victims or [c.victim for c in recording.deadlocks if c.victim]
    members = [member.transaction for member in cycle.members] if cycle else victims
    if len(members) == 1:
        return (
            f"A deadlock: {_ended_by(recording).replace('The', 'the', 1)} {members[0]}. Its cycle"
            " was not seen." + _after(recording, victims)
        )
    if len(members) == 2:
        who = (
            f"{members[0]} and {members[1]} each held what the other wanted, so neither could"
            " continue"
        )
    else:
        who = f"{listed(members)} waited for each other in a cycle, so none of them could continue"
    if recording.source == "sample" and not victims:
        return (
            f"Deadlock, not just a block: {who}. It was seen while it stood; whom the server gave"
            " up is not."
        )
    text = f"Deadlock, not just a block: {who}. {_ended_by(recording)} {listed(victims)}."
    return text + _after(recording, victims)


def _ended_by(recording: Recording) -> str:
    """Who ended the cycles, up to the names of those who were the victims."""
    if any(cycle.by_timeout for cycle in recording.deadlocks):
        return "The server did not look for cycles; a lock timeout ended this one, that of"
    fell = _failed(recording, "deadlock")
    if fell and all(event.then == "back to savepoint" for event in fell):
        return "The server ended the statement of"
    stood = [cycle.verdict_ms is None for cycle in recording.deadlocks if cycle.victim]
    if stood and all(stood):
        return "The server did not end the cycle, so Catenum cancelled"
    if not any(stood) and all(
        e.error and e.error.undone == "statement" for e in _failed(recording, "deadlock")
    ):
        return "The server gave up one statement only, and Catenum then rolled back"
    return (
        "The server, and Catenum where the server did not end a cycle, rolled back"
        if any(stood)
        else "The server rolled back"
    )


def _after(recording: Recording, failed: list[str]) -> str:
    again = [r for r in recording.transactions if r.name in failed and r.attempts > 1]
    text = ""
    for record in again:
        text += f" {record.name} tried again, and in attempt {record.attempts} was {record.status}."
    text += "".join(_went_on(recording))
    ended = [
        r.name for r in recording.transactions if r.name not in failed and r.status == "committed"
    ]
    return text + (f" {listed(ended)} continued and committed." if ended else "")


def _went_on(recording: Recording) -> Iterator[str]:
    """What became of transactions that went on after an error."""
    for record in recording.transactions:
        lost = [e for e in recording.events if e.transaction == record.name and e.swallowed]
        if record.status == "committed" and any(
            e.transaction == record.name and e.then == "retry" and e.begins_anew
            for e in recording.events
        ):
            yield f" {record.name} committed without what it had done before the deadlock."
        numbers = sorted({e.statement for e in lost if e.statement is not None})
        if not numbers:
            continue
        which = f"statement{'' if len(numbers) == 1 else 's'} {listed(list(map(str, numbers)))}"
        if record.status == "committed":
            undone = any(
                e.error
                and e.error.kind == "deadlock"
                and e.error.undone == "transaction"
                and e.then == "continue"
                for e in lost
            )
            before = ", and without what it had done before the deadlock" if undone else ""
            yield f" {record.name} went on and committed without {which}{before}."
        elif any(e.transaction == record.name and e.rolled_back for e in recording.events):
            yield (
                f" {record.name} went on after {which}, but its transaction was refused everything,"
                " and its commit was answered with a rollback."
            )


def _stuck(recording: Recording) -> str:
    graph = recording.graph_at(max((event.move for event in recording.events), default=0))
    waiters = sorted(graph.waiters)
    reported = [_why_held(recording, head) for head in graph.heads()]
    many = len(waiters) != 1
    text = (
        f"{listed(waiters)} still {'wait' if many else 'waits'}, in the end for "
        f"{listed(reported) if reported else 'each other'}."
    )
    victims = sorted({cycle.victim for cycle in recording.deadlocks if cycle.victim})
    if victims:
        return f"First a deadlock. {_ended_by(recording)} {listed(victims)}. Then a block: {text}"
    return (
        f"Block, not deadlock: {text} There is no cycle: {'they' if many else 'it'} can go on as"
        " soon as that ends."
    )


def _why_held(recording: Recording, head: str) -> str:
    """Why a head blocker still holds what others wait for."""
    record = recording.transaction(head)
    if record is None:
        return f"{head}, which is not part of this run"
    if record.status not in OVER:
        why = {"left open": ", whose transaction was left open", "working": ", which is at work"}
        return f"{head}{why.get(record.status, '')}"
    over = sorted(
        {
            wait.resource.text
            for wait in recording.waits
            if wait.holder == head and wait.until_ms is None
        }
    )
    return f"{head}, whose transaction is over, but whose session still holds {listed(over)}"


def _error(recording: Recording) -> str:
    event = next(
        (
            e
            for e in recording.events
            if e.error and e.error.kind in ("rejected", "limit", "lost") and e.then is None
        ),
        None,
    )
    if event is None:
        return "Work was lost without an error at the end." + "".join(_went_on(recording))
    message = event.error.message if event.error else ""
    return f"{named(event.transaction, event.statement)} failed: {message}"


def _was(names: list[str]) -> str:
    return "was" if len(names) == 1 else "were"


def _failed(recording: Recording, kind: str) -> list[Event]:
    return [
        event for event in recording.events if event.error is not None and event.error.kind == kind
    ]
