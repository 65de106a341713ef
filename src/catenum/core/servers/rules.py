"""What a server's rules are asked, whichever server it is.

A module a server answers: isolation levels, lock modes and their conflicts, which moves depend on
each other, what a plan locks, what leaves the scratch space, what an error code means. All of it is
knowledge, with its source; what needs a connection belongs to the server's engine. ``rules_of`` (in
the package) gives the rules by a server's name.
"""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from catenum.core.record.modes import Mode
from catenum.core.record.recording import ErrorKind, PathStep, TableKeys
from catenum.core.record.values import Binding, Value, Values
from catenum.core.servers.modes import Conflict, ModeTable, conflict_in
from catenum.core.servers.table_access import AccessMode
from catenum.core.sql import (
    boundary,
    contained,
    limits,
    masking,
    named_values,
    parameters,
    scripts,
    statements,
)
from catenum.core.sql.boundary import Boundary
from catenum.core.sql.scripts import Piece
from catenum.core.sql.statements import Access, Footprint
from catenum.core.sql.token_patterns import TokenPatterns

if TYPE_CHECKING:
    from catenum.core.servers.profile import Profile

#: From the least to the most strict, in the order of the SQL standard (ISO/IEC 9075-2, 4.41).
STANDARD_LEVELS = ("read uncommitted", "read committed", "repeatable read", "serializable")

_KEEPS_MEANING = re.compile(
    r"\s*(create\s+temp(orary)?\s+table|insert\s+into|prepare)\b", re.IGNORECASE
)


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanLocks:
    """What one step of a plan locks, in words and in order. ``rows_passed``: also rows that do not
    match.
    """

    words: tuple[str, ...] = ()
    rows_passed: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Escalation:
    """From ``above`` locks on rows of a table on a transaction has one on the table instead;
    ``setting``: what that number is set by. False where that never happens.
    """

    above: int = 0
    setting: str = ""

    def __bool__(self) -> bool:
        return self.above > 0

    def limit(self, settings: Mapping[str, str]) -> int:
        """The number where a server has these settings."""
        value = settings.get(self.setting.lower(), settings.get(self.setting, ""))
        return int(value) if value.isdecimal() else self.above

    def words(self, limit: int) -> str:
        """When it does so."""
        by = f" ({self.setting})" if self.setting else ""
        return f"a transaction has more than {limit:,} locks on rows of a table{by}"


class LockRules(ABC):
    """Isolation levels, lock modes and their conflicts, which moves depend on each other, what a
    plan locks.
    """

    #: Levels that can be asked for, from the least to the most strict, and those of them that
    #: really differ.
    levels: tuple[str, ...] = STANDARD_LEVELS
    distinct_levels: tuple[str, ...] = STANDARD_LEVELS
    #: Why a level that can be asked for is not among the distinct ones.
    level_note: str = ""
    #: The level that the server comes with: for a stricter one somebody must have asked.
    usual_level: str
    #: Settings of the server that decide how it locks, waits and ends deadlocks.
    settings: tuple[str, ...]
    tables: tuple[ModeTable, ...]
    #: What a row that a transaction inserted amounts to for others, until it commits.
    inserted_mode: Mode
    #: Whether the lock of a row that was inserted is listed only once somebody else wants it.
    shows_inserts_late: bool = False
    #: The lock that a foreign key takes on the row of the table that it refers to.
    parent_mode: Mode
    #: Where the conflicts of locks by a name of one's own are described.
    named_source: str
    #: Modes in which a statement that changes a table's definition stands in the way of others.
    schema_modes: frozenset[Mode]
    #: Whether a statement locks no row but those that it finds, by whatever index it comes.
    locks_matches_only: bool = False
    #: Whether a row is locked before what a statement sets is computed and checked.
    locks_before_checks: bool = False
    #: Whether who releases a lock gives it to the first that waits for it, rather than waking it to
    #: try again.
    grants_at_release: bool = False
    #: Whether a run can ask for one of a deadlock's members as its victim.
    asks_victim: bool = False
    #: Whether a report names the modes in which its members wait, rather than that for the end of a
    #: transaction.
    reports_modes: bool = False
    #: Whether the limit on waits for locks holds for locks by name, too.
    limits_named_locks: bool = False
    #: Whether a transaction with one snapshot is refused where it locks a row that was changed
    #: since.
    refuses_late_locks: bool = False
    #: Whether a rollback takes the changes back one by one; otherwise it takes no time.
    undoes_row_by_row: bool = False
    #: The level at which a transaction that only reads may wait for a snapshot with which it is
    #: never refused (``deferrable``); empty where there is none.
    defers_at: str = ""
    #: Whether a session can limit how long it waits for locks, and begin a transaction that only
    #: reads.
    has_timeouts: bool = True
    has_read_only: bool = True
    #: Whether a run can have the server end a session.
    ends_sessions: bool = True
    #: Whether who began first may decide who is the victim of a deadlock.
    victim_by_age: bool = False
    #: When many locks on rows become one on their table.
    escalates: Escalation = Escalation()
    #: A mode that only one can have, and that lets readers by: who means to write after reading
    #: takes it; empty where there is none.
    update_lock: str = ""
    #: How far names of named locks reach: the whole ``database`` or ``server``.
    named_locks_span: str

    def rank(self, level: str) -> int:
        """The place of a level from the least strict, 0; -1 for one that this server does not
        have.
        """
        return self.levels.index(level) if level in self.levels else -1

    @abstractmethod
    def row_mode(self, access: Access, key_columns: frozenset[str]) -> Mode | None:
        """The lock that ``access`` takes on the rows that it reaches; None where it takes none.

        ``key_columns``: the columns of the table's unique indexes, in lower case.
        """

    @abstractmethod
    def table_mode(self, access: Access) -> Mode:
        """The lock that ``access`` takes on the table (or on its definition)."""

    def conflict(self, wanted: Mode, held: Mode) -> Conflict | None:
        """The conflict of two modes by the server's own table; None where no table has both."""
        return conflict_in(self.tables, wanted, held)

    def may_be_held_as(self, taken: Mode, held: Mode) -> bool:
        """Whether a lock that a statement takes in one mode can be what is listed as ``held``."""
        return True

    def read_mode(self, level: str, *, within_write: bool) -> AccessMode:
        """How a plain read touches rows at ``level``. ``within_write``: it stands in a statement
        that writes.
        """
        return AccessMode.READ

    def locks_gaps(self, levels: Collection[str]) -> bool:
        """Whether locks of transactions at these levels cover the space between rows."""
        return False

    @abstractmethod
    def snapshot_statements(self, level: str, touched: Sequence[Sequence[AccessMode]]) -> range:
        """The statements (from 0) of which one takes the transaction's snapshot; empty where each
        has its own.

        ``touched``: the ways in which each statement touches tables.
        """

    def scans_as_written(self, keys: TableKeys) -> bool:
        """Whether a scan meets a table's rows in the order in which they were written."""
        return True

    def may_overtake(self, levels: Collection[str]) -> bool:
        """Whether one that waits for a row may go on before one at the head of the queue, where the
        holder changed the row and commits. ``levels``: theirs.
        """
        return False

    def refuses_what_changed(self, level: str) -> bool:
        """Whether a transaction at ``level`` that waited for a row is refused where the row was
        changed.
        """
        return self.refuses_late_locks and self.rank(level) >= self.rank("repeatable read")

    def refuses_by_any_order(self, level: str) -> bool:
        """Whether who is refused can turn on any order within a group of connected transactions at
        ``level``.
        """
        return False

    @abstractmethod
    def plan_locks(self, step: PathStep, access: Access, keys: TableKeys) -> PlanLocks:
        """What a step of a plan locks for a statement that locks what it finds."""

    def locks_per_row(self, step: PathStep, access: Access) -> int:
        """How many locks a locking read takes for each row that ``step`` finds."""
        return 1


class SqlRules:
    """What a server's SQL says by its text, and what it may reach."""

    #: The parser's name for its SQL.
    dialect: str
    token_patterns: TokenPatterns
    #: Whether ``t.name`` may call a function of that name.
    calls_as_columns: bool = False
    #: Schemas that hold the server's own catalogues, which anybody may read.
    catalogues: tuple[str, ...]
    boundary: Boundary
    #: What stands around a name that is no plain one.
    name_quote: str = '"'
    #: Variables by which a session limits its own waits, and what their numbers count in ms where
    #: no unit is given.
    wait_limits: tuple[str, ...]
    #: Variables by which a session has the server end it when its client is silent for so long.
    silence_limits: tuple[str, ...]
    #: Whether a transaction's own first statement can set its isolation level.
    sets_level_within: bool = False
    wait_limit_unit_ms: float
    #: Words by which a transaction is prepared, wherever they stand: a text can be run as a
    #: statement.
    prepares_by: re.Pattern[str]
    #: What stands before definitions, so that their order does not matter.
    before_definitions: str = ""

    def footprint(self, sql: str, values: Values | None = None) -> Footprint:
        """What a statement touches; where ``values`` of its parameters are known, which rows it
        names by them.
        """
        return statements.footprint(
            parameters.readable(sql, self.token_patterns, values), self.dialect
        )

    def with_values(self, sql: str, values: Values) -> str:
        """A statement with known values of its parameters in their places, to be read and never
        sent.
        """
        return parameters.readable(sql, self.token_patterns, values)

    def numbered(self, sql: str) -> str:
        """A statement with ``$1``, ``$2`` in place of its parameters."""
        return parameters.numbered(sql, self.token_patterns)

    def formatted(self, sql: str) -> str:
        """A statement with ``%s`` in place of its parameters, and its own per cent signs
        doubled.
        """
        return parameters.formatted(sql, self.token_patterns)

    def values_by_place(self, sql: str, values: Binding) -> list[Value]:
        """The values in the order of their places: one whose name stands twice comes twice."""
        known = dict(values)
        return [
            known[parameter.name]
            for parameter in parameters.parameters_in(sql, self.token_patterns)
        ]

    def assigned(
        self, sql: str, names: Collection[str], functions: Collection[str] = ()
    ) -> frozenset[tuple[str, str]]:
        """The columns (with their tables) that a statement sets from parameters of these names, or
        by calling one of ``functions``.
        """
        marked = {name: Value(f"value of {name}") for name in names}
        return statements.assigned(
            parameters.readable(sql, self.token_patterns, marked),
            self.dialect,
            marked.values(),
            functions,
        )

    def value_names(self, sql: str) -> tuple[str, ...]:
        """The names of a statement's parameters."""
        return parameters.names_in(sql, self.token_patterns)

    def pieces(self, script: str) -> list[Piece]:
        """The statements of a script with their shapes, comments laid open that the server
        executes.
        """
        return scripts.pieces_of(self.uncovered(script), self.dialect)

    def split(self, script: str) -> list[tuple[int, str]]:
        """The statements of a script, each with the offset of its first character."""
        return scripts.split_script(script, self.dialect)

    def masked(self, sql: str) -> str:
        """A statement with ``?`` in place of its literals."""
        return masking.masked(sql, self.token_patterns)

    def condition(self, sql: str) -> str | None:
        """By which a statement finds its rows."""
        return named_values.condition(sql, self.dialect)

    def tables_of(self, sql: str) -> tuple[tuple[str, bool], ...]:
        """The tables that a statement names, and whether it writes or locks each."""
        return tuple(
            (access.table, access.verb != "read") for access in self.footprint(sql).accesses
        )

    def masked_report(self, report: str) -> str:
        """A report of a deadlock without values; ids stay."""
        return masking.masked_report(report, self.token_patterns)

    def shape(self, sql: str) -> str:
        """What statements of one kind share."""
        return masking.shape(sql, self.token_patterns)

    def counts_on(self, table: str, column: str) -> str | None:
        """What has a column's next number come behind those that rows were given; None where the
        server does so by itself.
        """

    def uncovered(self, sql: str) -> str:
        """The text with comments laid open that the server executes."""
        return sql

    def is_compound(self, sql: str) -> bool:
        """Whether a text is one statement though it holds others."""
        return False

    def reaches_beyond(self, piece: Piece) -> str | None:
        """The words by which a statement reaches beyond the scratch space."""
        return boundary.reaches_beyond(piece, self.boundary, self.dialect)

    def uncontained(self, piece: Piece) -> str | None:
        """Why it is not certain that a statement stays within the tables that it names."""
        return contained.uncontained(
            parameters.readable(piece.shape, self.token_patterns),
            self.dialect,
            frozenset(self.catalogues),
        )

    def limits_waits(self, sql: str) -> bool:
        """Whether a statement sets a limit on the waits that come after it, of a length that a run
        can wait for.
        """
        return limits.limit_ms(sql, self.wait_limits, self.wait_limit_unit_ms) is not None

    def limits_silence(self, sql: str) -> bool:
        """Whether a statement may set how long the server keeps the session of a silent client."""
        named = re.findall(r"\w+", sql.lower())
        return not set(named).isdisjoint(self.silence_limits)

    def keeps_meaning(self, sql: str) -> bool:
        """Whether a statement that a session begins with changes nothing in what later ones mean: a
        limit on waits, a temporary table and its rows, a prepared statement. A function that one
        calls may set anything, or take a lock that stays.
        """
        if self.limits_waits(sql):
            return True
        found = self.footprint(sql)
        calls = found.may_set_anything or bool(found.named_locks)
        return _KEEPS_MEANING.match(sql) is not None and not calls

    def handles_transactions(self, sql: str) -> str | None:
        """The words by which a statement prepares or ends transactions in ways that Catenum cannot
        see.
        """
        return boundary.starts_with(
            self.uncovered(sql), self.boundary.own_transactions, self.dialect
        )

    def prepares(self, sql: str) -> str | None:
        """The words by which a text, or a text within it, prepares a transaction that outlives its
        session.
        """
        found = self.prepares_by.search(sql)
        return " ".join(found[0].lower().split()) if found else None

    def commits_by_itself(self, sql: str) -> bool:
        """Whether the server commits before it runs this, whatever the transaction did before."""
        return (
            boundary.starts_with(self.uncovered(sql), self.boundary.commits, self.dialect)
            is not None
        )


class ErrorRules:
    """What error codes mean to a run."""

    #: Error codes, as the server writes them, to Catenum's kinds; any other means that a statement
    #: was rejected.
    error_kinds: Mapping[str, ErrorKind]
    #: Whether an error leaves a transaction in which everything is refused until it is rolled back,
    #: rather than one that goes on (or a new one, where all was undone).
    refuses_after_error: bool = False
    #: What the codes of its errors are called.
    code_word: str
    #: Codes by which a statement is rejected since a unique key has its value already.
    duplicates: frozenset[str] = frozenset()
    #: Deadlocks by which a victim loses its statement only, and stays in its transaction; and,
    #: where the code does not tell, what a session is asked that was a victim: whether (1) or not
    #: (0) it is in a transaction still.
    undoes_statement: frozenset[str] = frozenset()
    asks_transaction: str = ""

    #: Codes by which a statement is ended since it has taken too long, at work or waiting.
    time_limits: frozenset[str] = frozenset()

    def is_duplicate(self, code: str) -> bool:
        """Whether an error's code means that a unique key has the value already."""
        return code in self.duplicates

    def kind_of(self, code: str) -> ErrorKind:
        """What an error code means to a run."""
        return self.error_kinds.get(code, "rejected")


class AdviceRules(ABC):
    """What could be changed, and what an application must know."""

    #: Clauses of locking reads, from the weakest that keeps writers away to the strongest; and
    #: whether one can be limited to one of several tables.
    row_locks: tuple[str, ...] = ("for share", "for update")
    locks_of_tables: bool = True
    #: Whether a locking read may have an order; what follows one that does not wait, and one that
    #: passes over what is locked, where there are such.
    orders_locked_rows: bool = True
    no_wait: str = "nowait"
    skip_locked: str = "skip locked"
    #: The setting that ends a transaction whose client has gone quiet.
    idle_limit: str
    #: How to releases a lock that outlives its transaction, and what does so by itself.
    outlived_lock_advice: tuple[str, ...]
    #: What an application must know that counts the rows of a write.
    counting_note: tuple[str, ...] = ()
    #: What else would let a statement run on a server of the user's own, beginning with a comma.
    wall_advice: str = ""
    #: Where a password can stand that the process list does not show.
    password_places: tuple[str, ...] = ("CATENUM_TARGET",)

    @abstractmethod
    def lock_blocks(self, clause: str) -> str:
        """Who waits for such a lock, foreign keys among them."""

    @abstractmethod
    def gentle(self, ddl: str) -> tuple[str, ...]:
        """Statements that make an index on a table in use: they wait for a short time only, and let
        writers go on.
        """

    @abstractmethod
    def unless_there(self, key: Sequence[str], assigned: Mapping[str, str]) -> str:
        """What stands behind an INSERT of one row, so that where the key is there already that row
        is changed instead: ``assigned``, by column; left as it is where that is empty. Columns in
        the values must name their table, since the row to be added has the same.
        """

    def excluding(
        self,
        table: str,
        equal: Mapping[str, str],
        span: tuple[str, str],
        kind: str,
        *,
        closed: bool,
    ) -> str | None:
        """DDL of a constraint that no two rows with the same values overlap; None where there is
        none. ``equal``: columns with their types; ``span``: the columns of the begin and the end,
        of type ``kind``.
        """
        return None

    def by_key(self, table: str) -> str:
        """A table in a SELECT that goes through it by its primary key, so that rows are locked in
        that order.
        """
        return table

    def lock_of_transaction(self, sql: str) -> str | None:
        """The same lock by name, but one that the end of the transaction lets go of; None where
        there is none.
        """
        return None


@dataclass(frozen=True)
class ServerSetting:
    """A setting that a scenario may give a private server: it changes how that one waits, refuses
    or plans, and neither what is durable, nor who connects, nor what runs by itself.
    ``for_session``: the statement by which a session of the run gets it, where Catenum would set it
    otherwise.
    """

    name: str
    for_session: str | None = None


@dataclass(frozen=True, eq=False)
class Rules:
    """The rules of one server, in parts. ``answers_as``: others that may answer where its URLs
    lead, since they speak the same protocol.
    """

    name: str
    title: str
    locks: LockRules
    sql: SqlRules
    errors: ErrorRules
    advice: AdviceRules
    answers_as: tuple[str, ...] = ()
    settings: tuple[ServerSetting, ...] = ()
    #: What describes the server, where it has no module of its own.
    profile: Profile | None = None

    def setting(self, name: str) -> ServerSetting | None:
        """The setting of this name that a scenario may give a private server."""
        wanted = name.lower()
        return next((found for found in self.settings if found.name.lower() == wanted), None)
