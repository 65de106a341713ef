"""What was expected of an order, beside what its recording has.

Values are compared as the server writes them, numbers by what they are; a truth value stands for
each way in which a server writes it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation

from catenum.core.record.recording import Event, Recording, ServerError, Wait
from catenum.core.scenario.model import Cell, Expectation, ExpectedWait, InAnyOrder, Row
from catenum.core.servers import rules_of
from catenum.core.text import counted

_TRUE, _FALSE = ("t", "true", "1"), ("f", "false", "0")
#: Rows that are shown of those that differ.
MOST_SHOWN = 3


@dataclass(frozen=True, slots=True)
class Difference:
    """One thing that is not as expected. ``path``: the expectation's place below ``expect``."""

    path: tuple[str | int, ...]
    expected: str
    seen: str


def subject(difference: Difference) -> str:
    """What a difference is about: ``outcome``, ``wait of loader 1``."""
    key, *rest = difference.path
    words = {"waits": "wait", "results": "result", "errors": "error", "rows": "rows"}
    name = words.get(str(key), str(key))
    return f"{name} of {' '.join(map(str, rest))}" if rest else str(key)


def differences(expected: Expectation, recording: Recording) -> list[Difference]:
    """Every difference, in the order of the expectation's keys."""
    return [
        *_outcome(expected, recording),
        *_waits(expected, recording),
        *_results(expected, recording),
        *_errors(expected, recording),
        *_victim(expected, recording),
        *_rows(expected, recording),
    ]


def _outcome(expected: Expectation, recording: Recording) -> Iterator[Difference]:
    kind = recording.outcome.kind
    if expected.outcome is not None and kind != expected.outcome:
        yield Difference(("outcome",), expected.outcome, kind)


def _number(recording: Recording, transaction: str, statement: int | None) -> int:
    """A statement's number; one more than the last for the transaction's end."""
    record = recording.transaction(transaction)
    return statement or (len(record.statements) + 1 if record is not None else 0)


def _waits(expected: Expectation, recording: Recording) -> Iterator[Difference]:
    if expected.waits is None:
        return
    seen: dict[tuple[str, int], list[Wait]] = {}
    for wait in recording.waits:
        at = (wait.waiter, _number(recording, wait.waiter, wait.statement))
        seen.setdefault(at, []).append(wait)
    asked = {(name, n): one for name, of in expected.waits.items() for n, one in of.items()}
    for (name, number), one in asked.items():
        found = seen.get((name, number), [])
        if not any(_is_met(one, wait) for wait in found):
            texts = dict.fromkeys(_waits_for(wait.holder, wait.resource.text) for wait in found)
            wanted = f"{name} {number} {_waits_for(one.holder, one.over)}"
            text = ", ".join(texts) or "it does not wait"
            yield Difference(("waits", name, number), wanted, text)
    for name, number in sorted(seen.keys() - asked.keys()):
        first = seen[name, number][0]
        text = f"{name} {number} {_waits_for(first.holder, first.resource.text)}"
        yield Difference(("waits",), f"{name} {number} does not wait", text)


def _is_met(expected: ExpectedWait, wait: Wait) -> bool:
    return expected.holder in (None, wait.holder) and expected.over in (None, wait.resource.text)


def _waits_for(holder: str | None, over: str | None) -> str:
    return f"waits{f' for {holder}' if holder else ''}{f' over {over}' if over else ''}"


def _last(recording: Recording, name: str, number: int) -> Event | None:
    """How a statement ended, in the last attempt that made it."""
    ended = (
        event
        for event in reversed(recording.events)
        if event.transaction == name
        and event.what in ("done", "failed", "passed")
        and _number(recording, name, event.statement) == number
    )
    return next(ended, None)


def _results(expected: Expectation, recording: Recording) -> Iterator[Difference]:
    for name, of_statements in (expected.results or {}).items():
        for number, one in of_statements.items():
            path = ("results", name, number)
            event = _last(recording, name, number)
            if event is None or event.what != "done":
                yield Difference(path, _described(one), _ending(event))
            elif isinstance(one, int):
                if event.rows != one:
                    yield Difference(path, _described(one), counted(event.rows or 0, "row"))
            else:
                rows = event.result.rows if event.result is not None else ()
                wanted = one.in_any_order if isinstance(one, InAnyOrder) else one
                cut = event.result is not None and event.result.cut
                if cut or not _same(wanted, rows, ordered=not isinstance(one, InAnyOrder)):
                    more = f", of {counted(event.rows or 0, 'row')}" if cut else ""
                    yield Difference(path, _described(one), f"{_shown(rows)}{more}")


def _ending(event: Event | None) -> str:
    if event is None:
        return "it was not run"
    if event.error is not None:
        return f"it failed: {event.error.kind} ({event.error.code or event.error.message})"
    return "it was passed over"


def _errors(expected: Expectation, recording: Recording) -> Iterator[Difference]:
    if expected.errors is None:
        return
    failed: dict[tuple[str, int], list[Event]] = {}
    for event in recording.events:
        if event.error is not None:
            at = (event.transaction, _number(recording, event.transaction, event.statement))
            failed.setdefault(at, []).append(event)
    asked = {(name, n): str(kind) for name, of in expected.errors.items() for n, kind in of.items()}
    is_duplicate = rules_of(recording.target.server).errors.is_duplicate

    def words(error: ServerError) -> tuple[str, ...]:
        return (error.kind, error.code, *(["duplicate"] if is_duplicate(error.code) else []))

    for (name, number), kind in asked.items():
        errors = [event.error for event in failed.get((name, number), []) if event.error]
        if not any(kind in words(error) for error in errors):
            text = ", ".join(f"{error.kind} ({error.code or error.message})" for error in errors)
            yield Difference(("errors", name, number), kind, text or "no error")
    for name, number in sorted(failed.keys() - asked.keys()):
        yield Difference(
            ("errors",), f"no error of {name} {number}", _ending(failed[name, number][0])
        )


def _victim(expected: Expectation, recording: Recording) -> Iterator[Difference]:
    if expected.victim is None:
        return
    victims = [deadlock.victim for deadlock in recording.deadlocks if deadlock.victim]
    if expected.victim not in victims:
        yield Difference(("victim",), expected.victim, ", ".join(victims) or "no victim")


def _rows(expected: Expectation, recording: Recording) -> Iterator[Difference]:
    tables = {name.lower(): rows for name, rows in recording.rows.items()}
    for table, wanted in (expected.rows or {}).items():
        found = tables.get(table.lower())
        if found is None:
            yield Difference(("rows", table), _shown_cells(wanted), "there is no such table")
        elif len(found.rows) < found.total or not _same(wanted, found.rows, ordered=True):
            more = "" if len(found.rows) == found.total else f", of {found.total}"
            yield Difference(("rows", table), _shown_cells(wanted), f"{_shown(found.rows)}{more}")


Texts = Sequence[Sequence[str | None]]


def _same(wanted: Sequence[Row], found: Texts, *, ordered: bool) -> bool:
    if len(wanted) != len(found):
        return False
    if ordered:
        return all(_row_is(one, row) for one, row in zip(wanted, found, strict=True))
    left = list(found)
    for one in wanted:
        row = next((row for row in left if _row_is(one, row)), None)
        if row is None:
            return False
        left.remove(row)
    return True


def _row_is(wanted: Row, row: Sequence[str | None]) -> bool:
    return len(wanted) == len(row) and all(map(_cell_is, wanted, row))


def _cell_is(wanted: Cell, text: str | None) -> bool:
    if wanted is None or text is None:
        return wanted is None and text is None
    if isinstance(wanted, bool):
        return text.lower() in (_TRUE if wanted else _FALSE)
    if isinstance(wanted, str):
        return wanted == text
    try:
        return Decimal(str(wanted)) == Decimal(text)
    except InvalidOperation:
        return False


def _described(one: int | Sequence[Row] | InAnyOrder) -> str:
    if isinstance(one, int):
        return counted(one, "row")
    if isinstance(one, InAnyOrder):
        return f"{_shown_cells(one.in_any_order)} in any order"
    return _shown_cells(one)


def _shown_cells(rows: Sequence[Row]) -> str:
    return _shown([[None if cell is None else str(cell) for cell in row] for row in rows])


def _shown(rows: Texts) -> str:
    texts = [f"({', '.join('null' if c is None else c for c in row)})" for row in rows[:MOST_SHOWN]]
    more = f" and {len(rows) - MOST_SHOWN} more" if len(rows) > MOST_SHOWN else ""
    return f"{', '.join(texts)}{more}" if texts else "no rows"
