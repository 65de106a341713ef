"""Captured conflicts without values: statements and records masked by their parts, never as text; ids stay."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping
from dataclasses import replace
from typing import Any

from catenum.core.capture.restage import Staged
from catenum.core.serverlog.conflicts import CapturedWait, Conflict, Member
from catenum.core.servers import Rules, rules_of


def masked(conflict: Conflict) -> Conflict:
    """The same without literals, keys of records and parameters. Of the report only the first line stays."""
    rules = rules_of(conflict.server)

    def member(one: Member) -> Member:
        return replace(
            one,
            statement=rules.masked(one.statement) if one.statement else None,
            history=tuple(rules.masked(sql) for sql in one.history) if one.history is not None else None,
            later=tuple(map(rules.masked, one.later)),
        )

    def wait(one: CapturedWait) -> CapturedWait:
        by_key = bool(one.record) or "advisory" in one.object
        text = re.sub(r"\((?:[^()]|\([^()]*\))*\)|(?<=advisory lock ).*", "(?)", one.object) if by_key else one.object
        return replace(one, object=text, record=())

    return replace(
        conflict,
        members=tuple(map(member, conflict.members)),
        waits=tuple(map(wait, conflict.waits)),
        report=conflict.report.split("\n", maxsplit=1)[0],  # the rest has values, in whatever language around them
    )


def mask_staged(staged: Staged, conflict: Conflict) -> tuple[Staged, Conflict]:
    """A scenario with other values in place of those captured: alike ones alike, numbers in their order, texts of their
    length, in statements and rows; and the conflict with the same statements.
    """
    rules = rules_of(conflict.server)
    texts = [staged.data, *(_sql(one) for part in staged.transactions.values() for one in _statements(part))]
    found = {value for text in texts for value in _values(text, rules)}
    other = _others(found)

    def changed(text: str) -> str:
        return _replaced(text, other, rules)

    transactions = {
        name: {
            **part,
            "statements": [
                {**one, "sql": changed(str(one["sql"]))} if isinstance(one, dict) else changed(str(one))
                for one in _statements(part)
            ],
        }
        for name, part in staged.transactions.items()
    }
    data = "\n".join(
        changed(line) if line.lower().startswith("insert into") else line for line in staged.data.split("\n")
    )
    members = tuple(
        replace(
            one,
            statement=changed(one.statement) if one.statement else None,
            history=tuple(map(changed, one.history)) if one.history is not None else None,
            later=tuple(map(changed, one.later)),
        )
        for one in conflict.members
    )
    return replace(staged, data=data, transactions=transactions), replace(conflict, members=members)


def _statements(part: Mapping[str, object]) -> list[Any]:
    found = part["statements"]
    return found if isinstance(found, list) else []


def _sql(one: object) -> str:
    return str(one["sql"]) if isinstance(one, dict) else str(one)


def _pieces(text: str, rules: Rules) -> Iterator[tuple[int, int, str]]:
    """Literals: where each begins and ends, and whether it is a number."""
    at = 0
    while found := rules.lexis.pieces.search(text, at):
        at = found.end()
        if found.lastgroup == "value" and not found[0].startswith("$"):
            yield found.start(), found.end(), "number"
        elif found.lastgroup == "string" and found[0].endswith("'"):
            end = re.compile(r"(?:[^']|'')*'").match(text, at)
            at = end.end() if end else len(text)
            yield found.end(), at - 1, "text"


def _values(text: str, rules: Rules) -> Iterator[tuple[str, str]]:
    for start, end, kind in _pieces(text, rules):
        yield kind, text[start:end]


def _others(found: Collection[tuple[str, str]]) -> dict[tuple[str, str], str]:
    """For whole numbers others in the same order; for texts, letters and digits of the same kind and length."""
    numbers = sorted({int(value) for kind, value in found if kind == "number" and value.isdigit()})
    other = {("number", str(number)): str(1_000 + 10 * place) for place, number in enumerate(numbers)}
    texts = sorted(value for kind, value in found if kind == "text" and value and not value.isdigit())
    for place, text in enumerate(texts):
        other["text", text] = _alike(text, place)
    for kind, value in found:
        if kind == "text" and value.isdigit() and ("number", str(int(value))) in other:
            other[kind, value] = other["number", str(int(value))]
    return other


def _alike(text: str, place: int) -> str:
    """A text of the same length and signs; which one it is, its place in their order tells."""
    letters = "abcdefghijklmnopqrstuvwxyz"
    code = ""
    for _ in range(4):
        place, rest = divmod(place, 26)
        code = letters[rest] + code
    plain = iter(code * (len(text) // 4 + 1))
    return "".join(next(plain) if sign.isalpha() else str(len(text) % 10) if sign.isdigit() else sign for sign in text)


def _replaced(text: str, other: Mapping[tuple[str, str], str], rules: Rules) -> str:
    parts, at = [], 0
    for start, end, kind in _pieces(text, rules):
        parts += [text[at:start], other.get((kind, text[start:end]), text[start:end])]
        at = end
    return "".join([*parts, text[at:]])
