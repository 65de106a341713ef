"""Names what went wrong with the data, from which transaction saw and overwrote what.

The relations are those of Adya (1999): *wr*, B saw what A wrote; *ww*, B overwrote what A wrote;
*rw*, A did not see what B wrote. They are read off the run itself: a result that occurs only in
serial orders with A before B shows that B saw A, one that occurs only with B before A shows that it
did not. A row that ends as though A had never run, although A committed, was overwritten without
having been seen. The names are those of Berenson et al. (1995).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations, islice, permutations
from typing import Literal

from catenum.core.record.recording import AnomalyName
from catenum.core.servers.table_access import NAMED_LOCKS, AccessMode, TableAccess
from catenum.core.space.access_overlap import overlap
from catenum.core.space.dependence import Dependence
from catenum.core.space.oracle import PASSED_OVER, Observation

Name = AnomalyName
Relation = Literal["saw", "did not see", "overwrote"]
_SKIPS = re.compile(r"\bskip\s+locked\b", re.IGNORECASE)
#: Runs some transactions one after another; None where one of them did not commit.
RunSerially = Callable[[Sequence[str]], Observation | None]
_MOST = 4  # transactions whose serial orders are all looked at for the name's sake


@dataclass(frozen=True, slots=True)
class Relating:
    """One observed relation between two transactions, and what shows it."""

    who: str
    relation: Relation
    whom: str
    evidence: str
    statement: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Anomaly:
    """A named anomaly, whom it concerns, and what shows it."""

    name: Name
    transactions: tuple[str, ...]
    evidence: tuple[str, ...]


def name_anomaly(
    run: Observation, serially: RunSerially, dependence: Dependence, undone: Sequence[str] = ()
) -> Anomaly:
    """The name of what went wrong in a run that equals no serial order. ``undone``: who wrote, but
    did not commit.
    """
    found = _Relations(run, serially, dependence)
    ways = (
        found.lost_update,
        found.repeated_read,
        found.read_skew,
        found.read_only,
        found.write_skew,
    )
    for reported in (found.circular_flow(), found.dirty_read(undone), *(way() for way in ways)):
        if reported is not None:
            return reported
    return Anomaly(
        name="other anomaly", transactions=run.committed, evidence=tuple(found.differences())
    )


def _same_rows(read: TableAccess, written: TableAccess) -> bool:
    return read.table is not None and overlap(
        TableAccess(read.table, AccessMode.LOCK, read.keys), written
    )


class _Relations:
    def __init__(self, run: Observation, serially: RunSerially, dependence: Dependence) -> None:
        self.run, self.serially, self.dependence = run, serially, dependence
        self.orders: dict[tuple[str, ...], Observation] = {}
        groups = (
            [run.committed] if len(run.committed) <= _MOST else list(combinations(run.committed, 2))
        )
        for group in groups:
            for order in permutations(group):
                seen = serially(order)
                if seen is not None:
                    self.orders[order] = seen
        self.saw = list(self._saw())
        self.overwrote = list(self._overwrote())

    def _orders_with(self, first: str, second: str) -> list[Observation]:
        return [
            seen
            for order, seen in self.orders.items()
            if first in order and second in order and order.index(first) < order.index(second)
        ]

    def _saw(self) -> Iterator[Relating]:
        for who in self.run.committed:
            for whom in self.run.committed:
                if who == whom:
                    continue
                before, after = self._orders_with(whom, who), self._orders_with(who, whom)
                for number, result in enumerate(self.run.seen[who]):
                    if self._passes_over(who, number):
                        continue
                    with_it = any(
                        o.seen[who][number] == result for o in before if number < len(o.seen[who])
                    )
                    without = any(
                        o.seen[who][number] == result for o in after if number < len(o.seen[who])
                    )
                    shown = (
                        result.shown
                        or f"{result.rows} row{'s' if result.rows != 1 else ''} changed"
                    )
                    if (
                        with_it and not without and after
                    ):  # an order that ends in an error tells nothing
                        text = f"{who} statement {number + 1} saw what {whom} did ({shown})"
                        yield Relating(who, "saw", whom, text, number)
                    elif without and not with_it and before:
                        text = f"{who} statement {number + 1} did not see what {whom} did ({shown})"
                        yield Relating(who, "did not see", whom, text, number)

    def _overwrote(self) -> Iterator[Relating]:
        for a, b in combinations(self.run.committed, 2):
            for x in range(len(self.run.seen[a])):
                for y in range(len(self.run.seen[b])):
                    table = self._both_write((a, x), (b, y))
                    if table is None or self._reads_only(a, x) or self._reads_only(b, y):
                        continue
                    if 0 in (self.run.seen[a][x].rows, self.run.seen[b][y].rows):
                        continue  # who changed no row overwrote nothing
                    pair = ((a, x), (b, y))
                    late, early = pair if self._place(a, x) > self._place(b, y) else pair[::-1]
                    what = table or "the same row"
                    text = (
                        f"{late[0]} statement {late[1] + 1} wrote {what} after {early[0]} statement"
                        f" {early[1] + 1}"
                    )
                    yield Relating(late[0], "overwrote", early[0], text, late[1])

    def _reads_only(self, name: str, number: int) -> bool:
        """Whether a statement is a query that is known to write nothing."""
        found = self.dependence.footprints[name, number]
        return (
            found.parsed and not found.calls_unknown and not any(a.writes for a in found.accesses)
        )

    def _place(self, name: str, number: int) -> int:
        return self.run.places.get((name, number), 0)

    def _both_write(self, a: tuple[str, int], b: tuple[str, int]) -> str | None:
        if a not in self.run.places or b not in self.run.places:
            return None  # passed over
        for x in self.dependence.touches[a]:
            for y in self.dependence.touches[b]:
                if (
                    x.mode >= AccessMode.WRITE <= y.mode
                    and not x.at_once
                    and overlap(x, y)
                    and (
                        AccessMode.WRITE in (x.mode, y.mode)
                        or (self._changes_found(a) and self._changes_found(b))
                    )
                    and (
                        None not in (x.keys, y.keys)
                        or self._change_the_same(a[0], b[0], x.table or y.table)
                    )
                ):
                    return x.table or "the same"
        return None

    def _change_the_same(self, a: str, b: str, table: str | None) -> bool:
        """Whether two transactions, each run before and after the other, change a row in common.
        ``table`` None: of any table. Where that cannot be seen, they are not said to.
        """
        if table is None:
            return any(self._change_the_same(a, b, one) for one in self.dependence.tables)
        if table not in self.dependence.tables:
            return False
        ours = self._changed(a, (), table), self._changed(a, (b,), table)
        theirs = self._changed(b, (), table), self._changed(b, (a,), table)
        if None in (*ours, *theirs):
            return False
        return bool(set().union(*filter(None, ours)) & set().union(*filter(None, theirs)))

    def _changed(
        self, name: str, first: tuple[str, ...], table: str
    ) -> set[tuple[str | None, ...]] | None:
        """The keys of the rows that a transaction changes after others; None where not all are
        known.
        """
        before, after = self.serially(first), self.serially((*first, name))
        primary = self.dependence.tables[table].primary
        if before is None or after is None or not primary:
            return None
        found: list[set[tuple[str | None, ...]]] = []
        places: list[int] = []
        for seen in (before, after):
            rows = next((rows for title, rows in seen.rows.items() if title.lower() == table), None)
            if rows is None or len(rows.rows) < rows.total or not set(primary) <= set(rows.columns):
                return None
            found.append(set(rows.rows))
            places = [rows.columns.index(column) for column in primary]
        return {tuple(row[place] for place in places) for row in found[0] ^ found[1]}

    def _changes_found(self, step: tuple[str, int]) -> bool:
        """Whether it is an INSERT that changes a row that is already there."""
        return any(access.changes_found for access in self.dependence.footprints[step].accesses)

    def _not_seen(self, who: str, whom: str) -> Relating | None:
        return next(
            (r for r in self.saw if (r.who, r.relation, r.whom) == (who, "did not see", whom)), None
        )

    # -- the names, the most telling first ---------------------------------------------------------

    def circular_flow(self) -> Anomaly | None:
        """Each of two saw what the other wrote, so neither can come first (G1c in Adya 1999)."""
        seen = {(r.who, r.whom): r for r in self.saw if r.relation == "saw"}
        for (who, whom), mine in seen.items():
            theirs = seen.get((whom, who))
            if theirs is not None:
                return Anomaly(
                    name="circular information flow",
                    transactions=(who, whom),
                    evidence=(mine.evidence, theirs.evidence),
                )
        return None

    def dirty_read(self, undone: Sequence[str]) -> Anomaly | None:
        """Somebody saw what was not committed, not yet or never, by a read that shows it."""
        for r in self.saw:
            commit = self._committed_by(r.whom)
            early = commit is not None and self._place(r.who, r.statement or 0) < commit
            if r.relation == "saw" and early and self._shown(r.whom, r.who, r.statement or 0):
                text = f"{r.evidence}, before {r.whom} committed"
                return Anomaly(name="dirty read", transactions=(r.who, r.whom), evidence=(text,))
        if self.dependence.numbers_count:
            return None  # a number that somebody took and did not use shows as well
        for who in self.run.committed:
            for number, result in enumerate(self.run.seen[who]):
                if self._passes_over(who, number):
                    continue
                whom = next((name for name in undone if self._shown(name, who, number)), None)
                if whom is not None and not self._in_some_order(who, number):
                    text = (
                        f"{who} statement {number + 1} saw {result.shown}, which {whom} wrote and"
                        " never committed"
                    )
                    return Anomaly(name="dirty read", transactions=(who, whom), evidence=(text,))
        return None if undone else self._dirty_by_half()

    def _dirty_by_half(self) -> Anomaly | None:
        """Somebody saw a part of what another had written and not committed.

        Told of two transactions only: until the other commits, all that one can see who has written
        nothing itself is what was there before both.
        """
        if len(self.run.committed) != 2 or self.dependence.unsettled & set(self.run.committed):
            return None  # who commits in between, or shares a connection, is another matter
        for who, whom in permutations(self.run.committed):
            commit = self._committed_by(whom)
            for number, result in enumerate(self.run.seen[who]):
                if not self._reads_only(who, number) or self._passes_over(who, number):
                    break  # from here on what it sees may be its own doing
                if (
                    commit is not None
                    and self._place(who, number) < commit
                    and not self.dependence.footprints[who, number].by_nature
                    and self._shown(whom, who, number)
                    and self.orders
                    and not self._in_some_order(who, number)
                ):
                    text = (
                        f"{who} statement {number + 1} saw {result.shown}: a part of what {whom}"
                        " had written and not committed"
                    )
                    return Anomaly(name="dirty read", transactions=(who, whom), evidence=(text,))
        return None

    def _in_some_order(self, who: str, number: int) -> bool:
        result = self.run.seen[who][number]
        known = [o.seen[who] for order, o in self.orders.items() if who in order]
        return any(number < len(seen) and seen[number] == result for seen in known)

    def _passes_over(self, name: str, number: int) -> bool:
        """Whether a statement leaves out what others have locked: not to see a row is then no sight
        of a change.
        """
        return _SKIPS.search(self.dependence.statements[name][number]) is not None

    def _committed_by(self, name: str) -> int | None:
        """When a transaction's first changes were committed: by its end, or by a statement that
        commits by itself.
        """
        texts = self.dependence.statements[name]
        early = [
            self.run.places[name, number]
            for number, sql in enumerate(texts)
            if (name, number) in self.run.places
            and self.dependence.rules.sql.commits_by_itself(sql)
        ]
        return min(early, default=self.run.commits.get(name))

    def _shown(self, name: str, who: str, number: int) -> bool:
        """Whether ``name`` had written something that a statement of ``who`` may see uncommitted,
        before that was answered: by a plain read, at a level that shows it.
        """
        return any(
            self._place(name, n) < self._place(who, number)
            and any(
                x.mode >= AccessMode.WRITE
                and y.mode is AccessMode.DIRTY
                and overlap(x, y)
                and x.table != NAMED_LOCKS
                and not x.at_once
                for x in self.dependence.touches[name, n]
                for y in self.dependence.touches[who, number]
            )
            for n in range(len(self.run.seen.get(name, ())))
        )

    def read_only(self) -> Anomaly | None:
        """All is in order but for what one transaction saw that wrote nothing (Fekete, O'Neil and
        O'Neil 2004).
        """
        for reader in self.run.committed if len(self.run.committed) > 2 else ():
            if any(touch.mode >= AccessMode.WRITE for touch in self.dependence.all_touches(reader)):
                continue
            if any(
                self._passes_over(reader, number) for number in range(len(self.run.seen[reader]))
            ):
                continue
            others = [name for name in self.run.committed if name != reader]
            for order in permutations(others):
                serial = self.serially(order)
                if serial is None or serial.end != self.run.end:
                    continue
                if all(serial.seen[name] == self.run.seen[name] for name in others):
                    mine = [r for r in self.saw if r.who == reader]
                    reported = (
                        f"without {reader}, which only reads, {', then '.join(order)} gives the"
                        " same"
                    )
                    return Anomaly(
                        name="read-only anomaly",
                        transactions=(reader, *others),
                        evidence=(reported, *(r.evidence for r in mine[:3])),
                    )
        return None

    def lost_update(self) -> Anomaly | None:
        """Somebody overwrote what it had not seen."""
        for over in self.overwrote:
            read = self._not_seen(over.who, over.whom)
            if read is not None:
                return Anomaly(
                    name="lost update",
                    transactions=(over.who, over.whom),
                    evidence=(read.evidence, over.evidence),
                )
        for over in self.overwrote:
            for text in self._as_though_never_run(over.whom):
                lost = f"{text}, as though {over.whom} had never run"
                return Anomaly(
                    name="lost update",
                    transactions=(over.who, over.whom),
                    evidence=(over.evidence, lost),
                )
        return None

    def _as_though_never_run(self, name: str) -> Iterator[str]:
        """Rows that no serial order leaves so, but one without ``name`` does."""
        without = self.serially([n for n in self.run.committed if n != name])
        if without is None:
            return
        for table, rows in self.run.rows.items():
            serial = [set(o.rows[table].rows) for o in self.orders.values() if table in o.rows]
            for row in rows.rows:
                alone = without.rows.get(table)
                if (
                    not any(row in known for known in serial)
                    and alone is not None
                    and row in alone.rows
                ):
                    pairs = zip(rows.columns, row, strict=True)
                    yield f"{table} ends with " + ", ".join(
                        f"{c}={'null' if v is None else v}" for c, v in pairs
                    )

    def repeated_read(self) -> Anomaly | None:
        """One transaction asked the same twice and got two answers."""
        for who in self.run.committed:
            texts = [" ".join(sql.lower().split()) for sql in self.dependence.statements[who]]
            for x, y in combinations(range(len(self.run.seen[who])), 2):
                first, second = self.run.seen[who][x], self.run.seen[who][y]
                alone = self.serially((who,))
                if (
                    texts[x] != texts[y]
                    or first == second
                    or alone is None
                    or alone.seen[who][x] != alone.seen[who][y]
                ):
                    continue
                by_key = any(t.keys is not None for t in self.dependence.touches[who, x])
                name: Name = "non-repeatable read" if by_key else "phantom"
                reported = f"{first.shown}, then {second.shown}"
                text = f"{who} asked the same in statements {x + 1} and {y + 1}, and got {reported}"
                others = tuple(dict.fromkeys(r.whom for r in self.saw if r.who == who))
                return Anomaly(name=name, transactions=(who, *others), evidence=(text,))
        return None

    def read_skew(self) -> Anomaly | None:
        """One transaction saw another by half."""
        for r in self.saw:
            if r.relation != "saw":
                continue
            missed = self._not_seen(r.who, r.whom)
            if missed is not None:
                return Anomaly(
                    name="read skew",
                    transactions=(r.who, r.whom),
                    evidence=(missed.evidence, r.evidence),
                )
        return self._skew_within_a_statement()

    def _skew_within_a_statement(self) -> Anomaly | None:
        """One statement saw the row that it waited for as another left it, and the other's second
        row as it was before (PostgreSQL, "Read Committed Isolation Level": after a wait the updated
        row alone is read anew).

        Told of two transactions only: one that is a single statement and saw *all* of the other
        would be serial.
        """
        for over in self.overwrote if len(self.run.committed) == 2 else ():
            if len(self.run.seen[over.who]) != 1 or over.statement is None:
                continue
            mine = self.dependence.touches[over.who, over.statement]
            reads = [touch for touch in mine if touch.mode < AccessMode.WRITE]
            theirs = [
                t
                for n in range(len(self.run.seen[over.whom]))
                for t in self.dependence.touches[over.whom, n]
            ]
            written = [touch for touch in theirs if touch.mode >= AccessMode.WRITE]
            tables = {read.table for read in reads if any(_same_rows(read, one) for one in written)}
            if len(tables) == 1:
                text = (
                    f"what it read of {tables.pop()} was not what {over.whom} had written: no order"
                    " gives its result"
                )
                return Anomaly(
                    name="read skew",
                    transactions=(over.who, over.whom),
                    evidence=(over.evidence, text),
                )
        return None

    def write_skew(self) -> Anomaly | None:
        """Each of two did not see the other."""
        for a, b in combinations(self.run.committed, 2):
            one, two = self._not_seen(a, b), self._not_seen(b, a)
            if one is not None and two is not None:
                return Anomaly(
                    name="write skew", transactions=(a, b), evidence=(one.evidence, two.evidence)
                )
        if len(self.run.committed) == 2:
            a, b = self.run.committed
            mine, theirs = self._as_alone(a, b), self._as_alone(b, a)
            if mine is not None and theirs is not None:
                return Anomaly(name="write skew", transactions=(a, b), evidence=(mine, theirs))
        return None

    def _as_alone(self, name: str, other: str) -> str | None:
        """What shows that a transaction changed its rows as though the other had never run; None
        where it did not.
        """
        alone = self.serially((name,))
        for table, keys in self.dependence.tables.items():
            changed = self._changed(name, (), table)
            rows = next(
                (rows for title, rows in self.run.rows.items() if title.lower() == table), None
            )
            was = (
                next((r for t, r in alone.rows.items() if t.lower() == table), None)
                if alone is not None
                else None
            )
            if (
                not changed
                or rows is None
                or was is None
                or self._change_the_same(name, other, table)
            ):
                continue
            places = [rows.columns.index(column) for column in keys.primary]
            ends = {row for row in rows.rows if tuple(row[p] for p in places) in changed}
            if ends and ends <= set(was.rows):
                pairs = zip(rows.columns, min(ends, key=repr), strict=True)
                shown = ", ".join(f"{c}={'null' if v is None else v}" for c, v in pairs)
                return (
                    f"{table} ends with {shown}, which {name} leaves when it runs alone: it did not"
                    f" see {other}"
                )
        return None

    def differences(self) -> Iterator[str]:
        """For what has no name: how the run differs from the serial order nearest to it."""
        yield from (seen.evidence for seen in self.saw[:4])
        results = [
            (who, number, result)
            for who in self.run.committed
            for number, result in enumerate(self.run.seen[who])
        ]
        for who, number, result in results:
            if self._passes_over(who, number) and result.rows != PASSED_OVER.rows:
                yield (
                    f"{who} statement {number + 1} passes over what others have locked"
                    f" ({result.shown})"
                )
        for who, number, result in results:
            if not self._in_some_order(who, number):
                yield (
                    f"{who} statement {number + 1} gave {result.text}, which no serial order gives"
                )
        order, serial = next(iter(self.orders.items()), ((), None))
        if serial is None:
            yield "no order one after another could be run to its end"
            return
        yield from islice(self._differences_from(order, serial), 1)

    def _differences_from(self, order: tuple[str, ...], serial: Observation) -> Iterator[str]:
        one_by_one = ", then ".join(order)
        for table, rows in self.run.rows.items():
            known = serial.rows.get(table)
            for row in rows.rows if known is not None else ():
                if known is not None and row not in known.rows:
                    pairs = ", ".join(f"{c}={v}" for c, v in zip(rows.columns, row, strict=True))
                    yield f"{table} ends with {pairs}, which running {one_by_one} does not give"
        for who in order:
            pairs_of_results = zip(self.run.seen[who], serial.seen[who], strict=False)
            for number, (result, other) in enumerate(pairs_of_results, 1):
                if result != other:
                    yield (
                        f"{who} statement {number} gave {result.text}; running {one_by_one}"
                        f" gives {other.text}, and no order gives all of the results"
                    )
