"""Conflicts as a server's own log tells them: who took part, with which statements, over what, who
fell.

Each fact carries where it comes from. ``captured``: it stands in the report itself. ``recovered``:
from a statement log, a live server or a schema file. ``assumed``: derived, and to be checked.
``unknown``: nobody tells.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal, Protocol

from catenum.core.logs import LogEntry
from catenum.core.record.recording import Kind, WaitEnd

ConflictKind = Literal["deadlock", "wait", "timeout", "refused", "ended"]
Ending = Literal["commit", "rollback"]
Provenance = Literal["captured", "recovered", "assumed", "unknown"]

#: What stands before a message of the server in a note.
FAILED = "the statement then failed: "
#: A statement that the server cut, or did not keep, ends with this.
CUT = "…"


@dataclass(frozen=True, slots=True, kw_only=True)
class Member:
    """One session of a conflict. ``history``: the statements of its transaction in order, that
    which waited last.

    ``isolation``: where the log tells of it; ``whole``: the log shows where the transaction began.
    ``later``: what it ran after the conflict in the same transaction, and how that ended
    (``ending``), where the log has that.
    """

    session: str
    application: str | None = None
    user: str | None = None
    database: str | None = None
    statement: str | None = None
    history: tuple[str, ...] | None = None
    isolation: str | None = None
    whole: bool = False
    later: tuple[str, ...] = ()
    ending: Ending | None = None
    provenance: Mapping[str, Provenance] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class CapturedWait:
    """Who waits for whom, over what, in which mode. ``holder``: None where nobody tells.

    ``table``: the table it is on, where that is known. ``record``: the record's values as they are
    printed, or by the types of the columns; ``key_fields``: how many of them are a primary key's,
    where that shows; ``row``: what of the row they show, by column, where the columns are known.
    ``queued``: the holder does not have it either, and waits for it further ahead. ``address``:
    that of a row's version in its table; ``transaction``: the number of the one for whose end is
    waited, both as the server counts them. ``ended``: how the wait ended, where the kind of the
    conflict does not say it.
    """

    waiter: str
    holder: str | None
    object: str
    mode: str
    table: str | None = None
    index: str | None = None
    held: str | None = None
    gap: bool = False
    record: tuple[str | None, ...] = ()
    key_fields: int | None = None
    queued: bool = False
    address: str | None = None
    transaction: str | None = None
    row: Mapping[str, str] = field(default_factory=dict)
    seconds: float | None = None
    ended: WaitEnd | None = None
    provenance: Mapping[str, Provenance] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class Conflict:
    """One conflict, members in the order of the cycle: each waits for the next, the last for the
    first.

    ``at``: the time as the log has it. ``relations``: the tables that the waits are over.
    ``report``: as it stands in the log; ``source``: the file, ``place`` the number of the message
    in it. ``definition``: of a run of Catenum's own, the scenario, and ``schedule`` whose moves
    were made, in order. ``began``: when the wait was first logged, and how long it had lasted then
    (ms).
    """

    kind: ConflictKind
    server: str
    at: str | None
    members: tuple[Member, ...]
    waits: tuple[CapturedWait, ...]
    victim: str | None
    relations: tuple[str, ...]
    report: str
    code: str | None = None
    source: str = ""
    notes: tuple[str, ...] = ()
    provenance: Mapping[str, Provenance] = field(default_factory=dict)
    definition: Mapping[str, Any] | None = None
    schedule: tuple[str, ...] = ()
    began: tuple[str, float] | None = None

    @property
    def outcome(self) -> Kind:
        """What a schedule comes to that reproduces it: to a lock that is not free for NOWAIT, as to
        a timeout.
        """
        by_level = self.code == "40001" or "could not serialize" in self.report
        if self.kind == "refused":
            return "refused" if by_level else "timeout"
        kinds: dict[ConflictKind, Kind] = {
            "deadlock": "deadlock",
            "timeout": "timeout",
            "ended": "error",
        }
        return kinds.get(self.kind, "waited")

    def member(self, session: str) -> Member | None:
        return next((member for member in self.members if member.session == session), None)


class ConflictReader(Protocol):
    """Finds the conflicts among the messages of a log."""

    def read(self, entries: Iterable[LogEntry]) -> Iterator[Conflict]:
        """Each conflict in the next messages, when it is whole."""

    def finish(self) -> Iterator[Conflict]:
        """Nothing more comes: what goes on at the end of the log."""

    def continued(self, found: Sequence[Conflict]) -> list[Conflict]:
        """The same with what their members ran afterwards, as far as this log has it; all of it has
        been read.
        """

    def recovered(self, found: Sequence[Conflict], entries: Iterable[LogEntry]) -> list[Conflict]:
        """The same with what a statement log tells of their members."""


def same_statement(sql: str, statement: str) -> bool:
    """Whether a statement of a log is one of a report, which may be cut short."""
    one, other = " ".join(sql.split()).rstrip("; "), " ".join(statement.split()).rstrip("; ")
    return one.startswith(other.removesuffix(CUT)) if other.endswith(CUT) else one == other


#: What begins and ends a transaction, in any server's SQL; the level that a beginning may name is
#: the group.
BEGINS = r"(?is)\s*(?:begin|start\s+transaction)\b(?!\s+not\s+atomic)"
ENDS = r"(?is)\s*(?:commit|end|rollback|abort)\b(?!\s+(?:(?:work|transaction)\s+)?to\b)"


def relations_of(waits: Sequence[CapturedWait]) -> tuple[str, ...]:
    """The tables of waits, each once, in order."""
    return tuple(dict.fromkeys(wait.table for wait in waits if wait.table))


_NUMBERED = re.compile(r"\brelation (\d+)\b")


def numbered(conflicts: Iterable[Conflict]) -> list[str]:
    """The server's own numbers of tables, where a log has no name."""
    found = (
        match[1]
        for one in conflicts
        for wait in one.waits
        if (match := _NUMBERED.search(wait.object))
    )
    return list(dict.fromkeys(found))


def with_names(conflicts: Iterable[Conflict], names: Mapping[str, str]) -> list[Conflict]:
    """Conflicts with the names of such tables, as a server told them."""

    def named(wait: CapturedWait) -> CapturedWait:
        found = _NUMBERED.search(wait.object)
        name = names.get(found[1]) if found else None
        if found is None or name is None:
            return wait
        reported: dict[str, Provenance] = {**wait.provenance, "object": "recovered"}
        return replace(
            wait, object=wait.object.replace(found[0], name), table=name, provenance=reported
        )

    changed = []
    for conflict in conflicts:
        waits = tuple(map(named, conflict.waits))
        changed.append(
            replace(conflict, waits=waits, relations=relations_of(waits) or conflict.relations)
        )
    return changed
