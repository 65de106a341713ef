"""What a profile is: a kind of server that Catenum has no module for, described in a file.

Nothing in it is run but SQL, and that by the server it describes. What it leaves out is not known,
and is said wherever it would be needed; nothing is guessed. ``docs/profiles.md`` explains each key.
"""

from __future__ import annotations

import re
import tomllib
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError, model_validator

from catenum.core.errors import InputError, Place, Problem
from catenum.core.text import suggestion

FORMAT = "catenum-profile/1"
#: What a query for waits gives, by the names of its columns; the first two must be there.
WAIT_COLUMNS = (
    "waiter",
    "holder",
    "kind",
    "object",
    "key",
    "wanted",
    "held",
    "since",
    "queued",
    "statement",
)
LOCK_COLUMNS = ("session", "kind", "object", "key", "mode", "granted")
SESSION_COLUMNS = (
    "session",
    "user",
    "application",
    "state",
    "statement",
    "transaction_ms",
    "isolation",
)
LEVELS = ("read uncommitted", "read committed", "repeatable read", "serializable")
Level = Literal["read uncommitted", "read committed", "repeatable read", "serializable"]
#: How a plain read meets rows that others have changed: it sees them as they are (``dirty``), waits
#: and lets go when it has read (``waits``), waits and keeps its locks to the end (``locks``), or
#: reads what was committed before (``version``).
Reads = Literal["dirty", "waits", "locks", "version"]


def _regex(pattern: str) -> str:
    try:
        re.compile(pattern)
    except re.error as error:
        raise ValueError(f"no regular expression: {error}") from error
    return pattern


Pattern = Annotated[str, AfterValidator(_regex)]


class _Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", strict=True)


class Driver(_Part):
    """The DB-API 2.0 module (PEP 249) and what it is called with: ``{host}``, ``{port}``,
    ``{database}``, ``{user}``, ``{password}`` stand for the parts of the target's URL,
    ``{options}`` for those behind its ``?``, each written as ``option`` says; ``{?name}`` for one
    of them, without which the argument is left out.
    """

    module: str
    package: str | None = None
    positional: tuple[Any, ...] = ()
    arguments: dict[str, Any] = Field(default_factory=dict)
    option: str = "{name}={value}"
    port: int | None = None
    #: For drivers in Java: the files of their classes.
    classpath: tuple[str, ...] = ()
    #: Where a password comes from that the URL has not: a variable of the environment, or the first
    #: line of a file that nobody else may read.
    password_variable: str | None = None
    password_file: str | None = None


class SessionPart(_Part):
    """Sessions. ``asked``: whether the number stays for the whole of a connection, or must be asked
    for after each statement; each statement then carries a mark, by which the server's views find
    it.
    """

    number: str
    asked: Literal["connect", "statement"] = "connect"
    begins_with: tuple[str, ...] = ()
    lock_timeout: str | None = None
    lock_timeout_off: str | None = None
    lock_timeout_step_ms: int = Field(default=1, ge=1)
    cancel: str | None = None
    end: str | None = None

    @model_validator(mode="after")
    def _both(self) -> SessionPart:
        if (self.lock_timeout is None) != (self.lock_timeout_off is None):
            raise ValueError("lock_timeout and lock_timeout_off go together")
        return self


class LevelsPart(_Part):
    """Isolation levels: the statement that sets each, how a plain read behaves at each, and how the
    server calls them.
    """

    default: Level
    set: dict[Level, str]
    reads: dict[Level, Reads]
    reported: str | None = None
    names: dict[str, Level] = Field(default_factory=dict)

    @model_validator(mode="after")
    def _complete(self) -> LevelsPart:
        if self.default not in self.set:
            raise ValueError(f"the default level {self.default!r} is not among those that are set")
        lacking = [level for level in self.set if level not in self.reads]
        if lacking:
            raise ValueError(f"how reads behave at {', '.join(lacking)} is not said")
        return self


class WaitsPart(_Part):
    """Who waits for whom. ``within_ms``: so long after a wait began it is listed at the latest."""

    query: str
    within_ms: float = Field(default=50.0, gt=0)


class QueryPart(_Part):
    """One query."""

    query: str


class ErrorsPart(_Part):
    """Which codes mean what. ``undoes_transaction``: those with which the server rolls the whole
    transaction back rather than the statement. ``refuses_after_error``: after any error it takes
    nothing but a rollback.
    """

    code: Literal["sqlstate", "number"]
    deadlock: tuple[str, ...] = ()
    lock_timeout: tuple[str, ...] = ()
    no_wait: tuple[str, ...] = ()
    refused: tuple[str, ...] = ()
    duplicate: tuple[str, ...] = ()
    cancelled: tuple[str, ...] = ()
    lost: tuple[str, ...] = ()
    undoes_transaction: tuple[str, ...] = ()
    refuses_after_error: bool = False


class DeadlocksPart(_Part):
    """Deadlocks. ``within_ms``: so long after its cycle closed the server ends one at the latest;
    ``cycle`` finds the waits in the error's message, by groups named as the columns of waits;
    where several holders are listed, by a group ``holders``, in which ``holder`` finds each.
    ``by_age``: whether who began first may count for who is the victim.
    """

    within_ms: float = Field(gt=0)
    victim: str = ""
    by_age: bool = True
    cycle: Pattern | None = None
    holder: Pattern | None = None

    @model_validator(mode="after")
    def _groups(self) -> DeadlocksPart:
        if self.cycle is not None:
            groups = re.compile(self.cycle).groupindex
            within = re.compile(self.holder).groupindex if self.holder else {}
            if "waiter" not in groups or "holder" not in {**groups, **within}:
                raise ValueError("cycle must have the groups waiter and holder")
        return self


class ScratchPart(_Part):
    """Scratch space: ``{space}`` is its name, ``{login}`` that of the sessions that work in it.
    ``empty``: queries that give the statements which empty it, one a row; those that fail are tried
    again behind the others. In a query ``'{space}'`` is bound as a value, as the server stores it.
    """

    make: tuple[str, ...]
    enter: tuple[str, ...]
    drop: tuple[str, ...]
    empty: tuple[str, ...]
    left: str | None = None
    copy_table: str
    #: How a table is emptied before its rows are put back; ``delete`` where that fails.
    empty_table: str = "delete from {table}"
    copy_rows: str = "insert into {copy} select * from {table}"
    analyze: str | None = None


class CataloguePart(_Part):
    """What tables there are: queries, or ``jdbc`` where the driver is one in Java and tells it
    itself. Columns: ``tables`` (table), ``columns`` (table, column, type, filled, made), ``keys``
    (table, key, column, primary, unique, in the order of columns), ``references`` (table, to).
    """

    by: Literal["jdbc", "queries"] = "queries"
    tables: str | None = None
    columns: str | None = None
    keys: str | None = None
    references: str | None = None
    triggers: str | None = None

    @model_validator(mode="after")
    def _either(self) -> CataloguePart:
        wanted = ("tables", "columns", "keys", "references")
        if self.by == "queries" and any(getattr(self, name) is None for name in wanted):
            raise ValueError(f"queries are needed for {', '.join(wanted)}")
        return self


class SqlPart(_Part):
    """Its SQL. ``dialect``: the parser's name for it, "" where it is next to the standard.
    ``beyond`` and ``functions``: patterns of statements and of calls that leave the scratch space;
    ``commits``: of statements before which the server commits.
    """

    dialect: str = ""
    quote: str = '"'
    fold: Literal["upper", "lower", "as written"] = "as written"
    beyond: tuple[Pattern, ...] = ()
    functions: tuple[Pattern, ...] = ()
    commits: tuple[Pattern, ...] = ()
    own_transactions: tuple[Pattern, ...] = ()
    #: What the parser does not know and need not: left out where a statement is only read.
    unread: tuple[Pattern, ...] = ()
    locking_reads: tuple[str, ...] = ("for update",)
    #: Whether they may stand behind ORDER BY.
    orders_locked_rows: bool = True
    #: What stands behind a query that locks and does not wait.
    no_wait: str | None = None

    def folded(self, name: str) -> str:
        """A name as a scenario writes it: one that the server has folded to upper case in lower."""
        return name.lower() if self.fold == "upper" and name == name.upper() else name


class EscalationPart(_Part):
    """From how many locks on rows of a table on a transaction has one on the table instead, and the
    setting that says so.
    """

    above: int
    setting: str | None = None


class LockingPart(_Part):
    """What is known of its locks. ``independent``: whether statements that name different rows by a
    unique key have nothing to do with each other; it is checked while exploring. The modes that
    rows and tables are locked in.
    """

    independent: Literal["nothing", "rows by key"] = "nothing"
    shared: str | None = None
    update: str | None = None
    exclusive: str
    table_reads: str | None = None
    table_writes: str | None = None
    table_changes: str | None = None
    source: str
    escalates: EscalationPart | None = None
    modes: tuple[str, ...]
    conflicts: tuple[tuple[str, str], ...]
    #: Settings of a private server that a scenario may give.
    settings: tuple[str, ...] = ()

    @model_validator(mode="after")
    def _known(self) -> LockingPart:
        named = [
            self.shared,
            self.update,
            self.exclusive,
            self.table_reads,
            self.table_writes,
            self.table_changes,
            *(mode for pair in self.conflicts for mode in pair),
        ]
        unknown = [mode for mode in named if mode is not None and mode not in self.modes]
        if unknown:
            raise ValueError(f"{unknown[0]!r} is not among the modes")
        return self


class Profile(_Part):
    """A kind of server."""

    format: Literal["catenum-profile/1"]
    name: Annotated[str, Field(pattern=r"^[a-z][a-z0-9]*$")]
    title: str
    manual: str
    driver: Driver
    session: SessionPart
    levels: LevelsPart
    waits: WaitsPart
    locks: QueryPart | None = None
    sessions: QueryPart | None = None
    version: str | None = None
    errors: ErrorsPart
    deadlocks: DeadlocksPart | None = None
    scratch: ScratchPart
    catalogue: CataloguePart
    sql: SqlPart = SqlPart()
    locking: LockingPart

    @property
    def unknown(self) -> list[tuple[str, str]]:
        """What it leaves out, and what that costs."""
        session, found = self.session, []
        if session.cancel is None and session.end is None:
            why = "a statement that waits ends by the lock timeout only; --limit cannot end it"
            found.append(("how a statement is ended", why))
        if session.lock_timeout is None:
            why = "a transaction's own 'timeout' is refused"
            found.append(("a lock timeout of a session's own", why))
        if self.locks is None:
            found.append(("the list of locks", "no lock pictures; 'play --locks full' has none"))
        if self.sessions is None:
            found.append(("the list of sessions", "'now' tells waits, and nothing of who they are"))
        if self.deadlocks is None:
            why = "a cycle that stands counts as one that the server never ends"
            found.append(("how soon deadlocks are ended", why))
        elif self.deadlocks.cycle is None:
            why = "of a deadlock that is over before it was seen, only the victim is known"
            found.append(("the cycle in a deadlock's message", why))
        if self.locking.independent == "nothing":
            why = "explore runs every order, and proves nothing to be left out"
            found.append(("which statements are independent", why))
        return found


def read_profile(data: bytes, name: str) -> Profile:
    """A profile from its file. Raises InputError with every fault and its line."""
    try:
        text = data.decode("utf-8")
        plain = tomllib.loads(text)
    except UnicodeDecodeError as error:
        raise InputError(f"no text in UTF-8: {error}", place=Place(name)) from error
    except tomllib.TOMLDecodeError as error:
        at = re.search(r"\(at line (\d+), column (\d+)\)", str(error))
        place = Place(name, int(at[1]), int(at[2])) if at else Place(name)
        raise InputError(f"no TOML: {str(error).partition(' (at')[0]}", place=place) from error
    try:
        # TOML has arrays where the model has tuples
        found = Profile.model_validate(plain, strict=False)
    except ValidationError as error:
        problems = [_problem(one, text, name) for one in error.errors()]
        raise InputError.from_problems(problems) from error
    secret = next(_secrets(found.driver.arguments), None)
    if secret is not None:
        raise InputError(
            f"a password stands in the profile: driver.arguments.{secret}",
            place=_place(text, ("driver", "arguments", secret), name),
            advice=(
                'Write "{password}", and name where it comes from: password_variable or'
                " password_file."
            ),
        )
    return found


def _secrets(arguments: dict[str, Any]) -> Any:
    for key, value in arguments.items():
        if isinstance(value, dict):
            yield from _secrets(value)
        elif re.search(r"(?i)pass|pwd|secret", key) and value != "{password}":
            yield key


def _problem(found: Any, text: str, name: str) -> Problem:
    path = tuple(str(one) for one in found["loc"] if not str(one).startswith("function-"))
    shown = ".".join(path)
    advice = None
    match found["type"]:
        case "missing":
            message = f"{shown} is missing"
        case "extra_forbidden":
            message = f"unknown key {path[-1]!r}"
            advice = suggestion(path[-1], _keys_at(path[:-1]))
        case "value_error":
            message = f"{shown}: {found['msg'].removeprefix('Value error, ')}"
        case _:
            message = f"{shown}: {found['msg'][0].lower()}{found['msg'][1:]}"
    return Problem(message, _place(text, path, name), advice)


def _keys_at(path: tuple[str, ...]) -> list[str]:
    model: Any = Profile
    for key in path:
        field = getattr(model, "model_fields", {}).get(key)
        kinds = (
            [] if field is None else [field.annotation, *getattr(field.annotation, "__args__", ())]
        )
        model = next((one for one in kinds if hasattr(one, "model_fields")), None)
    return list(getattr(model, "model_fields", {}))


def _place(text: str, path: tuple[str, ...], name: str) -> Place:
    """The line of a key, else of the table that it is missing from."""
    at = 0
    table: tuple[str, ...] = ()
    best = Place(name)
    for line, content in enumerate(text.splitlines(), 1):
        header = re.match(r"\s*\[+([^\]]+)\]+", content)
        if header:
            table = tuple(part.strip().strip("\"'") for part in header[1].split("."))
        key = re.match(r"\s*(\"[^\"]*\"|[\w-]+)\s*=", content)
        here = (*table, key[1].strip('"')) if key and not header else table
        if here and path[: len(here)] == here and len(here) > at:
            at, best = len(here), Place(name, line, len(content) - len(content.lstrip()) + 1)
    return best
