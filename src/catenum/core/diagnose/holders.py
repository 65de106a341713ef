"""Which statement of the holder took the lock that somebody waits for.

Lock pictures show after which statement it was there. Otherwise the holder's statements are read.
One is named where it is certain: it alone can have taken the lock. Where several can, all of them
are named (``holder_candidates``), and none as *the* statement. MySQL notes a statement with each
lock, which confirms that (both count as reported by the server).
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from typing import Literal

from catenum.core.record.modes import Mode
from catenum.core.record.recording import NO_KEYS, Event, Picture, Recording, Wait
from catenum.core.record.waits import Resource
from catenum.core.servers import rules_of
from catenum.core.sql.statements import Access

#: What the parser does not know and what locks no row all the same.
_LOCKS_NOTHING = re.compile(r"\s*(?:savepoint|release|kill)\b", re.IGNORECASE)


def attribute(recording: Recording) -> tuple[Wait, ...]:
    """The recording's waits, each with the holder's statement, the held mode and the rule that
    makes them conflict.
    """
    return tuple(_complete(wait, recording) for wait in recording.waits)


def _complete(wait: Wait, recording: Recording) -> Wait:
    rules = rules_of(recording.target.server)
    sent = _sent_before(wait, recording)
    if wait.queued:
        wait = replace(wait, holder_statement=sent[-1] if sent else None, holder_told_by="server")
    else:
        texts = {number: recording.sql(wait.holder, number) or "" for number in sent}
        seen = _from_pictures(wait, recording.pictures, recording.events)
        if seen is not None and rules.locks.shows_inserts_late:
            # an inserted row is no lock yet: it is listed when somebody wants it, its own
            # transaction among them
            inserts = [n for n in sent if n < seen and _inserts(texts[n], wait, recording)]
            seen, sent = (None, [*inserts, seen]) if inserts else (seen, sent)
        if seen is not None:
            wait = replace(wait, holder_statement=seen, holder_told_by="server")
        else:
            wait = _by_text(wait, sent, recording)
    if wait.held is None and wait.resource.kind in ("row", "gap"):
        sql = recording.sql(
            wait.holder, wait.holder_statement or next(iter(wait.holder_candidates), None)
        )
        wait = replace(wait, held=_row_mode(sql, wait, recording) if sql else None)
    if wait.held is not None:
        rule = rules.locks.conflict(wait.wanted, wait.held)
        if rule is not None and rule.conflict:
            named = wait.resource.kind == "advisory"
            wait = replace(wait, conflict=rules.locks.named_source if named else rule.source)
    return wait


def _by_text(wait: Wait, sent: Sequence[int], recording: Recording) -> Wait:
    """By what the statements can lock, which the server confirms where it has written the lock down
    with the same one. What it has written down decides only where no text does: InnoDB notes it for
    all locks of one mode on a page together, when the first of them is taken.
    """
    noted = [
        number
        for number in sent
        if wait.taken_by and _same_text(recording.sql(wait.holder, number) or "", wait.taken_by)
    ]
    read = _from_statements(wait, sent, recording)
    told_by: Literal["server", "statement"] = "server" if set(noted) & set(read) else "statement"
    if noted and not read:
        read, told_by = tuple(number for number in sent if number >= noted[0]), "server"
    return replace(
        wait,
        holder_statement=read[0] if len(read) == 1 else None,
        holder_candidates=read if len(read) > 1 else (),
        holder_told_by=told_by if read else None,
    )


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
    return [
        event.statement for event in sent if event.attempt == sent[-1].attempt and event.statement
    ]


def _from_pictures(wait: Wait, pictures: Sequence[Picture], events: Sequence[Event]) -> int | None:
    for picture in pictures:
        if picture.move > wait.move:
            break
        for lock in picture.locks:
            same = (
                lock.transaction == wait.holder
                and lock.resource.identity == wait.resource.identity
                and lock.granted
            )
            if same and (wait.held is None or lock.mode == wait.held):
                return _statement_under_way(wait.holder, picture.move, events)
    return None


def _statement_under_way(transaction: str, move: int, events: Sequence[Event]) -> int | None:
    """The last statement the transaction had sent when ``move`` was over."""
    sent = [
        e for e in events if e.transaction == transaction and e.what == "sent" and e.move <= move
    ]
    return next((event.statement for event in reversed(sent) if event.statement is not None), None)


def _inserts(sql: str, wait: Wait, recording: Recording) -> bool:
    found = rules_of(recording.target.server).sql.footprint(sql).on(wait.resource.table or "")
    return any(access.verb == "insert" and _takes(access, wait, recording) for access in found)


def _same_text(one: str, other: str) -> bool:
    return " ".join(one.split()).rstrip(";") == " ".join(other.split()).rstrip(";")


def _from_statements(wait: Wait, sent: Sequence[int], recording: Recording) -> tuple[int, ...]:
    """The statements of which one took the lock, up to the first that certainly had it."""
    table = wait.resource.table
    candidates: list[int] = []
    for number in sent:
        sql = recording.sql(wait.holder, number) or ""
        found = rules_of(recording.target.server).sql.footprint(
            sql, recording.bound(wait.holder, number)
        )
        named = [lock.resource for lock in found.named_locks if lock.takes]
        hidden = (not found.parsed and not _LOCKS_NOTHING.match(sql)) or found.calls_unknown
        if wait.resource.kind == "advisory":
            able = any(lock is None or lock.identity == wait.resource.identity for lock in named)
            hidden = hidden and not named
        else:
            able = any(_takes(access, wait, recording) for access in found.on(table or ""))
            hidden = hidden or any(_reaches(one, wait, recording) for one in found.accesses)
        if able or hidden:
            candidates.append(number)
        if able and _certainly(found.accesses, named, wait, _columns(recording, wait)):
            break
    return tuple(candidates)


def _reaches(access: Access, wait: Wait, recording: Recording) -> bool:
    """Whether an access may lock rows of the table that is waited for, though it is to another:
    by code that runs with it, by a view, or by a foreign key, which looks for the parent's row and
    may change its children.
    """
    keys = recording.tables.get(access.table, NO_KEYS)
    table = wait.resource.table or ""
    if keys.opaque or (access.writes and keys.triggers):
        return True
    if wait.resource.kind not in ("row", "gap") or not access.writes:
        return False
    locks = rules_of(recording.target.server).locks
    rule = locks.conflict(wait.wanted, locks.parent_mode)
    stops = wait.held in (None, locks.parent_mode) and (rule is None or rule.conflict)
    refers = stops and access.verb != "delete" and table in keys.references
    children = recording.tables.get(table, NO_KEYS).references
    return refers or (access.verb != "insert" and access.table in children)


def _certainly(
    accesses: Sequence[Access], named: Sequence[Resource | None], wait: Wait, columns: Sequence[str]
) -> bool:
    """Whether a statement that may have taken the lock certainly has it: it names the row, the
    lock, or the table.
    """
    if wait.resource.kind == "advisory":
        return any(lock is not None and lock.identity == wait.resource.identity for lock in named)
    if wait.resource.kind in ("row", "gap"):
        return any(_names(access, wait.resource, columns) for access in accesses)
    return any(access.table == wait.resource.table for access in accesses)


def _names(access: Access, resource: Resource, columns: Sequence[str]) -> bool:
    """Whether an access certainly concerns a row: it names it by the whole key, and by nothing
    else.
    """
    key = {column.lower(): value for column, value in resource.key or ()}
    given = _by_name(access, columns)
    if resource.kind != "row" or not key or access.table.lower() != (resource.table or "").lower():
        return False
    named = all(given.get(column) == value for column, value in key.items())
    return named and (access.verb == "insert" or (access.equals_only and set(given) == set(key)))


def _takes(access: Access, wait: Wait, recording: Recording) -> bool:
    """Whether ``access`` could take a lock that stops ``wait``."""
    rules = rules_of(recording.target.server)
    if wait.resource.kind in ("row", "gap"):
        keys = recording.tables.get(wait.resource.table or "", NO_KEYS)
        mode = (
            rules.locks.inserted_mode
            if access.verb == "insert"
            else rules.locks.row_mode(access, keys.columns)
        )
        # a gap is named by the row behind it, which the statement that locked the gap need not have
        # asked for
        listed = _columns(recording, wait)
        fits = mode is not None and (
            wait.resource.kind == "gap" or touches(access, wait.resource, listed)
        )
    else:
        mode, fits = rules.locks.table_mode(access), True
    if mode is None or not fits:
        return False
    if wait.held is not None and not rules.locks.may_be_held_as(mode, wait.held):
        return False
    rule = rules.locks.conflict(wait.wanted, mode)
    return rule is None or rule.conflict


def _by_name(access: Access, columns: Sequence[str]) -> dict[str, str]:
    """The constants of an access by their columns' names, also where an INSERT gives them by their
    places.
    """
    places = {f"#{place}": column.lower() for place, column in enumerate(columns)}
    return {places.get(column, column): value for column, value in access.equals}


def _columns(recording: Recording, wait: Wait) -> Sequence[str]:
    rows = recording.rows.get(wait.resource.table or "")
    return rows.columns if rows is not None else ()


def touches(access: Access, resource: Resource, columns: Sequence[str] = ()) -> bool:
    """Whether an access can concern a row such as ``berth(id=7)``: False only where a constant says
    otherwise.

    ``columns``: those of its table, in order, for an INSERT that lists none.
    """
    wanted = _by_name(access, columns)
    return all(wanted.get(column.lower(), value) == value for column, value in resource.key or ())


def _row_mode(sql: str, wait: Wait, recording: Recording) -> Mode | None:
    """The row lock a statement takes on the waited-for row, if its text says so."""
    table = wait.resource.table or ""
    keys = recording.tables.get(table, NO_KEYS)
    rules = rules_of(recording.target.server)
    modes = [
        rules.locks.row_mode(access, keys.columns) for access in rules.sql.footprint(sql).on(table)
    ]
    return next((mode for mode in modes if mode is not None), None)
