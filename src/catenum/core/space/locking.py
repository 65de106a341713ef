"""Which rows each transaction is known to have locked, as a run goes.

A change of a row that its transaction has locked before takes no lock that it has not, and shows
nothing before the end: whoever wants the row waits for it, whether it asks before the change or
after. So the two need not keep their order, which is most of what a scenario with `select … for
update` has. What is known comes from the run: a statement that names rows by a unique key, locks
them, and reports that it found as many.
"""

from __future__ import annotations

from collections.abc import Iterable

from catenum.core.record.values import NOTHING, Binding
from catenum.core.servers.table_access import AccessMode, RowKey
from catenum.core.space.dependence import Dependence
from catenum.core.space.state import Step

#: A table, and the value of its unique key.
Row = tuple[str, frozenset[RowKey]]


class Locked:
    """The rows that the transactions of one run have locked."""

    def __init__(self, dependence: Dependence) -> None:
        self._dependence = dependence
        self._rows: dict[str, set[Row]] = {}
        self._inserted: dict[
            str, set[str]
        ] = {}  # tables of which others may not see all rows that it has locked
        self._bound: dict[str, Binding] = {}

    def sent(self, name: str, bound: Binding) -> None:
        """A statement is sent with these values; it may be answered later, in another's move."""
        self._bound[name] = bound

    def undone(self, name: str) -> None:
        """A transaction is rolled back or over: it has no locks."""
        self._rows.pop(name, None)
        self._inserted.pop(name, None)

    def done(self, step: Step, rows: int | None) -> None:
        """A statement was answered and reported so many rows."""
        name, number = step
        if number is None:
            self.undone(name)
            return
        bound = self._bound.get(name, NOTHING)
        found = self._dependence.read(step, bound)
        added = {access.table.lower() for access in found.accesses if access.verb == "insert"}
        self._inserted.setdefault(name, set()).update(added)
        if not found.understood:
            self.undone(name)  # it may have gone back to a savepoint
        elif found.counts_found and len(found.accesses) == 1:
            named = list(self._named(step, bound, (AccessMode.LOCK, AccessMode.WRITE)))
            if named and rows == len(named):
                self._rows.setdefault(name, set()).update(named)

    def covers(self, step: Step, bound: Binding) -> bool:
        """Whether a statement that is about to be sent changes rows that it names and its
        transaction has locked.

        Who comes to such a row by its key meets that lock first, whatever other indexes there are.
        Who comes by another index does not name the row, and is not taken for independent.
        """
        name, number = step
        if number is None or not self._rows.get(name):
            return False
        found = self._dependence.read(step, bound)
        if not found.counts_found or [access.verb for access in found.accesses] != ["update"]:
            return False
        named = set(self._named(step, bound, (AccessMode.WRITE,)))
        return bool(named) and named <= self._rows[name]

    def holder(self, step: Step) -> str | None:
        """The transaction for which a statement certainly waits as long as that one is not over."""
        name, number = step
        if number is None or not self._rows or step in self._dependence.may_pass:
            return None
        wanted = {
            (touch.table or "", touch.keys)
            for touch in self._dependence.touched(step)
            if touch.keys is not None and touch.mode in (AccessMode.LOCK, AccessMode.WRITE)
        }
        for other, rows in self._rows.items():
            seen = {row for row in rows & wanted if row[0] not in self._inserted.get(other, ())}
            if other != name and seen:
                return other
        return None

    def _named(self, step: Step, bound: Binding, modes: Iterable[AccessMode]) -> Iterable[Row]:
        """The rows of its table that a statement names by a key."""
        table = self._dependence.read(step, bound).accesses[0].table.lower()
        touches = [
            t for t in self._dependence.touched(step, bound) if t.table == table and t.mode in modes
        ]
        known = [(table, touch.keys) for touch in touches if touch.keys is not None]
        return known if len(known) == len(touches) else ()
