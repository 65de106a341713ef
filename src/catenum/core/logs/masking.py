"""Captured conflicts without values: statements and records masked by their parts, never as text;
ids stay.
"""

from __future__ import annotations

import json
import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from catenum.core.logs.conflicts import FAILED, CapturedWait, Conflict, Member
from catenum.core.logs.restage import Staged
from catenum.core.servers import Rules, rules_of
from catenum.core.sql.masking import Piece, literals


def masked(conflict: Conflict) -> Conflict:
    """The same without literals, keys of records and parameters. Of the report only the first line
    stays.
    """
    rules = rules_of(conflict.server)

    def member(one: Member) -> Member:
        return replace(
            one,
            statement=rules.sql.masked(one.statement) if one.statement else None,
            history=tuple(rules.sql.masked(sql) for sql in one.history)
            if one.history is not None
            else None,
            later=tuple(map(rules.sql.masked, one.later)),
        )

    def wait(one: CapturedWait) -> CapturedWait:
        by_key = bool(one.record) or "advisory" in one.object
        text = (
            re.sub(r"\((?:[^()]|\([^()]*\))*\)|(?<=advisory lock ).*", "(?)", one.object)
            if by_key
            else one.object
        )
        return replace(one, object=text, record=())

    return replace(
        conflict,
        members=tuple(map(member, conflict.members)),
        waits=tuple(map(wait, conflict.waits)),
        notes=tuple(_masked_note(note, rules) for note in conflict.notes),
        report=conflict.report.split("\n", maxsplit=1)[
            0
        ],  # the rest has values, in whatever language around them
    )


def mask_staged(
    staged: Staged, conflict: Conflict, *, of_server: bool = False
) -> tuple[Staged, Conflict]:
    """A scenario with other values in place of those captured, in statements and rows; and the
    conflict with the same.

    Alike ones stay alike and different ones different, numbers and dates keep their order, texts
    their length; what the tables' definitions name (the values of a check, of an enum) stays, and
    so do values that were made up for rows, unless those come from a server (``of_server``).
    Comments are left out.
    """
    rules = rules_of(conflict.server)
    lines = [(line, line.lower().startswith("insert into")) for line in staged.data.split("\n")]
    captured, fixed = _captured_and_fixed(staged, conflict, lines, of_server=of_server)
    other = others(captured - fixed, fixed)

    def changed(text: str) -> str:
        return _replaced(text, other, rules)

    transactions = {
        name: {
            **part,
            "statements": [
                {**one, "sql": changed(str(one["sql"]))}
                if isinstance(one, dict)
                else changed(str(one))
                for one in _statements(part)
            ],
        }
        for name, part in staged.transactions.items()
    }
    data = "\n".join(changed(line) if fills else line for line, fills in lines)
    members = tuple(
        replace(
            one,
            statement=changed(one.statement) if one.statement else None,
            history=tuple(map(changed, one.history)) if one.history is not None else None,
            later=tuple(map(changed, one.later)),
        )
        for one in conflict.members
    )
    notes = [_masked_note(note, rules) for note in staged.notes]
    return (
        replace(staged, data=data, transactions=transactions, notes=notes),
        replace(
            conflict,
            members=members,
            notes=tuple(_masked_note(note, rules) for note in conflict.notes),
        ),
    )


def _captured_and_fixed(
    staged: Staged, conflict: Conflict, lines: Sequence[tuple[str, bool]], *, of_server: bool
) -> tuple[set[Value], set[Value]]:
    """The values that were captured, and those that are nobody's; ``lines`` of the data, and
    whether they fill tables.
    """
    rules = rules_of(conflict.server)
    texts = [_sql(one) for part in staged.transactions.values() for one in _statements(part)]
    captured = {value for text in texts for value in _values(text, rules)}
    shown = {value for wait in conflict.waits for value in (*wait.record, *wait.row.values())}
    shown |= {value for _, value in captured}
    fixed = {value for line, fills in lines if not fills for value in _values(line, rules)}
    for value in {value for line, fills in lines if fills for value in _values(line, rules)}:
        (captured if of_server or value[1] in shown else fixed).add(value)
    return captured, fixed


def _masked_note(note: str, rules: Rules) -> str:
    """A note without what a message of the server quotes."""
    head, sign, message = note.partition(FAILED)
    reported = re.sub(r"\([^()]*\)", "(?)", rules.sql.masked(message))
    return f"{head}{sign}{reported}" if sign else note


def _statements(part: Mapping[str, object]) -> list[Any]:
    found = part["statements"]
    return found if isinstance(found, list) else []


def _sql(one: object) -> str:
    return str(one["sql"]) if isinstance(one, dict) else str(one)


Value = tuple[str, str]
_DATE = re.compile(
    r"(\d{4})-(\d\d)-(\d\d)([ T]\d\d:\d\d(?::\d\d(\.\d+)?)?)?(Z|[+-]\d\d(?::?\d\d)?)?"
)
_UUID = re.compile(r"(?i)[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}")
_FORMS = {"binary": "b", "hex": "x", "hex number": "x"}
_NUMBER = re.compile(r"\d+(?:\.\d+)?")
#: A first day for dates that are made up.
_FIRST = date(2001, 1, 1)


def _literals(text: str, rules: Rules) -> Iterator[tuple[Piece, str]]:
    """Literals with their values; of what holds code (``do $$ … $$``) those within it."""
    code = re.match(r"(?is)\s*(?:do|create)\b", text) is not None
    for piece in literals(text, rules.sql.token_patterns, rules.sql.dialect):
        raw = text[piece.inner_start : piece.inner_end]
        if piece.kind == "dollar" and code:
            for within, value in _literals(raw, rules):
                yield within.moved(piece.inner_start), value
        elif piece.kind == "string":
            plain = re.sub(r"\\(.)", r"\1", raw, flags=re.DOTALL) if piece.escapes else raw
            yield piece, plain.replace("''", "'")
        else:
            yield piece, raw


def _values(text: str, rules: Rules) -> Iterator[Value]:
    for piece, value in _literals(text, rules):
        if piece.kind != "comment":
            yield _kind(text, piece), value


def _kind(text: str, piece: Piece) -> str:
    """What a literal is a literal of."""
    begins = text[piece.start : piece.start + 2].lower()
    if piece.kind == "string" and begins in ("b'", "x'"):
        return "binary" if begins == "b'" else "hex"
    if piece.kind == "value":
        return "hex number" if begins == "0x" else "number"
    return "text"


def others(found: Collection[Value], fixed: Collection[Value] = ()) -> dict[Value, str]:
    """For each value another of its kind: numbers and dates in the same order, texts of the same
    length, all different where they were. 0, 1, and what is ``fixed`` stay.
    """
    taken = {value for _, value in (*found, *fixed)}
    digits = {
        value for kind, value in found if kind in ("number", "text") and _NUMBER.fullmatch(value)
    }
    other: dict[Value, str] = {}
    for value, made in _numbers(digits, taken).items():
        other["number", value] = other["text", value] = made
    for place, (kind, value) in enumerate(sorted(one for one in found if one[0] in _FORMS)):
        made = format(place, _FORMS[kind])
        other[kind, value] = (
            "0x" + made.zfill(len(value) - 2) if kind == "hex number" else made.zfill(len(value))
        )
    texts = sorted(
        value for kind, value in found if kind == "text" and value and ("text", value) not in other
    )
    dates = [value for value in texts if _DATE.fullmatch(value)]
    for place, value in enumerate(dates):
        other["text", value] = _another_date(value, place)
    for place, value in enumerate(value for value in texts if _UUID.fullmatch(value)):
        other["text", value] = f"{place:08x}-0000-4000-8000-{place:012x}"
    used = set(other.values()) | taken
    for place, value in enumerate(texts):
        if ("text", value) not in other:
            other["text", value] = _json(value, other) or _another_text(value, place, used)
            used.add(other["text", value])
    return other


def _numbers(found: Collection[str], taken: Collection[str]) -> dict[str, str]:
    """Each the next whole number that stands for none: no greater than what was there, unless that
    is all taken.
    """
    made: dict[str, str] = {}
    known = {Decimal(value) for value in taken if _NUMBER.fullmatch(value)}
    last = Decimal(1)
    small = sorted(value for value in {Decimal(one) for one in found} if 0 < value < 1)
    for value in sorted({Decimal(one) for one in found}):
        alike = [one for one in found if Decimal(one) == value]
        if value in (0, 1):
            new = value
        elif value < 1:
            new = Decimal(small.index(value) + 1) / (len(small) + 1)
        else:
            new = last + 1
            while new in known:
                new += 1
            last = new
        for one in alike:
            scale = len(one.partition(".")[2])
            text = f"{new:.{max(scale, 4) if new != int(new) else scale}f}"
            made[one] = (
                text
                if "." in one or value < 1
                else text.zfill(len(one) if one.startswith("0") else 0)
            )
    return made


def _another_date(value: str, place: int) -> str:
    found = _DATE.fullmatch(value)
    assert found is not None
    clock = re.sub(r"\d", "0", found[4] or "")
    return f"{_FIRST + timedelta(days=place)}{clock}{found[6] or ''}"


def _json(value: str, other: Mapping[Value, str]) -> str | None:
    """A JSON object or list with other values and the same keys; None where it is none."""
    if value[:1] not in ("{", "["):
        return None
    try:
        plain = json.loads(value)
    except ValueError:
        return None

    def changed(one: Any) -> Any:
        if isinstance(one, dict):
            return {key: changed(each) for key, each in one.items()}
        if isinstance(one, list):
            return [changed(each) for each in one]
        if isinstance(one, str):
            return other.get(("text", one)) or _alike(one, 0)
        return one if isinstance(one, bool) or one is None else 0

    return json.dumps(changed(plain), ensure_ascii=False)


def _another_text(value: str, place: int, used: Collection[str]) -> str:
    """A text of the same length and signs that none of the others is; longer where so few letters
    do not do.
    """
    for step in range(2_000):
        made = _alike(value, place + step)
        if made not in used or not any(sign.isalnum() for sign in value):
            return made
    return f"{_alike(value, place)}{place}"


def _alike(text: str, place: int) -> str:
    """A text of the same length and signs; which one it is, its place in their order tells."""
    letters = "abcdefghijklmnopqrstuvwxyz"
    count = sum(sign.isalpha() for sign in text)
    code = ""
    for _ in range(max(1, min(4, count))):
        place, rest = divmod(place, 26)
        code = letters[rest] + code
    plain = iter(code * (len(text) + 1))
    digit = str((place + len(text)) % 10)
    return "".join(
        next(plain) if sign.isalpha() else digit if sign.isdigit() else sign for sign in text
    )


def _replaced(text: str, other: Mapping[Value, str], rules: Rules) -> str:
    parts, at = [], 0
    for piece, value in _literals(text, rules):
        if piece.kind == "comment":
            parts += [text[at : piece.start], " "]
            at = piece.end
            continue
        made = other.get((_kind(text, piece), value))
        if made is None:
            continue
        if piece.kind == "string":
            made = made.replace("'", "''")
            made = made.replace("\\", "\\\\") if piece.escapes else made
        parts += [text[at : piece.inner_start], made]
        at = piece.inner_end
    return "".join([*parts, text[at:]])
