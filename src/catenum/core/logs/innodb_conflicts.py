"""Deadlocks as InnoDB reports them, and the statements of their members from a general log.

The values of records are told by the types of their columns, where these are known; otherwise
numbers and texts are taken for what they look like, and are marked as assumed.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace

from catenum.core.logs import LogEntry
from catenum.core.logs.conflicts import (
    CUT,
    CapturedWait,
    Conflict,
    Member,
    Provenance,
    relations_of,
    same_statement,
)
from catenum.core.logs.histories import Histories, Open
from catenum.core.logs.innodb_fields import CUT as FIELD_CUT
from catenum.core.logs.innodb_fields import decode, key_fields
from catenum.core.logs.innodb_report import MOST_STATEMENT
from catenum.core.logs.innodb_status import (
    RecordLock,
    ReportedDeadlock,
    ReportedMember,
    holder_of,
    report_of,
    same_place,
)
from catenum.core.logs.sequels import Sequels
from catenum.core.servers import Rules

#: The columns of an index's entries with their types, by table and index; None where they are not
#: known.
Columns = Callable[[str, str], Sequence[tuple[str, str]] | None]


class InnodbConflicts:
    """See ``ConflictReader``. Statements of a general log may come before the report or after
    it.
    """

    def __init__(self, rules: Rules) -> None:
        self.rules = rules

    def read(self, entries: Iterable[LogEntry]) -> Iterator[Conflict]:
        for entry in entries:
            if entry.is_deadlock:
                yield self._conflict(entry)

    def finish(self) -> Iterator[Conflict]:
        """A deadlock is one message."""
        yield from ()

    def continued(self, found: Sequence[Conflict]) -> list[Conflict]:
        """A report has nothing of that; a general log has (``recovered``)."""
        return list(found)

    def recovered(self, found: Sequence[Conflict], entries: Iterable[LogEntry]) -> list[Conflict]:
        """By a general log: of each member's connection, the transaction in which its statement ran
        last before.

        Its times are whole seconds on MariaDB, so the order within one second is that of the
        statements.
        """
        wanted: dict[str, list[tuple[int, str]]] = {}
        for number, conflict in enumerate(found):
            for member in conflict.members:
                if member.statement:
                    wanted.setdefault(member.session, []).append((number, member.statement))
        seen: dict[tuple[int, str], Member] = {}
        begun: dict[
            tuple[int, str], int
        ] = {}  # where in what its session ran the statement that waited stands
        ran: dict[str, list[str]] = {session: [] for session in wanted}
        for session, at, opened, text in self._run_by(wanted, entries):
            for number, statement in wanted[session]:
                if (
                    opened
                    and opened.statements
                    and same_statement(opened.statements[-1], statement)
                ):
                    place = (number, session)
                    own = found[number].member(session)
                    if own is not None and (place not in seen or not _later(at, found[number].at)):
                        seen[place] = _with(own, opened)
                        begun[place] = len(ran[session])
            ran[session].append(text)
        whole = [
            replace(
                conflict, members=tuple(seen.get((number, m.session), m) for m in conflict.members)
            )
            for number, conflict in enumerate(found)
        ]
        sequels = Sequels(self.rules)
        for (number, session), place_in_session in begun.items():
            conflict = whole[number]
            if session != conflict.victim:
                sequels.follow(replace(conflict, members=(seen[number, session],)))
                for text in ran[session][place_in_session + 1 :]:
                    sequels.ran(session, text)
                sequels.gone(session)
        return sequels.added_to(whole)

    def _run_by(
        self, sessions: Collection[str], entries: Iterable[LogEntry]
    ) -> Iterator[tuple[str, str | None, Open | None, str]]:
        """What each of these sessions ran, in the log's order: when, with the transaction that it
        then had open.
        """
        histories = Histories(self.rules)
        for entry in entries:
            session = str(entry.pid)
            if entry.severity != "GENERAL" or session not in sessions:
                continue
            if entry.message in ("Connect", "Change user", "Reset Connection"):
                histories.connected(session)
            elif entry.message == "Quit":
                histories.gone(session)
            if not entry.statement:
                continue
            histories.ran(session, entry.statement)
            yield session, entry.at, histories.open_transaction(session), entry.statement

    def _conflict(self, entry: LogEntry) -> Conflict:
        report = report_of(entry.text)
        if not all(member.thread for member in report.members):
            return self._without_members(entry)
        members = _in_cycle_order(report)
        found = tuple(self._member(member) for member in members)
        waits = tuple(
            wait for member in members if (wait := self._wait(member, report)) is not None
        )
        fell = (
            report.victim
            if report.victim is not None and report.victim < len(report.members)
            else None
        )
        victim = str(report.members[fell].thread) if fell is not None else None
        notes = (
            []
            if len(members) == len(report.members)
            else ["not every member of the report is in one cycle"]
        )
        return Conflict(
            kind="deadlock",
            server=self.rules.name,
            at=entry.at,
            members=found,
            waits=waits,
            victim=victim,
            relations=relations_of(waits),
            report=entry.text,
            code="1213",
            notes=tuple(notes),
            provenance={
                "relations": "captured" if waits else "unknown",
                "victim": "captured" if victim else "unknown",
            },
        )

    def _without_members(self, entry: LogEntry) -> Conflict:
        """A report of which only the headings are there, as MySQL's performance schema keeps it."""
        return Conflict(
            kind="deadlock",
            server=self.rules.name,
            at=entry.at,
            members=(),
            waits=(),
            victim=None,
            relations=(),
            report=entry.text,
            code="1213",
            notes=(
                "only the headings of the report are there: the error log as a file has the rest",
            ),
            provenance={"relations": "unknown", "victim": "unknown"},
        )

    def _member(self, member: ReportedMember) -> Member:
        statement = member.query or None
        cut = statement is not None and len(statement) >= MOST_STATEMENT
        statement = f"{statement}{CUT}" if cut else statement
        known: dict[str, Provenance] = {
            "session": "captured",
            "statement": "captured" if statement else "unknown",
            "history": "unknown",
            "application": "unknown",
            "isolation": "unknown",
        }
        return Member(session=str(member.thread), statement=statement, provenance=known)

    @staticmethod
    def _wait(member: ReportedMember, report: ReportedDeadlock) -> CapturedWait | None:
        lock = member.waits
        if lock is None:
            return None
        holder = holder_of(member, report.members)
        own = [
            k.mode
            for k in member.conflicting
            if holder and k.owner == holder.number and not k.waiting
        ]
        # a lock on the gap alone holds up nobody who wants the record
        fits = [
            mode for mode in own if mode.covers != "gap" or lock.mode.covers == "insert intention"
        ]
        held = next(iter(fits or own), None)
        ahead = (
            held is None
            and holder is not None
            and holder.waits is not None
            and same_place(holder.waits, lock)
        )
        return CapturedWait(
            queued=ahead,
            waiter=str(member.thread),
            holder=str(holder.thread) if holder else None,
            object=object_of(
                lock, None, {n for one in report.members for n in _LITERAL.findall(one.query or "")}
            ),
            mode=str(lock.mode),
            table=lock.table,
            index=lock.index,
            held=str(held) if held else None,
            gap=lock.mode.covers in ("gap", "insert intention"),
            record=tuple(guessed(value) for value in lock.fields) if not lock.supremum else (),
            key_fields=key_fields(lock.fields),
            provenance={
                "object": "assumed" if lock.fields and not lock.supremum else "captured",
                "mode": "captured",
                "holder": "captured" if holder else "unknown",
            },
        )


#: A number in a statement.
_LITERAL = re.compile(r"(?<![\w.])-?\d+(?![\w.])")


def _in_cycle_order(report: ReportedDeadlock) -> tuple[ReportedMember, ...]:
    """Each waits for the next; where the report's own order is not that, it is followed from the
    first.
    """
    if not report.members:
        return ()
    found = [report.members[0]]
    while len(found) < len(report.members):
        following = holder_of(found[-1], report.members)
        if following is None or following in found:
            break
        found.append(following)
    return tuple(found) if len(found) > 1 else report.members


def object_of(
    lock: RecordLock, columns: Sequence[tuple[str, str]] | None, literals: Collection[str] = ()
) -> str:
    """What a lock is on: the table, and of an index the entry, by its values. ``literals``: numbers
    that the members' statements have, so that bytes which can be one of these are.
    """
    if lock.index is None:
        return lock.table
    via = "" if lock.index == "PRIMARY" else f" in index {lock.index}"
    if lock.supremum:
        return f"{lock.table}: the gap after the last entry{via}"
    values = [shown(value, literals) for value in lock.fields]
    width = len(columns) if columns else 1 if lock.index == "PRIMARY" else len(values)
    reported = ", ".join("NULL" if value is None else value for value in values[:width])
    gap = lock.mode.covers in ("gap", "insert intention")
    return (
        f"{lock.table}: the gap before ({reported}){via}"
        if gap
        else f"{lock.table}({reported}){via}"
    )


def shown(value: str | None, literals: Collection[str]) -> str | None:
    """A field as it can be told for certain: bytes without a type are a number only if a statement
    has that number.
    """
    guess, number = _guess(value)
    if value is None or not number or guess in literals:
        return guess
    return f"0x{value.removesuffix(FIELD_CUT)}, {guess} if it is a number"


def guessed(value: str | None) -> str | None:
    """A field's hex as what it looks like where no type is known: a number with its sign turned, a
    text, or hex.
    """
    return _guess(value)[0]


def _guess(value: str | None) -> tuple[str | None, bool]:
    """The same, and whether it was taken for a number.

    Integers have 1 to 8 bytes, the sign bit turned round (InnoDB's row formats).
    """
    if value is None:
        return None, False
    whole = value.removesuffix(FIELD_CUT)
    data = bytes.fromhex(whole)
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError:
        text = ""
    if text and text.isprintable() and not (len(data) in (4, 8) and data[0] in (0x7F, 0x80)):
        return text.rstrip(" ") + (CUT if whole != value else ""), False
    if len(data) in (1, 2, 3, 4, 8):
        return str(int.from_bytes(data, "big") - (1 << (8 * len(data) - 1))), True
    return "0x" + whole, False


def _later(at: str | None, than: str | None) -> bool:
    """Whether a time of the general log is behind one of the error log, as far as both are times of
    one zone.
    """
    digits = [re.sub(r"\D", "", re.sub(r"[ T](\d):", r" 0\1:", text or "")) for text in (at, than)]
    one, other = (
        text[2:] if len(text) >= 14 and text.startswith("20") else text for text in digits
    )
    return bool(one and other) and one[:12] > other[:12]


def _with(member: Member, opened: Open) -> Member:
    history, isolation = tuple(opened.statements), opened.isolation
    known: dict[str, Provenance] = {**member.provenance, "history": "recovered"}
    if isolation:
        known["isolation"] = "recovered"
    statement = member.statement
    if statement and statement.endswith(CUT):
        statement, known["statement"] = history[-1], "recovered"
    return replace(
        member,
        history=history,
        isolation=isolation,
        statement=statement,
        whole=opened.whole,
        provenance=known,
    )


#: A line of the general log: perhaps a time, the connection, the command, its text.
_GENERAL = re.compile(
    r"(?P<at>\d{4}-\d\d-\d\dT[\d:.]+\S*|\d{6} +\d{1,2}:\d\d:\d\d)?\t+ *(?P<thread>\d+) "
    r"(?P<command>Query|Execute|Prepare|Connect|Quit|Init DB|Close stmt|Reset"
    r" stmt|Statistics|Ping|Field List|"
    r"Change user|Set option|Fetch|Long Data|Reset Connection)\t?(?P<text>.*)$"
)


def general_lines(head: str) -> int:
    """How many lines of a text are those of a general log."""
    return sum(_GENERAL.match(line) is not None for line in head.split("\n"))


class GeneralLog:
    """The general log of MariaDB and MySQL as a file: what each connection sent, before it ran."""

    def __init__(self) -> None:
        self.left, self.seen = "", 0
        self._open: dict[str, str | None] | None = None
        self._at: str | None = None

    def feed(self, text: str) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        lines = (self.left + text).split("\n")
        self.left = lines.pop()
        for line in lines:
            found = _GENERAL.match(line)
            if found is None:
                if self._open is not None:
                    self._open["text"] = f"{self._open['text']}\n{line}"
                continue
            yield from self.finish()
            self._at = found["at"] or self._at
            self._open = {**found.groupdict(), "at": self._at}

    def finish(self) -> Iterator[LogEntry]:
        """See ``LogReader``."""
        reported, self._open = self._open, None
        if reported is not None:
            self.seen += 1
            runs = reported["command"] in ("Query", "Execute")
            yield LogEntry(
                at=reported["at"],
                pid=int(reported["thread"] or 0),
                severity="GENERAL",
                message=reported["command"] or "",
                statement=(reported["text"] or "").rstrip("\n") if runs else None,
            )


def with_types(conflict: Conflict, columns: Columns) -> Conflict:
    """The same with the records' values by the types of their columns, where these are known."""
    by_thread: Mapping[str, RecordLock] = {
        str(m.thread): m.waits for m in report_of(conflict.report).members if m.waits is not None
    }
    waits = []
    for wait in conflict.waits:
        lock = by_thread.get(wait.waiter)
        known = columns(lock.table, lock.index) if lock is not None and lock.index else None
        if lock is not None and known and not lock.supremum:
            pairs = [
                (name, decode(v, kind))
                for (name, kind), v in zip(known, lock.fields, strict=False)
                if name
            ]
            row = {
                name: value
                for name, value in pairs
                if value is not None and not value.endswith(FIELD_CUT)
            }
            reported: dict[str, Provenance] = {**wait.provenance, "object": "recovered"}
            key = known[: known.index(("", ""))] if ("", "") in known else known
            wait = replace(wait, object=resource_text(lock, key), row=row, provenance=reported)
        waits.append(wait)
    return replace(conflict, waits=tuple(waits))


def resource_text(lock: RecordLock, columns: Sequence[tuple[str, str]]) -> str:
    """What a lock is on, by the types of the index's columns."""
    via = "" if lock.index == "PRIMARY" else f" in index {lock.index}"
    if lock.supremum:
        return f"{lock.table}: the gap after the last entry{via}"
    pairs = [
        (name, decode(value, kind))
        for (name, kind), value in zip(columns, lock.fields, strict=False)
    ]
    reported = ", ".join(f"{name}={'NULL' if value is None else value}" for name, value in pairs)
    gap = lock.mode.covers in ("gap", "insert intention")
    return (
        f"{lock.table}: the gap before ({reported}){via}"
        if gap
        else f"{lock.table}({reported}){via}"
    )
