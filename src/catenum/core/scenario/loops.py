"""Groups of statements that an application runs in a loop: once for each element of lists.

A file has ``each: items`` with the statements under ``do``. They are written out when the file is
read, so that a schedule has each of them as a move; every statement remembers its ``Turn``, by
which the loop can be written out again for other lists (``with_values``), or be told as code.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import groupby
from typing import Any

from catenum.core.scenario.conditions import ConditionError, parse_condition
from catenum.core.scenario.model import Given, Scalar, Statement, Transaction, Turn
from catenum.core.servers import NAMES, known_servers, rules_of
from catenum.core.sql.parameters import parameters_in

#: Elements of one list, and statements that a transaction may have once they are written out.
MOST_ELEMENTS, MOST_STATEMENTS = 100, 1_000
_KEYS = ("each", "as", "do")
_NAME = re.compile(r"[A-Za-z_]\w*")

#: Where something stands below the statements of a transaction.
Below = tuple[str | int, ...]
#: Hears what is wrong: where (below the transaction), what, and what to do.
Report = Callable[[Below, str, str | None], None]


def element(name: str, number: int) -> str:
    """What the element of a list is called as a parameter; ``number`` from 1."""
    return f"{name}_{number}"


# -- reading ---------------------------------------------------------------------------------------


def written_out(
    transaction: dict[Any, Any], report: Report
) -> tuple[dict[Any, Any], list[Below]] | None:
    """A transaction of a file, as plain values, with its loops written out; and for each statement
    where it stood. None where it has no loop and no list. What is wrong is reported, and left out.
    """
    entries, given = transaction.get("statements"), transaction.get("parameters")
    if not isinstance(entries, list):
        return None
    for place, entry in enumerate(entries):
        if isinstance(entry, dict) and "turn" in entry:
            report(("statements", place, "turn"), "unknown key 'turn'", None)
    lists = _lists(given if isinstance(given, dict) else {})
    if not lists and not any(isinstance(entry, dict) and "each" in entry for entry in entries):
        return None
    _check_lists(given if isinstance(given, dict) else {}, lists, report)
    said: list[str] = []

    def heard(at: Below, message: str, advice: str | None) -> None:
        said.append(message)
        report(at, message, advice)

    found = list(_statements(entries, lists, heard))
    statements, origins = [one for one, _ in found], [origin for _, origin in found]
    if len(statements) > MOST_STATEMENTS:
        report(("statements",), f"with its loops written out it has {len(statements)} statements"
               f" (at most {MOST_STATEMENTS})", None)  # fmt: skip
        return None
    if not statements and said:
        return None
    if not statements:
        report(("statements",), "it has no statement to run", None)
        return None
    parameters = dict(given) if isinstance(given, dict) else {}
    for name, values in lists.items():
        source = parameters[name].get("from") if isinstance(parameters[name], dict) else None
        parameters |= _elements(name, values, source)
    return {**transaction, "statements": statements, "parameters": parameters}, origins


def _statements(
    entries: Sequence[Any], lists: Mapping[str, Sequence[Any]], report: Report
) -> Iterator[tuple[Any, Below]]:
    """Each statement, loops written out, with where it stood."""
    for place, entry in enumerate(entries):
        at: Below = ("statements", place)
        if not (isinstance(entry, dict) and "each" in entry):
            yield _with_lists(entry, lists), at
            continue
        group = _group(entry, at, lists, report)
        if group is None:
            continue
        names, called, body = group
        for number in range(1, len(lists[names[0]]) + 1):
            renamed = {c: element(n, number) for c, n in zip(called, names, strict=True)}
            for inner, one in enumerate(body):
                turn = {
                    "group": place,
                    "lists": names,
                    "called": called,
                    "number": number,
                    "place": inner + 1,
                }
                new = _with_lists(with_names(one, renamed), lists)
                yield {**(new if _is_full(new) else {"sql": new}), "turn": turn}, (*at, "do", inner)


def _elements(name: str, values: Sequence[Scalar], source: str | None) -> dict[str, Any]:
    more = {"from": source} if source is not None else {}
    return {
        element(name, number): {"value": value, **more} for number, value in enumerate(values, 1)
    }


def _is_full(statement: Any) -> bool:
    """Whether a statement of a file is a mapping of what is said of it, rather than its SQL."""
    return isinstance(statement, dict) and not set(statement) <= set(known_servers())


def _lists(given: Mapping[Any, Any]) -> dict[str, list[Any]]:
    found = {}
    for name, value in given.items():
        listed = value.get("values") if isinstance(value, dict) else value
        if isinstance(listed, list) and isinstance(name, str):
            found[name] = listed
    return found


def _check_lists(
    given: Mapping[Any, Any], lists: Mapping[str, Sequence[Any]], report: Report
) -> None:
    for name, values in lists.items():
        if len(values) > MOST_ELEMENTS:
            report(("parameters", name), f"a list of {len(values)} values; at most"
                   f" {MOST_ELEMENTS}", None)  # fmt: skip
        for number in range(1, len(values) + 1):
            if element(name, number) in given:
                report(("parameters", element(name, number)),
                       f"{element(name, number)!r} is what an element of the list {name!r} is"
                       " called", "Give one of them another name.")  # fmt: skip


def _words(value: object) -> list[str] | None:
    if isinstance(value, str):
        return [value]
    if isinstance(value, list) and value and all(isinstance(one, str) for one in value):
        return list(value)
    return None


def _group(
    entry: Mapping[Any, Any], at: Below, lists: Mapping[str, Sequence[Any]], report: Report
) -> tuple[list[str], list[str], list[Any]] | None:
    """Its lists, what their elements are called, and its statements."""
    for key in entry:
        if key not in _KEYS:
            report((*at, str(key)), f"unknown key {key!r}", f"Known: {', '.join(_KEYS)}.")
            return None
    names, called = _words(entry["each"]), _words(entry.get("as", entry["each"]))
    body = entry.get("do")
    wrong: tuple[Below, str, str | None] | None = None
    if names is None:
        wrong = (*at, "each"), "'each' must name a list, or several", None
    elif not isinstance(body, list) or not body:
        wrong = at, "'each' needs statements under 'do'", None
    elif called is None or len(called) != len(names) or not all(map(_NAME.fullmatch, called)):
        wrong = (*at, "as"), f"'as' must give {len(names)} name(s), one for each list", None
    elif missing := [name for name in names if name not in lists]:
        wrong = (
            (*at, "each"),
            f"{missing[0]!r} is not a list",
            f"Put it under 'parameters', such as {missing[0]}: [3, 7], or {missing[0]}:"
            " {values: [3, 7], from: slot.id}.",
        )
    elif len({len(lists[name]) for name in names}) > 1:
        lengths = ", ".join(f"{name} {len(lists[name])}" for name in names)
        wrong = (*at, "each"), f"lists of one loop must have one length ({lengths})", None
    elif any(isinstance(one, dict) and "each" in one for one in body):
        wrong = (*at, "do"), "a loop in a loop is not known here", None
    if wrong is not None or names is None or called is None or not isinstance(body, list):
        report(*(wrong or (at, "not a loop", None)))
        return None
    return names, called, body


# -- texts -----------------------------------------------------------------------------------------


def _replaced(text: str, server: str, new: Mapping[str, str]) -> str:
    """A statement's text with other words for some parameters."""
    parts, at = [], 0
    for one in parameters_in(text, rules_of(server).sql.token_patterns):
        if one.name in new:
            parts += [text[at : one.offset], new[one.name]]
            at = one.end
    return "".join((*parts, text[at:]))


def in_texts(sql: Any, new: Mapping[str, str]) -> Any:
    """A statement's SQL, for every server or for each its own, with other words for parameters."""
    if isinstance(sql, str):
        return _replaced(sql, NAMES[0], new)
    if isinstance(sql, Mapping):
        return {
            server: _replaced(text, str(server), new) if isinstance(text, str) else text
            for server, text in sql.items()
        }
    return sql


def _in_condition(text: Any, renamed: Mapping[str, str]) -> Any:
    if not isinstance(text, str):
        return text
    try:
        operands = parse_condition(text).names
    except ConditionError:
        return text
    for one in sorted(operands, key=lambda operand: -operand.offset):
        name = one.name or ""
        if name in renamed:
            text = text[: one.offset] + renamed[name] + text[one.offset + len(name) :]
    return text


def with_names(entry: Any, names: Mapping[str, str]) -> Any:
    """A statement of a file with other names for parameters, in its text and its conditions."""
    new = {name: f":{other}" for name, other in names.items()}
    if not _is_full(entry):
        return in_texts(entry, new)
    found = dict(entry)
    if "sql" in found:
        found["sql"] = in_texts(found["sql"], new)
    for key in ("when", "require"):
        if key in found:
            found[key] = _in_condition(found[key], names)
    return found


def _with_lists(entry: Any, lists: Mapping[str, Sequence[Any]]) -> Any:
    """A statement with the elements of lists in the place of their names."""
    new = {name: _listed(name, len(values)) for name, values in lists.items()}
    if not new:
        return entry
    if not _is_full(entry):
        return in_texts(entry, new)
    return {**entry, "sql": in_texts(entry["sql"], new)} if "sql" in entry else entry


def _listed(name: str, count: int) -> str:
    return ", ".join(f":{element(name, number)}" for number in range(1, count + 1)) or "null"


# -- the code --------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Loop:
    """Statements that are run for each element of lists: as in a turn, but with the lists' names
    for the elements'.
    """

    lists: tuple[str, ...]
    body: tuple[Statement, ...]
    turns: int
    group: int
    called: tuple[str, ...] = ()

    def told(self) -> list[str]:
        """The texts of its statements, with what elements are called in the file."""
        names = zip(self.lists, self.called or self.lists, strict=True)
        new = {name: f":{called}" for name, called in names}
        return [str(in_texts(one.text, new)) for one in self.body]


#: A transaction as code: single statements, and loops.
Code = tuple[Statement | Loop, ...]


def code_of(transaction: Transaction) -> Code | None:
    """A transaction as code, the names of lists in place of their elements; None where the turns of
    a loop are not alike.
    """
    lists = transaction.lists
    found: list[Statement | Loop] = []
    for group, members in _parts(transaction.statements):
        if group is None:
            found += [_told(statement, lists) for statement in members]
            continue
        turn = members[0].turn
        if turn is None:
            return None
        turns = [
            list(of) for _, of in groupby(members, key=lambda one: one.turn and one.turn.number)
        ]
        bodies = [tuple(as_code(one, lists) for one in of) for of in turns]
        if any(body != bodies[0] for body in bodies):
            return None
        found.append(Loop(turn.lists, bodies[0], len(turns), group, turn.called))
    return tuple(found)


def _number(statement: Statement) -> int | None:
    return statement.turn.number if statement.turn is not None else None


def _parts(statements: Sequence[Statement]) -> Iterator[tuple[int | None, list[Statement]]]:
    """The statements by the loop that they belong to, those of none each by itself."""
    for group, members in groupby(statements, key=lambda one: one.turn and one.turn.group):
        yield group, list(members)


def _told(statement: Statement, lists: Mapping[str, Sequence[Any]]) -> Statement:
    """A statement with the names of whole lists in place of all their elements."""
    texts = {name: _listed(name, len(values)) for name, values in lists.items() if values}
    sql = statement.sql
    for name, text in texts.items():
        if len(lists[name]) > 1:
            sql = _by_text(sql, text, f":{name}")
    names = {element(name, 1): f":{name}" for name, values in lists.items() if len(values) == 1}
    sql = in_texts(sql, names) if names else sql
    return statement if sql == statement.sql else statement.model_copy(update={"sql": sql})


def _by_text(sql: Any, text: str, new: str) -> Any:
    if isinstance(sql, str):
        return sql.replace(text, new)
    return {server: one.replace(text, new) for server, one in sql.items()}


def as_code(statement: Statement, lists: Mapping[str, Sequence[Any]]) -> Statement:
    """A statement of a turn as the loop has it, the lists' names in place of their elements."""
    turn = statement.turn
    if turn is None:
        return statement
    # whole lists first: the element of this turn may stand among them
    told = _told(statement, {n: v for n, v in lists.items() if len(v) > 1})
    renamed = {element(name, turn.number): name for name in turn.lists}
    return told.model_copy(
        update={
            "sql": in_texts(told.sql, {one: f":{name}" for one, name in renamed.items()}),
            "when": _in_condition(told.when, renamed),
            "require": _in_condition(told.require, renamed),
            "turn": turn.model_copy(update={"number": 1}),
        }
    )


def with_values(
    transaction: Transaction, values: Mapping[str, Scalar | tuple[Scalar, ...]]
) -> Transaction:
    """The same code with other values of some parameters, its loops written out for them. Raises
    ValueError where a loop's turns are not alike, so that there is no code to write out.
    """
    given = dict(transaction.parameters)
    relisted = {name: found for name, found in values.items() if name in transaction.lists}
    for name, value in values.items():
        before = given.get(name)
        source = before.source if isinstance(before, Given) else None
        if name not in relisted:
            given[name] = _given(value=value, source=source)
            continue
        listed = relisted[name]
        if not isinstance(listed, tuple):
            raise ValueError(f"{name} is a list")
        for number in range(1, len(transaction.lists[name]) + 1):
            given.pop(element(name, number), None)
        given[name] = _given(values=listed, source=source)
        for number, one in enumerate(listed, 1):
            given[element(name, number)] = _given(value=one, source=source)
    changed = transaction.model_copy(update={"parameters": given})
    if not relisted:
        return changed
    code = code_of(transaction)
    if code is None:
        raise ValueError("the turns of a loop are not alike")
    return changed.model_copy(update={"statements": tuple(run_out(code, changed.lists))})


def _given(
    *, source: str | None, value: object = None, values: tuple[Scalar, ...] | None = None
) -> Given:
    what: dict[str, Any] = {"values": values} if values is not None else {"value": value}
    return Given.model_validate({**what, **({"from": source} if source is not None else {})})


def run_out(code: Code, lists: Mapping[str, Sequence[Any]]) -> Iterator[Statement]:
    """The statements of code, its loops written out."""
    for part in code:
        if not isinstance(part, Loop):
            yield _listed_in(part, lists)
            continue
        for number in range(1, len(lists[part.lists[0]]) + 1):
            renamed = {name: element(name, number) for name in part.lists}
            for place, one in enumerate(part.body, 1):
                new = one.model_copy(
                    update={
                        "sql": in_texts(one.sql, {n: f":{e}" for n, e in renamed.items()}),
                        "when": _in_condition(one.when, renamed),
                        "require": _in_condition(one.require, renamed),
                        "turn": Turn(
                            group=part.group,
                            lists=part.lists,
                            called=part.called,
                            number=number,
                            place=place,
                        ),
                    }
                )
                yield _listed_in(new, lists)


def _listed_in(statement: Statement, lists: Mapping[str, Sequence[Any]]) -> Statement:
    new = {name: _listed(name, len(values)) for name, values in lists.items()}
    sql = in_texts(statement.sql, new) if new else statement.sql
    return statement if sql == statement.sql else statement.model_copy(update={"sql": sql})


def with_lists(transaction: Transaction) -> Transaction:
    """A transaction whose statements may name whole lists, as those of a remedy, with the elements
    in their place.
    """
    lists = transaction.lists
    if not lists:
        return transaction
    statements = tuple(_listed_in(one, lists) for one in transaction.statements)
    return transaction.model_copy(update={"statements": statements})


def sorted_by(transaction: Transaction, name: str) -> Transaction:
    """The loop over a list in the order of its values; lists that it goes through with it keep
    step. Raises ValueError where no loop goes through it.
    """
    if name in transaction.lists and len(transaction.lists[name]) < 2:
        return transaction  # with nothing to go through, no statement tells of a loop
    turns = (one.turn for one in transaction.statements)
    lists = next((turn.lists for turn in turns if turn is not None and name in turn.lists), None)
    if lists is None:
        raise ValueError(f"no loop goes through {name!r}")
    values = transaction.lists[name]
    order = sorted(range(len(values)), key=lambda place: rank(values[place]))
    return with_values(
        transaction, {one: tuple(transaction.lists[one][place] for place in order) for one in lists}
    )


def rank(value: Scalar) -> tuple[int, float, str]:
    """What values are sorted by: numbers, then texts, then NULL."""
    if isinstance(value, bool | int | float):
        return 0, float(value), ""
    return (2, 0.0, "") if value is None else (1, 0.0, value)
