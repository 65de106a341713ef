"""Transactions of captured values as the code that they came from: parameters for literals, loops
for statements that come again with other values, kept values for what a statement returned.

A literal becomes a parameter where it names a row (a key's column, or one that refers to it), or
where it differs between runs of the same code, or between turns of a loop. Literals with one value
in one transaction and for one kind of thing are one parameter. What is left is a constant of the
code. What is likely but not certain is labelled *assumed*.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Any

from catenum.core.logs.tables import Schema, read_schema
from catenum.core.scenario.model import Scalar, Scenario, Statement
from catenum.core.servers import Rules
from catenum.core.sql.parameter_uses import Use, uses_of
from catenum.core.sql.parser import exp, sqlglot
from catenum.core.sweep.domains import ColumnClasses, ColumnKey, is_key, named
from catenum.core.sweep.universe import column_of, is_integer

#: Names of columns that say nothing without their table's.
_BARE = frozenset(("id", "no", "nr", "num", "number", "key", "code", "name"))
_FEW = ("", "other_", "third_")
_WORK = re.compile(r"(?i)\s*(?:select|insert|update|delete|with)\b")
_HOLE = re.compile(r":h(\d+)h\b")
#: Words after which a number is no value of the application's.
_AFTER = frozenset(("LIMIT", "OFFSET", "FETCH", "INTERVAL", "TOP"))

#: Where a literal stands: which statement (from 0), and which literal of it.
Spot = tuple[int, int]


@dataclass(frozen=True)
class Literal:
    """A literal of a statement, with what it is compared with or given to."""

    value: Scalar
    column: ColumnKey | None
    how: str | None
    about: str  # the column that it has to do with, for a name


@dataclass(frozen=True)
class Shaped:
    """A statement with holes in the places of its literals."""

    statement: Statement
    text: str
    literals: tuple[Literal, ...]

    @property
    def shape(self) -> str:
        """The same of two statements that differ in literals only."""
        more = (self.statement.when, self.statement.require, tuple(self.statement.keep))
        return repr((self.text, more))


@dataclass(frozen=True)
class Group:
    """Statements that come ``turns`` times, one after another, from ``start``; of the last turn
    only the first ``last`` are there.
    """

    start: int
    size: int
    turns: int
    last: int

    @property
    def end(self) -> int:
        """Behind its last statement."""
        return self.start + (self.turns - 1) * self.size + self.last


@dataclass(kw_only=True)
class Parametrized:
    """What becomes of a scenario's transactions: their parameters and statements as a file has
    them; ``notes``: what was assumed, and what was left as it is.
    """

    transactions: dict[str, dict[str, Any]] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)

    @property
    def changed(self) -> bool:
        """Whether any transaction has parameters now."""
        return any(one["parameters"] for one in self.transactions.values())


def parametrized(scenario: Scenario, rules: Rules) -> Parametrized:
    """The transactions of a scenario that was made for one server. A transaction that has
    parameters already is left as it is.
    """
    schema = read_schema(scenario.data.script_for(rules.name), rules)
    classes = ColumnClasses(schema)
    shaped: dict[str, list[Shaped]] = {}
    for name, transaction in scenario.transactions.items():
        if transaction.parameters or any(one.turn for one in transaction.statements):
            continue
        shaped[name] = [_shaped(one, schema, rules) for one in transaction.statements]
    groups = {name: _groups(statements) for name, statements in shaped.items()}
    groups = _single_turns(shaped, groups)
    kinds: dict[object, list[str]] = {}
    for name, statements in shaped.items():
        kinds.setdefault(_code(statements, groups[name]), []).append(name)
    found = Parametrized()
    for names in kinds.values():
        loops = [
            [group for place, group in enumerate(groups[name]) if _goes_round(place, names, groups)]
            for name in names
        ]
        made = _Kind(scenario, [shaped[name] for name in names], loops, schema, classes)
        for name, result in zip(names, made.run(names), strict=True):
            found.transactions[name] = result
        found.notes += made.notes
    return found


def _goes_round(place: int, names: Sequence[str], groups: Mapping[str, Sequence[Group]]) -> bool:
    """Whether any run goes through a loop more than once: else nothing tells what it goes over."""
    return any(groups[name][place].turns > 1 for name in names)


# -- literals --------------------------------------------------------------------------------------


def _shaped(statement: Statement, schema: Schema, rules: Rules) -> Shaped:
    sql = statement.text
    if statement.kill is not None or not re.match(
        r"(?i)\s*(select|insert|update|delete|with)\b", sql
    ):
        return Shaped(statement, sql, ())
    dialect = rules.sql.dialect
    try:
        tokens = sqlglot.tokenize(sql, dialect=dialect)
    except sqlglot.errors.SqlglotError:
        return Shaped(statement, sql, ())
    parts: list[str] = []
    values: list[Scalar] = []
    at = 0
    for place, token in enumerate(tokens):
        kind = token.token_type.name
        before = tokens[place - 1].text.upper() if place else ""
        if kind not in ("NUMBER", "STRING") or before in _AFTER:
            continue
        parts += [sql[at : token.start], f":h{len(values)}h"]
        values.append(_value(token.text, kind == "STRING"))
        at = token.end + 1
    text = "".join((*parts, sql[at:]))
    uses = _uses(text, dialect, schema)
    literals = []
    for number, value in enumerate(values):
        use, about = uses.get(f"h{number}h", (None, ""))
        column = (use.table, use.column) if use is not None else None
        where = column or (_table_of(text, dialect), about)
        typed = column_of(schema.tables.get(where[0]), where[1])
        if isinstance(value, str) and re.fullmatch(r"-?\d{1,18}", value) and is_integer(typed):
            value = int(value)
        literals.append(Literal(value, column, use.how if use is not None else None, about))
    return Shaped(statement, text, tuple(literals))


def _table_of(text: str, dialect: str) -> str:
    """The table that a statement names first; '' where it cannot be parsed."""
    try:
        table = sqlglot.parse_one(text, dialect=dialect).find(exp.Table)
    except (sqlglot.errors.SqlglotError, RecursionError):
        return ""
    return table.name.lower() if table is not None else ""


def _value(text: str, quoted: bool) -> Scalar:
    if quoted:
        return text
    return int(text) if re.fullmatch(r"\d{1,18}", text) else text


def _uses(text: str, dialect: str, schema: Schema) -> dict[str, tuple[Use | None, str]]:
    """By hole, its use with a column, and the column that it has to do with at least."""
    columns = {name: list(info.columns) for name, info in schema.tables.items()}
    found: dict[str, tuple[Use | None, str]] = {}
    for use in uses_of(text, dialect, columns):
        found.setdefault(use.name, (use, use.column))
    try:
        tree = sqlglot.parse_one(text, dialect=dialect)
    except (sqlglot.errors.SqlglotError, RecursionError):
        return found
    for one in tree.find_all(exp.Placeholder) if isinstance(tree, exp.Expression) else ():
        above = one.find_ancestor(exp.EQ, exp.GT, exp.LT, exp.GTE, exp.LTE, exp.Binary)
        column = above.find(exp.Column) if above is not None else None
        if isinstance(one.this, str):
            found.setdefault(one.this, (None, column.name.lower() if column is not None else ""))
    return found


# -- loops -----------------------------------------------------------------------------------------


def _groups(statements: Sequence[Shaped]) -> list[Group]:
    """Where statements come again, the longest repetitions first; none overlap."""
    shapes = [one.shape if one.literals else None for one in statements]
    found: list[Group] = []
    at = 0
    while at < len(shapes):
        best: Group | None = None
        for size in range(1, (len(shapes) - at) // 2 + 2):
            group = _group_at(shapes, at, size)
            if group is None or (best is not None and group.end <= best.end):
                continue
            if _varies(statements, group):
                best = group
        if best is None:
            at += 1
        else:
            found.append(best)
            at = best.end
    return found


def _varies(statements: Sequence[Shaped], group: Group) -> bool:
    """Whether its turns have different values: else it is no loop over anything."""
    for place in range(group.size):
        turns = statements[group.start + place : group.end : group.size]
        if len({repr([one.value for one in statement.literals]) for statement in turns}) > 1:
            return True
    return False


def _group_at(shapes: Sequence[str | None], at: int, size: int) -> Group | None:
    body = shapes[at : at + size]
    if len(body) < size or None in body:
        return None
    same = size
    while at + same < len(shapes) and shapes[at + same] == body[same % size]:
        same += 1
    turns, rest = divmod(same, size)
    ends_here = at + same == len(shapes)
    if rest and ends_here and turns >= 1:
        return Group(at, size, turns + 1, rest)
    return Group(at, size, turns, size) if turns >= 2 else None


def _single_turns(
    shaped: Mapping[str, Sequence[Shaped]], groups: Mapping[str, list[Group]]
) -> dict[str, list[Group]]:
    """Loops that others show, also where they have one turn only."""
    bodies = {
        tuple(one.shape for one in shaped[name][group.start : group.start + group.size])
        for name, of in groups.items()
        for group in of
    }
    found = {}
    for name, statements in shaped.items():
        own = list(groups[name])
        covered = {n for group in own for n in range(group.start, group.end)}
        shapes = [one.shape for one in statements]
        for body in sorted(bodies, key=len, reverse=True):
            for at in range(len(shapes) - len(body) + 1):
                inside = set(range(at, at + len(body)))
                if tuple(shapes[at : at + len(body)]) == body and not inside & covered:
                    own.append(Group(at, len(body), 1, len(body)))
                    covered |= inside
        found[name] = sorted(own, key=lambda group: group.start)
    return found


def _code(statements: Sequence[Shaped], groups: Sequence[Group]) -> object:
    """What two runs of one code have in common."""
    found: list[object] = []
    at = 0
    for group in [*groups, Group(len(statements), 0, 0, 0)]:
        found += [one.shape for one in statements[at : group.start]]
        if group.size:
            body = statements[group.start : group.start + group.size]
            found.append(tuple(one.shape for one in body))
        at = max(at, group.end)
    return repr(found)


# -- one kind of transaction -----------------------------------------------------------------------


@dataclass
class _Role:
    """Literals that are one parameter: where they stand in the code, and their value in each run
    (of a loop: one for each turn).
    """

    spots: list[Spot]
    values: list[tuple[Scalar, ...]]
    column: ColumnKey | None
    about: str
    group: int | None  # of which loop; None: the same in all turns
    key: bool = False  # whether its column is in a key
    name: str = ""
    element: str = ""

    @property
    def base(self) -> str:
        """What it is called after: its column, or its table where the column says nothing."""
        table, column = self.column or ("", self.about or "value")
        word = column
        if table and column in _BARE:
            word = table if column == "id" else f"{table}_{column}"
        word = re.sub(r"\W+", "_", word).strip("_") or "value"
        word = re.sub(r"_(\d+)$", r"\1", word)
        return word if re.match(r"[A-Za-z_]", word) else f"v{word}"


class _Kind:
    """All runs of one code."""

    def __init__(
        self,
        scenario: Scenario,
        runs: Sequence[Sequence[Shaped]],
        groups: Sequence[Sequence[Group]],
        schema: Schema,
        classes: ColumnClasses,
    ) -> None:
        self.scenario, self.runs, self.groups = scenario, runs, groups
        self.schema, self.classes = schema, classes
        self.notes: list[str] = []
        self.code = list(self._code_of())
        self.kept: dict[Spot, tuple[int, str]] = {}  # what an earlier statement may have returned

    def _code_of(self) -> Iterator[tuple[Shaped, int | None, int]]:
        """The statements of the code: as the first run has them, of which loop, and where in it."""
        statements, at = self.runs[0], 0
        for number, group in enumerate([*self.groups[0], Group(len(self.runs[0]), 0, 0, 0)]):
            for one in statements[at : group.start]:
                yield one, None, 0
            for place in range(group.size):
                yield statements[group.start + place], number, place
            at = max(at, group.end)

    def run(self, names: Sequence[str]) -> list[dict[str, Any]]:
        """Each run's parameters and statements."""
        roles = self._roles()
        self._keep(roles)
        roles = [role for role in roles if role.name != "-"]
        self._name(roles)
        return [self._written(number, name, roles) for number, name in enumerate(names)]

    # -- roles -------------------------------------------------------------------------------------

    def _values_at(self, spot: Spot) -> list[tuple[Scalar, ...]]:
        """In each run, the value at a literal of the code; of a loop, one for each turn."""
        number, place = spot
        _, loop, inner = self.code[number]
        found: list[tuple[Scalar, ...]] = []
        for statements, groups in zip(self.runs, self.groups, strict=True):
            if loop is None:
                before = sum(
                    group.end - group.start - group.size
                    for which, group in enumerate(groups)
                    if self._before(which, number)
                )
                found.append((statements[number + before].literals[place].value,))
                continue
            group = groups[loop]
            turns = [
                statements[group.start + turn * group.size + inner].literals[place].value
                for turn in range(group.turns)
                if group.start + turn * group.size + inner < group.end
            ]
            found.append(tuple(turns))
        return found

    def _before(self, loop: int, number: int) -> bool:
        """Whether a loop stands before a statement of the code."""
        places = [at for at, (_, of, _) in enumerate(self.code) if of == loop]
        return bool(places) and places[-1] < number

    def _roles(self) -> list[_Role]:
        found: list[_Role] = []
        for number, (shaped, loop, _) in enumerate(self.code):
            for place, literal in enumerate(shaped.literals):
                values = self._values_at((number, place))
                same = all(len(set(one)) == 1 for one in values)
                if self._constant(literal, values):
                    continue
                column = self.classes.named(literal.column) if literal.column else None
                role = _Role(
                    [(number, place)],
                    [one[:1] for one in values] if same or loop is None else values,
                    column,
                    literal.about,
                    None if same or loop is None else loop,
                    literal.column is not None
                    and is_key(self.schema.tables.get(literal.column[0]), literal.column[1]),
                )
                known = next((one for one in found if self._one(one, role)), None)
                if known is None:
                    found.append(role)
                else:
                    known.spots += role.spots
                    known.values = [
                        mine if len(mine) >= len(theirs) else theirs
                        for mine, theirs in zip(known.values, role.values, strict=True)
                    ]
        return found

    @staticmethod
    def _one(known: _Role, role: _Role) -> bool:
        """Whether two literals are one parameter: always one value, for one kind of thing."""
        if known.group != role.group:
            return False
        alike = known.column is not None and known.column == role.column
        apart = {one for run in known.values for one in run}
        keys = known.key and role.key and len(known.values) > 1 and len(apart) > 1
        return (alike or keys or known.base == role.base) and all(
            all(a == b for a, b in zip(mine, theirs, strict=False))
            for mine, theirs in zip(known.values, role.values, strict=True)
        )

    def _constant(self, literal: Literal, values: Sequence[tuple[Scalar, ...]]) -> bool:
        """Whether a literal is one of the code: the same in each run, and it names no row."""
        if literal.column is not None and is_key(
            self.schema.tables.get(literal.column[0]), literal.column[1]
        ):
            return False
        distinct = {one for run in values for one in run}
        if len(distinct) > 1:
            return False
        several = len(values) > 1 or any(len(run) > 1 for run in values)
        if several or literal.how is None:
            return True
        only = next(iter(distinct))
        plain = only in (0, 1) or (isinstance(only, str) and len(only) <= 1)
        return literal.how in ("equal", "range") or plain

    # -- what a statement returned -----------------------------------------------------------------

    def _keep(self, roles: Sequence[_Role]) -> None:
        """Values that an earlier statement of the transaction returned, as likely as not: it
        returns one value, and no other source of it is seen.
        """
        for role in roles:
            first = min(role.spots)
            number = first[0]
            if role.group is not None or self.code[number][1] is not None:
                continue
            literal = self.code[number][0].literals[first[1]]
            if literal.how != "inserted" or not isinstance(role.values[0][0], int):
                continue
            source = next(
                (
                    (at, column)
                    for at in reversed(range(number))
                    if (column := self._returned(self.code[at][0])) is not None
                    and self.code[at][1] is None
                    and not any(at == kept for kept, _ in self.kept.values())
                ),
                None,
            )
            if source is not None:
                for spot in role.spots:
                    self.kept[spot] = source
                role.name = "-"

    @staticmethod
    def _returned(shaped: Shaped) -> str | None:
        """The column of the one value that a change returns."""
        found = re.search(r"(?i)\breturning\s+(.+?)\s*;?\s*$", shaped.text)
        if found is None or "," in found[1]:
            return None
        alias = re.search(r"(?i)\bas\s+(\w+)$", found[1])
        if alias is not None:
            return alias[1]
        return found[1] if re.fullmatch(r"\w+", found[1]) else "?column?"

    # -- names and texts ---------------------------------------------------------------------------

    def _name(self, roles: Sequence[_Role]) -> None:
        taken: set[str] = set()
        for role in roles:
            base = role.base
            listed = role.group is not None
            for number in range(100):
                prefix = _FEW[number] if number < len(_FEW) else f"{chr(97 + number % 26)}_"
                name = f"{prefix}{_plural(base) if listed else base}"
                if name not in taken:
                    break
            taken.add(name)
            role.name, role.element = name, f"{prefix}{base}"

    def _written(self, run: int, name: str, roles: Sequence[_Role]) -> dict[str, Any]:
        names = {spot: role for role in roles for spot in role.spots}
        parameters: dict[str, Any] = {}
        for role in roles:
            if role.group is None:
                parameters[role.name] = self._given(role, role.values[run][0])
            else:
                values = self._completed(run, role)
                parameters[role.name] = self._given(role, values)
        statements: list[Any] = []
        loops: dict[int, list[Any]] = {}
        for number, (shaped, loop, _) in enumerate(self.code):
            entry = self._statement(number, shaped, names)
            if loop is None:
                statements.append(entry)
                continue
            if loop not in loops:
                loops[loop] = []
                lists = [role.name for role in roles if role.group == loop]
                elements = [role.element for role in roles if role.group == loop]
                each: dict[str, Any] = {"each": lists if len(lists) > 1 else lists[0]}
                if elements != lists:
                    each["as"] = elements if len(elements) > 1 else elements[0]
                statements.append({**each, "do": loops[loop]})
            loops[loop].append(entry)
        for group in self.groups[run]:
            if group.last < group.size:
                self.notes.append(
                    f"{name}: assumed that the last turn of its loop goes on as the others do; the"
                    " capture ends within it"
                )
        return {"parameters": parameters, "statements": statements}

    def _completed(self, run: int, role: _Role) -> tuple[Scalar, ...]:
        """Its values, one for each turn: of the last turn it may be missing."""
        values = role.values[run]
        turns = self.groups[run][role.group or 0].turns
        while len(values) < turns:
            numbers = [one for one in values if isinstance(one, int)]
            steps = {b - a for a, b in pairwise(numbers)}
            if len(numbers) == len(values) and (len(steps) == 1 or len(numbers) == 1):
                step = steps.pop() if steps else 1
                values = (*values, numbers[-1] + step)
            else:
                values = (*values, values[-1])
        return values

    def _given(self, role: _Role, value: Scalar | tuple[Scalar, ...]) -> Any:
        table, column = role.column or ("", "")
        counts = role.group is not None and self._counts(role)
        if is_key(self.schema.tables.get(table), column) and not counts:
            source = {"from": named((table, column))}
            if isinstance(value, tuple):
                return {"values": list(value), **source}
            return {"value": value, **source}
        if isinstance(value, tuple):
            return list(value)
        # a text with a dot could be taken for a column
        return {"value": value} if isinstance(value, str) and "." in value else value

    @staticmethod
    def _counts(role: _Role) -> bool:
        """Whether its values are the numbers of the turns."""
        return all(list(run) == list(range(1, len(run) + 1)) for run in role.values)

    def _statement(self, number: int, shaped: Shaped, names: Mapping[Spot, _Role]) -> Any:
        def written(found: re.Match[str]) -> str:
            place = int(found[1])
            spot = (number, place)
            if spot in self.kept:
                return f":{self._kept_name(self.kept[spot])}"
            role = names.get(spot)
            if role is not None:
                return f":{role.element if role.group is not None else role.name}"
            return self._as_written(shaped, place)

        text = _HOLE.sub(written, shaped.text)
        said = shaped.statement.model_dump(exclude_unset=True, exclude={"sql", "turn"})
        more = {key: value for key, value in said.items() if value not in (None, {}, False)}
        entry: dict[str, Any] = {"sql": text, **more} if said else {}
        kept = {
            self._kept_name(source): source[1]
            for source in self.kept.values()
            if source[0] == number
        }
        if kept:
            entry = {
                "sql": text,
                **entry,
                "keep": kept,
                "label": "assumed: what it returns is the value that comes later",
            }
        return entry or text

    def _kept_name(self, source: tuple[int, str]) -> str:
        spot = next(spot for spot, of in self.kept.items() if of == source)
        literal = self.code[spot[0]][0].literals[spot[1]]
        column = self.classes.named(literal.column) if literal.column else None
        return _Role([spot], [], column, literal.about, None).base

    def _as_written(self, shaped: Shaped, place: int) -> str:
        literal = shaped.literals[place]
        if isinstance(literal.value, str):
            number = re.fullmatch(r"-?\d+(\.\d+)?", literal.value)
            quoted = "'" + literal.value.replace("'", "''") + "'"
            return quoted if number is None or self._quoted(shaped, place) else literal.value
        return f"'{literal.value}'" if self._quoted(shaped, place) else str(literal.value)

    @staticmethod
    def _quoted(shaped: Shaped, place: int) -> bool:
        """Whether the literal stands in quotes in the statement."""
        before = _HOLE.split(shaped.text)[::2]
        at, sql = 0, shaped.statement.text
        for number, part in enumerate(before[: place + 1]):
            at = sql.index(part, at) + len(part)
            if number == place:
                return sql[at : at + 1] == "'"
            at += 1
        return False


def _plural(word: str) -> str:
    if word.endswith("s"):
        return word
    return f"{word[:-1]}ies" if re.search(r"[^aeiou]y$", word) else f"{word}s"
