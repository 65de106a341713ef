"""Recordings as JSON (``"format": "catenum-recording/1"``): written from the dataclasses, and
checked against them.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import fields, is_dataclass, replace
from functools import cache
from typing import TYPE_CHECKING, Any

from catenum.core.errors import InputError, Place
from catenum.core.record.recording import Recording

if TYPE_CHECKING:
    from pydantic import TypeAdapter

FORMAT = "catenum-recording/1"


@cache
def _adapter() -> TypeAdapter[Recording]:
    from pydantic import TypeAdapter  # who writes and reads no recording does without it

    return TypeAdapter(Recording)


def prepare() -> None:
    """Make the form of recordings now, rather than with the first one."""
    _adapter()


def to_json(recording: Recording, *, indent: int | None = 2) -> str:
    return _adapter().dump_json(recording, indent=indent).decode()


def to_plain(recording: Recording) -> dict[str, Any]:
    """The recording as plain lists and mappings."""
    return _adapter().dump_python(recording, mode="json")  # type: ignore[no-any-return]


def from_json(data: bytes, file: str) -> Recording:
    """Reads a recording back. Raises InputError where it is not one, or not whole."""
    where = Place(file)
    try:
        plain = json.loads(data)
    except (UnicodeDecodeError, RecursionError) as error:
        raise InputError(
            "not a recording: no JSON text", place=where, advice=_SAVE_ADVICE
        ) from error
    except json.JSONDecodeError as error:
        place = Place(file, error.lineno, error.colno)
        raise InputError(
            f"not a recording: no JSON ({error.msg})", place=place, advice=_SAVE_ADVICE
        ) from error
    found = plain.get("format") if isinstance(plain, dict) else None
    if found != FORMAT:
        raise InputError(
            f"not a recording of the format {FORMAT} (found: {found or 'no format'})",
            place=where,
            advice=_SAVE_ADVICE,
        )
    try:
        recording = _adapter().validate_json(json.dumps(plain))
    except ValueError as error:
        first = error.errors()[0]  # type: ignore[attr-defined] # pydantic's
        path = ".".join(str(part) for part in first["loc"])
        raise InputError(f"a damaged recording: {path}: {first['msg']}", place=where) from error
    try:
        return whole(recording)
    except ValueError as error:
        raise InputError(f"a damaged recording: {error}", place=where) from error


def whole(recording: Recording) -> Recording:
    """The same recording. Raises ValueError where parts of it do not fit together."""
    for fault in _faults(recording):
        raise ValueError(fault)
    return recording


def _faults(recording: Recording) -> Iterator[str]:
    """What fits its type, but not the rest of the recording."""
    pictured = [(f"pictures.{at}.rows", one.rows) for at, one in enumerate(recording.pictures)]
    for place, rows in (("rows", recording.rows), *pictured):
        for table, content in rows.items():
            if _is_ragged(content.columns, content.rows):
                yield f"{place}.{table}: a row has not as many values as there are columns"
    for one in recording.transactions:
        if one.labels and len(one.statements) != len(one.labels):
            yield f"transactions.{one.name}: not as many labels as statements"
    if recording.outcome.kind == "waited" and not recording.waits:
        yield "outcome: nobody waited"
    yield from _faults_of_events(recording)
    yield from _faults_of_definition(recording.definition)


def _is_ragged(columns: Sequence[str], rows: Sequence[Sequence[object]]) -> bool:
    return any(len(row) != len(columns) for row in rows)


def _faults_of_events(recording: Recording) -> Iterator[str]:
    """What of events, waits and deadlocks fits no transaction."""
    statements = {one.name: len(one.statements) for one in recording.transactions}
    for number, event in enumerate(recording.events):
        most = statements.get(event.transaction)
        if most is None:
            yield f"events.{number}.transaction: no transaction is called {event.transaction}"
        elif event.statement is not None and not 1 <= event.statement <= most:
            yield f"events.{number}.statement: {event.transaction} has {most} statements"
        if event.result is not None and _is_ragged(event.result.columns, event.result.rows):
            yield f"events.{number}.result: a row has not as many values as there are columns"
    for number, wait in enumerate(recording.waits):
        if wait.waiter not in statements:
            yield f"waits.{number}.waiter: no transaction is called {wait.waiter}"
    for number, deadlock in enumerate(recording.deadlocks):
        if not deadlock.members:
            yield f"deadlocks.{number}.members: nobody takes part"


def _faults_of_definition(definition: Mapping[str, Any] | None) -> Iterator[str]:
    """What the scenario lacks that the recording carries."""
    if definition is None:
        return
    for name in ("scenario", "data", "transactions"):
        if name not in definition:
            yield f"definition: no {name}"
    if not isinstance(definition.get("transactions"), Mapping):
        yield "definition.transactions: not the transactions by their names"


_SAVE_ADVICE = "'catenum play SCENARIO --save FILE' writes a recording."


def without_times_and_ids(recording: Recording) -> dict[str, Any]:
    """What two runs of one schedule must share to the letter: all but times, process numbers and
    scratch names.
    """
    blank = _blank(recording)
    return to_plain(replace(blank, started="", target=replace(recording.target, url="")))


def _blank(value: Any) -> Any:
    if is_dataclass(value) and not isinstance(value, type):
        changes: dict[str, Any] = {}
        for item in fields(value):
            old = getattr(value, item.name)
            if item.name.endswith("_ms"):
                changes[item.name] = 0.0 if old is not None else None
            elif item.name in ("session", "server_report", "detail"):
                changes[item.name] = "" if old is not None else None
            else:
                changes[item.name] = _blank(old)
        return replace(value, **changes)
    if isinstance(value, tuple):
        return tuple(_blank(item) for item in value)
    if isinstance(value, dict):
        return {key: _blank(item) for key, item in value.items()}
    return value
