"""Which statement of the holder took the lock that somebody waits for.

No server tells this. Where lock pictures were taken, the first picture that shows the lock names the statement (told
by the server); otherwise the holder's statements are read, and the first that takes a conflicting lock on the
resource is named (told by the statement).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from catenum.core.locks.modes import explain_conflict, lock_rules
from catenum.core.recording import Event, Picture, Recording, TableKeys, Wait
from catenum.core.statements import Access, footprint
from catenum.core.waits import Resource

NO_KEYS = TableKeys(primary=())


def attribute(recording: Recording) -> tuple[Wait, ...]:
    """The recording's waits, each with the holder's statement, the held mode and the rule that makes them conflict."""
    return tuple(_complete(wait, recording) for wait in recording.waits)


def _complete(wait: Wait, recording: Recording) -> Wait:
    server = recording.target.server
    sent = _sent_before(wait, recording)
    if wait.queued:
        wait = replace(wait, holder_statement=sent[-1] if sent else None, holder_told_by="server")
    else:
        seen = _from_pictures(wait, recording.pictures, recording.events)
        if seen is not None:
            wait = replace(wait, holder_statement=seen, holder_told_by="server")
        else:
            read = _from_statements(wait, sent, recording)
            wait = replace(wait, holder_statement=read, holder_told_by="statement" if read else None)
    if wait.held is None and wait.resource.kind in ("row", "gap"):
        sql = recording.sql(wait.holder, wait.holder_statement)
        wait = replace(wait, held=_row_mode(sql, wait, recording) if sql else None)
    if wait.held is not None:
        rule = explain_conflict(server, wait.wanted, wait.held)
        if rule is not None and rule.conflict:
            named = wait.resource.kind == "advisory"
            wait = replace(wait, conflict=lock_rules(server).NAMED_SOURCE if named else rule.source)
    return wait


def _sent_before(wait: Wait, recording: Recording) -> list[int]:
    """Statements of the holder sent before the wait was seen, in its attempt of that time."""
    sent = [
        event
        for event in recording.events
        if event.transaction == wait.holder
        and event.what == "sent"
        and event.statement is not None
        and event.move <= wait.move
        and event.at_ms <= wait.since_ms
    ]
    return [event.statement for event in sent if event.attempt == sent[-1].attempt and event.statement]


def _from_pictures(wait: Wait, pictures: Sequence[Picture], events: Sequence[Event]) -> int | None:
    for picture in pictures:
        if picture.move > wait.move:
            break
        for lock in picture.locks:
            same = lock.transaction == wait.holder and lock.resource.text == wait.resource.text and lock.granted
            if same and (wait.held is None or lock.mode == wait.held):
                return _statement_under_way(wait.holder, picture.move, events)
    return None


def _statement_under_way(transaction: str, move: int, events: Sequence[Event]) -> int | None:
    """The last statement the transaction had sent when ``move`` was over."""
    sent = [e for e in events if e.transaction == transaction and e.what == "sent" and e.move <= move]
    return next((event.statement for event in reversed(sent) if event.statement is not None), None)


def _from_statements(wait: Wait, sent: Sequence[int], recording: Recording) -> int | None:
    table = wait.resource.table
    candidates: list[tuple[bool, int]] = []
    for number in sent:
        sql = recording.sql(wait.holder, number) or ""
        found = footprint(sql, recording.target.server)
        named = [lock.text for lock in found.named_locks if lock.takes]
        if wait.resource.kind == "advisory" and named:
            candidates.extend((text is not None, number) for text in named if text in (None, wait.resource.text))
        elif not found.parsed or (table and any(_takes(access, wait, recording) for access in found.on(table))):
            candidates.append((found.parsed, number))
    known = [number for parsed, number in candidates if parsed]
    unknown = [number for parsed, number in candidates if not parsed]
    return next(iter(known or unknown), None)


def _takes(access: Access, wait: Wait, recording: Recording) -> bool:
    """Whether ``access`` could take a lock that stops ``wait``."""
    server = recording.target.server
    rules = lock_rules(server)
    if wait.resource.kind in ("row", "gap"):
        keys = recording.tables.get(wait.resource.table or "", NO_KEYS)
        mode = rules.INSERTED_MODE if access.verb == "insert" else rules.row_mode(access, keys.columns)
        # a gap is named by the row behind it, which the statement that locked the gap need not have asked for
        fits = mode is not None and (wait.resource.kind == "gap" or touches(access, wait.resource))
    else:
        mode, fits = rules.table_mode(access), True
    if mode is None or not fits:
        return False
    rule = explain_conflict(server, wait.wanted, mode)
    return rule is None or rule.conflict


def touches(access: Access, resource: Resource) -> bool:
    """Whether an access can concern a row such as ``berth(id=7)``: False only where a constant says otherwise."""
    wanted = dict(access.equals)
    return all(wanted.get(column, value) == value for column, value in key_values(resource.key))


def key_values(key: str | None) -> list[tuple[str, str]]:
    """The columns and values of a key such as ``quay=East, no=2``."""
    pairs = (part.partition("=") for part in (key or "").split(", ") if "=" in part)
    return [(column.strip().lower(), value.strip()) for column, _, value in pairs]


def _row_mode(sql: str, wait: Wait, recording: Recording) -> str | None:
    """The row lock a statement takes on the waited-for row, where its text tells."""
    table = wait.resource.table or ""
    keys = recording.tables.get(table, NO_KEYS)
    rules = lock_rules(recording.target.server)
    modes = [rules.row_mode(access, keys.columns) for access in footprint(sql, recording.target.server).on(table)]
    return next((mode for mode in modes if mode is not None), None)
