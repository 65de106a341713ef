"""A proposal as people hand it over: the difference in the statements, the DDL, the entry for a
scenario file.
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Collection, Iterator, Sequence
from typing import Any

import yaml

from catenum.core.errors import InputError
from catenum.core.propose.candidate import Candidate
from catenum.core.scenario.loops import Loop, code_of
from catenum.core.scenario.model import Remedy, Scenario, Statement, Transaction
from catenum.core.scenario.remedies import after_error_text, apply_remedy, names_of_parts, parts_of
from catenum.core.servers import Rules

#: What may begin a comment, which a semicolon behind it would be part of.
_COMMENT = re.compile(r"--|#")


def difference(scenario: Scenario, candidate: Candidate) -> Iterator[str]:
    """The transactions' statements before and after: a line with the name, then all, marked where
    they go or come.

    Transactions that stay the same are left out.
    """
    for name, one, other in _before_and_after(scenario, candidate):
        changes = list(difflib.unified_diff(one, other, lineterm="", n=len(one)))[
            3:
        ]  # without the heads
        yield from (f"{name}:", *changes) if changes else ()


def unified(scenario: Scenario, candidate: Candidate) -> Iterator[str]:
    """The same as differences that ``patch`` takes: of ``NAME.sql``, which holds a transaction's
    statements.
    """
    for name, one, other in _before_and_after(scenario, candidate):
        yield from difflib.unified_diff(one, other, f"a/{name}.sql", f"b/{name}.sql", lineterm="")


def _before_and_after(
    scenario: Scenario, candidate: Candidate
) -> Iterator[tuple[str, list[str], list[str]]]:
    """Each transaction's lines before and after."""
    changed, _ = apply_remedy(scenario, candidate.remedy)
    for name, before in scenario.transactions.items():
        ordered = (candidate.remedy.sort or {}).get(name)
        after = _lines(changed.transactions[name], ordered)
        parts = len(parts_of(name, before, candidate.remedy))
        for part in names_of_parts(name, parts, scenario.transactions)[1:]:
            after += _lines(changed.transactions[part])
        yield name, _lines(before), after


#: How a transaction ends, where that is no statement.
_NO_STATEMENT = {"open": "-- left open", "close": "-- the connection is closed"}


def _lines(transaction: Transaction, ordered: str | None = None) -> list[str]:
    """A transaction as people read it; ``ordered``: the list that a loop goes through in order."""
    lines = []
    if transaction.autocommit:
        lines.append("-- each statement commits by itself")
    if transaction.after_error is not None:
        lines.append(f"-- {after_error_text(transaction.after_error)}")
    if transaction.isolation is not None:
        lines.append(f"-- isolation: {transaction.isolation}")
    if transaction.timeout is not None:
        lines.append(f"-- waits at most {transaction.timeout} ms for a lock")
    if transaction.retry is not None:
        lines.append(
            f"-- retry at most {transaction.retry.times} times, on"
            f" {', '.join(transaction.retry.on)}"
        )
    for part in code_of(transaction) or transaction.statements:
        if isinstance(part, Loop):
            lines += _loop(part, ordered)
        else:
            lines += _statement(part, part.text)
    if not transaction.autocommit:
        lines.append(_NO_STATEMENT.get(transaction.ends, f"{transaction.ends};"))
    return [part for line in lines for part in line.split("\n")]


def _loop(loop: Loop, ordered: str | None) -> Iterator[str]:
    order = f", in the order of {ordered}" if ordered in loop.lists else ""
    pairs = zip(loop.called or loop.lists, loop.lists, strict=True)
    over = ", ".join(one if one == name else f"{one} of {name}" for one, name in pairs)
    yield f"-- for each {over}{order}:"
    for statement, text in zip(loop.body, loop.told(), strict=True):
        for line in _statement(statement, text):
            yield f"  {line}"


def _statement(statement: Statement, text: str) -> Iterator[str]:
    condition = f" -- only when {statement.when}" if statement.when is not None else ""
    if statement.kept:
        kept = ", ".join(_kept(name, column) for name, column in statement.kept.items())
        condition += f" -- keeps {kept}"
    condition += f" -- refused unless {statement.require}" if statement.require is not None else ""
    if statement.after_error is not None:
        condition += f" -- {after_error_text(statement.after_error)}"
    *first, last = text.rstrip().rstrip(";").splitlines()
    yield from first
    yield f"{last}\n;{condition}" if _COMMENT.search(last) else f"{last};{condition}"


def _kept(name: str, column: str) -> str:
    return (
        f"{name} = how many rows"
        if column == "rows"
        else name
        if name == column
        else f"{name} = {column}"
    )


def ddl(candidate: Candidate, rules: Rules) -> list[str]:
    """The statements that make its indexes on a table in use."""
    found = []
    for sql in (*(candidate.remedy.index or ()), *(candidate.remedy.ddl or ())):
        found += [
            line if line.startswith("--") else f"{line};" for line in rules.advice.gentle(str(sql))
        ]
    return found


def plain(remedy: Remedy) -> dict[str, Any]:
    """A remedy as it stands in a scenario file."""
    value: dict[str, Any] = _plain(remedy.model_dump(exclude_none=True, exclude_defaults=True))
    if remedy.timeout is not None:  # with their unit, be it one for all or one for each
        each = remedy.timeout
        value["timeout"] = (
            {n: f"{ms}ms" for n, ms in each.items()} if isinstance(each, dict) else f"{each}ms"
        )
    return value


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        numbered = all(isinstance(key, int) for key in value)
        return {key: _plain(value[key]) for key in (sorted(value) if numbered else value)}
    return [_plain(one) for one in value] if isinstance(value, list | tuple) else value


def with_remedies(text: str, candidates: Sequence[Candidate], taken: Collection[str] = ()) -> str:
    """A scenario's text with candidates among its remedies, and all else as it was, comments too.

    ``taken``: the names of the remedies that it has. Raises InputError where these stand in one
    line.
    """
    entries: dict[str, dict[str, Any]] = {}
    for one in candidates:
        name, number = one.name, 2
        while name in taken or name in entries:
            name, number = f"{one.name} ({number})", number + 1
        entries[name] = {
            "about": f"{one.kind}: {one.means[0]}" if one.means else one.kind,
            **plain(one.remedy),
        }
    body = yaml.safe_dump(entries, sort_keys=False, allow_unicode=True, width=120)
    lines = text.splitlines(keepends=True)
    for place, line in enumerate(lines):
        if not line.startswith("remedies:"):
            continue
        if line.partition(":")[2].split("#")[0].strip():
            raise InputError(
                "the scenario's remedies stand in one line, where nothing can be added",
                advice="Put each on a line of its own, indented, under 'remedies:'.",
            )
        return "".join(
            [*lines[: place + 1], _indented(body, _indent(lines[place + 1 :])), *lines[place + 1 :]]
        )
    end = "" if not text or text.endswith("\n") else "\n"
    return f"{text}{end}remedies:\n{_indented(body, '  ')}"


def _indented(body: str, indent: str) -> str:
    return "".join(f"{indent}{line}\n" for line in body.splitlines())


def _indent(lines: Sequence[str]) -> str:
    """That of the entries which stand there."""
    first = next((line for line in lines if line.strip() and not line.lstrip().startswith("#")), "")
    return first[: len(first) - len(first.lstrip())] or "  "
