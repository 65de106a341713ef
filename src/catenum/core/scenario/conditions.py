"""Conditions: ``seen > 1 and berth is not null``. They are parsed into comparisons and never
evaluated as code.

A comparison with NULL is not true, as in SQL (ISO/IEC 9075-2, 8.2).
"""

from __future__ import annotations

import operator
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from catenum.core.record.values import NULL, Value, Values

_COMPARE: dict[str, Callable[[Any, Any], bool]] = {
    "=": operator.eq,
    "<>": operator.ne,
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
}
_TOKEN = re.compile(
    r"\s*(?:(?P<number>[-+]?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?)|'(?P<text>(?:[^']|'')*)'"
    r"|(?P<sign><>|<=|>=|=|<|>)|(?P<word>[A-Za-z_]\w*))"
)
_WORDS = ("and", "is", "not", "null", "true", "false")


class ConditionError(ValueError):
    """A condition that cannot be read or decided. ``offset`` counts characters of its text from
    0.
    """

    def __init__(self, message: str, offset: int = 0) -> None:
        super().__init__(message)
        self.offset = offset


class MissingValue(ValueError):
    """A name that has no value at this point of the transaction."""

    def __init__(self, name: str) -> None:
        super().__init__(name)
        self.name = name


@dataclass(frozen=True, slots=True)
class Operand:
    """One side of a comparison: a name, or a literal value."""

    name: str | None
    value: Value
    offset: int

    def __str__(self) -> str:
        if self.name is not None:
            return self.name
        return f"'{self.value}'" if self.value.kind == "text" else str(self.value)


@dataclass(frozen=True, slots=True)
class Comparison:
    """``left sign right``; ``sign`` may be ``is null`` or ``is not null``, without a right side."""

    left: Operand
    sign: str
    right: Operand | None
    offset: int

    def __str__(self) -> str:
        return f"{self.left} {self.sign}" + (f" {self.right}" if self.right is not None else "")


@dataclass(frozen=True, slots=True)
class Condition:
    """Comparisons that must all be true."""

    comparisons: tuple[Comparison, ...]

    @property
    def names(self) -> tuple[Operand, ...]:
        """The operands that are names, in the order of the text."""
        sides = (side for c in self.comparisons for side in (c.left, c.right) if side is not None)
        return tuple(side for side in sides if side.name is not None)

    def undecided(self, values: Values) -> Comparison | None:
        """The first comparison that is not true for ``values``; None where the condition holds.

        Raises MissingValue for a name without a value, ConditionError where a number is compared
        with a text.
        """
        return next((c for c in self.comparisons if not _is_true(c, values)), None)


def _is_true(comparison: Comparison, values: Values) -> bool:
    left = _value_of(comparison.left, values, may_miss=comparison.right is None)
    if comparison.right is None:
        return (left.text is None) == (comparison.sign == "is null")
    right = _value_of(comparison.right, values)
    if left.text is None or right.text is None:
        return False
    check_kinds(comparison, left, right)
    return _COMPARE[comparison.sign](_comparable(left), _comparable(right))


def _value_of(operand: Operand, values: Values, *, may_miss: bool = False) -> Value:
    if operand.name is None:
        return operand.value
    if operand.name not in values:
        if may_miss:
            return NULL
        raise MissingValue(operand.name)
    return values[operand.name]


def check_kinds(comparison: Comparison, left: Value, right: Value) -> None:
    """Raises ConditionError where the two sides cannot be compared. Truth values compare with 0 and
    1.
    """
    if "null" in (left.kind, right.kind):
        return
    if (left.kind == "text") != (right.kind == "text"):
        raise ConditionError(
            f"{comparison.left} ({_called(left)}) cannot be compared with {comparison.right}"
            f" ({_called(right)})",
            comparison.offset,
        )


def _called(value: Value) -> str:
    return f"the {'truth value' if value.kind == 'boolean' else value.kind} {value.text!r}"


def _comparable(value: Value) -> Any:
    return value.plain if value.kind != "boolean" else int(value.text == "true")


@lru_cache(maxsize=1024)
def parse_condition(text: str) -> Condition:
    """Reads a condition. Raises ConditionError with the offset of what cannot be read."""
    tokens = _tokens(text)
    comparisons = []
    while True:
        comparisons.append(_comparison(tokens, text))
        if not tokens:
            return Condition(tuple(comparisons))
        kind, word, offset = tokens.pop(0)
        if (kind, word) != ("word", "and"):
            raise ConditionError(f"'and' is expected before {word!r}", offset)


_Tokens = list[tuple[str, str, int]]


def _tokens(text: str) -> _Tokens:
    found: _Tokens = []
    at = 0
    while text[at:].strip():
        match = _TOKEN.match(text, at)
        if match is None or match.lastgroup is None:
            offset = at + len(text[at:]) - len(text[at:].lstrip())
            raise ConditionError(f"{text[offset:][:10]!r} cannot be read: {_EXPECTED}", offset)
        word = match[match.lastgroup]
        offset = match.start(match.lastgroup) - (match.lastgroup == "text")
        plain = word.lower() if match.lastgroup == "word" and word.lower() in _WORDS else word
        found.append((match.lastgroup, plain, offset))
        at = match.end()
    return found


_EXPECTED = (
    "a condition is NAME = VALUE, with =, <>, <, <=, >, >=, is null or is not null, and 'and'"
    " between several"
)


def _comparison(tokens: _Tokens, text: str) -> Comparison:
    left = _operand(tokens, text)
    kind, word, offset = tokens.pop(0) if tokens else ("end", "", len(text))
    if (kind, word) == ("word", "is"):
        words = []
        while tokens and tokens[0][:2] in (("word", "not"), ("word", "null")):
            words.append(tokens.pop(0)[1])
        if words not in (["null"], ["not", "null"]):
            raise ConditionError("'null' or 'not null' is expected after 'is'", offset)
        return Comparison(left, " ".join(["is", *words]), None, left.offset)
    if kind != "sign":
        raise ConditionError(f"a comparison is expected after {str(left)!r}: {_EXPECTED}", offset)
    return Comparison(left, word, _operand(tokens, text), left.offset)


def _operand(tokens: _Tokens, text: str) -> Operand:
    kind, word, offset = tokens.pop(0) if tokens else ("end", "", len(text))
    match kind, word:
        case "number", _:
            return Operand(None, Value(word, "number"), offset)
        case "text", _:
            return Operand(None, Value(word.replace("''", "'"), "text"), offset)
        case "word", ("true" | "false"):
            return Operand(None, Value(word, "boolean"), offset)
        case "word", "null":
            raise ConditionError(
                "a comparison with null is never true: write 'is null' or 'is not null'", offset
            )
        case "word", _ if word not in _WORDS:
            return Operand(word, NULL, offset)
    raise ConditionError(f"a name or a value is expected: {_EXPECTED}", offset)


def known_kinds(condition: Condition, values: Mapping[str, Value]) -> None:
    """Checks what can be checked before a run: comparisons whose two sides are known. Raises
    ConditionError.
    """
    for comparison in condition.comparisons:
        sides = [comparison.left, comparison.right]
        found = [
            values.get(s.name) if s.name is not None else s.value for s in sides if s is not None
        ]
        if len(found) == 2 and found[0] is not None and found[1] is not None:
            check_kinds(comparison, found[0], found[1])
