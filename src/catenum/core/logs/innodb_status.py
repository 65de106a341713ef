"""Reads what ``SHOW ENGINE INNODB STATUS`` says of transactions, their locks, and the latest
deadlock.

Pure text work, apart from the connection: the same text may come from a log. Locks held are listed
only with ``innodb_status_output_locks`` on. Record dumps are decoded to column values by the types
of the index's columns (InnoDB's row formats: integers big-endian with the sign bit turned round,
NULL marked as such, strings as bytes).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from catenum.core.logs.innodb_fields import CUT
from catenum.core.logs.innodb_report import goes_on, headings
from catenum.core.record.modes import Covers, Mode

#: What the text says of a record lock, and what it is called here.
_KINDS: tuple[tuple[str, Covers], ...] = (
    ("insert intention", "insert intention"),
    ("locks gap before rec", "gap"),
    ("locks rec but not gap", "record"),
)
SUPREMUM = "supremum"


@dataclass(frozen=True, slots=True)
class RecordLock:
    """One lock on one record of an index, or on a whole table (``index`` None).

    ``fields`` are the record's fields as (hex, or None for NULL); ``place`` distinguishes records:
    space, page and heap number.
    """

    schema: str
    table: str
    index: str | None
    mode: Mode
    waiting: bool
    place: tuple[int, int, int] | None = None
    fields: tuple[str | None, ...] = ()
    supremum: bool = False
    owner: int = 0


@dataclass(slots=True)
class TransactionSection:
    """What the status says of one transaction.

    ``number`` is 0 for one that has only read; ``thread`` 0 for an internal one. ``rows``: locks on
    rows, the one that it waits for among them; ``active_s``: its age, None where it has not begun.
    """

    number: int
    thread: int = 0
    waiting: bool = False
    waited_us: float = 0.0
    query: str = ""
    undo: int = 0
    rows: int = 0
    active_s: int | None = None
    undoing: bool = False
    locks: list[RecordLock] = field(default_factory=list)
    suppressed: bool = False  # it has more locks than are printed

    @property
    def waits_on(self) -> RecordLock | None:
        return next((lock for lock in self.locks if lock.waiting), None)


@dataclass(frozen=True, slots=True)
class ReportedMember:
    """One transaction of the latest deadlock: who it is, what it waited for, and which lock stood
    in the way.
    """

    number: int
    thread: int
    query: str
    waits: RecordLock | None
    conflicting: tuple[RecordLock, ...]


@dataclass(frozen=True, slots=True)
class ReportedDeadlock:
    """The latest detected deadlock. ``victim`` counts members from 0; ``text`` is the whole
    section.
    """

    members: tuple[ReportedMember, ...]
    victim: int | None
    text: str


_HEADER = re.compile(r"^(?:---)?TRANSACTION (?:\((0x[0-9a-f]+)\)|(\d+)), (.*)$", re.MULTILINE)
_ACTIVE = re.compile(r"ACTIVE(?: \([A-Z ]+\))? (\d+) sec")
_ROWS = re.compile(r"(\d+) row lock\(s\)")
_UNDO = re.compile(r"undo log entries (\d+)")
_THREAD = re.compile(r"^(?:MariaDB|MySQL) thread id (\d+), ")
_WAITED = re.compile(r"^------- TRX HAS BEEN WAITING (\d+) (us|ns|SEC|sec|seconds)")
_NAME = r"`((?:[^`]|``)+)`"
#: A partition is told behind the table: ``/* Partition `low` */``.
_PART = r"(?: /\* Partition .*? \*/)?"
_RECORD = re.compile(
    rf"^RECORD LOCKS space id (\d+) page no (\d+) .*? index (.+?) of table {_NAME}\.{_NAME}{_PART}"
    r" trx id (\d+) (.*)$"
)
_TABLE = re.compile(
    rf"^TABLE LOCK table {_NAME}\.{_NAME}{_PART} trx id (\d+) lock mode (\S+)( waiting)?"
)
_HEAP = re.compile(r"^Record lock, heap no (\d+)")
_FIELD = re.compile(r"^ \d+: (?:len (\d+); hex ([0-9a-f]*);(?:.*(\(total \d+ bytes\)))?|SQL NULL)")


def is_cut(status: str) -> bool:
    """Whether the text was too long for the server to print all of it (1 MB), transactions being
    what it leaves out.
    """
    return "... truncated..." in status


#: Statements are cut at so many bytes in the list of transactions
#: (``lock_print_info_all_transactions``).
MOST_LISTED = 600
_LIST = "LIST OF TRANSACTIONS FOR EACH SESSION:\n"
#: How lines begin that may follow a statement.
_BEHIND_STATEMENT = ("---", "TABLE LOCK", "RECORD LOCKS", "Trx read view")


def transactions(status: str) -> list[TransactionSection]:
    """The transactions of the section ``LIST OF TRANSACTIONS``. Lines within a text of a statement
    are none of its.
    """
    if status.count(_LIST) > 1 and "LATEST DETECTED DEADLOCK" in status:
        status = status[_end_of_latest(status) :]  # its statements may have that line, too
    found: list[TransactionSection] = []
    own: list[str] | None = None  # the lines of the latest, but for its statement
    statement: list[str] | None = None
    for line in status.partition(_LIST)[2].split("\n"):
        if statement is not None:
            if not line.startswith(_BEHIND_STATEMENT) or goes_on(statement, MOST_LISTED):
                statement.append(line)
                continue
            found[-1].query, statement = "\n".join(statement).strip(), None
        if line == "FILE I/O":
            break
        if line.startswith("---TRANSACTION "):
            _fill(found, own or ())
            header, own = _HEADER.match(line), None
            if header is not None:
                own = []
                active = _ACTIVE.search(header[3])
                age = int(active[1]) if active else None
                undoing = "rollback" in header[3].lower()
                found.append(TransactionSection(int(header[2] or 0), active_s=age, undoing=undoing))
            continue
        if own is not None:
            own.append(line)
            statement = [] if _THREAD.match(line) else None
    if statement is not None:
        found[-1].query = "\n".join(statement).strip()
    _fill(found, own or ())
    return found


def _end_of_latest(status: str) -> int:
    begins = status.index("LATEST DETECTED DEADLOCK")
    begins = status.find("*** (1) TRANSACTION:", begins)
    lines = status[begins:].split("\n")
    last = headings(lines)[-1:]
    return (
        begins + sum(len(line) + 1 for line in lines[: last[0][0]]) if begins >= 0 and last else 0
    )


def _fill(found: Sequence[TransactionSection], lines: Sequence[str]) -> None:
    """The latest of the transactions, by its lines but for its statement."""
    if not lines:
        return
    section = found[-1]
    for line in lines:
        if thread := _THREAD.match(line):
            section.thread = int(thread[1])
            continue
        if waited := _WAITED.match(line):
            section.waited_us = float(waited[1]) * {"us": 1.0, "ns": 1e-3}.get(waited[2], 1e6)
        if line.startswith("LOCK WAIT"):
            section.waiting = True
        if "SUPPRESSING FURTHER PRINTS" in line:
            section.suppressed = True
        if rows := _ROWS.search(line):
            section.rows = int(rows[1])
        if line.startswith("ROLLING BACK"):
            section.undoing = True
        if undo := _UNDO.search(line):
            section.undo = int(undo[1])
    # the lock waited for is printed twice: once by itself, once among all locks
    section.locks = list(dict.fromkeys(_locks(lines)))


def _locks(lines: Sequence[str]) -> Iterator[RecordLock]:
    """The locks in a run of lines; a lock on several records gives one for each."""
    at = 0
    while at < len(lines):
        table, record = _TABLE.match(lines[at]), _RECORD.match(lines[at])
        at += 1
        if table:
            yield RecordLock(
                _name(table[1]),
                _name(table[2]),
                None,
                Mode("table", table[4]),
                waiting=bool(table[5]),
                owner=int(table[3]),
            )
        elif record:
            space, page, index, schema, name, owner, reported = record.groups()
            mode, waiting = _mode(reported)
            start = at
            while at < len(lines) and not lines[at].startswith(
                ("RECORD LOCKS", "TABLE LOCK", "---", "***")
            ):
                at += 1
            for heap, fields, supremum in _records(lines[start:at]):
                only_gap = (
                    supremum and mode.covers == "next-key"
                )  # behind the last row there is only a gap
                shown = replace(mode, covers="gap") if only_gap else mode
                yield RecordLock(
                    _name(schema),
                    _name(name),
                    index,
                    shown,
                    waiting,
                    (int(space), int(page), heap),
                    fields,
                    supremum,
                    int(owner),
                )


def _name(text: str) -> str:
    return text.replace("``", "`")


def _mode(reported: str) -> tuple[Mode, bool]:
    """``lock_mode X locks rec but not gap waiting`` as (``X record``, True)."""
    letter = re.match(r"lock[_ ]mode (\w)", reported)
    covers: Covers = next((name for words, name in _KINDS if words in reported), "next-key")
    return Mode("record", letter[1] if letter else "?", covers), reported.rstrip().endswith(
        "waiting"
    )


def _records(lines: Sequence[str]) -> Iterator[tuple[int, tuple[str | None, ...], bool]]:
    heap: int | None = None
    fields: list[str | None] = []
    for line in [*lines, "Record lock, heap no 0"]:
        start = _HEAP.match(line)
        if start:
            if heap is not None:
                supremum = len(fields) == 1 and fields[0] == SUPREMUM.encode().hex()
                yield heap, tuple(fields), supremum
            heap, fields = int(start[1]), []
            continue
        found = _FIELD.match(line)
        if found:
            fields.append(found[2] + (CUT if found[3] else "") if found[1] is not None else None)


def latest_deadlock(status: str) -> ReportedDeadlock | None:
    """The section ``LATEST DETECTED DEADLOCK``; None where there was none since the server
    started.
    """
    _, found, rest = status.partition("LATEST DETECTED DEADLOCK\n------------------------\n")
    if not found:
        return None
    lines = rest.split("\n")
    last = headings(lines)[-1:]
    whole = bool(last) and last[0][1].victim is not None
    return report_of(
        "\n".join(lines[: last[0][0] + 1])
        if whole
        else rest.partition("\n------------\nTRANSACTIONS")[0]
    )


def report_of(text: str) -> ReportedDeadlock:
    """A report as it stands in that section, or in a log."""
    lines = text.split("\n")
    found = headings(lines)
    ends = [number for number, _ in found[1:]] + [len(lines)]
    members: list[dict[str, list[str]]] = []
    for (number, heading), end in zip(found, ends, strict=True):
        part = lines[number + 1 : end]
        if heading.member is not None:
            members.append({"": part})
        elif heading.what is not None and members:
            members[-1].setdefault(heading.what, part)
    read = [_member(parts) for parts in members]
    held = [lock for _, holds in read for lock in holds]
    whole = tuple(
        member if member.conflicting else replace(member, conflicting=_in_the_way(member, held))
        for member, _ in read
    )
    victim = found[-1][1].victim if found else None
    return ReportedDeadlock(whole, victim - 1 if victim else None, text.strip())


def same_place(one: RecordLock, other: RecordLock) -> bool:
    """Whether two locks are on the same record, or on the same table."""
    return (one.schema, one.table, one.index, one.place) == (
        other.schema,
        other.table,
        other.index,
        other.place,
    )


def _in_the_way(member: ReportedMember, held: Sequence[RecordLock]) -> tuple[RecordLock, ...]:
    """Of the locks that the others are said to hold, those on what a member waits for."""
    wants = member.waits
    if wants is None:
        return ()
    return tuple(lock for lock in held if lock.owner != member.number and same_place(lock, wants))


def _member(parts: Mapping[str, Sequence[str]]) -> tuple[ReportedMember, tuple[RecordLock, ...]]:
    """One member by the lines under each of its headings, and what it is said to hold: MariaDB says
    what is in a member's way, MySQL what each member holds.
    """
    own = parts[""]
    begins = next((n for n, line in enumerate(own) if _THREAD.match(line)), len(own) - 1)
    header = _HEADER.search("\n".join(own[:begins]))  # in a log an empty line stands before it
    thread = _THREAD.match(own[begins]) if own else None
    member = ReportedMember(
        number=int(header[2] or 0) if header else 0,
        thread=int(thread[1]) if thread else 0,
        query="\n".join(own[begins + 1 :]).strip(),
        waits=next(_locks(parts.get("WAITING FOR THIS LOCK", ())), None),
        conflicting=tuple(_locks(parts.get("CONFLICTING WITH:", ()))),
    )
    return member, tuple(_locks(parts.get("HOLDS THE LOCK", ())))


def holder_of(member: ReportedMember, members: tuple[ReportedMember, ...]) -> ReportedMember | None:
    """Whom ``member`` waits for: whose lock stands in its way; where none is told, the cycle is
    printed so that each waits for the next, the last for the first.
    """
    owners = {lock.owner for lock in member.conflicting}
    named = [other for other in members if other is not member and other.number in owners]
    if len(named) == 1:
        return named[0]
    place = members.index(member)
    return members[(place + 1) % len(members)] if len(members) > 1 else None
