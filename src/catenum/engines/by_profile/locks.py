"""Who waits for whom, and every lock, by the profile's queries; what a deadlock's message tells."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, cast

from catenum.core.record.modes import NO_MODE, Mode
from catenum.core.record.recording import LockEntry, ServerError
from catenum.core.record.waits import Edge, Key, Resource, ResourceKind, key_text
from catenum.core.servers import Rules
from catenum.core.servers.profile import SqlPart
from catenum.engines.by_profile.data import ProfileData
from catenum.engines.by_profile.driver import is_true, text_of
from catenum.engines.by_profile.session import MARK, ProfileSession
from catenum.engines.monitor import SOMEBODY
from catenum.engines.ports import Patience, Session

#: A server that says nothing of it is given so long to end a deadlock (ms).
VERDICT_MS = 2_000.0
#: What profiles call the kinds of things that locks are on.
_KINDS: dict[str, ResourceKind] = {
    "row": "row",
    "key": "key",
    "table": "table",
    "page": "other",
    "gap": "gap",
    "index": "index",
}
Row = Mapping[str, Any]


def resource_of(row: Row, sql: SqlPart) -> Resource:
    """What a row of a query says that a lock is on."""
    told = (text_of(row.get("kind")) or "").lower()
    table = text_of(row.get("object"))
    table = sql.folded(table) if table is not None else None
    key = (text_of(row.get("key")) or "").strip()
    kind = _KINDS.get(told, "table" if table and not key else "other")
    if kind == "table" or not key:
        return Resource(kind="table" if table else "other", text=table or "something", table=table)
    return Resource(
        kind=kind,
        text=f"{table or 'something'}(at {key.strip('()')})",
        table=table,
        key=(("at", key),),
    )


def mode_of(row: Row, name: str) -> Mode:
    """A mode as the server writes it."""
    text = (text_of(row.get(name)) or "").strip()
    return Mode.read(text) if text else NO_MODE


def edges_in(rows: Sequence[Row], rules: Rules, sql: SqlPart) -> list[Edge]:
    """The waits that a query gives, by the server's numbers. Who holds a lock in a mode that does
    not conflict with what is wanted is not waited for; nor is one that only queues, where somebody
    holds the lock. Of a waiter for whom nobody would be left, all are: it waits, whatever the table
    of modes says.
    """
    found: list[Edge] = []
    harmless: list[Edge] = []
    for row in rows:
        wanted, held = mode_of(row, "wanted"), mode_of(row, "held")
        conflict = rules.locks.conflict(wanted, held)
        waiter, holder = text_of(row["waiter"]), text_of(row["holder"]) or SOMEBODY
        if waiter is None or waiter == holder:
            continue
        since = row.get("since")
        (harmless if conflict is not None and not conflict.conflict else found).append(
            Edge(
                waiter=waiter,
                holder=holder,
                resource=resource_of(row, sql),
                wanted=wanted,
                held=held if held != NO_MODE else None,
                queued=is_true(row.get("queued")),
                since_ms=-float(since) if since is not None else None,
            )
        )
    named = {edge.waiter for edge in found}
    found += [edge for edge in harmless if edge.waiter not in named]
    held_up = {(edge.waiter, edge.resource.identity) for edge in found if not edge.queued}
    return [
        edge
        for edge in found
        if not edge.queued or (edge.waiter, edge.resource.identity) not in held_up
    ]


class ProfileLocks(ProfileData):
    """See ``engines.ports.lock_views.LockViews`` and ``engines.ports.reports.Reports``."""

    _queue: dict[tuple[str, object], int]
    _asked = 0
    #: The message that ``edges_of`` read last.
    _report = ""
    #: Rows by their places, as far as statements have told which they are; None where two told
    #: different things.
    _rows_named: dict[tuple[str, str], Key | None]

    def _named(self, edge: Edge, waiter: str, holder: str, *, over: bool = False) -> Edge:
        """The row by its key, where the server tells its place only, and it follows from what the
        holder has locked and the waiter asks for. ``over``: one of them has been rolled back since.
        """
        resource = edge.resource
        if resource.kind != "row" or resource.table is None or resource.key is None:
            return edge
        place = (resource.table, resource.key[0][1] or "")
        theirs = self._keys_named(holder, resource.table, over=over)
        mine = self._keys_named(waiter, resource.table, now=True, over=over)
        both = [key for key in mine or () if theirs is not None and key in theirs]
        found = both[0] if len(both) == 1 else None
        if found is None and theirs is not None and len(theirs) == 1 and edge.held is not None:
            found = theirs[0] if edge.held == self.rules.locks.inserted_mode else None
        if found is not None and self._rows_named.setdefault(place, found) != found:
            self._rows_named[place] = None
        return replace(edge, resource=self._by_key(resource))

    def _by_key(self, resource: Resource) -> Resource:
        if resource.kind != "row" or resource.table is None or resource.key is None:
            return resource
        known = self._rows_named.get((resource.table, resource.key[0][1] or ""))
        if known is None:
            return resource
        text = f"{resource.table}({key_text(known)})"
        return replace(resource, text=text, key=known)

    def _keys_named(
        self, name: str, table: str, *, now: bool = False, over: bool = False
    ) -> list[Key] | None:
        """The rows of a table that a session's statements name by its primary key; None where one
        of them goes there otherwise, or may: by a trigger, a cascade, a function.
        """
        session = self._running.get(name)
        tables = self.tables()
        keys = tables.get(table)
        if session is None or keys is None or not keys.primary:
            return None
        if any(one.triggers for one in tables.values()):
            return None
        found: list[Key] = []
        trail = session.trail or (session.trail_before if over else ())
        for sql, values in trail[-1:] if now else trail:
            footprint = self.rules.sql.footprint(sql, dict(values))
            changed = {one.table.lower() for one in footprint.accesses if one.writes}
            if not footprint.understood or changed & set(keys.references):
                return None
            for access in footprint.on(table):
                equal = {column.lower(): value for column, value in access.equals}
                if access.verb == "insert" or not set(keys.primary) <= equal.keys():
                    return None
                found.append(tuple((column, equal[column]) for column in keys.primary))
        return list(dict.fromkeys(found))

    def moved_rows(self) -> None:
        """What was told of their places is over."""
        self._rows_named.clear()

    def _names(self) -> dict[str, str]:
        return {one.number: name for name, one in self._running.items() if one.number}

    def _numbered(self, rows: Sequence[Row]) -> dict[str, str]:
        """The names of sessions by the server's numbers: also of those whose number has changed
        with the statement that waits.
        """
        names = self._names()
        marks = {one.mark: name for name, one in self._running.items()}
        for row in rows:
            found = MARK.search(text_of(row.get("statement")) or "")
            name = marks.get(found[1]) if found else None
            if name is not None:
                names[str(text_of(row["waiter"]))] = name
        return names

    def poll_waits(self, sessions: Mapping[str, Session], now_ms: float) -> list[Edge]:
        """By the profile's query; of two who queue, the one that was seen first stands ahead."""
        rows = self.looked(self.profile.waits.query)
        names = self._numbered(rows) if rows else {}  # who is asked for its number is waited for
        found = []
        seen: dict[tuple[str, object], int] = {}
        for edge in edges_in(rows, self.rules, self.profile.sql):
            waiter, holder = names.get(edge.waiter), names.get(edge.holder)
            if waiter is None or waiter not in sessions:
                continue
            place = (waiter, edge.resource.identity)
            self._asked += 1
            seen[place] = min(seen.get(place, self._asked), self._queue.get(place, self._asked))
            unknown = edge.holder if edge.holder == SOMEBODY else f"session {edge.holder}"
            found.append(replace(edge, waiter=waiter, holder=holder or unknown, since_ms=now_ms))
        self._queue = seen
        return [
            self._named(edge, edge.waiter, edge.holder)
            for edge in found
            if not edge.queued or self._is_ahead(edge)
        ]

    def _is_ahead(self, edge: Edge) -> bool:
        """Whether the one that only queues came before who waits for it; one of whom that is not
        known did.
        """
        theirs = self._queue.get((edge.holder, edge.resource.identity))
        mine = self._queue.get((edge.waiter, edge.resource.identity))
        return theirs is None or mine is None or theirs < mine

    def picture(self, sessions: Mapping[str, Session]) -> tuple[list[LockEntry], str | None]:
        """By the profile's query for locks."""
        if self.profile.locks is None:
            return [], f"{self.profile.title}'s profile has no query for locks"
        rows = self.looked(self.profile.locks.query)
        names = self._names()
        marked = [{**row, "waiter": row["session"]} for row in rows]
        names |= self._numbered(marked)
        self._learn_rows(rows, names)
        entries = [
            LockEntry(
                transaction=names[text_of(row["session"]) or ""],
                resource=self._by_key(resource_of(row, self.profile.sql)),
                mode=mode_of(row, "mode"),
                granted=is_true(row.get("granted", True)),
            )
            for row in rows
            if text_of(row["session"]) in names and names[text_of(row["session"]) or ""] in sessions
        ]
        return entries, None

    def _learn_rows(self, rows: Sequence[Row], names: Mapping[str, str]) -> None:
        """Who has locked one row of a table, and names one by its statements, has locked that."""
        held: dict[tuple[str, str], set[str]] = {}
        for row in rows:
            found = resource_of(row, self.profile.sql)
            name = names.get(text_of(row["session"]) or "")
            if found.kind == "row" and found.table and found.key and name is not None:
                held.setdefault((name, found.table), set()).add(found.key[0][1] or "")
        for (name, table), places in held.items():
            keys = self._keys_named(name, table) if len(places) == 1 else None
            if keys is not None and len(keys) == 1:
                place = (table, next(iter(places)))
                if self._rows_named.setdefault(place, keys[0]) != keys[0]:
                    self._rows_named[place] = None

    def classes(
        self, table: str, column: str, written: Sequence[tuple[bool, str]]
    ) -> dict[tuple[bool, str], int]:
        """Not known."""
        return {}

    # -- reports -----------------------------------------------------------------------------------

    def edges_of(
        self,
        error: ServerError,
        victim: Session | None = None,
        names: Mapping[str, str] | None = None,
    ) -> tuple[Edge, ...]:
        """What the message tells of the cycle, by the profile's pattern."""
        known = dict(names or {}) or self._names()
        marks = {one.mark: name for name, one in self._running.items()} | known
        found = []
        told = cast(ProfileSession, victim).told if victim is not None else error.detail
        told = told or error.message
        self._report = MARK.sub("", told)
        for row in self._told(told):
            mark = MARK.search(row.get("statement") or "")
            waiter = marks.get(mark[1]) if mark else None
            if waiter is not None:
                known = {**known, str(row["waiter"]): waiter}
            found.append(row)
        edges = (
            Edge(
                waiter=known[str(row["waiter"])],
                holder=known[str(row["holder"])],
                resource=resource_of(row, self.profile.sql),
                wanted=mode_of(row, "wanted"),
                held=mode_of(row, "held") if row.get("held") else None,
            )
            for row in found
            if str(row["waiter"]) in known and str(row["holder"]) in known
        )
        return tuple(self._named(edge, edge.waiter, edge.holder, over=True) for edge in edges)

    def _told(self, message: str) -> Iterator[dict[str, str | None]]:
        deadlocks = self.profile.deadlocks
        if deadlocks is None or deadlocks.cycle is None:
            return
        granted: dict[tuple[str | None, ...], str] = {}
        for match in re.finditer(deadlocks.cycle, message):
            row = dict(match.groupdict())
            # who holds a lock may be told where it is first named only
            lock = tuple(row.get(name) for name in ("kind", "object", "key"))
            if "holders" in row:
                row["holders"] = granted[lock] = row["holders"] or granted.get(lock, "")
            if deadlocks.holder is None:
                yield row
                continue
            for holder in re.finditer(deadlocks.holder, row.pop("holders", None) or ""):
                each = {**row, **holder.groupdict()}
                if each.get("holder") != each.get("waiter"):
                    yield each

    def cycle_statements(self, names: Mapping[str, str]) -> dict[str, str]:
        return {}

    def cycle_victim(self, names: Mapping[str, str]) -> str | None:
        return None

    def deadlock_count(self, sessions: Mapping[str, Session]) -> int | None:
        """Not known."""
        return None

    def settings(self) -> dict[str, str]:
        return {}

    def handlers(self) -> list[tuple[str, tuple[str, ...]]]:
        """None: routines are not let through."""
        return []

    def report_of(self, error: ServerError) -> str | None:
        """The message itself, where it tells the cycle."""
        return self._report if any(self._told(self._report)) else None

    def verdict_ms(self, cycle: Sequence[Edge]) -> float:
        """As long as the profile says."""
        deadlocks = self.profile.deadlocks
        return VERDICT_MS if deadlocks is None else deadlocks.within_ms + VERDICT_MS

    def victim_rule(
        self,
        patience: Patience | None,
        closed: bool | None,
        wanted: Mode = NO_MODE,
        *,
        reported: bool = True,
    ) -> str:
        """The profile's words."""
        deadlocks = self.profile.deadlocks
        if deadlocks is not None and deadlocks.victim:
            return deadlocks.victim
        return f"{self.profile.title}'s profile does not say how its victim is chosen"

    # -- sessions ----------------------------------------------------------------------------------

    def _of(self, sessions: Sequence[Session]) -> Sequence[ProfileSession]:
        return cast(Sequence[ProfileSession], sessions)
