"""Conflicts in PostgreSQL's log, by SQLSTATE and by the form of the details, in whatever language
they are.

A deadlock's details have a line for each member, which names it first and whom it waits for last,
and then each member's statement (deadlock.c, ``DeadLockReport``). The first member is the one that
found the cycle, and falls.
"""

from __future__ import annotations

import re
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from catenum.core.logs import LogEntry
from catenum.core.logs.conflicts import (
    CUT,
    FAILED,
    CapturedWait,
    Conflict,
    Member,
    Provenance,
    relations_of,
)
from catenum.core.logs.histories import Histories, Open
from catenum.core.logs.postgresql_details import MODE, NUMBERS, WaitLine, cycle, statements_of
from catenum.core.logs.postgresql_statements import (
    PARAMETER,
    has_ended,
    history_of,
    statement_of,
    with_values,
)
from catenum.core.logs.sequels import Sequels
from catenum.core.record.recording import WaitEnd
from catenum.core.servers import Rules
from catenum.core.text import listed

#: Which conflict an error is, by its code (documentation, appendix A).
_DEADLOCK, _NOT_FREE, _REFUSED, _CANCELLED, _ENDED, _DONE = (
    "40P01",
    "55P03",
    "40001",
    "57014",
    "57P01",
    "00000",
)
_TUPLE = re.compile(r"\((\d+), ?(\d+)\)|(?<![\d,(])(\d+),(\d+) 튜플")
_ADVISORY = re.compile(r"\[(\d+),(\d+),(\d+),(\d+)\]")
_VIRTUAL = re.compile(r"(?<![\d/])(\d+/\d+)(?![\d/])")
_ENDED_WORDS = (
    "canceling statement due to user request",
    "terminating connection due to administrator command",
)
#: The length of a wait in a message of ``log_lock_waits``, with three places whatever the language
#: (proc.c).
_LENGTH = re.compile(r"(?<![\d.,\[/])\d+[.,]\d{3}(?![\d.,)\]])")
_STOP = re.compile("[.。]")
_ACQUIRED = re.compile(r"process \d+ acquired ")
_NO_WAIT_OF = re.compile(r"process \d+ (?:avoided deadlock|detected deadlock|failed to acquire)")
_LOCK_NAMED = re.compile(r'"((?:[^"]|"")+)"|„([^“]+)“|«\s*([^»]+?)\s*»|»([^«]+)«|“([^”]+)”')
#: What some languages quote though it is no name.
_NO_NAME = re.compile(r"[\s\[]\d")
_RELATION = re.compile(r"[Rr]elation|リレーション|отношен|관계")
_NOBODY = ("",)
#: Sessions that are remembered, and messages of each since its transaction began.
MOST_SESSIONS, MOST_STATEMENTS = 20_000, 500


class _Place(NamedTuple):
    text: str
    table: str | None
    source: Provenance
    entry_of: str | None = None
    address: str | None = None  # of a row's version, as (0,2)


@dataclass(slots=True)
class _OpenWait:
    entry: LogEntry
    pid: int
    mode: str
    since_ms: float
    holders: tuple[int, ...] = ()
    members: tuple[
        Member, ...
    ] = ()  # as they stood when the wait was logged: holders go on before it ends
    ended: WaitEnd = "lasted"
    began: tuple[str, float] | None = None


class PostgresqlConflicts:
    """See ``ConflictReader``."""

    def __init__(self, rules: Rules) -> None:
        self.rules = rules
        self._ran: dict[int | None, deque[LogEntry]] = {}
        self._who: dict[int, LogEntry] = {}
        self._waits: dict[int, _OpenWait] = {}
        self._has_details = False  # log_error_verbosity is not terse
        self._sessions: dict[
            int | None, list[str]
        ] = {}  # of each process, the one that wrote last at the end
        self._sequels = Sequels(rules)
        self._mixed: set[int | None] = (
            set()
        )  # processes with two sessions at once: two servers write here

    def read(self, entries: Iterable[LogEntry]) -> Iterator[Conflict]:
        """Each conflict, when it is whole; a wait, when it is over."""
        ran = self._ran
        sessions = self._sessions
        for entry in entries:
            if entry.session is not None and sessions.get(entry.pid, _NOBODY)[-1] != entry.session:
                self._other_session(entry)
            if str(entry.pid) in self._sequels:
                self._goes_on(entry)
            if entry.detail is not None:
                self._has_details = True
            plain = entry.severity == "LOG" or entry.code == _DONE
            if plain and ("Lock" not in entry.message or statement_of(entry) is not None):
                # Most of a log: looked into only where its session takes part in a conflict.
                kept = ran.get(entry.pid)
                if kept is None:
                    self._remember(entry)
                elif entry.transaction and entry.transaction != kept[-1].transaction:
                    kept.clear()  # the numbers of transactions tell that another has begun
                    kept.append(entry)
                else:
                    kept.append(entry)
                continue
            if entry.pid is not None and (entry.application or entry.user):
                self._who[entry.pid] = entry
                if len(self._who) > MOST_SESSIONS:
                    self._who.pop(next(iter(self._who)))
            for conflict in self._conflicts_in(entry):
                if conflict.kind == "deadlock":
                    self._sequels.follow(conflict, self._transactions(conflict))
                yield conflict

    def _transactions(self, conflict: Conflict) -> dict[str, str | None]:
        """The numbers of the members' transactions, where the log has them."""
        latest = {
            m.session: self._ran[int(m.session)][-1]
            for m in conflict.members
            if int(m.session) in self._ran
        }
        numbers = {session: entry.transaction for session, entry in latest.items()}
        return {
            session: number
            for session, number in numbers.items()
            if number and not number.endswith("/0")
        }

    def _goes_on(self, entry: LogEntry) -> None:
        """A member of a conflict writes again."""
        session = str(entry.pid)
        if entry.severity in ("ERROR", "FATAL", "PANIC"):
            self._sequels.gone(session, "rollback")
        elif (sql := statement_of(entry)) is not None:
            virtual = (
                entry.transaction
                if entry.transaction and not entry.transaction.endswith("/0")
                else None
            )
            self._sequels.ran(session, sql, virtual, ended=has_ended(entry))

    def continued(self, found: Sequence[Conflict]) -> list[Conflict]:
        """See ``ConflictReader``."""
        return self._sequels.added_to(found)

    def finish(self) -> Iterator[Conflict]:
        """The waits that go on at the end of the log."""
        for wait in list(self._waits.values()):
            yield self._wait_conflict(wait)
        self._waits.clear()

    def recovered(self, found: Sequence[Conflict], entries: Iterable[LogEntry]) -> list[Conflict]:
        """This server's statements stand in the same log."""
        return list(found)

    def _conflicts_in(self, entry: LogEntry) -> Iterator[Conflict]:
        code = entry.code
        if code == _DONE or (entry.severity == "LOG" and code is None):
            yield from self._log(entry)
            return
        members = cycle(entry.detail) if entry.detail and code in (None, _DEADLOCK) else []
        if code == _DEADLOCK or members or entry.is_deadlock:
            found = self._deadlock(entry, members)
            for pid in (entry.pid, *(one.pid for one in members)):
                self._waits.pop(pid or 0, None)  # its wait is part of the deadlock
            yield found
        elif code == _NOT_FREE or (
            code is None and _is(entry, "lock timeout", "could not obtain lock")
        ):
            # who was not to wait is told for what: a timeout's message names nothing
            named = _LOCK_NAMED.search(entry.message) or "could not obtain" in entry.message
            yield self._single(entry, "refused" if named else "timeout")
        elif code == _REFUSED or (
            code is None and entry.message.startswith("could not serialize access")
        ):
            yield self._single(entry, "refused")
        elif self._ends_wait(entry):
            yield self._single(entry, "ended")
        if entry.pid is not None and entry.severity in ("ERROR", "FATAL", "PANIC"):
            yield from self._failed(entry)

    def _ends_wait(self, entry: LogEntry) -> bool:
        """Whether somebody ended this session or its statement while it waited for a lock."""
        ended = entry.code in (_CANCELLED, _ENDED) or (
            entry.code is None and _is(entry, *_ENDED_WORDS)
        )
        waited = entry.pid in self._waits or _TUPLE.search(entry.context or "") is not None
        return (
            entry.pid is not None and ended and (waited or (entry.tag or "").endswith(" waiting"))
        )

    def _failed(self, entry: LogEntry) -> Iterator[Conflict]:
        wait = self._waits.pop(entry.pid or 0, None)
        if wait is not None:
            wait.ended = "failed"
            found = self._wait_conflict(wait)
            yield replace(found, notes=(*found.notes, f"{FAILED}{entry.message}"))
        if entry.severity != "ERROR":
            self._ran.pop(entry.pid or 0, None)

    def _other_session(self, entry: LogEntry) -> None:
        """A process begins another session: numbers are used again. Or there are two of that
        number.
        """
        known = self._sessions.pop(entry.pid, [])
        if entry.session in known:
            known.remove(entry.session)
            self._mixed.add(entry.pid)
        self._sessions[entry.pid] = [*known, str(entry.session)]
        if len(self._sessions) > MOST_SESSIONS:
            self._sessions.pop(next(iter(self._sessions)))
        if known:
            self._sequels.gone(str(entry.pid))
            self._ran.pop(entry.pid, None)
            self._who.pop(entry.pid or 0, None)

    # -- what a session ran ------------------------------------------------------------------------

    def _log(self, entry: LogEntry) -> Iterator[Conflict]:
        if entry.pid is not None and "Lock" in entry.message:
            yield from self._waiting(entry)

    def _remember(self, entry: LogEntry) -> None:
        """The first message of a session."""
        self._ran[entry.pid] = deque((entry,), maxlen=MOST_STATEMENTS)
        if len(self._ran) > MOST_SESSIONS:
            self._ran.pop(next(iter(self._ran)))

    def _opened(self, pid: int, number: str | None) -> Open | None:
        """What a session has run since its transaction began."""
        histories = Histories(self.rules)
        for entry in self._ran.get(pid, ()):
            sql = statement_of(entry)
            if sql is not None:
                virtual = (
                    entry.transaction
                    if entry.transaction and not entry.transaction.endswith("/0")
                    else None
                )
                histories.ran(str(pid), sql, virtual, ended=has_ended(entry))
        return histories.open_transaction(str(pid), number)

    # -- waits -------------------------------------------------------------------------------------

    def _waiting(self, entry: LogEntry) -> Iterator[Conflict]:
        mode, length = MODE.search(entry.message), _LENGTH.search(entry.message)
        if mode is None or length is None or entry.pid is None or _NO_WAIT_OF.match(entry.message):
            return
        pid, ms = entry.pid, _milliseconds(length[0])
        if str(pid) not in NUMBERS.findall(entry.message):
            return
        known = self._waits.get(pid)
        if _ACQUIRED.match(entry.message) or (known is not None and not entry.detail):
            if known is not None:
                self._waits.pop(pid)
                known.since_ms = ms
                known.ended = "went on"
                yield self._wait_conflict(known)
            return
        reported, queue = [*_STOP.split(entry.detail or "", maxsplit=1), ""][:2]
        holders = NUMBERS.findall(reported)
        if (entry.detail or self._has_details) and str(pid) not in NUMBERS.findall(queue):
            # who waits stands in the queue; who has found a deadlock, or got the lock, does not
            return
        if known is not None:
            yield self._wait_conflict(self._waits.pop(pid))
        numbers = tuple(map(int, holders))
        members = (
            self._member(pid, entry.statement, entry),
            *(self._member(one, None, None) for one in numbers),
        )
        began = (entry.at, ms) if entry.at else None
        self._waits[pid] = _OpenWait(entry, pid, mode["mode"], ms, numbers, members, began=began)

    def _wait_conflict(self, wait: _OpenWait) -> Conflict:
        entry = wait.entry
        place = self._place(entry.message, entry.context, entry.statement)
        holders: tuple[int | None, ...] = wait.holders or (None,)
        waits = tuple(
            replace(
                _wait(wait.pid, holder, wait.mode, place, wait.since_ms / 1e3), ended=wait.ended
            )
            for holder in holders
        )
        lasted = (
            "lasted" if wait.ended == "went on" else "had lasted, when the log last reports it,"
        )
        return Conflict(
            kind="wait",
            server=self.rules.name,
            at=entry.at,
            members=wait.members,
            waits=waits,
            victim=None,
            relations=relations_of(waits),
            report=entry.text,
            code=entry.code,
            notes=(f"the wait {lasted} {wait.since_ms:g} ms", *self._of_two_servers(wait.members)),
            provenance=_sources(waits),
            began=wait.began,
        )

    # -- deadlocks ---------------------------------------------------------------------------------

    def _deadlock(self, entry: LogEntry, reported: Sequence[WaitLine]) -> Conflict:
        notes: list[str] = []
        if not reported:
            notes.append(f"{self._why_no_cycle(entry)}: only its victim is known")
            members: tuple[Member, ...] = (
                (self._member(entry.pid, entry.statement, entry),) if entry.pid is not None else ()
            )
            victim = str(entry.pid) if entry.pid is not None else None
            return self._conflict("deadlock", entry, members, (), victim, notes)
        statements = statements_of(entry.detail or "", reported, entry.statement)
        bound = dict(PARAMETER.findall(entry.context or ""))  # by log_parameter_max_length_on_error
        if bound and reported[0].pid in statements:
            values = {int(number): value for number, value in bound.items()}
            statements[reported[0].pid] = with_values(statements[reported[0].pid], values)
        members = tuple(
            self._member(
                one.pid, statements.get(one.pid), entry if one.pid == reported[0].pid else None
            )
            for one in reported
        )
        waits = []
        for one in reported:
            own = one.pid == reported[0].pid
            mode = MODE.search(one.line)
            noted = self._waits.get(one.pid)  # by log_lock_waits, with what it is about
            context = entry.context if own else noted.entry.context if noted else None
            place = self._place(one.line, context, statements.get(one.pid))
            wait = _wait(one.pid, one.blocker, mode["mode"] if mode else "", place)
            waits.append(replace(wait, transaction=_transaction(one.line)))
        return self._conflict("deadlock", entry, members, tuple(waits), str(reported[0].pid), notes)

    def _why_no_cycle(self, entry: LogEntry) -> str:
        if entry.detail is not None:
            return "the details of the cycle cannot be read"
        if self._has_details:
            return (
                "the details of the cycle are missing, while other messages have theirs: lines of"
                " the log are lost"
            )
        return (
            "the log has no details of the cycle (log_error_verbosity = terse, or their lines were"
            " left out)"
        )

    def _single(self, entry: LogEntry, kind: str) -> Conflict:
        """A conflict of which the log names one side only, and perhaps who held the lock while it
        waited.
        """
        wait = self._waits.pop(entry.pid, None) if entry.pid is not None else None
        members = [self._member(entry.pid, entry.statement, entry)] if entry.pid is not None else []
        waits: tuple[CapturedWait, ...] = ()
        place = self._place(entry.message, entry.context, entry.statement)
        if (
            entry.code != _REFUSED
            and entry.pid is not None
            and not entry.message.startswith("could not serialize")
        ):
            holders: tuple[int | None, ...] = wait.holders if wait else (None,)
            waits = tuple(
                _wait(entry.pid, holder, wait.mode if wait else "", place) for holder in holders
            )
            members += wait.members[1:] if wait else []
        relations = relations_of(waits) or ((place.table,) if place.table else ())
        victim = str(entry.pid) if entry.pid is not None else None
        found = self._conflict(kind, entry, tuple(members), waits, victim, [])
        return replace(found, relations=relations, began=wait.began if wait else None)

    def _conflict(
        self,
        kind: str,
        entry: LogEntry,
        members: tuple[Member, ...],
        waits: tuple[CapturedWait, ...],
        victim: str | None,
        notes: Sequence[str],
    ) -> Conflict:
        return Conflict(
            kind=kind,  # type: ignore[arg-type]
            server=self.rules.name,
            at=entry.at,
            members=members,
            waits=waits,
            victim=victim,
            relations=relations_of(waits),
            report=entry.text,
            code=entry.code,
            notes=(*notes, *self._of_two_servers(members)),
            provenance={**_sources(waits), "victim": "captured" if victim else "unknown"},
        )

    def _of_two_servers(self, members: Sequence[Member]) -> Iterator[str]:
        if twice := [
            f"process {member.session}"
            for member in members
            if member.session in map(str, self._mixed)
        ]:
            yield (
                f"{listed(twice)} stand for two sessions at once in this log, so it is of two"
                " servers: what such a process ran before is left out"
            )

    # -- details -----------------------------------------------------------------------------------

    def _member(self, pid: int | None, statement: str | None, entry: LogEntry | None) -> Member:
        unclear = entry is None and pid in self._mixed  # which of the two it is
        who = entry if entry is not None and (entry.application or entry.user) else None
        opened = None
        if pid is not None and not unclear:
            ran = self._ran.get(pid)
            who = who or self._who.get(pid) or (ran[-1] if ran else None)
            opened = self._opened(pid, entry.transaction if entry is not None else None)
        history = history_of(opened, statement)
        known: dict[str, Provenance] = {
            "session": "captured",
            "statement": "captured" if statement else "unknown",
            "history": "recovered" if history else "unknown",
            "application": "captured" if who and who.application else "unknown",
            "isolation": "recovered" if opened and opened.isolation else "unknown",
        }
        if history and (statement is None or statement.endswith(CUT)):
            statement, known["statement"] = history[-1], "recovered"
        return Member(
            session=str(pid),
            application=who.application if who else None,
            user=who.user if who else None,
            database=who.database if who else None,
            statement=statement,
            history=history,
            isolation=opened.isolation if opened else None,
            whole=opened is not None and opened.explicit,
            provenance=known,
        )

    def _place(self, message: str, context: str | None, statement: str | None) -> _Place:
        """What a wait is for: the message's own words, the context of the session that wrote it,
        its statement.
        """
        context = (context or "").strip()
        table, source = self._table_of(statement)
        if (address := _address(context)) and (named := _named(context.split("\n")[0])):
            mine = {name for name, _ in self.rules.sql.tables_of(statement or "")}
            if table and named[-1] not in mine and "\n" not in context:  # a unique index's entry
                text = f"an entry of index {named[-1]} of {table}"
                return _Place(text, table, source, named[-1])
            return _Place(f"{named[-1]} row at {address}", named[-1], "captured", address=address)
        if named := [name for name in _named(message) if not _NO_NAME.search(name)]:
            text = f"{named[-1]} row" if "row" in message else named[-1]
            return _Place(text, named[-1], "captured")
        if advisory := _ADVISORY.search(message):
            return _Place(f"advisory lock {_advisory(advisory)}", None, "captured")
        if virtual := _VIRTUAL.search(message):
            return _Place(f"the end of the transaction {virtual[1]}", None, "captured")
        numbers = NUMBERS.findall(message)
        if address := _address(message):
            relation = numbers[-3] if len(numbers) > 3 else numbers[1] if len(numbers) > 1 else "?"
            text = f"{table or f'relation {relation}'} row at {address}"
            return _Place(text, table, source, address=address)
        if _RELATION.search(message) and len(numbers) > 2:
            return _Place(table or f"relation {numbers[1]}", table, source)
        if len(numbers) > 1 and MODE.search(message):
            text = f"a row of {table}" if table else f"the end of transaction {numbers[1]}"
            return _Place(text, table, source)
        return _Place("a lock", table, source)

    def _table_of(self, statement: str | None) -> tuple[str | None, Provenance]:
        """The table that a statement writes or locks, where it is one alone."""
        if not statement:
            return None, "unknown"
        tables = self.rules.sql.tables_of(statement)
        locked = [name for name, writes in tables if writes] or [name for name, _ in tables]
        return (locked[0], "assumed") if len(set(locked)) == 1 else (None, "unknown")


def _wait(
    waiter: int, holder: int | None, mode: str, place: _Place, seconds: float | None = None
) -> CapturedWait:
    reported: Provenance = "captured"
    return CapturedWait(
        waiter=str(waiter),
        holder=str(holder) if holder is not None else None,
        object=place.text,
        mode=mode,
        table=place.table,
        index=place.entry_of,
        address=place.address,
        seconds=seconds,
        provenance={
            "object": place.source if place.table else reported,
            "mode": reported if mode else "unknown",
            "holder": reported if holder is not None else "unknown",
        },
    )


def _named(text: str) -> list[str]:
    """The relations that a message quotes."""
    return [next(name for name in names if name) for names in _LOCK_NAMED.findall(text)]


def _address(text: str) -> str | None:
    """Of a row's version: block and place, as ``(0,2)``."""
    found = _TUPLE.search(text)
    return f"({','.join(part for part in found.groups() if part is not None)})" if found else None


def _transaction(message: str) -> str | None:
    """The transaction for whose end a session waits: the one number between those of the two
    sessions.
    """
    numbers = NUMBERS.findall(message)
    plain = not (_TUPLE.search(message) or _ADVISORY.search(message) or _VIRTUAL.search(message))
    return str(numbers[1]) if plain and len(numbers) == 3 else None


def _sources(waits: Sequence[CapturedWait]) -> dict[str, Provenance]:
    named = [wait.provenance.get("object", "unknown") for wait in waits if wait.table]
    if not named:
        return {"relations": "unknown"}
    return {"relations": "captured" if all(one == "captured" for one in named) else "assumed"}


def _is(entry: LogEntry, *words: str) -> bool:
    return any(word in entry.message for word in words)


def _milliseconds(text: str) -> float:
    return float(text.rstrip(".").replace(",", "."))


def _advisory(found: re.Match[str]) -> str:
    """As the functions take it: one number of 64 bits, or two of 32 (lock.h,
    ``SET_LOCKTAG_ADVISORY``).
    """
    _, first, second, kind = (int(part) for part in found.groups())
    return str((first << 32) + second) if kind == 1 else f"({first}, {second})"
