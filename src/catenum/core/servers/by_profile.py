"""The rules of a server that a profile describes: what the profile says, and nothing more."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace

from catenum.core.record.modes import Mode
from catenum.core.record.recording import ErrorKind, PathStep, TableKeys
from catenum.core.servers.modes import ModeTable
from catenum.core.servers.profile import Profile
from catenum.core.servers.rules import (
    AdviceRules,
    ErrorRules,
    Escalation,
    LockRules,
    PlanLocks,
    Rules,
    ServerSetting,
    SqlRules,
)
from catenum.core.servers.table_access import AccessMode
from catenum.core.sql.boundary import ANY_SERVER, Boundary
from catenum.core.sql.scripts import Piece
from catenum.core.sql.statements import Access, Footprint
from catenum.core.sql.token_patterns import NUMBER, WORD, TokenPatterns

#: ISO/IEC 9075-2, 5.3 "literal", 5.2 "token and separator".
STANDARD_TOKENS = TokenPatterns(
    pieces=re.compile(
        rf"(?P<comment>--[^\n]*|/\*)|(?P<string>(?:\b[bBxXnN])?')"
        rf"|(?P<name>\"(?:[^\"]|\"\")*(?:\"|\Z))|(?P<value>{NUMBER})|(?P<word>{WORD})"
    ),
    opaque=re.compile(
        r"'(?:[^']|'')*(?:'|$)|\"(?:[^\"]|\"\")*(?:\"|$)|--[^\n]*|/\*.*?(?:\*/|$)", re.DOTALL
    ),
)
#: How a plain read that only locks for as long as it reads touches rows: it waits for who changes
#: them.
_READS = {
    "dirty": AccessMode.DIRTY,
    "waits": AccessMode.SHARE,
    "locks": AccessMode.SHARE,
    "version": AccessMode.READ,
}
_COMMENT = re.compile(r"/\*.*?\*/|--[^\n]*", re.DOTALL)


class ProfileLockRules(LockRules):
    """See ``LockRules`` for what each member promises."""

    settings: tuple[str, ...] = ()
    schema_modes: frozenset[Mode] = frozenset()
    named_locks_span = "server"

    def __init__(self, profile: Profile) -> None:
        self.profile = profile
        locking = profile.locking
        self.levels = tuple(profile.levels.set)
        self.distinct_levels = self.levels
        self.usual_level = profile.levels.default
        self.named_source = profile.manual
        modes = tuple(map(Mode.read, locking.modes))
        pairs = {(Mode.read(one), Mode.read(other)) for one, other in locking.conflicts}
        self.tables = (
            ModeTable(
                title="lock modes",
                source=locking.source,
                modes=modes,
                conflicts=frozenset(pairs | {(held, wanted) for wanted, held in pairs}),
            ),
        )
        self.exclusive = self.inserted_mode = Mode.read(locking.exclusive)
        self.shared = Mode.read(locking.shared) if locking.shared else None
        self.update = Mode.read(locking.update) if locking.update else self.exclusive
        self.parent_mode = self.shared or self.exclusive
        self.has_timeouts = profile.session.lock_timeout is not None
        self.has_read_only = False
        self.victim_by_age = profile.deadlocks is None or profile.deadlocks.by_age
        self.ends_sessions = profile.session.end is not None
        if locking.escalates is not None:
            most = locking.escalates
            self.escalates = Escalation(above=most.above, setting=most.setting or "")
        self.update_lock = locking.update or ""

    def row_mode(self, access: Access, key_columns: frozenset[str]) -> Mode | None:
        """A plain read's is that of a level that keeps its locks."""
        if access.verb == "read" and "locks" in self.profile.levels.reads.values():
            return self.shared
        if access.verb == "lock":
            return self.shared if access.strength == "share" and self.shared else self.update
        return self.exclusive if access.verb in ("update", "delete") else None

    def may_be_held_as(self, taken: Mode, held: Mode) -> bool:
        """In its own mode; one for writing also as an update lock."""
        return taken == held or (taken == self.exclusive and held == self.update)

    def table_mode(self, access: Access) -> Mode:
        locking = self.profile.locking
        if access.verb in ("read", "lock"):
            named = locking.table_reads if access.verb == "read" else locking.table_writes
        else:
            named = locking.table_writes if access.writes else locking.table_changes
        return Mode.read(named or locking.exclusive)

    def read_mode(self, level: str, *, within_write: bool) -> AccessMode:
        """By the profile; one within a statement that writes is taken to lock."""
        reads = self.profile.levels.reads.get(level)  # type: ignore[call-overload]
        return AccessMode.SHARE if within_write or reads is None else _READS[reads]

    def locks_gaps(self, levels: Collection[str]) -> bool:
        """At serializable, where readers lock: what is not there must not come."""
        reads = self.profile.levels.reads
        return "serializable" in levels and reads.get("serializable") == "locks"

    def snapshot_statements(self, level: str, touched: Sequence[Sequence[AccessMode]]) -> range:
        """Any, where a level above read committed reads versions."""
        reads = self.profile.levels.reads.get(level)  # type: ignore[call-overload]
        keeps = reads == "version" and self.rank(level) > self.rank("read committed")
        return range(len(touched) if keeps else 0)

    def plan_locks(self, step: PathStep, access: Access, keys: TableKeys) -> PlanLocks:
        """Not known."""
        return PlanLocks()


class ProfileSqlRules(SqlRules):
    """See ``SqlRules`` for what each member promises."""

    token_patterns = STANDARD_TOKENS
    catalogues: tuple[str, ...] = ("information_schema",)
    silence_limits: tuple[str, ...] = ()
    wait_limits: tuple[str, ...] = ()
    wait_limit_unit_ms = 1.0
    prepares_by = re.compile(r"(?i)\b(?:prepare\s+transaction|xa\s+(?:start|begin|prepare))\b")

    def __init__(self, profile: Profile) -> None:
        sql = profile.sql
        self.dialect, self.name_quote = sql.dialect, sql.quote
        self._unread = tuple(map(re.compile, sql.unread))
        self.boundary = Boundary(
            statements=(*ANY_SERVER, *sql.beyond),
            functions=sql.functions,
            own_transactions=sql.own_transactions,
            commits=sql.commits,
        )
        if sql.dialect in ("mysql", "postgres"):  # for these the signs are known
            from importlib import import_module

            named = {"mysql": "innodb", "postgres": "postgresql"}[sql.dialect]
            module = import_module(f"catenum.core.servers.{named}")
            self.token_patterns = module.TOKEN_PATTERNS

    def reaches_beyond(self, piece: Piece) -> str | None:
        """Also where comments or quotes stand within the words."""
        plain = _COMMENT.sub(" ", piece.text).replace(self.name_quote, "")
        return super().reaches_beyond(piece) or super().reaches_beyond(
            replace(piece, text=plain, shape=plain)
        )

    def footprint(self, sql: str, values: Mapping[str, object] | None = None) -> Footprint:
        """Without what the profile says that the parser does not know."""
        for pattern in self._unread:
            sql = pattern.sub("", sql)
        return super().footprint(sql, values)  # type: ignore[arg-type]


class ProfileErrorRules(ErrorRules):
    """See ``ErrorRules`` for what each member promises."""

    def __init__(self, profile: Profile) -> None:
        errors = profile.errors
        kinds: dict[ErrorKind, Sequence[str]] = {
            "deadlock": errors.deadlock,
            "timeout": (*errors.lock_timeout, *errors.no_wait),
            "refused": errors.refused,
            "lost": errors.lost,
        }
        self.error_kinds = {code: kind for kind, codes in kinds.items() for code in codes}
        self.refuses_after_error = errors.refuses_after_error
        self.code_word = "SQLSTATE" if errors.code == "sqlstate" else "error number"
        self.duplicates = frozenset(errors.duplicate)
        self.time_limits = frozenset(errors.cancelled)
        self.undoes_statement = frozenset(
            code for code in errors.deadlock if code not in errors.undoes_transaction
        )


class ProfileAdviceRules(AdviceRules):
    """See ``AdviceRules`` for what each member promises: no more than every server has."""

    locks_of_tables = False
    idle_limit = ""
    outlived_lock_advice: tuple[str, ...] = ()

    def __init__(self, profile: Profile) -> None:
        self.row_locks = profile.sql.locking_reads
        self.orders_locked_rows = profile.sql.orders_locked_rows
        clause, own = self.row_locks[-1], profile.sql.no_wait or ""
        self.no_wait = own.removeprefix(clause).strip() if own.startswith(clause) else ""
        self.skip_locked = ""
        variable = profile.driver.password_variable
        self.password_places = (*([variable] if variable else ()), "CATENUM_TARGET")
        self._title = profile.title

    def lock_blocks(self, clause: str) -> str:
        return f"{self._title}'s profile does not say who else waits for it"

    def gentle(self, ddl: str) -> tuple[str, ...]:
        """As it is: how the server makes one beside work is not known."""
        return (ddl,)

    def unless_there(self, key: Sequence[str], assigned: Mapping[str, str]) -> str:
        """Not known, so that no such change is proposed."""
        return ""


def rules_by(profile: Profile) -> Rules:
    """The rules that a profile gives."""
    return Rules(
        name=profile.name,
        title=profile.title,
        locks=ProfileLockRules(profile),
        sql=ProfileSqlRules(profile),
        errors=ProfileErrorRules(profile),
        advice=ProfileAdviceRules(profile),
        settings=tuple(map(ServerSetting, profile.locking.settings)),
        profile=profile,
    )
