"""Which moves depend on each other: what must keep its order because the result could differ.

The relation of Mazurkiewicz (1977), read off the statements' footprints: two moves are independent
where no row, no table and no lock is common to them in a way that counts. Rows are distinguished
where a unique key is compared with constants; a table is taken whole where it is not, and
everything where the text cannot be understood. When in doubt two moves depend: a schedule too many
costs time, one too few costs the truth.

What counts beyond the rows themselves:

- A transaction's end releases its locks and shows its changes, so it depends on whatever of another
  transaction meets one of its statements.
- A plain read under snapshots (PostgreSQL documentation, 13.2; MariaDB documentation,
  "Transactions: Repeatable Read") meets another transaction's end, not its statements. Where the
  snapshot is the transaction's, the statement that takes it depends on the end of every writer of
  what the transaction ever touches.
- On PostgreSQL's serializable level who is refused can turn on any order within a group of
  connected transactions (Ports and Grittner 2012): there all moves depend.
- Under InnoDB's gap locks an insert meets every locking access to its table.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import combinations

from catenum.core.record.recording import TableKeys
from catenum.core.record.values import NOTHING, NULL, Binding, Values
from catenum.core.scenario.model import Scenario
from catenum.core.servers import Rules
from catenum.core.servers.table_access import (
    NAMED_LOCKS,
    ROW_ORDER,
    SEQUENCES,
    UNKNOWN_ACCESS,
    AccessMode,
    KeyValue,
    RowKey,
    TableAccess,
)
from catenum.core.space.access_overlap import CLASS, end_overlaps, overlap, shut_out
from catenum.core.space.state import (
    Step,
    numbers_matter,
    scanners,
    takes_numbers,
    unique_keys,
    waits_certainly,
)
from catenum.core.sql.statements import Access, Footprint

#: Values in a list that are taken one by one.
MOST_CHOICES = 30
#: What a move does that ends a session.
TOUCHES_NOTHING = Footprint((), understood=True)
#: In place of a statement's values: it was not run.
PASSED: Binding = (("passed over", NULL),)
#: A column of a table; and what a statement writes for it: whether as a text, and what.
Column = tuple[str, str]
Written = tuple[bool, str]
_NO_WAIT = re.compile(r"\b(?:skip\s+locked|nowait|wait\s+\d)", re.IGNORECASE)


def _by_lower_name(tables: Mapping[str, TableKeys]) -> dict[str, TableKeys]:
    """Of two whose names differ by case alone, what a statement means is not certain."""
    found = {name.lower(): keys for name, keys in tables.items()}
    often = Counter(name.lower() for name in tables)
    return {
        name: replace(keys, opaque=True) if often[name] > 1 else keys
        for name, keys in found.items()
    }


def _unsettled(scenario: Scenario) -> set[str]:
    """Transactions that may go on after an error, that commit each statement, that send several at
    once, that take their snapshot with their beginning, that share a connection, or that end
    another's session; all, where timeouts may run out at any move.
    """
    own = {
        name
        for name, one in scenario.transactions.items()
        if one.goes_on or one.autocommit or one.takes_snapshot_at_once or one.sent_at_once
    }
    shared = (names for names in scenario.connections.values() if len(names) > 1)
    kills = {
        one
        for name, transaction in scenario.transactions.items()
        for statement in transaction.statements
        if statement.kill is not None
        for one in (name, statement.kill)
    }
    timed = scenario.transactions if scenario.timeouts == "by order" else ()
    return own.union(kills, timed, *shared)


class Dependence:
    """The relation for one scenario on one server.

    ``footprint_of`` may be another reader of statements; ``functions`` are the names of functions
    that are not the server's own, whatever a statement may mean by them. ``classes``: of the values
    that are written for a column, which the server takes for the same (see ``to_ask``).
    """

    def __init__(
        self,
        scenario: Scenario,
        rules: Rules,
        tables: Mapping[str, TableKeys],
        default_isolation: str,
        *,
        footprint_of: Callable[[str], Footprint] | None = None,
        functions: Collection[str] = (),
        classes: Mapping[Column, Mapping[Written, int]] | None = None,
    ) -> None:
        self.rules = rules
        self._classes = classes or {}
        self.functions = frozenset(functions)
        self._footprint_of = footprint_of
        self.tables = _by_lower_name(tables)
        self.children = {
            parent.lower(): [
                child for child, keys in self.tables.items() if parent in keys.references
            ]
            for keys in tables.values()
            for parent in keys.references
        }
        self.levels = {
            n: t.isolation or default_isolation for n, t in scenario.transactions.items()
        }
        self.statements = {
            n: [s.text for s in t.statements] for n, t in scenario.transactions.items()
        }
        self.footprints: dict[Step, Footprint] = {
            (name, number): TOUCHES_NOTHING
            if statement.kill is not None
            else self._read(statement.text, transaction.fixed)
            for name, transaction in scenario.transactions.items()
            for number, statement in enumerate(transaction.statements)
        }
        self.numbers_count = numbers_matter(
            scenario, rules, self.footprints, self.tables, self.children
        )
        self._scanners = scanners(rules, self.footprints, self.tables, self._descendants)
        self._again = {name for name, one in scenario.transactions.items() if one.retry is not None}
        self.touches: dict[Step, tuple[TableAccess, ...]] = {
            step: tuple(self._touches(found, self.levels[step[0]]))
            for step, found in self.footprints.items()
        }
        #: Transactions that may change their own level, search path or limits: no relation holds
        #: for them.
        self.dependent_on_all = self._of_unknown_meaning(scenario)
        #: Transactions of whose moves none is taken to be independent: which locks they hold, and
        #: what their session has, their own text does not tell.
        self.unsettled = _unsettled(scenario)
        self.fixed = {
            name: transaction.fixed for name, transaction in scenario.transactions.items()
        }
        self.decides = {
            n for n, t in scenario.transactions.items() if any(s.when for s in t.statements)
        }
        #: Transactions whose waits end by themselves.
        self.timed = {
            name
            for name, transaction in scenario.transactions.items()
            if transaction.timeout is not None
            or any(map(rules.sql.limits_waits, scenario.before_on_connection(name)))
        }
        #: Statements that may be over without what they would lock: by a condition, a limit, since
        #: they do not wait.
        self.may_pass = self._may_pass(scenario)
        self.snapshots = {name: self._snapshot_steps(name) for name in scenario.transactions}
        self._bound = self._bound_groups()
        self.widened: set[frozenset[Step]] = set()
        self._known: dict[tuple[Step, Step, Binding, Binding, frozenset[Step]], bool] = {}
        self._bound_touches: dict[tuple[Step, Binding], tuple[TableAccess, ...]] = {}

    def _of_unknown_meaning(self, scenario: Scenario) -> set[str]:
        by_themselves = {
            name
            for (name, _), found in self.footprints.items()
            if found.may_set_anything or self._calls_own(found)
        }
        return by_themselves | {
            name
            for name, transaction in scenario.transactions.items()
            if not all(map(self.rules.sql.keeps_meaning, scenario.before_on_connection(name)))
        }

    def _may_pass(self, scenario: Scenario) -> set[Step]:
        limited = {name for (name, _), found in self.footprints.items() if found.sets is not None}
        limited |= self.timed
        return {
            (name, number)
            for name, transaction in scenario.transactions.items()
            for number, statement in enumerate(transaction.statements)
            if name in limited
            or name in self.unsettled
            or statement.when
            or _NO_WAIT.search(statement.text)
            or not waits_certainly(
                self.footprints[name, number], self.levels[name], self.rules, self.tables
            )
        }

    # -- the relation ------------------------------------------------------------------------------

    def depend(
        self,
        a: Step,
        b: Step,
        bound_a: Binding = NOTHING,
        bound_b: Binding = NOTHING,
        held: frozenset[Step] = frozenset(),
    ) -> bool:
        """Whether ``a`` and ``b`` must keep their order. Moves of one transaction always must.

        ``bound_a``, ``bound_b``: the values that the statements were sent with, where they are
        known (``PASSED``: the statement was not sent). A value that is not known may be any.
        ``held``: those of the two that change a row which their transaction had locked before (see
        ``locking.Locked``): who wants the row waits for it anyway.
        """
        if a[0] == b[0]:
            return True
        if PASSED in (bound_a, bound_b):
            return False
        if (
            {a[0], b[0]} & self.dependent_on_all
            or {a[0], b[0]} & self.unsettled
            or frozenset((a, b)) in self.widened
        ):
            return True
        pair = (
            (a, b, bound_a, bound_b, held) if repr(a) <= repr(b) else (b, a, bound_b, bound_a, held)
        )
        if pair not in self._known:
            self._known[pair] = self._depend(*pair)
        return self._known[pair]

    def widen(self, pairs: Iterable[tuple[Step, Step]]) -> None:
        """From now on these depend on each other, whatever their statements say."""
        self.widened |= {frozenset(pair) for pair in pairs}

    def touches_with(self, name: str, sql: str, values: Values) -> tuple[TableAccess, ...]:
        """What a statement of a transaction would touch with these values."""
        return tuple(self._touches(self._read(sql, values), self.levels[name]))

    def meet(self, names: tuple[str, str], x: TableAccess, y: TableAccess) -> bool:
        """Whether what one transaction touches so counts for the other, for its statements or its
        end.
        """
        if set(names) & (self.dependent_on_all | self.unsettled):
            return True
        if self._bound.get(names[0], names[0]) == self._bound.get(names[1], names[1]):
            # predicate locks cover pages and ranges (Ports and Grittner 2012, 5.2)
            x, y = replace(x, keys=None), replace(y, keys=None)
        gaps = self._gaps(*names)
        return (
            overlap(x, y, gaps=gaps)
            or end_overlaps(x, y, gaps=gaps)
            or end_overlaps(y, x, gaps=gaps)
        )

    def meet_exactly(self, names: tuple[str, str], x: TableAccess, y: TableAccess) -> bool:
        """Whether the values of one unique key decide whether the two meet, and nothing else."""
        if set(names) & (self.dependent_on_all | self.unsettled):
            return False
        if self._bound.get(names[0], names[0]) == self._bound.get(names[1], names[1]):
            return False
        if self._gaps(*names) and AccessMode.INSERT in (x.mode, y.mode):
            return False
        if x.keys is None or y.keys is None:
            return False
        return dict(x.keys).keys() == dict(y.keys).keys()

    def special(self, a: Step, b: Step) -> bool:
        """Whether two steps that are independent touch one table (or sequence) all the same, so
        that it takes a reason to call them so: different keys, rows that were locked before,
        numbers that nobody tells apart, a snapshot.
        """
        gaps = self._gaps(a[0], b[0])
        return any(
            overlap(replace(x, keys=None), replace(y, keys=None), gaps=gaps)
            or (x.table == y.table and max(x.mode, y.mode) >= AccessMode.WRITE)
            for x in self._touches_of(a)
            for y in self._touches_of(b)
        )

    def _touches_of(self, step: Step) -> Sequence[TableAccess]:
        return self.all_touches(step[0]) if step[1] is None else self.touches[step]

    def let_pass(self, step: Step) -> None:
        """From now on this statement may be over without waiting for a row that is locked."""
        self.may_pass.add(step)

    def open(self, step: Step) -> None:
        """From now on this statement may touch anything."""
        self.touches[step] = (UNKNOWN_ACCESS,)
        self.dependent_on_all.add(step[0])
        self.snapshots = {name: self._snapshot_steps(name) for name in self.statements}
        self._bound = self._bound_groups()
        self._known.clear()
        self._bound_touches.clear()

    def _read(self, sql: str, values: Values) -> Footprint:
        return (
            self._footprint_of(sql)
            if self._footprint_of is not None
            else self.rules.sql.footprint(sql, values)
        )

    def _calls_own(self, found: Footprint) -> bool:
        """Whether it may call a function that is not the server's own."""
        called = (
            found.functions | found.attributes
            if self.rules.sql.calls_as_columns
            else found.functions
        )
        return bool(called & self.functions) or "*" in self.functions

    def touched(self, step: Step, bound: Binding = NOTHING) -> tuple[TableAccess, ...]:
        """What a statement touches; which rows exactly, where its values are known."""
        name, number = step
        if not bound or number is None:
            return self.touches[step]
        if (step, bound) not in self._bound_touches:
            self._bound_touches[step, bound] = tuple(
                self._touches(self.read(step, bound), self.levels[name])
            )
        return self._bound_touches[step, bound]

    def read(self, step: Step, bound: Binding = NOTHING) -> Footprint:
        """The footprint of a statement, with the values that it was sent with. Not for an end."""
        name, number = step
        if number is None:
            raise ValueError("an end has no footprint")
        if not bound:
            return self.footprints[step]
        return self._read(self.statements[name][number], {**self.fixed[name], **dict(bound)})

    def _depend(
        self, a: Step, b: Step, bound_a: Binding, bound_b: Binding, held: frozenset[Step]
    ) -> bool:
        if self._bound.get(a[0], a[0]) == self._bound.get(b[0], b[0]):
            return True
        gaps = self._gaps(a[0], b[0])
        if a[1] is None and b[1] is None:
            return self.linked(a[0], b[0])
        if a[1] is None:
            return self._end_and_statement(a[0], b, bound_b)
        if b[1] is None:
            return self._end_and_statement(b[0], a, bound_a)
        return any(
            overlap(x, y, gaps=gaps)
            and not (a in held and shut_out(x, y))
            and not (b in held and shut_out(y, x))
            and not (x.table == y.table and self._nobody_scans(x, a, b))
            for x in self.touched(a, bound_a)
            for y in self.touched(b, bound_b)
        )

    def _nobody_scans(self, touch: TableAccess, a: Step, b: Step) -> bool:
        """Whether two writes have nothing in common but the order of rows, and no scan can come
        behind both.
        """
        if touch.table is None or not touch.table.startswith(ROW_ORDER):
            return False
        left = self._scanners.get(touch.table.removeprefix(ROW_ORDER), set()) - {a, b}
        return not left and not {a[0], b[0]} & self._again

    def _end_and_statement(self, ended: str, step: Step, bound: Binding) -> bool:
        gaps = self._gaps(ended, step[0])
        theirs = self.all_touches(ended)
        if any(end_overlaps(x, y, gaps=gaps) for x in theirs for y in self.touched(step, bound)):
            return True
        if step[1] in self.snapshots[step[0]]:
            written = [x for x in theirs if x.mode >= AccessMode.WRITE]
            return any(
                end_overlaps(x, TableAccess(y.table, AccessMode.READ))
                for x in written
                for y in self.all_touches(step[0])
            )
        return False

    def linked(self, a: str, b: str) -> bool:
        """Whether two transactions have anything to do with each other."""
        gaps = self._gaps(a, b)
        return any(
            end_overlaps(x, y, gaps=gaps) or end_overlaps(y, x, gaps=gaps)
            for x in self.all_touches(a)
            for y in self.all_touches(b)
        )

    def _share_a_table(self, a: str, b: str) -> bool:
        """Whether two transactions touch one table that one of them writes, whichever rows:
        predicate locks cover pages and ranges, as the plan has it (Ports and Grittner 2012, 5.2).
        """
        return any(
            x.table is None
            or y.table is None
            or (x.table == y.table and max(x.mode, y.mode) >= AccessMode.SHARE)
            for x in self.all_touches(a)
            for y in self.all_touches(b)
        )

    def all_touches(self, name: str) -> list[TableAccess]:
        """Whatever the transaction touches."""
        return [touch for n in range(len(self.statements[name])) for touch in self.touches[name, n]]

    def not_understood(self) -> list[Step]:
        """Statements that had to be taken for touching anything."""
        return [step for step, touches in self.touches.items() if UNKNOWN_ACCESS in touches]

    @property
    def plain(self) -> bool:
        """Whether all that the statements do is known: each is understood, and none runs code of a
        user's own.
        """
        return not self.dependent_on_all and not self.not_understood()

    def written(self) -> frozenset[str]:
        """The tables that some statement can write, where all is known (``plain``)."""
        every = (touch for touches in self.touches.values() for touch in touches)
        return frozenset(
            touch.table
            for touch in every
            if touch.table and touch.mode >= AccessMode.WRITE and not touch.at_once
        )

    def updated(self) -> dict[str, frozenset[str]]:
        """Those of ``written`` whose rows stay, with their keys: nothing but UPDATE writes them,
        and no foreign key.

        With the columns that are set.
        """
        other = set()
        columns: dict[str, set[str]] = {}
        for access in (access for found in self.footprints.values() for access in found.accesses):
            table = access.table.lower()
            keys = self.tables.get(table)
            if (
                keys is None
                or not keys.primary
                or keys.references
                or self._moves_keys(access, keys)
                or (
                    (access.writes or access.verb == "schema")
                    and not (access.verb == "update" and access.columns)
                )
            ):
                other.add(table)
            elif access.writes:
                columns.setdefault(table, set()).update(access.columns)
        return {
            table: frozenset(columns[table]) for table in (self.written() - other) & columns.keys()
        }

    def to_ask(self) -> dict[Column, list[Written]]:
        """The values that statements compare a key's column with, or give it, where only the server
        can tell which are the same.
        """
        found: dict[Column, dict[Written, None]] = {}
        for footprint in self.footprints.values():
            for access in footprint.accesses:
                keys = self.tables.get(access.table.lower())
                for column, written in access.literals if keys is not None else ():
                    if keys is not None and keys.kinds.get(column) == "asked":
                        found.setdefault((access.table.lower(), column), {})[written] = None
        return {column: list(written) for column, written in found.items()}

    # -- what a statement touches ------------------------------------------------------------------

    def _touches(self, found: Footprint, level: str) -> Iterator[TableAccess]:
        if not found.understood or found.calls_unknown or self._calls_own(found):
            yield UNKNOWN_ACCESS
            return
        if takes_numbers(found):
            yield TableAccess(SEQUENCES, AccessMode.WRITE)
        if found.named_locks:
            yield TableAccess(NAMED_LOCKS, AccessMode.WRITE)
        # InnoDB reads by locks in every statement that is no plain query, SET among them
        # (store_lock in ha_innodb.cc)
        writes = any(access.writes for access in found.accesses) or found.sets is not None
        for access in found.accesses:
            keys = self.tables.get(access.table.lower())
            if (
                access.schema
                or keys is None
                or keys.opaque
                or (keys.triggers and (access.writes or access.verb == "schema"))
            ):
                yield UNKNOWN_ACCESS
                return
            mode = self._mode(access, level, within_write=writes)
            for some in self._rows(access, keys):
                yield TableAccess(access.table.lower(), mode, some)
            yield from self._related(access, keys)
            if keys.made and (access.verb == "insert" or access.sets_default):
                yield TableAccess(
                    SEQUENCES, AccessMode.WRITE if self.numbers_count else AccessMode.SHARE
                )
            if access.verb in ("insert", "update") and access.table.lower() in self._scanners:
                yield TableAccess(f"{ROW_ORDER}{access.table.lower()}", AccessMode.WRITE)

    def _mode(self, access: Access, level: str, *, within_write: bool) -> AccessMode:
        if access.verb == "schema":
            return AccessMode.SCHEMA
        if access.verb == "insert":
            return AccessMode.INSERT
        if access.writes:
            return AccessMode.WRITE
        if access.verb == "lock":
            return AccessMode.SHARE if "share" in (access.strength or "") else AccessMode.LOCK
        return self.rules.locks.read_mode(level, within_write=within_write)

    def _rows(self, access: Access, keys: TableKeys) -> Iterator[frozenset[RowKey] | None]:
        """The rows that may be touched: where a key is compared with a list of values, one after
        another.
        """
        lists = dict(access.choices)
        single = [columns[0] for columns in unique_keys(access, keys) if len(columns) == 1]
        column = next((one for one in single if one.lower() in lists), None)
        exact = self.rules.locks.locks_matches_only or access.by_primary
        if column is None or not exact or len(lists[column.lower()]) > MOST_CHOICES:
            yield self._row_keys(access, keys)
            return
        for written in lists[column.lower()]:
            given = (*access.literals, (column.lower(), written))
            yield self._row_keys(replace(access, literals=given), keys)

    def _row_keys(self, access: Access, keys: TableKeys) -> frozenset[RowKey] | None:
        """The values by which the rows are distinguished; None where they may be any."""
        if keys.guarded or self._moves_keys(access, keys):
            return None
        given = dict(access.literals)
        unique = [columns for columns in unique_keys(access, keys) if columns]
        known = [c for c in unique if all(column.lower() in given for column in c)]
        if access.verb == "insert":
            # Which of its keys an upsert finds a row by is not known before.
            if len(known) < len(unique) or (access.changes_found and len(unique) > 1):
                return None
        elif len(known) > 1:
            return None  # a server that locks what it passes may come by either
        name = access.table.lower()
        return (
            frozenset(
                (c, tuple(self._value(name, column, keys, given) for column in c)) for c in known
            )
            or None
        )

    def _value(
        self, table: str, column: str, keys: TableKeys, given: Mapping[str, Written]
    ) -> KeyValue:
        written = given[column.lower()]
        number = self._classes.get((table, column), {}).get(written)
        if number is not None:
            return CLASS, False, str(number)
        return keys.kinds.get(column, ""), *written

    def _moves_keys(self, access: Access, keys: TableKeys) -> bool:
        """Whether rows may get another value of a key."""
        set_here = access.changes_found if access.verb == "insert" else access.columns
        return bool(set(set_here) & {"*", *(column.lower() for column in keys.columns)})

    def _related(self, access: Access, keys: TableKeys) -> Iterator[TableAccess]:
        """What foreign keys touch besides: the parent is locked, the children are looked at or
        changed.
        """
        if access.verb in ("insert", "update"):
            for parent in keys.references:
                yield TableAccess(parent.lower(), AccessMode.SHARE)
        if access.verb == "delete" or (
            access.verb in ("insert", "update") and self._moves_keys(access, keys)
        ):
            for child in self._descendants(access.table.lower()):
                below = self.tables[child]
                if below.triggers or below.opaque:
                    yield UNKNOWN_ACCESS
                yield TableAccess(child, AccessMode.WRITE)
                for parent in below.references:
                    yield TableAccess(parent.lower(), AccessMode.SHARE)

    def _descendants(self, table: str) -> list[str]:
        """Every table that a cascade from ``table`` can reach, itself too where it refers to
        itself.
        """
        found: list[str] = []
        rest = list(self.children.get(table, ()))
        while rest:
            child = rest.pop()
            if child not in found:
                found.append(child)
                rest += self.children.get(child, ())
        return found

    # -- what levels add ---------------------------------------------------------------------------

    def first_steps(self, name: str) -> list[Step]:
        """The statements of which one is the first that takes a lock."""
        found: list[Step] = []
        for number in range(len(self.statements[name])):
            if self.touches[name, number]:
                found.append((name, number))
                if name not in self.decides:
                    break
        return found

    def _gaps(self, *names: str) -> bool:
        return self.rules.locks.locks_gaps([self.levels[name] for name in names])

    def _snapshot_steps(self, name: str) -> range:
        """The statements that may take the transaction's snapshot."""
        count = len(self.statements[name])
        if name in self.decides and self.rules.locks.snapshot_statements(
            self.levels[name], [()] * count
        ):
            return range(count)  # which statement comes first is decided in the run
        touched = [[touch.mode for touch in self.touches[name, number]] for number in range(count)]
        found = self.rules.locks.snapshot_statements(self.levels[name], touched)
        takes_none = 0  # LOCK TABLE, SET and savepoints before it come without one
        while (
            found
            and takes_none < count
            and self._without_snapshot(self.footprints[name, takes_none])
        ):
            takes_none += 1
        return range(min(count, found.stop + takes_none)) if found else found

    @staticmethod
    def _without_snapshot(found: Footprint) -> bool:
        none = not found.parsed or found.sets or found.control
        return bool(none or any(a.lock_mode for a in found.accesses))

    def _bound_groups(self) -> dict[str, str]:
        """Where any order can decide who is refused: each transaction's group of connected ones, by
        a member's name.
        """
        strict = [
            n for n, level in self.levels.items() if self.rules.locks.refuses_by_any_order(level)
        ]
        group = {name: name for name in strict}
        for a, b in combinations(strict, 2):
            if group[a] != group[b] and self._share_a_table(a, b):
                old, new = group[b], group[a]
                group = {name: new if g == old else g for name, g in group.items()}
        return group
