"""Which moves depend on each other: what must not be exchanged lest something else come out.

The relation of Mazurkiewicz (1977), read off the statements' footprints: two moves are independent where no row, no
table and no lock is common to them in a way that counts. Rows are told apart where a unique key is compared with
constants; a table is taken whole where it is not, and everything where the text cannot be understood. When in doubt
two moves depend: a schedule too many costs time, one too few costs the truth.

What counts beyond the rows themselves:

- A transaction's end lets go of its locks and shows its changes, so it depends on whatever of another transaction
  meets one of its statements.
- A plain read under snapshots (PostgreSQL documentation, 13.2; MariaDB documentation, "Transactions: Repeatable
  Read") meets another transaction's end, not its statements. Where the snapshot is the transaction's, the statement
  that takes it depends on the end of every writer of what the transaction ever touches.
- On PostgreSQL's serializable level who is refused can turn on any order within a group of connected transactions
  (Ports and Grittner 2012): there all moves depend.
- Under InnoDB's gap locks an insert meets every locking access to its table.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from enum import IntEnum
from itertools import combinations

from catenum.core.recording import TableKeys
from catenum.core.scenario import Scenario
from catenum.core.statements import Access, Footprint, footprint

#: A transaction and the number of its statement, from 0; None for its end.
Step = tuple[str, int | None]
Key = tuple[tuple[str, ...], tuple[str, ...]]  # a unique index's columns, and the values they are compared with

_CATALOGUES = ("pg_catalog", "information_schema", "performance_schema")


class Mode(IntEnum):
    """How a statement touches what it touches, from the mildest."""

    READ = 0  # under a snapshot: sees what was committed
    DIRTY = 1  # sees what was not
    SHARE = 2
    LOCK = 3
    WRITE = 4
    INSERT = 5
    SCHEMA = 6


@dataclass(frozen=True, slots=True)
class Touch:
    """One table as one statement touches it; ``keys`` None: any of its rows. ``table`` None: anything at all."""

    table: str | None
    mode: Mode
    keys: frozenset[Key] | None = None


ANYTHING = Touch(None, Mode.SCHEMA)
#: No names that a table could have here: they are lower-case words of one part.
SEQUENCES, NAMED_LOCKS = "every sequence", "every named lock"


def meets(a: Touch, b: Touch, *, gaps: bool = False) -> bool:
    """Whether two statements that touch so depend on each other. ``gaps``: locks cover the space between rows."""
    low, high = sorted((a, b), key=lambda touch: touch.mode)
    if not _modes_meet(low.mode, high.mode):
        return False
    if a.table is None or b.table is None:
        return True
    if a.table != b.table:
        return False
    if Mode.SCHEMA in (a.mode, b.mode):
        return True
    if gaps and high.mode is Mode.INSERT and low.mode is not Mode.INSERT:
        return True
    return _rows_meet(a.keys, b.keys)


def end_meets(ended: Touch, b: Touch, *, gaps: bool = False) -> bool:
    """Whether the end of a transaction that touched ``ended`` counts for a statement that touches ``b``."""
    if b.mode is Mode.READ and ended.mode >= Mode.WRITE:
        same = ended.table is None or b.table is None or ended.table == b.table
        return same and (ended.mode is Mode.SCHEMA or _rows_meet(ended.keys, b.keys))
    return meets(ended, b, gaps=gaps)


def _modes_meet(low: Mode, high: Mode) -> bool:
    if high is Mode.SCHEMA:
        return True
    if low is Mode.READ:
        return False
    if low is Mode.DIRTY:
        return high >= Mode.WRITE
    return not low is high is Mode.SHARE


def _rows_meet(a: frozenset[Key] | None, b: frozenset[Key] | None) -> bool:
    """False only where a unique key tells the rows apart: no row has two values of one key."""
    if a is None or b is None:
        return True
    ours, theirs = dict(a), dict(b)
    shared = ours.keys() & theirs.keys()
    apart = [any(_differ(x, y) for x, y in zip(ours[k], theirs[k], strict=True)) for k in shared]
    # Rows that exist are told apart by any key; two that are being inserted collide on whichever key they share.
    if len(ours) > 1 or len(theirs) > 1:
        return not (apart and all(apart))
    return not any(apart)


def _differ(a: str, b: str) -> bool:
    """Whether two constants are certainly different values, whatever the column's type and collation."""
    try:
        return float(a) != float(b)
    except ValueError:
        pass
    if a[:1].isdigit() != b[:1].isdigit():
        return False  # a number against a text: how they compare is the server's affair
    return a.strip().casefold() != b.strip().casefold()


class Dependence:
    """The relation for one scenario on one server. ``footprint_of`` may be another reader of statements."""

    def __init__(
        self,
        scenario: Scenario,
        server: str,
        tables: Mapping[str, TableKeys],
        default_isolation: str,
        *,
        footprint_of: Callable[[str, str], Footprint] = footprint,
    ) -> None:
        self.server = server
        self.tables = {name.lower(): keys for name, keys in tables.items()}
        self.children = {
            parent.lower(): [child for child, keys in self.tables.items() if parent in keys.references]
            for keys in tables.values()
            for parent in keys.references
        }
        self.levels = {n: t.isolation or default_isolation for n, t in scenario.transactions.items()}
        self.statements = {n: [s.text for s in t.statements] for n, t in scenario.transactions.items()}
        self.touches: dict[Step, tuple[Touch, ...]] = {
            (name, number): tuple(self._touches(footprint_of(sql, server), self.levels[name]))
            for name, texts in self.statements.items()
            for number, sql in enumerate(texts)
        }
        self.snapshots = {name: self._snapshot_steps(name) for name in scenario.transactions}
        self._bound = self._bound_groups()
        self._known: dict[tuple[Step, Step], bool] = {}

    # -- the relation ------------------------------------------------------------------------------------------------

    def depend(self, a: Step, b: Step) -> bool:
        """Whether ``a`` and ``b`` must keep their order. Moves of one transaction always must."""
        if a[0] == b[0]:
            return True
        pair = (a, b) if repr(a) <= repr(b) else (b, a)
        if pair not in self._known:
            self._known[pair] = self._depend(a, b)
        return self._known[pair]

    def _depend(self, a: Step, b: Step) -> bool:
        if self._bound.get(a[0], a[0]) == self._bound.get(b[0], b[0]):
            return True
        gaps = self._gaps(a[0], b[0])
        if a[1] is None and b[1] is None:
            return self.linked(a[0], b[0])
        if a[1] is None:
            return self._end_and_statement(a[0], b)
        if b[1] is None:
            return self._end_and_statement(b[0], a)
        return any(meets(x, y, gaps=gaps) for x in self.touches[a] for y in self.touches[b])

    def _end_and_statement(self, ended: str, step: Step) -> bool:
        gaps = self._gaps(ended, step[0])
        theirs = self.all_touches(ended)
        if any(end_meets(x, y, gaps=gaps) for x in theirs for y in self.touches[step]):
            return True
        if step[1] in self.snapshots[step[0]]:
            written = [x for x in theirs if x.mode >= Mode.WRITE]
            return any(end_meets(x, Touch(y.table, Mode.READ)) for x in written for y in self.all_touches(step[0]))
        return False

    def linked(self, a: str, b: str) -> bool:
        """Whether two transactions have anything to do with each other."""
        gaps = self._gaps(a, b)
        return any(
            end_meets(x, y, gaps=gaps) or end_meets(y, x, gaps=gaps)
            for x in self.all_touches(a)
            for y in self.all_touches(b)
        )

    def all_touches(self, name: str) -> list[Touch]:
        """Whatever the transaction touches."""
        return [touch for n in range(len(self.statements[name])) for touch in self.touches[name, n]]

    def not_understood(self) -> list[Step]:
        """Statements that had to be taken for touching anything."""
        return [step for step, touches in self.touches.items() if ANYTHING in touches]

    # -- what a statement touches ------------------------------------------------------------------------------------

    def _touches(self, found: Footprint, level: str) -> Iterator[Touch]:
        if not found.parsed or found.calls_unknown:
            yield ANYTHING
            return
        if {"nextval", "lastval", "currval"} & set(found.by_nature):
            yield Touch(SEQUENCES, Mode.WRITE)
        if found.named_locks:
            yield Touch(NAMED_LOCKS, Mode.WRITE)
        writes = any(access.writes for access in found.accesses)
        alone = len(found.accesses) == 1
        for access in found.accesses:
            if (access.schema or "").lower() in _CATALOGUES:
                continue
            keys = self.tables.get(access.table.lower())
            if keys is None or (keys.triggers and access.writes):
                yield ANYTHING
                return
            mode = self._mode(access, level, within_write=writes)
            yield Touch(access.table.lower(), mode, self._row_keys(access, keys) if alone else None)
            yield from self._related(access, keys)

    def _mode(self, access: Access, level: str, *, within_write: bool) -> Mode:
        if access.verb == "schema":
            return Mode.SCHEMA
        if access.verb == "insert":
            return Mode.INSERT
        if access.writes:
            return Mode.WRITE
        if access.verb == "lock":
            return Mode.SHARE if "share" in (access.strength or "") else Mode.LOCK
        if self.server == "mariadb":
            if level == "serializable" or (within_write and level != "read committed"):
                return Mode.SHARE
            if level == "read uncommitted":
                return Mode.DIRTY
        return Mode.READ

    def _row_keys(self, access: Access, keys: TableKeys) -> frozenset[Key] | None:
        given = dict(access.equals)
        unique = [columns for columns in (keys.primary, *keys.unique) if columns]
        known = [c for c in unique if all(column.lower() in given for column in c)]
        if access.verb == "insert" and len(known) < len(unique):
            return None
        if access.verb == "update" and set(access.columns) & {c.lower() for c in keys.columns}:
            return None
        if not known:
            return None
        return frozenset((c, tuple(given[column.lower()] for column in c)) for c in known)

    def _related(self, access: Access, keys: TableKeys) -> Iterator[Touch]:
        """What foreign keys touch besides: the parent is locked, the children are looked at or changed."""
        if access.verb in ("insert", "update"):
            for parent in keys.references:
                yield Touch(parent.lower(), Mode.SHARE)
        moved = access.verb == "update" and set(access.columns) & {c.lower() for c in keys.columns}
        if access.verb == "delete" or moved:
            for child in self.children.get(access.table.lower(), ()):
                yield Touch(child, Mode.WRITE)

    # -- what levels add ---------------------------------------------------------------------------------------------

    def _gaps(self, *names: str) -> bool:
        return self.server == "mariadb" and any(
            self.levels[name] in ("repeatable read", "serializable") for name in names
        )

    def _snapshot_steps(self, name: str) -> range:
        """The statements that may take the transaction's snapshot: on PostgreSQL the first one, in InnoDB the first
        plain read (MariaDB documentation, "Transactions: Repeatable Read").
        """
        level, count = self.levels[name], len(self.statements[name])
        if self.server == "postgresql":
            return range(1) if level in ("repeatable read", "serializable") else range(0)
        if level != "repeatable read":
            return range(0)
        for number in range(count):
            modes = [touch.mode for touch in self.touches[name, number]]
            if modes and all(mode is Mode.READ for mode in modes):
                return range(number + 1)
        return range(count)

    def _bound_groups(self) -> dict[str, str]:
        """On PostgreSQL's serializable level: each transaction's group of connected ones, named by a member."""
        strict = [n for n, level in self.levels.items() if level == "serializable" and self.server == "postgresql"]
        group = {name: name for name in strict}
        for a, b in combinations(strict, 2):
            if group[a] != group[b] and self.linked(a, b):
                old, new = group[b], group[a]
                group = {name: new if g == old else g for name, g in group.items()}
        return group
