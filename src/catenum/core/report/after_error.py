"""What comes after an error: what the application does, and what the server has made of its
transaction.
"""

from __future__ import annotations

from catenum.core.record.recording import Event, Recording
from catenum.core.servers import rules_of

_IN_THE_TRANSACTION = {
    None: "rolled back",
    "continue": "goes on in the transaction",
    "retry": "sends it again",
    "back to savepoint": "back to the savepoint, and on from there",
}


def what_follows(recording: Recording, event: Event) -> str:
    """The same of a failed event in a few words; empty where nothing was undone."""
    record, error = recording.transaction(event.transaction), event.error
    if error is not None and error.undone == "nothing":
        return ""
    if record is not None and record.autocommit:
        return {None: "ends here", "retry": "sends it again"}.get(event.then, "goes on")
    if event.then == "continue" and rules_of(recording.target.server).errors.refuses_after_error:
        return "goes on, and is refused until it rolls back"
    if event.then in ("continue", "retry") and error is not None and error.undone == "transaction":
        how = "sends it again" if event.then == "retry" else "goes on"
        return f"all rolled back; {how} in another transaction"
    return _IN_THE_TRANSACTION[event.then]
