"""Went on after an error: the transaction commits without a statement that failed, and perhaps
without all that the server undid with it.

Evidence: the error, what the server undid with it (InnoDB undoes the statement, after a deadlock
the whole transaction, and begins another with the next statement: MySQL manual, "InnoDB Error
Handling"; PostgreSQL refuses every statement until the transaction is rolled back, and answers its
commit with a rollback: documentation, "COMMIT"), and how the transaction ended.
"""

from __future__ import annotations

from collections.abc import Iterator

from catenum.core.diagnose.evidence import ref
from catenum.core.record.outcome import lost_work
from catenum.core.record.recording import Event, Finding, Recording
from catenum.core.servers import rules_of
from catenum.core.text import listed, named


def find(recording: Recording) -> list[Finding]:
    """One finding for each transaction that ended in a commit and lost work on the way."""
    found = []
    for record in recording.transactions:
        events = [event for event in recording.events if event.transaction == record.name]
        lost = [
            e for e in events if (e.swallowed or e.begins_anew) and e.attempt == record.attempts
        ]
        refused_commit = any(event.rolled_back for event in events)
        if not lost or not (record.status == "committed" or refused_commit):
            continue
        if record.status == "committed" and all(_expected(event) for event in lost):
            continue
        found.append(
            Finding(
                id="went-on-after-error",
                title=(
                    "Went on after an error, and lost everything at the commit"
                    if refused_commit
                    else "Went on after an error, and committed a part of its work"
                ),
                transactions=(record.name,),
                statements=tuple(
                    r for e in lost if e.statement for r in ref(record.name, e.statement)
                ),
                evidence=(*_what_was_lost(lost, refused_commit), *_kept(events, refused_commit)),
                advice=(
                    "Roll the whole transaction back after such an error, and begin it again"
                    " ('retry').",
                    _savepoint_advice(recording),
                ),
            )
        )
    return found


def _savepoint_advice(recording: Recording) -> str:
    """Where a savepoint helps: InnoDB undoes all with a deadlock's victim, savepoints included."""
    advice = (
        "Where the statement may be left out, set a savepoint before it and go back to that"
        " ('after_error: back to NAME')"
    )
    if rules_of(recording.target.server).errors.refuses_after_error:
        return f"{advice}."
    return f"{advice}; after a deadlock no savepoint is left."


def _expected(event: Event) -> bool:
    """Whether the error is the statement's own, and nothing else was undone with it."""
    if event.error is None or event.then == "back to savepoint":
        return not lost_work(event)
    return not lost_work(event) and event.error.undone == "statement"


def _what_was_lost(lost: list[Event], refused_commit: bool) -> Iterator[str]:
    for event in lost:
        error = event.error
        if error is None or event.statement is None:
            continue
        step = named(event.transaction, event.statement)
        if event.then == "back to savepoint":
            yield f"{step} failed ({error.kind}), and what was done since the savepoint was undone"
        elif error.undone == "statement":
            yield f"{step} failed ({error.kind}); the server undid that statement, and no other"
        elif refused_commit:
            yield f"{step} failed: {error.message}"
        else:
            began = "the next statement began another"
            if event.then == "retry":
                began = "the statement, sent again, began another"
            yield (
                f"{step} failed ({error.kind}); the server rolled back all that the transaction had"
                f" done, and {began}"
            )


def _kept(events: list[Event], refused_commit: bool) -> Iterator[str]:
    if refused_commit:
        yield "the server answered the commit with a rollback, which is no error to the client"
        return
    undone = max(
        (
            place
            for place, e in enumerate(events)
            if e.then in ("continue", "retry") and e.error and e.error.undone == "transaction"
        ),
        default=-1,
    )
    done = [
        str(e.statement)
        for e in events[undone + 1 :]
        if e.what == "done" and e.statement is not None
    ]
    many = "" if len(done) == 1 else "s"
    yield f"committed: {f'statement{many} {listed(done)}' if done else 'nothing'}"
