"""Reads a scenario file into a ``Scenario`` and remembers where each value stands.

Kept apart from ``scenario`` because positions belong to the text, not to the meaning. YAML 1.2
rules are used (``on`` and ``no`` are words, not truth values). Nothing in the file is evaluated:
only plain scalars, lists and mappings are built.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import yaml
from pydantic import ValidationError
from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from catenum.core.errors import InputError, Place, Problem
from catenum.core.scenario.bounds import (
    LOADER,
    MAX_DEPTH,
    MAX_VALUES,
    OWN_TAGS,
    TOO_DEEP,
    TOO_MANY,
    check_events,
    is_flat,
    tagged,
)
from catenum.core.scenario.loops import written_out
from catenum.core.scenario.model import (
    AfterError,
    Column,
    Data,
    Domain,
    Expectation,
    ExpectedOutcome,
    Fill,
    NamedOrder,
    NextStep,
    Remedy,
    Retry,
    Scenario,
    Statement,
    Timeouts,
    Transaction,
    sql_for,
    texts_in,
)
from catenum.core.scenario.names import name_problems
from catenum.core.scenario.remedies import changed_statements, parts_of
from catenum.core.scenario.terms import LISTED, parse_expectation
from catenum.core.servers import rules_of, servers_of_texts
from catenum.core.sql.beginning import access_in, begins, level_in, level_set_by
from catenum.core.sql.parameters import parameters_in
from catenum.core.text import suggestion

MAX_BYTES = 1_000_000
_SETTING_VALUE = re.compile(r"[A-Za-z0-9_.,=: -]{1,200}")
#: Keys of a whole transaction, and what to write instead.
_NOT_WITH_AUTOCOMMIT = {"ends": None, "retry": "'after_error: retry' sends a statement again."}
_SAVEPOINT = re.compile(r"\s*savepoint\s+(\w+)", re.IGNORECASE)
#: What a plain scalar means (YAML 1.2.2, 10.3.2, "Tag Resolution" of the core schema); anything
#: else is a text.
_NULL = re.compile(r"~|null|Null|NULL|")
_TRUTH = re.compile(r"(true|True|TRUE)|false|False|FALSE")
_NUMBER = re.compile(
    r"(?P<decimal>[-+]?[0-9]+)|0o(?P<octal>[0-7]+)|0x(?P<hex>[0-9a-fA-F]+)"
    r"|(?P<real>[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?)"
    r"|(?P<sign>[-+]?)\.(?P<word>inf|Inf|INF|nan|NaN|NAN)"
)

Path = tuple[str | int, ...]


@dataclass(frozen=True)
class ScenarioFile:
    """A scenario and the place of each of its values, by path (``("transactions", "early",
    "statements", 0)``).
    """

    file: str
    scenario: Scenario
    #: Of a scenario that a recording carries: on which kind of server that was made.
    recorded_on: str | None = field(default=None, kw_only=True)
    places: Mapping[Path, Place] = field(repr=False)
    sql_starts: Mapping[Path, Place] = field(repr=False)

    def place(self, *path: str | int) -> Place:
        """Where ``path`` stands, or the nearest thing around it."""
        return _nearest(self.places, path, self.file)

    def expected_lines(self) -> Iterator[tuple[Path, str]]:
        """Each line under ``expect``, with its path."""

        def below(path: Path, value: object) -> Iterator[tuple[Path, str]]:
            if isinstance(value, Mapping):
                for key, inner in value.items():
                    yield from below((*path, str(key)), inner)
            elif isinstance(value, str):
                yield path, value

        yield from below(("expect",), self.scenario.expect)

    def paths_of_sql(self, path: Path, server: str) -> Iterator[Path]:
        """Where the text of a statement may stand: under a key, for one server, or as the statement
        itself.
        """
        ways: tuple[Path, ...] = (("sql", server), ("sql",), (server,), ())
        yield from ((*path, *way) for way in ways if (*path, *way) in self.sql_starts)

    def place_in_sql(self, path: Path, text: str, offset: int) -> Place:
        """The place of the character at ``offset`` (from 0) of the SQL text at ``path``; its start
        where unknown.
        """
        start = self.sql_starts.get(path)
        if start is None:
            return self.place(*path)
        before = text[:offset]
        line = before.count("\n")
        column = offset - (before.rfind("\n") + 1)
        return Place(self.file, start.line + line, start.column + column)


def read_scenario(data: bytes, file: str) -> ScenarioFile:
    """Parse and validate a scenario. Raises InputError with every problem found, each with its line
    and column.
    """
    node = _compose(data, file)
    places = _Places(file)
    sql_starts: dict[Path, Place] = {}
    problems: list[Problem] = []
    plain = _Builder(file, data.decode("utf-8"), places, sql_starts, problems).build(node, ())
    if problems:
        raise InputError.from_problems(problems)
    if not isinstance(plain, dict):
        raise InputError(
            "a scenario is a mapping with the keys scenario, data and transactions",
            place=_place(file, node),
            advice="'catenum sample berth-swap' prints one to start from.",
        )
    plain = _loops_written_out(plain, places, sql_starts, problems)
    if problems:
        raise InputError.from_problems(problems)
    try:
        scenario = Scenario.model_validate(plain)
    except ValidationError as error:
        raise InputError.from_problems(_from_validation(error, plain, places, file)) from error
    result = ScenarioFile(file, scenario, places, sql_starts)
    problems = list(_cross_checks(result))
    if problems:
        raise InputError.from_problems(problems)
    return result


def _compose(data: bytes, file: str) -> Node:
    where = Place(file)
    if len(data) > MAX_BYTES:
        raise InputError(
            f"the file has {len(data):,} bytes; a scenario may have {MAX_BYTES:,}", place=where
        )
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise InputError(
            f"not a text file in UTF-8 (byte 0x{data[error.start]:02x} at position {error.start})",
            place=Place(file, line, 1),
        ) from error
    if not text.strip():
        raise InputError(
            "the file is empty",
            place=where,
            advice="'catenum sample berth-swap' prints a scenario to start from.",
        )
    try:
        if not is_flat(text):
            check_events(text, file)
        node: Node | None = yaml.compose(text, Loader=LOADER)
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        place = Place(file, mark.line + 1, mark.column + 1) if mark else where
        if mark and _character(text, mark.line, mark.column) == "\t":
            raise InputError(
                "a tab in the indentation", place=place, advice="YAML indents with spaces only."
            ) from error
        if "nesting depth" in str(
            error.problem
        ):  # the parser in C looks further ahead than its events tell
            raise InputError(TOO_DEEP, place=place) from error
        raise InputError(
            f"not valid YAML: {error.problem or error.context}", place=place
        ) from error
    except (yaml.YAMLError, ValueError) as error:
        raise InputError(f"not valid YAML: {str(error).splitlines()[0]}", place=where) from error
    if node is None:
        raise InputError("the file holds no scenario, only comments", place=where)
    return node


def _character(text: str, line: int, column: int) -> str:
    lines = text.splitlines()
    return lines[line][column : column + 1] if line < len(lines) else ""


def _plain(text: str) -> object:
    """What a plain scalar means. Raises ValueError for a number that is too long."""
    if _NULL.fullmatch(text):
        return None
    if truth := _TRUTH.fullmatch(text):
        return truth[1] is not None
    number = _NUMBER.fullmatch(text)
    if number is None:
        return text
    if number["word"]:
        return float(number["sign"] + number["word"])
    if number["real"]:
        return float(text)
    return int(
        number["decimal"] or number["octal"] or number["hex"],
        {"octal": 8, "hex": 16}.get(number.lastgroup or "", 10),
    )


def _place(file: str, node: Node) -> Place:
    return Place(file, node.start_mark.line + 1, node.start_mark.column + 1)


class _Places(Mapping[Path, Place]):
    """Where each value stands; worked out when somebody asks, since nobody asks about most of
    them.
    """

    def __init__(self, file: str) -> None:
        self.file = file
        self.nodes: dict[Path, Node] = {}

    def __getitem__(self, path: Path) -> Place:
        return _place(self.file, self.nodes[path])

    def __contains__(self, path: object) -> bool:
        return path in self.nodes

    def __iter__(self) -> Iterator[Path]:
        return iter(self.nodes)

    def __len__(self) -> int:
        return len(self.nodes)


class _Builder:
    """Turns YAML nodes into plain values, noting places and refusing what would surprise."""

    def __init__(
        self,
        file: str,
        text: str,
        places: _Places,
        sql_starts: dict[Path, Place],
        problems: list[Problem],
    ) -> None:
        self.file, self.lines = file, text.splitlines()
        self.places, self.sql_starts, self.problems = places, sql_starts, problems
        self.count = 0

    def build(self, node: Node, path: Path) -> Any:
        self.count += 1
        if (
            self.count > MAX_VALUES or len(path) > MAX_DEPTH
        ):  # aliases can multiply what the file shows
            raise InputError(TOO_MANY, place=_place(self.file, node))
        if not node.tag.startswith(OWN_TAGS):
            raise tagged(node.tag, _place(self.file, node))
        self.places.nodes[path] = node
        if isinstance(node, MappingNode):
            return self._mapping(node, path)
        if isinstance(node, SequenceNode):
            return [self.build(child, (*path, i)) for i, child in enumerate(node.value)]
        if not isinstance(node, ScalarNode):
            raise TypeError(type(node))
        self._note_text(node, path)
        try:
            return node.value if node.style else _plain(node.value)
        except (ValueError, OverflowError) as error:
            message = f"cannot be read as a value: {str(error).splitlines()[0]}"
            advice = "Write a text in quotes."
            raise InputError(message, place=_place(self.file, node), advice=advice) from error

    def _mapping(self, node: MappingNode, path: Path) -> dict[Any, Any]:
        result: dict[Any, Any] = {}
        for key_node, value_node in node.value:
            if not isinstance(key_node, ScalarNode):
                self.problems.append(
                    Problem("a key must be a plain word", _place(self.file, key_node))
                )
                continue
            number = (
                isinstance(key_node.value, str)
                and key_node.value.isascii()
                and key_node.value.isdigit()
                and not key_node.style
            )
            key: str | int = int(key_node.value) if number else key_node.value
            if key in result:
                self.problems.append(
                    Problem(
                        f"the key {key!r} appears twice in this mapping",
                        _place(self.file, key_node),
                    )
                )
            result[key] = self.build(value_node, (*path, key))
            self.places.nodes[(*path, key, "\0key")] = key_node
        return result

    def _note_text(self, node: ScalarNode, path: Path) -> None:
        """Remember where the characters of a scalar begin, for those styles in which lines stay
        lines.
        """
        mark = node.start_mark
        if node.style == "|":
            body = next(
                (i for i in range(mark.line + 1, len(self.lines)) if self.lines[i].strip()),
                len(self.lines) - 1,
            )
            line = self.lines[body]
            self.sql_starts[path] = Place(self.file, body + 1, len(line) - len(line.lstrip()) + 1)
        elif node.start_mark.line == node.end_mark.line and node.style != ">":
            quote = 1 if node.style in ("'", '"') else 0
            self.sql_starts[path] = Place(self.file, mark.line + 1, mark.column + 1 + quote)


def _loops_written_out(
    plain: dict[Any, Any], places: _Places, sql_starts: dict[Path, Place], problems: list[Problem]
) -> dict[Any, Any]:
    """The values of a file with its loops written out, and each statement's place where it
    stood.
    """
    transactions = plain.get("transactions")
    if not isinstance(transactions, dict):
        return plain
    found = {}
    for name, one in transactions.items():
        path: Path = ("transactions", name)

        def report(at: Path, message: str, advice: str | None, path: Path = path) -> None:
            where = _nearest(places, (*path, *at), places.file)
            problems.append(Problem(f"{path[1]}: {message}", where, advice))

        new = written_out(one, report) if isinstance(one, dict) else None
        if new is None:
            continue
        found[name], origins = new
        _move(places.nodes, (*path, "statements"), path, origins)
        _move(sql_starts, (*path, "statements"), path, origins)
    return {**plain, "transactions": {**transactions, **found}} if found else plain


def _move(
    table: dict[Path, Any], statements: Path, transaction: Path, origins: Sequence[Path]
) -> None:
    """Keep what stands under each statement under its number, once loops are written out."""
    depth = len(statements)
    below: dict[Path, list[tuple[Path, Any]]] = {}
    for path in [p for p in table if p[:depth] == statements and len(p) > depth]:
        value = table.pop(path)
        for length in range(depth + 1, len(path) + 1):
            below.setdefault(path[:length], []).append((path[length:], value))
    for number, origin in enumerate(origins):
        for rest, value in below.get((*transaction, *origin), ()):
            table[(*statements, number, *rest)] = value


def _nearest(places: Mapping[Path, Place], path: Path, file: str) -> Place:
    while path:
        if path in places:
            return places[path]
        path = path[:-1]
    return places.get((), Place(file))


def _from_validation(
    error: ValidationError, plain: object, places: Mapping[Path, Place], file: str
) -> list[Problem]:
    problems: dict[tuple[Place, str], Problem] = {}
    found = error.errors()
    for item in found:
        depth = len(item["loc"])
        within = any(len(o["loc"]) > depth and o["loc"][:depth] == item["loc"] for o in found)
        if item["type"] == "too_short" and within:
            continue  # it is as short as that because what is in it is wrong
        path = _real_path(item["loc"], plain)
        kind, advice = item["type"], None
        place = _nearest(places, path, file)
        if kind == "extra_forbidden":
            key = str(path[-1]) if path else "?"
            message = f"unknown key {key!r}"
            place = places.get((*path, "\0key"), place)
            advice = suggestion(key, _valid_keys(path[:-1]))
        elif kind == "missing":
            message = f"the key {item['loc'][-1]!r} is missing"
        elif kind == "value_error":
            message = str(item["ctx"]["error"])
        elif kind == "literal_error":
            message = f"{item['input']!r} is not known here"
            advice = suggestion(str(item["input"]), _quoted(item["ctx"]["expected"]))
        elif kind == "string_pattern_mismatch":
            message = _no_name(item["input"], item["loc"][-1])
        elif kind == "too_short":
            message = "must not be empty"
        elif kind in ("model_type", "dict_type") and item["input"] is not None:
            message = f"must have keys of its own (KEY: VALUE), and is {item['input']!r}"
        else:
            message = item["msg"][0].lower() + item["msg"][1:]
            if item["input"] is None:
                message = "has no value"
                if " " in str(path[-1] if path else ""):
                    advice = (
                        "Inside { } a comma ends a value: put a statement with commas in quotes."
                    )
        label = ".".join(str(part) for part in path)
        message = f"{label}: {message}" if label and kind != "extra_forbidden" else message
        problems.setdefault((place, message), Problem(message, place, advice))
    return list(problems.values())


def _no_name(value: object, key: object) -> str:
    if key in ("from", "column"):
        return f"{value!r} is no column: write it as table.column"
    return f"{value!r} is not a name: no blanks, colons, commas or equals signs"


def _quoted(expected: str) -> list[str]:
    return [part for part in expected.split("'") if part.strip(" ,") not in ("", "or")]


def _real_path(loc: tuple[str | int, ...], plain: object) -> Path:
    """The part of pydantic's location that exists in the file: unions add steps of their own, which
    are skipped.
    """
    path: list[str | int] = []
    here: Any = plain
    for step in loc:
        steps: Any = (
            here
            if isinstance(here, dict)
            else dict(enumerate(here))
            if isinstance(here, list)
            else {}
        )
        if step in steps:
            here = steps[step]
            path.append(step)
    return tuple(path)


def _valid_keys(path: Path) -> list[str]:
    match path:
        case ():
            model: type = Scenario
        case ("data",):
            model = Data
        case ("fill", _):
            model = Fill
        case ("fill", _, "columns", _):
            model = Column
        case (*_, "statements", int()) | ("remedies", _, "rewrite" | "add", _, int()):
            model = Statement
        case ("transactions", _, "parameters", _):
            model = Domain
        case (*_, "retry") | ("remedies", _, "retry", _):
            model = Retry
        case ("remedies", _):
            model = Remedy
        case ("orders", _):
            model = NamedOrder
        case ("outcomes", *_):
            model = ExpectedOutcome
        case ("orders", *_):
            model = Expectation
        case _:
            model = Transaction
    return [name for name in model.model_fields if name != "turn"]  # type: ignore[attr-defined]


def _cross_checks(file: ScenarioFile) -> Iterator[Problem]:
    """What no single value can tell: names that must exist, counts that must fit."""
    scenario = file.scenario
    names = list(scenario.transactions)
    yield from _check_moves(file, scenario.order or (), ("order",), "order")
    if scenario.victim is not None and scenario.victim not in scenario.transactions:
        yield Problem(
            f"victim names {scenario.victim!r}, which is not a transaction",
            file.place("victim"),
            suggestion(scenario.victim, names),
        )
    for name, transaction in scenario.transactions.items():
        yield from _check_names(file, name, transaction)
    yield from _check_connections(file)
    yield from _check_settings(file)
    for title, order in scenario.orders.items():
        yield from _check_order(file, title, order)
    yield from _check_outcomes(file)
    yield from _check_expected(file)
    for title, remedy in scenario.remedies.items():
        yield from _check_remedy(file, title, remedy, names)


def _check_names(file: ScenarioFile, name: str, transaction: Transaction) -> Iterator[Problem]:
    """Uses of values that cannot have one, and conditions that cannot be read, each with its line
    and column.
    """
    path: Path
    for number, sql in enumerate(transaction.session or ()):
        for server in servers_of_texts(sql):
            text = sql_for(server, sql)
            if parameters_in(text, rules_of(server).sql.token_patterns):
                yield Problem(
                    f"the session of {name} begins without values: {text.strip()!r} names some",
                    file.place("transactions", name, "session", number),
                )
                break
    yield from _check_savepoints(file, name, transaction)
    for number, statement in enumerate(transaction.statements):
        path = ("transactions", name, "statements", number)
        yield from _check_at_once(file, name, transaction, number)
        if statement.kill is None:
            continue
        if statement.kill == name or statement.kill not in file.scenario.transactions:
            yield Problem(
                f"{name} {number + 1} kills {statement.kill!r}, which is not another transaction",
                file.place(*path, "kill"),
                suggestion(
                    statement.kill, [one for one in file.scenario.transactions if one != name]
                ),
            )
        for key in ("keep", "require", "after_error"):
            if getattr(statement, key):
                yield Problem(
                    f"{name} {number + 1} kills a session: it has no {key!r}",
                    file.place(*path, key),
                )
    for found in name_problems(transaction):
        path = ("transactions", name, "statements", found.statement)
        if found.key == "keep":
            yield Problem(found.message, file.place(*path, "keep"))
            continue
        at = next(
            (p for p in _text_paths(path, found.key, found.text, transaction) if p in file.places),
            path,
        )
        yield Problem(
            f"{name} {found.statement + 1}: {found.message}",
            file.place_in_sql(at, found.text, found.offset),
            found.advice,
        )


def _check_settings(file: ScenarioFile) -> Iterator[Problem]:
    """Settings of a private server that are not on the list of harmless ones, or are no words."""
    for server, settings in file.scenario.server.items():
        rules = rules_of(str(server))
        for name, value in settings.items():
            path: Path = ("server", str(server), name)
            if rules.setting(name) is None:
                yield Problem(
                    f"{name!r} is not one of the settings that a scenario may give {rules.title}:"
                    " others may change what is durable, who connects, or what runs by itself",
                    file.place(*path, "\0key"),
                    suggestion(name, [one.name for one in rules.settings]),
                )
            if isinstance(value, str) and not _SETTING_VALUE.fullmatch(value):
                yield Problem(f"{value!r} is not the value of a setting", file.place(*path))


def _check_connections(file: ScenarioFile) -> Iterator[Problem]:
    """Transactions that can never begin, since the one before on their connection does not end; and
    what a transaction that commits each statement cannot have.
    """
    transactions = file.scenario.transactions
    for name, before in file.scenario.previous.items():
        path: Path = ("transactions", name)
        if transactions[before].ends in ("open", "close"):
            does = "does not end" if transactions[before].ends == "open" else "closes it"
            yield Problem(
                f"{name} can never begin: {before}, which comes before it on the connection,"
                f" {does}",
                file.place(*path, "connection"),
            )
        if transactions[name].session:
            yield Problem(
                f"{name} follows {before} on its connection, which has begun by then",
                file.place(*path, "session"),
                "Put these statements under the first transaction of the connection.",
            )
    for name, transaction in transactions.items():
        path = ("transactions", name)
        yield from _check_beginning(file, name, transaction)
        for key, advice in _NOT_WITH_AUTOCOMMIT.items():
            if transaction.autocommit and key in transaction.model_fields_set:
                yield Problem(
                    f"{name} commits each statement by itself, so it has no {key!r}",
                    file.place(*path, key),
                    advice,
                )


def _check_beginning(file: ScenarioFile, name: str, transaction: Transaction) -> Iterator[Problem]:
    """A beginning that is a statement, beside keys that say something else."""
    path: Path = ("transactions", name)
    for text in (text for one in transaction.statements for text in texts_in(one.sql)):
        level = level_set_by(text)
        if level and transaction.isolation not in (None, level):
            yield Problem(
                f"{name} sets the level {level!r}, and its key 'isolation' says"
                f" {transaction.isolation!r}",
                file.place(*path, "isolation"),
            )
    for text in texts_in(transaction.statements[0].sql):
        if not begins(text):
            continue
        if transaction.autocommit:
            yield Problem(
                f"{name} commits each statement by itself, and begins with {text.strip()!r}",
                file.place(*path, "autocommit"),
            )
        for key, said in (("isolation", level_in(text)), ("access", access_in(text))):
            asked = getattr(transaction, key)
            if asked is not None and said is not None and asked != said:
                yield Problem(
                    f"{name} begins with {said!r}, and its key {key!r} says {asked!r}",
                    file.place(*path, key),
                )


def _check_savepoints(file: ScenarioFile, name: str, transaction: Transaction) -> Iterator[Problem]:
    """Savepoints to go back to that no statement before sets."""
    path: Path = ("transactions", name)
    after: list[tuple[Path, int, AfterError | None]]
    after = [(("after_error",), len(transaction.statements), transaction.after_error)]
    after += [
        (("statements", number, "after_error"), number, statement.after_error)
        for number, statement in enumerate(transaction.statements)
    ]
    for place, upto, said in after:
        for wanted in (NextStep.read(text).savepoint for text in texts_in(said)):
            before = transaction.statements[:upto]
            set_here = {
                found[1].lower()
                for one in before
                for text in texts_in(one.sql)
                if (found := _SAVEPOINT.match(text))
            }
            if wanted and wanted.lower() not in set_here:
                yield Problem(
                    f"{name} goes back to the savepoint {wanted!r}, which no statement before sets",
                    file.place(*path, *place),
                    suggestion(wanted, sorted(set_here)) or f"Put 'savepoint {wanted}' before it.",
                )


def _check_at_once(
    file: ScenarioFile, name: str, transaction: Transaction, number: int
) -> Iterator[Problem]:
    """A statement that is sent before the one before it is answered cannot depend on the answer."""
    statement = transaction.statements[number]
    if not statement.at_once:
        return
    path: Path = ("transactions", name, "statements", number)
    before = transaction.statements[number - 1] if number else None
    kept = set(before.keep) if before is not None else set()
    used = {
        parameter.name
        for server in servers_of_texts(statement.sql)
        for parameter in parameters_in(
            sql_for(server, statement.sql), rules_of(server).sql.token_patterns
        )
    }
    why = None
    if before is None or before.kill is not None or statement.kill is not None:
        why = "there is no statement before it to be sent with"
    elif statement.when is not None:
        why = "its condition is decided when the statement before it was answered"
    elif kept & used:
        why = f"it uses {sorted(kept & used)[0]!r}, which the statement before it keeps"
    elif transaction.autocommit:
        why = f"{name} commits each statement by itself"
    if why is not None:
        yield Problem(f"{name} {number + 1} is sent at once: {why}", file.place(*path, "at_once"))


def _text_paths(path: Path, key: str, text: str, transaction: Transaction) -> Iterator[Path]:
    """Where a statement's text may stand: under its key, for one server, or as the statement
    itself.
    """
    sql = transaction.statements[int(path[-1])].sql
    servers = (
        [server for server, own in sql.items() if own == text]
        if isinstance(sql, dict) and key == "sql"
        else []
    )
    for server in servers:
        yield (*path, key, server)
        yield (*path, server)
    yield (*path, key)
    yield path


def _check_moves(
    file: ScenarioFile,
    order: Sequence[str],
    path: Path,
    what: str,
    timeouts: Timeouts | None = None,
) -> Iterator[Problem]:
    """An order's names, and how often each moves."""
    by_order = (timeouts or file.scenario.timeouts) == "by order"
    transactions = file.scenario.transactions
    for index, name in enumerate(order):
        if name not in transactions:
            yield Problem(
                f"{what} names {name!r}, which is not a transaction",
                _order_place(file, order, index, path),
                suggestion(name, list(transactions)),
            )
    for name, transaction in transactions.items():
        asked = order.count(name)
        if asked > transaction.moves and not by_order:
            end = f" and its {transaction.ends}" if transaction.ends != "open" else ""
            yield Problem(
                f"{what} names {name!r} {asked} times; it has {transaction.moves} moves "
                f"({len(transaction.statements)} statements{end})",
                file.place(*path),
            )


def _order_place(file: ScenarioFile, order: Sequence[str], index: int, path: Path) -> Place:
    listed = file.places.get((*path, index))
    start = file.sql_starts.get(path)
    if listed or not start:
        return listed or file.place(*path)
    return Place(
        start.file, start.line, start.column + sum(len(word) + 1 for word in order[:index])
    )


def _check_order(file: ScenarioFile, title: str, named: NamedOrder) -> Iterator[Problem]:
    """A named order's moves, and what is expected of transactions and statements that are not
    there, or of what cannot be together.
    """
    path: Path = ("orders", title)
    what = f"the order {title!r}"
    yield from _check_moves(file, named.order or (), (*path, "order"), f"{what}:", named.timeouts)
    if isinstance(named.expect, Expectation):
        expected: list[tuple[Path, Expectation]] = [((*path, "expect"), named.expect)]
    else:
        expected = [((*path, "expect", str(name)), one) for name, one in named.expect.items()]
    for place, one in expected:
        yield from _check_expectation(file, what, place, one)


def _check_outcomes(file: ScenarioFile) -> Iterator[Problem]:
    """The outcomes that are expected of schedules: victims must be transactions."""
    outcomes, names = file.scenario.outcomes, list(file.scenario.transactions)
    of_servers = outcomes.items() if isinstance(outcomes, dict) else [(None, outcomes or ())]
    for server, expected in of_servers:
        path: Path = ("outcomes", str(server)) if server is not None else ("outcomes",)
        for number, one in enumerate(expected):
            if one.victim is not None and one.victim not in names:
                yield Problem(
                    f"outcomes expect {one.victim!r}, which is not a transaction",
                    file.place(*path, number, "victim"),
                    suggestion(one.victim, names),
                )


def _check_expected(file: ScenarioFile) -> Iterator[Problem]:
    """What is expected of all schedules: known words, and a list where the scenario has one."""
    for path, text in file.expected_lines():
        if text.strip() == LISTED:
            if file.scenario.outcomes is None:
                yield Problem(
                    f"expect: {LISTED}: the scenario lists no outcomes",
                    file.place(*path),
                    "It does so under the key 'outcomes'.",
                )
            continue
        try:
            parse_expectation(text, "expect")
        except InputError as error:
            first = error.problems[0]
            yield Problem(first.message, file.place(*path), first.advice)


def _check_expectation(
    file: ScenarioFile, what: str, path: Path, expected: Expectation
) -> Iterator[Problem]:
    names = list(file.scenario.transactions)

    def unknown(name: str | None, *at: str | int) -> Iterator[Problem]:
        if name is not None and name not in names:
            yield Problem(
                f"{what} expects {name!r}, which is not a transaction",
                file.place(*path, *at),
                suggestion(name, names),
            )

    yield from unknown(expected.victim, "victim")
    for key in ("waits", "results", "errors"):
        for name, of_statements in (getattr(expected, key) or {}).items():
            yield from unknown(name, key, name, "\0key")
            transaction = file.scenario.transactions.get(name)
            last = transaction.moves if transaction is not None else 0
            for number in of_statements if transaction is not None else ():
                if not 1 <= number <= last:
                    yield Problem(
                        f"{what} expects {name!r} {number}: it has the moves 1 to {last}",
                        file.place(*path, key, name, number, "\0key"),
                    )
    for name, waits in (expected.waits or {}).items():
        for number, wait in waits.items():
            yield from unknown(wait.holder, "waits", name, number)
    yield from _contradictions(file, what, path, expected)


def _contradictions(
    file: ScenarioFile, what: str, path: Path, expected: Expectation
) -> Iterator[Problem]:
    waits = any(expected.waits.values()) if expected.waits else False
    failing = {str(kind) for of in (expected.errors or {}).values() for kind in of.values()}
    if expected.outcome == "clean" and waits:
        yield Problem(f"{what} expects no wait ('clean') and waits", file.place(*path, "waits"))
    if expected.outcome in ("clean", "waited") and failing:
        yield Problem(
            f"{what} expects the outcome {expected.outcome!r} and errors",
            file.place(*path, "errors"),
        )
    if expected.victim is not None and expected.outcome not in (None, "deadlock", "stuck", "error"):
        yield Problem(
            f"{what} expects a deadlock victim and the outcome {expected.outcome!r}",
            file.place(*path, "victim"),
        )
    for name, of_statements in (expected.results or {}).items():
        for number in of_statements.keys() & (expected.errors or {}).get(name, {}).keys():
            yield Problem(
                f"{what} expects a result and an error of {name!r} {number}",
                file.place(*path, "results", name, number),
            )


def _check_changed_names(file: ScenarioFile, title: str, remedy: Remedy) -> Iterator[Problem]:
    """Values that a remedy's statements, or their new order, use before they are there."""
    for name, transaction in file.scenario.transactions.items():
        order, texts = (remedy.reorder or {}).get(name), (remedy.rewrite or {}).get(name) or {}
        added, dropped = (remedy.add or {}).get(name) or {}, (remedy.drop or {}).get(name) or ()
        numbers = range(1, len(transaction.statements) + 1)
        known = {*texts, *dropped} <= {*numbers} and {*added} <= {*numbers, len(numbers) + 1}
        whole = sorted(order or numbers) == list(numbers)
        if not (order or texts or added or dropped) or not (known and whole):
            continue  # there is nothing to look at, or it is told elsewhere
        before = {problem.message for problem in name_problems(transaction)}
        for problem in name_problems(changed_statements(transaction, order, texts, added, dropped)):
            if problem.message not in before:
                kind = "drop" if dropped else "rewrite" if texts else "add" if added else "reorder"
                yield Problem(
                    f"remedy {title!r}: {problem.message}",
                    file.place("remedies", title, kind, name),
                )


def _check_kept_beginning(file: ScenarioFile, title: str, remedy: Remedy) -> Iterator[Problem]:
    """A statement that begins its transaction stays the first: what comes before it is no part."""
    for name, transaction in file.scenario.transactions.items():
        if not any(map(begins, texts_in(transaction.statements[0].sql))):
            continue
        order, dropped = (remedy.reorder or {}).get(name), (remedy.drop or {}).get(name, ())
        wrong: dict[str, Path] = {}
        if order and order[0] != 1:
            wrong["puts another statement before it"] = ("reorder", name)
        if 1 in ((remedy.add or {}).get(name) or {}):
            wrong["adds a statement before it"] = ("add", name, 1, "\0key")
        if 1 in dropped:
            wrong["leaves it out"] = ("drop", name)
        for what, path in wrong.items():
            yield Problem(
                f"remedy {title!r}: statement 1 begins the transaction {name!r}, and this {what}",
                file.place("remedies", title, *path),
            )


def _check_sorted(file: ScenarioFile, title: str, remedy: Remedy) -> Iterator[Problem]:
    """Lists that no loop goes through."""
    transactions = file.scenario.transactions
    for name, listed in (remedy.sort or {}).items():
        looped = {
            one
            for statement in (transactions[name].statements if name in transactions else ())
            if statement.turn is not None
            for one in statement.turn.lists
        }
        if name in transactions and listed not in looped:
            yield Problem(
                f"remedy {title!r}: no loop of {name!r} goes through {listed!r}",
                file.place("remedies", title, "sort", name),
                suggestion(listed, sorted(looped)) if looped else "It has no loop over a list.",
            )


def _check_split(file: ScenarioFile, title: str, remedy: Remedy) -> Iterator[Problem]:
    """Parts that would be empty."""
    for name, number in (remedy.split or {}).items():
        transaction = file.scenario.transactions.get(name)
        count = len(transaction.statements) if transaction is not None else number + 1
        if not 1 <= number < count:
            message = f"remedy {title!r}: {name!r} can be split behind statement 1 to {count - 1}"
            yield Problem(message, file.place("remedies", title, "split", name))


def _check_portions(file: ScenarioFile, title: str, remedy: Remedy) -> Iterator[Problem]:
    """Of statements that there are, whose results nobody needs, in transactions that stay whole
    otherwise.
    """
    for name, portions in (remedy.portions or {}).items():
        transaction = file.scenario.transactions.get(name)
        if transaction is None:
            continue
        count = len(transaction.statements)
        for number, texts in portions.items():
            place = file.place("remedies", title, "portions", name, number)
            if not 1 <= number <= count:
                yield Problem(f"remedy {title!r}: {name!r} has no statement {number}", place)
            elif len(texts) < 2:
                yield Problem(f"remedy {title!r}: portions are two statements or more", place)
            elif transaction.statements[number - 1].keep:
                message = f"statement {number} of {name!r} keeps values, so it has no portions"
                yield Problem(f"remedy {title!r}: {message}", place)
        if name in (remedy.split or {}):
            message = f"remedy {title!r} splits {name!r} and makes a statement of it in portions"
            yield Problem(message, file.place("remedies", title, "portions", name, "\0key"))


def _check_parts(file: ScenarioFile, title: str, remedy: Remedy) -> Iterator[Problem]:
    """Transactions made of one that need a value which an earlier one of them keeps."""
    for name, transaction in file.scenario.transactions.items():
        rests = (
            transaction.model_copy(update={"statements": part})
            for part in parts_of(name, transaction, remedy)[1:]
            if part
        )
        if not any(name_problems(transaction)) and any(any(name_problems(one)) for one in rests):
            kind = "split" if name in (remedy.split or {}) else "portions"
            message = f"a later part of {name!r} needs a value that an earlier one keeps"
            place = file.place("remedies", title, kind, name, "\0key")
            yield Problem(f"remedy {title!r}: {message}", place)


def _check_remedy(
    file: ScenarioFile, title: str, remedy: Remedy, names: list[str]
) -> Iterator[Problem]:
    transactions = file.scenario.transactions
    for kind in (
        *(
            "reorder",
            "isolation",
            "rewrite",
            "add",
            "drop",
            "timeout",
            "retry",
            "ends",
            "sort",
            "split",
            "portions",
        ),
    ):
        change = getattr(remedy, kind)
        for name in change if isinstance(change, dict) else ():
            if name not in transactions:
                yield Problem(
                    f"remedy {title!r} names {name!r}, which is not a transaction",
                    file.place("remedies", title, kind, name, "\0key"),
                    suggestion(name, names),
                )
    yield from _check_sorted(file, title, remedy)
    yield from _check_split(file, title, remedy)
    yield from _check_portions(file, title, remedy)
    yield from _check_parts(file, title, remedy)
    yield from _check_changed_names(file, title, remedy)
    yield from _check_kept_beginning(file, title, remedy)
    for name, order in (remedy.reorder or {}).items():
        count = len(transactions[name].statements) if name in transactions else len(order)
        if sorted(order) != list(range(1, count + 1)):
            yield Problem(
                f"remedy {title!r}: reorder must name each of the {count} statements of {name!r}"
                " once",
                file.place("remedies", title, "reorder", name),
            )
    for name, dropped in (remedy.drop or {}).items():
        count = len(transactions[name].statements) if name in transactions else len(dropped) + 1
        if len(set(dropped)) >= count or any(
            name in transactions and not 1 <= number <= count for number in dropped
        ):
            yield Problem(
                f"remedy {title!r}: drop must name statements of {name!r} (1 to {count}), and"
                " leave one",
                file.place("remedies", title, "drop", name),
            )
    for kind, more in (("rewrite", 0), ("add", 1)):
        for name, statements in (getattr(remedy, kind) or {}).items():
            count = len(transactions[name].statements) if name in transactions else 0
            for number in statements:
                if name in transactions and not 1 <= number <= count + more:
                    yield Problem(
                        f"remedy {title!r}: {name!r} has no statement {number} (1 to"
                        f" {count + more})",
                        file.place("remedies", title, kind, name, number, "\0key"),
                    )
