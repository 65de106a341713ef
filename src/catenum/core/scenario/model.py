"""What a scenario says: data, transactions, what must hold, remedies to try.

These models are the one description of the file format: they validate it, and ``catenum schema
scenario`` prints the JSON Schema made from them. Where a value came from in the file is kept apart,
by ``scenario_file``.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass
from itertools import pairwise, takewhile
from typing import Annotated, Any, ClassVar, Literal

from pydantic import (
    AfterValidator,
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Discriminator,
    Field,
    GetJsonSchemaHandler,
    PlainSerializer,
    Strict,
    StrictBool,
    StrictFloat,
    StrictInt,
    StringConstraints,
    Tag,
    WithJsonSchema,
    create_model,
    model_validator,
)
from pydantic.json_schema import JsonSchemaValue, SkipJsonSchema
from pydantic_core import PydanticKnownError

from catenum.core.record.recording import AfterFailure, AnomalyName, DataVerdict
from catenum.core.record.values import Value
from catenum.core.scenario.conditions import Condition, parse_condition
from catenum.core.scenario.draws import MOST_SKEWED
from catenum.core.servers import LEVELS, NAMES, known_servers, rules_of
from catenum.core.sql.beginning import (
    access_in,
    begins,
    leads,
    level_in,
    level_set_by,
    takes_snapshot,
    with_level,
    without_level,
)
from catenum.core.text import DURATION, parse_duration

FailureKind = Literal["deadlock", "refused", "timeout", "duplicate"]
Timeouts = Literal["at once", "by order"]
Ends = Literal["commit", "rollback", "open", "close"]
Outcome = Literal["clean", "waited", "timeout", "refused", "deadlock", "stuck", "error"]


def _one_of(words: tuple[str, ...]) -> Callable[[str], str]:
    """Checks that a word is one of ``words``, which the servers' rules give."""
    expected = " or ".join(f"'{word}'" for word in words)

    def check(word: str) -> str:
        if word not in words:
            raise PydanticKnownError("literal_error", {"expected": expected})
        return word

    return check


def chosen(sql: str | Mapping[str, str]) -> str:
    """The SQL of a scenario that was made for one server. Raises ValueError where none was
    chosen.
    """
    if not isinstance(sql, str):
        raise ValueError("no server was chosen for this SQL: use Scenario.for_server first")
    return sql


Duration = Annotated[
    int,
    BeforeValidator(parse_duration),
    PlainSerializer(lambda ms: f"{ms}ms", return_type=str),
    WithJsonSchema({"type": "string", "pattern": DURATION.pattern, "examples": ["500ms", "10s"]}),
]
Name = Annotated[str, StringConstraints(pattern=r"^[^\s:,=]+$", max_length=40)]
#: The name of a value: what can stand behind a colon in SQL.
ValueName = Annotated[str, StringConstraints(pattern=r"^[A-Za-z_]\w*$", max_length=40)]
Otherwise = Literal["skip", "rollback", "commit"]
#: A parameter that takes its values from a column: ``berth.id``.
_DOMAIN = re.compile(r"^([A-Za-z_]\w*)\.([A-Za-z_]\w*)$")
SqlText = Annotated[str, StringConstraints(min_length=1, strip_whitespace=True)]
Server = Annotated[
    str,
    AfterValidator(lambda word: _one_of(known_servers())(word)),
    WithJsonSchema({"type": "string", "enum": list(NAMES)}),
]
Isolation = Annotated[
    str, AfterValidator(_one_of(LEVELS)), WithJsonSchema({"type": "string", "enum": list(LEVELS)})
]
#: SQL for every server, or for each its own.
Sql = SqlText | dict[Server, SqlText]


#: What the application does after an error of a statement.
_AFTER_ERROR = re.compile(
    r"(?P<what>roll back|continue|retry|back to)"
    r"(?:(?<=retry) (?P<times>[1-9]\d?)|(?<=back to) (?P<savepoint>[A-Za-z_]\w*))?"
)


@dataclass(frozen=True, slots=True)
class NextStep:
    """What comes after an error: the transaction is rolled back, goes on with its next statement
    (``continue``), sends the same statement again (at most ``times`` times), or returns to
    ``savepoint`` and goes on from there.
    """

    what: Literal["roll back", "continue", "retry", "back to"]
    times: int = 0
    savepoint: str = ""

    @property
    def then(self) -> AfterFailure | None:
        """As a recording has it: None where the transaction is rolled back."""
        if self.what == "roll back":
            return None
        return "back to savepoint" if self.what == "back to" else self.what

    @classmethod
    def read(cls, text: str) -> NextStep:
        """Raises ValueError for what is none of them."""
        match = _AFTER_ERROR.fullmatch(" ".join(text.split()))
        if match is None or (match["what"] == "back to" and match["savepoint"] is None):
            raise ValueError(
                f"{text!r} is not known here: 'roll back', 'continue', 'retry', 'retry 3' or"
                " 'back to SAVEPOINT'"
            )
        times = int(match["times"] or 1) if match["what"] == "retry" else 0
        return cls(match["what"], times, match["savepoint"] or "")  # type: ignore[arg-type]


ROLL_BACK = NextStep("roll back")


def _after_error_text(text: str) -> str:
    NextStep.read(text)
    return text


AfterErrorText = Annotated[
    str,
    AfterValidator(_after_error_text),
    WithJsonSchema(
        {
            "type": "string",
            "pattern": "^(roll back|continue|retry( [1-9][0-9]?)?|back to [A-Za-z_][A-Za-z0-9_]*)$",
        }
    ),
]
#: For every error of the server, or by its kind; kinds that are left out roll back.
AfterError = AfterErrorText | dict[FailureKind | Literal["rejected"], AfterErrorText]


def next_step(after: AfterError | None, kinds: Collection[str]) -> NextStep | None:
    """What ``after`` says of an error of these kinds, the most particular first; None where it says
    nothing.
    """
    if after is None:
        return None
    if isinstance(after, str):
        return NextStep.read(after)
    texts = {str(kind): text for kind, text in after.items()}
    particular = sorted(kinds, key=lambda kind: kind == "rejected")
    return next((NextStep.read(texts[kind]) for kind in particular if kind in texts), ROLL_BACK)


def texts_in(one: str | Mapping[Any, str] | None) -> tuple[str, ...]:
    """The texts of what a file gives as one, or as several by their case."""
    if one is None:
        return ()
    return (one,) if isinstance(one, str) else tuple(one.values())


def sql_for(server: str, sql: str | Mapping[str, str]) -> str:
    """The SQL that ``server`` gets; empty where there is none for it."""
    return (
        sql
        if isinstance(sql, str)
        else {str(name): text for name, text in sql.items()}.get(server, "")
    )


def _one_or_many(value: object) -> object:
    return [value] if isinstance(value, str | dict) else value


SqlList = Annotated[
    tuple[Sql, ...],
    Strict(False),
    BeforeValidator(_one_or_many),
    Field(min_length=1),
    WithJsonSchema(
        {
            "anyOf": [
                {"type": "string"},
                {"type": "array", "items": {"type": "string"}, "minItems": 1},
            ]
        }
    ),
]


class _Model(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", strict=True)


#: What stands for a statement or a text where servers differ, and nothing else is said.
_SQL_BY_SERVER = {
    "type": "object",
    "minProperties": 1,
    "additionalProperties": False,
    "properties": {name: {"type": "string", "minLength": 1} for name in NAMES},
}


#: A statement that ends another transaction's session.
_KILL: JsonSchemaValue = {
    "type": "object",
    "required": ["kill"],
    "additionalProperties": False,
    "properties": {
        "kill": {"type": "string"},
        "label": {"type": "string"},
        "when": {"type": "string"},
        "otherwise": {"enum": ["skip", "rollback", "commit"]},
    },
}


#: A group of statements that is run once for each element of lists.
_LOOP: JsonSchemaValue = {
    "type": "object",
    "required": ["each", "do"],
    "additionalProperties": False,
    "properties": {
        "each": {
            "description": "the list, or the lists of one length, whose elements it is run for",
            "anyOf": [
                {"type": "string"},
                {"type": "array", "items": {"type": "string"}, "minItems": 1},
            ],
        },
        "as": {
            "description": "what an element is called in it; default: as its list",
            "anyOf": [
                {"type": "string"},
                {"type": "array", "items": {"type": "string"}, "minItems": 1},
            ],
        },
        "do": {
            "description": "its statements, as those of a transaction; no loop among them",
            "type": "array",
            "minItems": 1,
            "items": {"type": ["string", "object"]},
        },
    },
}


def _or_plainly(
    core: Any, handler: GetJsonSchemaHandler, *plain: JsonSchemaValue
) -> JsonSchemaValue:
    """The JSON Schema of a model that a file may also give by a text alone: any of ``plain``."""
    reference = handler(core)
    whole = handler.resolve_ref_schema(reference)
    whole_copy = dict(whole)
    whole.clear()
    whole["anyOf"] = [*plain, whole_copy]
    return reference


class _OrText(_Model):
    """A model of which a file may give one field by a text alone: that of the name ``_plain``."""

    _plain: ClassVar[str]

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        return {cls._plain: value} if isinstance(value, str) else value

    @classmethod
    def __get_pydantic_json_schema__(
        cls, core: Any, handler: GetJsonSchemaHandler
    ) -> JsonSchemaValue:
        return _or_plainly(core, handler, {"type": "string"})


class Turn(_Model):
    """Which turn of a loop a statement belongs to: of which group of its transaction (from 0), run
    for each element of which lists, and what an element of each is ``called`` in it; which turn and
    which statement of it (both from 1).
    """

    group: int
    lists: Annotated[tuple[str, ...], Strict(False)]
    called: Annotated[tuple[str, ...], Strict(False)] = ()
    number: int
    place: int


class Statement(_Model):
    """One SQL statement; in the file a plain string, or a mapping that adds a label, values to
    keep, a condition.
    """

    sql: Sql
    label: str | None = None
    placeholder: bool = Field(
        default=False,
        description=(
            "stands for a statement that nobody knows: what is said of the scenario is said of this"
            " text"
        ),
    )
    keep: dict[ValueName, str | dict[Server, str]] = Field(
        default_factory=dict,
        description=(
            "values to keep for later statements: a column of the first row, or 'rows' for the"
            " number of rows"
        ),
    )
    when: str | None = Field(
        default=None, description="run the statement only where this is true: seen > 1"
    )
    otherwise: Otherwise | None = Field(
        default=None,
        description=(
            "what to do where 'when' is not true: skip the statement (default), or end with it"
        ),
    )
    require: str | None = Field(
        default=None,
        description=(
            "what must be true once the statement is done, of kept values and of 'rows', how many"
            " it found; where it is not, the transaction is rolled back and counts as refused, so"
            " that its 'retry' begins it again"
        ),
    )
    after_error: AfterError | None = Field(
        default=None,
        description=(
            "what the application does after an error of this statement: 'roll back' (default),"
            " 'continue' in the same transaction, 'retry' the statement ('retry 3': at most so"
            " often), 'back to SAVEPOINT'; or by kind of error: {timeout: continue}"
        ),
    )

    at_once: bool = Field(
        default=False,
        description=(
            "sent with the statement before it, in the same move, as a driver does that sends"
            " several before the first is answered"
        ),
    )
    thinks: Duration | None = Field(
        default=None,
        description=(
            "how long the application is elsewhere behind the statement, with its locks held: a"
            " call, a user. Loops and loads wait so long; in schedules no time passes"
        ),
    )
    turn: SkipJsonSchema[Turn | None] = Field(default=None, exclude=True, repr=False)
    kill: Name | None = Field(
        default=None,
        description=(
            "in place of SQL: ends the session of this transaction, as an administrator of the"
            " server does"
        ),
    )

    @property
    def text(self) -> str:
        """The SQL, of a scenario that was made for one server."""
        return chosen(self.sql)

    @property
    def kept(self) -> dict[str, str]:
        """``keep``, of a scenario that was made for one server."""
        return {str(name): chosen(column) for name, column in self.keep.items()}

    @property
    def condition(self) -> Condition | None:
        """``when``, read."""
        return parse_condition(self.when) if self.when is not None else None

    @property
    def requirement(self) -> Condition | None:
        """``require``, read."""
        return parse_condition(self.require) if self.require is not None else None

    @model_validator(mode="after")
    def _otherwise_needs_when(self) -> Statement:
        if self.otherwise is not None and self.when is None:
            raise ValueError("'otherwise' needs 'when': it says what to do where that is not true")
        return self

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        if isinstance(value, dict) and isinstance(value.get("kill"), str):
            text = f"kill {value['kill']}"
            if value.setdefault("sql", text) != text:
                raise ValueError("'kill' stands in place of SQL")
            return value
        plain = isinstance(value, str) or (
            isinstance(value, dict) and value and set(value) <= set(known_servers())
        )
        return {"sql": value} if plain else value

    @classmethod
    def __get_pydantic_json_schema__(
        cls, core: Any, handler: GetJsonSchemaHandler
    ) -> JsonSchemaValue:
        plain: JsonSchemaValue = {"type": "string", "minLength": 1}
        return _or_plainly(core, handler, plain, _SQL_BY_SERVER, _KILL, _LOOP)


class Retry(_Model):
    """Begin again from the first statement after a refusal, at most ``times`` times, after
    ``pause`` milliseconds.
    """

    times: int = Field(ge=1, le=100)
    pause: Duration | None = None
    on: Annotated[tuple[FailureKind, ...], Strict(False)] = Field(
        default=("deadlock", "refused"), min_length=1
    )


#: A table's column, as ``berth.id``.
ColumnName = Annotated[str, StringConstraints(pattern=_DOMAIN.pattern, max_length=200)]
Scalar = StrictBool | StrictInt | StrictFloat | str | None


class Given(_Model):
    """A parameter's value, or a list of values, and the column that such values come from: what
    other values it might have had. ``{value: berth.id}`` is a text, and no column.
    """

    value: Scalar = None
    values: Annotated[tuple[Scalar, ...], Strict(False)] | None = Field(
        default=None, description="a list: of 'each', or in a statement's text as 'in (:name)'"
    )
    source: ColumnName | None = Field(
        default=None,
        alias="from",
        description="the column that its values come from, as table.column",
    )

    model_config = ConfigDict(
        validate_by_name=True, validate_by_alias=True, serialize_by_alias=True
    )

    @model_validator(mode="after")
    def _one_kind(self) -> Given:
        if len({"value", "values"} & self.model_fields_set) != 1:
            raise ValueError("a parameter that is given needs exactly one of value, values")
        return self


class Domain(_Model):
    """Where a parameter's values come from. A load draws one for each transaction; where a single
    value is needed, it is the first.
    """

    column: str | None = Field(default=None, description="a column of the data, as table.column")
    range: Annotated[tuple[int, int], Strict(False)] | None = Field(
        default=None, description="the whole numbers from the first to the second"
    )
    choice: (
        Annotated[tuple[StrictBool | StrictInt | StrictFloat | str | None, ...], Strict(False)]
        | None
    ) = Field(default=None, min_length=1, description="one of these")
    zipf: float | None = Field(
        default=None,
        gt=0,
        le=10,
        strict=False,
        description=(
            "skew: the value of rank k is drawn with weight 1/k^zipf, the first value most often;"
            " default: evenly"
        ),
    )

    @property
    def table_and_column(self) -> tuple[str, str] | None:
        """Of a domain that is a column."""
        match = _DOMAIN.match(self.column) if self.column is not None else None
        return (match[1], match[2]) if match else None

    @model_validator(mode="after")
    def _one_kind(self) -> Domain:
        kinds = [kind for kind in (self.column, self.range, self.choice) if kind is not None]
        if len(kinds) != 1:
            raise ValueError("a domain needs exactly one of column, range, choice")
        if self.column is not None and self.table_and_column is None:
            raise ValueError(f"column: {self.column!r} is not of the form table.column")
        if self.range is not None:
            low, high = self.range
            if low > high:
                raise ValueError(f"range: {low} is greater than {high}")
            if self.zipf is not None and high - low >= MOST_SKEWED:
                raise ValueError(f"zipf: at most {MOST_SKEWED:,} values can be skewed")
        return self


def _kind_of_parameter(value: Any) -> str:
    if isinstance(value, Given | list | tuple):
        return "given"
    if isinstance(value, dict) and {"value", "values"} & set(value):
        return "given"
    return "domain" if isinstance(value, dict | Domain) else "plain"


def _list_as_given(value: Any) -> Any:
    return {"values": value} if isinstance(value, list | tuple) else value


#: A parameter's value, or where its values come from.
Parameter = Annotated[
    Annotated[Scalar, Tag("plain")]
    | Annotated[
        Given,
        BeforeValidator(_list_as_given, json_schema_input_type=Given | tuple[Scalar, ...]),
        Tag("given"),
    ]
    | Annotated[Domain, Tag("domain")],
    Discriminator(_kind_of_parameter),
]


class Transaction(_Model):
    """A named list of statements on a connection of its own. ``timeout`` is for each wait for a
    lock.
    """

    statements: Annotated[tuple[Statement, ...], Strict(False)] = Field(min_length=1)
    session: SqlList | None = Field(
        default=None,
        description="statements that its connection runs before, each by itself: settings, a"
        " temporary table, a prepared statement",
    )
    connection: Name | None = Field(
        default=None,
        description=(
            "the connection that it runs on, after the transactions listed before it there;"
            " default: one of its own, of its own name"
        ),
    )
    autocommit: bool = Field(
        default=False,
        description="each statement is a transaction of its own, and there is no commit at the end",
    )
    isolation: Isolation | None = None
    access: Literal["read only", "read write"] | None = None
    ends: Ends = "commit"
    retry: Retry | None = None
    timeout: Duration | None = None
    after_error: AfterError | None = Field(
        default=None,
        description=(
            "what the application does after an error of a statement: 'roll back' (default),"
            " 'continue' in the same transaction, 'retry' the statement ('retry 3': at most so"
            " often), 'back to SAVEPOINT'; or by kind of error: {timeout: continue}"
        ),
    )
    parameters: dict[ValueName, Parameter] = Field(
        default_factory=dict,
        description=(
            "names with their values, or with where to take values from: a column as table.column,"
            " or {range: [1, 100]}, {choice: [3, 7]}, {column: berth.id, zipf: 1.2}"
        ),
    )

    share: float | None = Field(
        default=None,
        gt=0,
        strict=False,
        description="in a load, how often it is run beside the others, by weight (default 1)",
    )

    @property
    def domains(self) -> dict[str, Domain]:
        """The parameters that take their values from somewhere."""
        found: dict[str, Domain] = {}
        for name, given in self.parameters.items():
            if isinstance(given, Domain):
                found[name] = given
            elif isinstance(given, str) and _DOMAIN.match(given):
                found[name] = Domain(column=given)
        return found

    @property
    def fixed(self) -> dict[str, Value]:
        """The values of the others."""
        drawn = self.domains
        return {
            name: Value.from_python(given.value if isinstance(given, Given) else given)
            for name, given in self.parameters.items()
            if not isinstance(given, Domain)
            and name not in drawn
            and not (isinstance(given, Given) and given.values is not None)
        }

    @property
    def lists(self) -> dict[str, tuple[Scalar, ...]]:
        """The parameters that are lists."""
        return {
            name: given.values
            for name, given in self.parameters.items()
            if isinstance(given, Given) and given.values is not None
        }

    @property
    def before(self) -> tuple[str, ...]:
        """``session``, of a scenario that was made for one server."""
        return tuple(map(chosen, self.session or ()))

    @property
    def sent_at_once(self) -> int:
        """How many of its statements are no moves of their own."""
        return sum(statement.at_once for statement in self.statements)

    @property
    def begins(self) -> str | None:
        """Its first statement where that begins it, of a scenario that was made for one server."""
        first = self.statements[0].text
        return first if begins(first) else None

    @property
    def leading(self) -> int:
        """How many of its statements come before the first that may lock: what begins it, settings.
        Of a scenario that was made for one server.
        """
        return sum(1 for _ in takewhile(leads, (one.text for one in self.statements)))

    def at_level(self, level: str) -> Transaction:
        """The same at an isolation level, whatever its first statements ask for."""
        statements = tuple(_at_level(statement, level) for statement in self.statements)
        return self.model_copy(update={"isolation": level, "statements": statements})

    @property
    def takes_snapshot_at_once(self) -> bool:
        """Whether it asks for its snapshot with its beginning."""
        return bool(self.begins and takes_snapshot(self.begins))

    @property
    def goes_on(self) -> bool:
        """Whether it may go on after an error that was not undone with the whole transaction."""
        found = (self.after_error, *(statement.after_error for statement in self.statements))
        return any(NextStep.read(text) != ROLL_BACK for one in found for text in texts_in(one))

    @property
    def moves(self) -> int:
        """How many moves it makes when nothing goes wrong: its statements and its end."""
        return len(self.statements) + (self.ends != "open" and not self.autocommit)


def _as_changed(statement: Statement) -> str | dict[str, Any]:
    """A changed statement as it stands in a file: what is said of it, and a text alone where that
    is all.
    """
    reported = {
        str(part): getattr(statement, part)
        for part in Statement.model_fields
        if part in statement.model_fields_set
    }
    return reported["sql"] if list(reported) == ["sql"] else reported


#: A statement in place of another: its SQL, and whatever else is said of it; the rest stays as it
#: is.
Changed = Annotated[Statement, PlainSerializer(_as_changed)]


def _by_number(value: object) -> object:
    """Numbers of statements as keys: in JSON, and so in what ``propose --json`` prints, they are
    texts.
    """
    if not isinstance(value, dict):
        return value
    return {int(k) if isinstance(k, str) and k.isdecimal() else k: one for k, one in value.items()}


#: By the number of a statement, from 1, what is said of it.
ByNumber = Annotated[dict[int, Changed], BeforeValidator(_by_number)]


#: By the number of a statement, from 1, the texts of its portions.
Portions = Annotated[
    dict[int, Annotated[tuple[Sql, ...], Strict(False)]], BeforeValidator(_by_number)
]


class Remedy(_Model):
    """A change to try against the scenario. Several kinds of change in one remedy are made
    together.
    """

    about: str | None = None
    reorder: dict[Name, Annotated[tuple[int, ...], Strict(False)]] | None = None
    isolation: Isolation | dict[Name, Isolation] | None = None
    rewrite: dict[Name, ByNumber] | None = Field(
        default=None,
        description=(
            "statements in place of those of these numbers: SQL, or a mapping with what changes"
        ),
    )
    add: dict[Name, ByNumber] | None = Field(
        default=None,
        description=(
            "statements to run before those of these numbers; one more than the last is the end"
        ),
    )
    drop: dict[Name, Annotated[tuple[int, ...], Strict(False)]] | None = None
    sort: dict[Name, ValueName] | None = Field(
        default=None,
        description="transaction → list: its loop goes through that list in the order of values",
    )
    split: dict[Name, int] | None = Field(
        default=None,
        description=(
            "transaction → number of a statement: it commits behind that one, and the rest is"
            " another transaction of the same connection"
        ),
    )
    portions: dict[Name, Portions] | None = Field(
        default=None,
        description=(
            "transaction → number of a statement → statements in its place: it commits behind each"
            " but the last, and the rest is another transaction of the same connection"
        ),
    )
    index: SqlList | None = None
    ddl: SqlList | None = None
    timeout: Duration | dict[Name, Duration] | None = None
    retry: Retry | dict[Name, Retry] | None = None
    ends: dict[Name, Ends] | None = None

    @model_validator(mode="after")
    def _changes_something(self) -> Remedy:
        if not self.model_fields_set - {"about"}:
            raise ValueError("a remedy must change something: " + ", ".join(sorted(REMEDY_KINDS)))
        return self


REMEDY_KINDS = frozenset(Remedy.model_fields) - {"about"}


def _order_words(value: object) -> object:
    return value.split() if isinstance(value, str) else value


#: The moves of a schedule, by the transactions' names.
OrderOfMoves = Annotated[
    tuple[Name, ...],
    Strict(False),
    BeforeValidator(_order_words),
    WithJsonSchema(
        {
            "description": (
                "Names of transactions, in the order of their moves; what is left out follows in"
                " turns."
            ),
            "anyOf": [
                {"type": "string"},
                {"type": "array", "items": {"type": "string"}, "minItems": 1},
            ],
        }
    ),
]
#: A value of a row as a file has it: as the server writes it, numbers by what they are.
Cell = StrictBool | StrictInt | StrictFloat | str | None
Row = Annotated[tuple[Cell, ...], Strict(False)]


def _by_server(value: Any) -> str:
    """Whether a value is given for every server, or for each its own."""
    named = isinstance(value, dict) and any(key in known_servers() for key in value)
    return "each" if named else "all"


class InAnyOrder(_Model):
    """Rows whose order does not matter."""

    in_any_order: Annotated[tuple[Row, ...], Strict(False)]


class ExpectedWait(_OrText):
    """What a statement is expected to wait for; what is left out may be anything."""

    holder: Name | None = Field(default=None, description="the transaction that holds the lock")
    over: str | None = Field(
        default=None, description="what the lock is on, as 'play' names it: berth(id=7)"
    )

    _plain: ClassVar[str] = "holder"


def _numbered(value: object) -> object:
    """One statement's number alone, or a list of them, where nothing else is said of them."""
    if isinstance(value, int) and not isinstance(value, bool):
        return {value: {}}
    if isinstance(value, list) and all(isinstance(number, int | str) for number in value):
        value = {number: {} for number in value}
    if not isinstance(value, dict):
        raise ValueError("must be a statement's number, a list of them, or a mapping")
    return _by_number(value)


def _kind_of_result(value: Any) -> str | None:
    if isinstance(value, int) and not isinstance(value, bool):
        return "count"
    if isinstance(value, list | tuple):
        return "rows"
    return "any" if isinstance(value, dict | InAnyOrder) else None


#: What a statement is expected to return: how many rows, the rows in their order, or in any.
ExpectedResult = Annotated[
    Annotated[StrictInt, Tag("count")]
    | Annotated[tuple[Row, ...], Strict(False), Tag("rows")]
    | Annotated[InAnyOrder, Tag("any")],
    Discriminator(
        _kind_of_result,
        custom_error_type="kind_of_result",
        custom_error_message="must be a number of rows, a list of rows, or {in_any_order: rows}",
    ),
]


class Expectation(_Model):
    """What must be seen in one order. Statements are counted from 1; one more than the last is the
    transaction's end. What is left out may be anything; ``waits`` and ``errors`` are complete.
    """

    outcome: Outcome | None = Field(default=None, description="the outcome of the order")
    waits: dict[Name, Annotated[dict[int, ExpectedWait], BeforeValidator(_numbered)]] | None = (
        Field(
            default=None,
            description=(
                "by transaction, which statements wait: a number, or with the holder and 'over'"
            ),
        )
    )
    results: (
        dict[Name, Annotated[dict[int, ExpectedResult], BeforeValidator(_by_number)]] | None
    ) = Field(
        default=None, description="by transaction and statement, the rows or how many there are"
    )
    errors: (
        dict[Name, Annotated[dict[int, str | StrictInt], BeforeValidator(_by_number)]] | None
    ) = Field(
        default=None,
        description=(
            "by transaction and statement: deadlock, timeout, refused, duplicate, rejected, or the"
            " server's code"
        ),
    )
    victim: Name | None = Field(default=None, description="the deadlock victim")
    rows: dict[str, Annotated[tuple[Row, ...], Strict(False)]] | None = Field(
        default=None, description="by table, its rows at the end, in the order of the key"
    )

    @model_validator(mode="after")
    def _expects_something(self) -> Expectation:
        if not self.model_fields_set:
            raise ValueError("an expectation must expect something")
        return self


class ExpectedOutcome(_OrText):
    """An outcome that some schedule is expected to have; what is left out may be anything."""

    outcome: Outcome
    data: Literal[DataVerdict, AnomalyName] | None = Field(
        default=None, description="serial, anomaly, or an anomaly's name, such as lost update"
    )
    victim: Name | None = Field(default=None, description="the deadlock victim")

    _plain: ClassVar[str] = "outcome"

    def __str__(self) -> str:
        data = f", data {self.data}" if self.data else ""
        return f"{self.outcome}{data}{f', victim {self.victim}' if self.victim else ''}"


#: One line, or one for each level.
ExpectedOfLevels = Annotated[
    Annotated[SqlText, Tag("line")]
    | Annotated[dict[Isolation, SqlText], Tag("levels"), Field(min_length=1)],
    Discriminator(lambda value: "levels" if isinstance(value, dict) else "line"),
]
ExpectedOutcomes = Annotated[tuple[ExpectedOutcome, ...], Strict(False), Field(min_length=1)]


class NamedOrder(_Model):
    """An order of moves with a name, and what must be seen in it."""

    about: str | None = None
    order: OrderOfMoves | None = None
    timeouts: Timeouts | None = Field(
        default=None, description="when lock timeouts run out in it; default: as in the scenario"
    )
    expect: Annotated[
        Annotated[Expectation, Tag("all")]
        | Annotated[dict[Server, Expectation], Tag("each"), Field(min_length=1)],
        Discriminator(_by_server),
    ] = Field(description="for every server, or for each its own")

    def expected_on(self, server: str) -> Expectation | None:
        """What must be seen on a server; None where nothing is said of it."""
        if isinstance(self.expect, Expectation):
            return self.expect
        return {str(name): one for name, one in self.expect.items()}.get(server)


class Column(_Model):
    """How filler values of one column are made: exactly one kind."""

    sequence: int | None = Field(default=None, description="counts up from this number")
    choice: Annotated[tuple[str | int | None, ...], Strict(False)] | None = Field(
        default=None, min_length=1, description="one of these, evenly"
    )
    random: Annotated[tuple[int, int], Strict(False)] | None = Field(
        default=None, description="a whole number between these two"
    )
    text: int | None = Field(
        default=None, ge=1, le=1000, description="a text of this many random letters"
    )
    constant: str | int | None = None

    @model_validator(mode="after")
    def _one_kind(self) -> Column:
        if len(self.model_fields_set) != 1:
            raise ValueError(
                "a filler column needs exactly one of sequence, choice, random, text, constant"
            )
        return self


class Fill(_Model):
    """Filler rows for one table, the same for the same ``seed``."""

    rows: int = Field(ge=1, le=5_000_000)
    columns: dict[Name, Column] = Field(min_length=1)
    seed: int = 1


#: A part of the set-up SQL for each server.
_PARTS: dict[str, Any] = dict.fromkeys(NAMES, (str, ""))
_ServerParts = create_model("_ServerParts", __base__=_OrText, **_PARTS)


class Data(_ServerParts):  # type: ignore[valid-type,misc] # the servers' names make its fields
    """Set-up SQL: a part for every server, and one for each server that needs its own."""

    _plain: ClassVar[str] = "common"
    common: str = ""
    #: For servers by profiles of a person's own.
    by_profile: SkipJsonSchema[dict[str, str]] = Field(default_factory=dict)

    @model_validator(mode="before")
    @classmethod
    def _of_profiles(cls, value: Any) -> Any:
        own = [name for name in known_servers() if name not in NAMES]
        found = {name: value[name] for name in own if isinstance(value, dict) and name in value}
        if not found:
            return value
        rest = {name: text for name, text in value.items() if name not in found}
        return {**rest, "by_profile": found}

    def part(self, name: str) -> str:
        """The SQL of one part: ``common``, or a server's name."""
        return str(getattr(self, name, self.by_profile.get(name, "")))

    def script_for(self, server: str) -> str:
        """The SQL to run on ``server``: the common part first."""
        own = self.part(server)
        return "\n".join(part for part in (self.common, own) if part.strip())


class Scenario(_Model):
    """A whole scenario file."""

    scenario: Name
    about: str | None = None
    data: Data
    transactions: dict[Name, Transaction] = Field(min_length=1)
    order: OrderOfMoves | None = None
    timeouts: Timeouts = Field(
        default="at once",
        description=(
            "when a lock timeout runs out: before the next move, or where the order names the"
            " transaction again while it waits ('explore' then tries both)"
        ),
    )
    orders: dict[str, NamedOrder] = Field(
        default_factory=dict, description="named orders, and what must be seen in each"
    )
    outcomes: (
        Annotated[
            Annotated[ExpectedOutcomes, Tag("all")]
            | Annotated[dict[Server, ExpectedOutcomes], Tag("each")],
            Discriminator(_by_server),
        ]
        | None
    ) = Field(
        default=None,
        description=(
            "the outcomes that schedules have, all of them, for every server or for each its own:"
            " 'explore' compares"
        ),
    )
    expect: (
        Annotated[
            Annotated[ExpectedOfLevels, Tag("all")]
            | Annotated[dict[Server, ExpectedOfLevels], Tag("each")],
            Discriminator(_by_server),
        ]
        | None
    ) = Field(
        default=None,
        description=(
            "what all schedules together must show, such as 'no deadlock, no anomaly': one line,"
            " for each server or isolation level its own where they differ; 'check' holds them to"
            " it"
        ),
    )
    server: dict[Server, dict[str, StrictBool | StrictInt | StrictFloat | str]] = Field(
        default_factory=dict,
        description=(
            "server → settings of the private server that is started for it; those that may be"
            " given are listed in the documentation"
        ),
    )
    victim: Name | None = None
    differs: dict[Server, str] = Field(default_factory=dict)
    fill: dict[Name, Fill] = Field(default_factory=dict)
    holds: dict[str, Sql] = Field(default_factory=dict)
    ignore: Annotated[tuple[SqlText, ...], Strict(False)] = Field(
        default=(),
        description="columns whose values differ from run to run, as column or table.column",
    )
    remedies: dict[str, Remedy] = Field(default_factory=dict)

    @property
    def connections(self) -> dict[str, tuple[str, ...]]:
        """By connection, the transactions on it, in their order."""
        found: dict[str, tuple[str, ...]] = {}
        for name, transaction in self.transactions.items():
            connection = transaction.connection or name
            found[connection] = (*found.get(connection, ()), name)
        return found

    @property
    def previous(self) -> dict[str, str]:
        """For each transaction that follows another on its connection, which one."""
        return {
            later: earlier
            for names in self.connections.values()
            for earlier, later in pairwise(names)
        }

    def at_levels(self, levels: Mapping[str, str]) -> Scenario:
        """The same with some transactions at other isolation levels, by their names."""
        return self.model_copy(
            update={
                "transactions": {
                    name: one.at_level(levels[name]) if name in levels else one
                    for name, one in self.transactions.items()
                }
            }
        )

    def at_level(self, level: str) -> Scenario:
        """The same with every transaction at ``level``."""
        return self.at_levels(dict.fromkeys(self.transactions, level))

    def before_on_connection(self, name: str) -> tuple[str, ...]:
        """What the connection of a transaction has run before the first one on it began."""
        names = next(names for names in self.connections.values() if name in names)
        return self.transactions[names[0]].before

    def texts_on_connection(self, name: str) -> tuple[str, ...]:
        """The same, and the transaction's own statements."""
        own = (statement.text for statement in self.transactions[name].statements)
        return (*self.before_on_connection(name), *own)

    def settings_on(self, server: str) -> dict[str, str]:
        """The settings of a private server, as its command line has them."""
        found = {str(name): values for name, values in self.server.items()}.get(server, {})
        words = {True: "on", False: "off"}
        rules = rules_of(server) if found else None
        known = {name: rules.setting(name) for name in found} if rules is not None else {}
        return {
            getattr(known.get(name), "name", name.lower()): words[value]
            if isinstance(value, bool)
            else str(value)
            for name, value in found.items()
        }

    def outcomes_on(self, server: str) -> tuple[ExpectedOutcome, ...] | None:
        """The outcomes that are expected on a server; None where nothing is said of it."""
        if isinstance(self.outcomes, dict):
            return {str(name): found for name, found in self.outcomes.items()}.get(server)
        return self.outcomes

    def expected_on(self, server: str) -> dict[str | None, str]:
        """What is expected of all schedules on a server, by isolation level (None: as the
        transactions have it); empty where nothing is said of it.
        """
        found = self.expect
        if isinstance(found, dict) and any(name in known_servers() for name in found):
            found = found.get(server)
        if found is None:
            return {}
        if isinstance(found, str):
            return {None: found}
        return {str(level): str(text) for level, text in found.items()}

    def _settings_of_sessions(self, server: str) -> Iterator[str]:
        """What a session of a run must set to have what the server's settings say."""
        for name, value in self.settings_on(server).items():
            setting = rules_of(server).setting(name)
            if setting is not None and setting.for_session is not None:
                yield setting.for_session.format(value)

    def for_server(self, server: str) -> Scenario:
        """The scenario with every SQL text chosen for ``server``."""
        transactions = {
            name: _transaction_for(server, one) for name, one in self.transactions.items()
        }
        for names in self.connections.values():
            first = transactions[names[0]]
            before = tuple(self._settings_of_sessions(server))
            if before and before != first.before[: len(before)]:
                transactions[names[0]] = first.model_copy(
                    update={"session": (*before, *first.before)}
                )
        holds = {title: text for title, sql in self.holds.items() if (text := sql_for(server, sql))}
        remedies = {title: _remedy_for(server, remedy) for title, remedy in self.remedies.items()}
        return self.model_copy(
            update={
                "transactions": transactions,
                "holds": holds,
                "remedies": {
                    title: remedy for title, remedy in remedies.items() if remedy is not None
                },
            }
        )


def _at_level(statement: Statement, level: str) -> Statement:
    def changed(text: str) -> str:
        return without_level(text) if begins(text) else with_level(text, level)

    if isinstance(statement.sql, dict):
        sql: object = {server: changed(text) for server, text in statement.sql.items()}
    else:
        sql = statement.sql and changed(statement.sql)
    return statement if sql == statement.sql else statement.model_copy(update={"sql": sql})


def _transaction_for(server: str, transaction: Transaction) -> Transaction:
    found = _with_texts_for(server, transaction)
    beginning = found.begins or ""
    level, access = level_in(beginning), access_in(beginning)
    if rules_of(server).sql.sets_level_within and not found.autocommit:
        settings = (one.text for one in found.statements[: found.leading])
        level = next(filter(None, map(level_set_by, settings)), level)
    if level is None and access is None:
        return found
    return found.model_copy(
        update={"isolation": found.isolation or level, "access": found.access or access}
    )


def _with_texts_for(server: str, transaction: Transaction) -> Transaction:
    texts = [text for s in transaction.statements for text in (s.sql, *s.keep.values())]
    if all(isinstance(text, str) for text in (*texts, *(transaction.session or ()))):
        return transaction
    before = tuple(text for sql in transaction.session or () if (text := sql_for(server, sql)))
    return transaction.model_copy(
        update={
            "statements": tuple(_statement_for(server, s) for s in transaction.statements),
            "session": before or None,
        }
    )


def _statement_for(server: str, statement: Statement) -> Statement:
    update: dict[str, object] = {"sql": sql_for(server, statement.sql)}
    if statement.keep:
        update["keep"] = {
            name: column
            for name, reported in statement.keep.items()
            if (column := sql_for(server, reported))
        }
    return statement.model_copy(update=update)


def _remedy_for(server: str, remedy: Remedy) -> Remedy | None:
    """The remedy with its SQL chosen; None where it has nothing to change on ``server``."""
    update: dict[str, object] = {}
    for kind in ("index", "ddl"):
        texts = tuple(text for sql in getattr(remedy, kind) or () if (text := sql_for(server, sql)))
        update[kind] = texts or None
    for kind in ("rewrite", "add"):
        texts_of = {
            name: {
                number: _statement_for(server, one)
                for number, one in statements.items()
                if sql_for(server, one.sql)
            }
            for name, statements in (getattr(remedy, kind) or {}).items()
        }
        update[kind] = {
            name: statements for name, statements in texts_of.items() if statements
        } or None
    if remedy.portions:
        update["portions"] = {
            name: {
                number: tuple(text for sql in texts if (text := sql_for(server, sql)))
                for number, texts in portions.items()
            }
            for name, portions in remedy.portions.items()
        }
    chosen = remedy.model_copy(update=update)
    return chosen if any(getattr(chosen, kind) is not None for kind in REMEDY_KINDS) else None
