"""Scratch space and data: made, loaded, filled, read, put back, dropped, with no more than SQL that
every server has, and what the profile says.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import replace
from hashlib import sha1
from itertools import islice

from catenum.core.errors import TargetError
from catenum.core.record.recording import PathStep, ServerError, TableKeys, TableRows
from catenum.core.record.values import NOTHING, Binding, Value
from catenum.engines.by_profile.catalogue import Catalogue
from catenum.engines.by_profile.control import ProfileControl
from catenum.engines.by_profile.driver import text_of, value_of
from catenum.engines.ports import DataError, NeedsReload, NotRestored, StatementsEffects

#: Rows of a table that are read to tell whether it changed.
MOST_ROWS = 200_000
#: So many are put back by one statement.
ROWS_AT_ONCE = 100
Row = tuple[str | None, ...]


class ProfileData(ProfileControl):
    """See ``engines.ports.data.Data`` for what each method promises."""

    _kept: StatementsEffects | None = None
    _known: dict[str, TableKeys] | None = None
    _stood: dict[str, tuple[tuple[str, ...], list[Row]]]
    _copies: dict[str, str]
    _watched: tuple[str, ...] = ()
    _now: dict[str, tuple[tuple[str, ...], list[Row]]]

    def make_scratch(self) -> list[str]:
        """On a private server what a killed run left is dropped; elsewhere nobody knows whether its
        run is dead.
        """
        cleared = []
        left = self.profile.scratch.left
        if left is not None and self.info.private:
            for name, *_ in self.look(left):
                space = str(name).lower()
                if not _is_alive(space) and self._clear(space):
                    cleared.append(space)
        self._made = True
        for sql in self.profile.scratch.make:
            self.look(self._in_space(sql))
        return cleared

    def _clear(self, space: str) -> bool:
        """Empty and drop what a killed run left. Returns whether it is gone."""
        mine, self.schema = self.schema, space
        try:
            with contextlib.suppress(Exception):
                self._empty()
            with contextlib.suppress(Exception):
                if self._writer is not None:
                    self._writer.close()
            self._writer = None
            for sql in self.profile.scratch.drop:
                self._drop(space, sql)
        except TargetError:
            return False
        finally:
            self.schema, self._writer = mine, None
        return True

    def connections_left(self) -> int:
        """Not known: as many as it takes."""
        return 1_000

    def load(self, script: str) -> None:
        """Empty the scratch space and run ``script`` in it."""
        if self.loads:
            self._empty()
        self.loads += 1
        self._copies, self._stood, self._kept = {}, {}, None
        self.moved_rows()
        self.add(script)

    def moved_rows(self) -> None:
        """Rows are elsewhere than before."""

    def _empty(self) -> None:
        """Drop what is there: what fails is tried again behind the others, since it may be needed
        by one of them.
        """
        left: list[str] = []
        for query in self.profile.scratch.empty:
            left += [str(row[0]) for row in self.look_in_space(query)]
        last: Exception | None = None
        while left:
            failed = []
            for sql in left:
                try:
                    self.write(sql)
                    self.writer.commit()
                except Exception as error:
                    last = error
                    self.writer.rollback()
                    failed.append(sql)
            if len(failed) == len(left):
                raise TargetError(
                    f"the scratch space cannot be emptied: {failed[0]}: {last}",
                    advice="Correct scratch.empty in the profile.",
                )
            left = failed
        self.writer.commit()

    def add(self, script: str) -> None:
        """Run set-up SQL, statement by statement."""
        self._known = None
        for offset, sql in self.rules.sql.split(script):
            try:
                self.write(sql)
            except Exception as error:
                found = self.database.error_of(error)
                with contextlib.suppress(Exception):
                    self.writer.rollback()
                if found.kind == "lost" and not self.alive():
                    raise TargetError(f"the server went away: {self._shown}") from error
                raise DataError(replace(found, position=offset + 1), script) from error
        with self._translated():
            self.writer.commit()

    def refuses(self, index: str) -> str | None:
        """Not asked: what it would do to others is not known."""
        return None

    def fill(
        self, table: str, columns: Sequence[str], rows: Iterable[tuple[str | int | None, ...]]
    ) -> None:
        """Rows by INSERTs with values bound."""
        names = ", ".join(map(self.quoted, columns))
        marks = ", ".join(f":value{n}" for n in range(len(columns)))
        query = f"insert into {self.quoted(table)} ({names}) values ({marks})"
        try:
            cursor = self.writer.cursor()
            left = iter(rows)
            while batch := list(islice(left, 500)):
                for row in batch:
                    values = tuple(
                        (f"value{n}", Value.from_python(one)) for n, one in enumerate(row)
                    )
                    cursor.execute(*self.database.bound(query, values))
            cursor.close()
            self.writer.commit()
        except Exception as error:
            self.writer.rollback()
            raise DataError(self.database.error_of(error), f"fill {table}") from error

    def analyze(self) -> None:
        """By the profile's statement."""
        sql = self.profile.scratch.analyze
        for table in self.tables() if sql is not None else ():
            with self._translated():
                self.write(self._in_space(str(sql)).replace("{table}", table))
                self.writer.commit()

    def tables(self) -> dict[str, TableKeys]:
        """The scratch space's tables; those that Catenum keeps rows in are not among them."""
        if self._known is None:
            with self._translated():
                reader = Catalogue(self.profile, self.look_in_space, self._looker)
                found = reader.tables(self._as_stored(self.schema))
            self._known = {
                name: keys for name, keys in found.items() if not name.startswith("catenum_")
            }
        return self._known

    def functions(self) -> frozenset[str]:
        """Not known: none that a scenario may define is let through."""
        return frozenset()

    def notes(self) -> list[str]:
        return []

    def plan(self, sql: str, values: Binding = NOTHING) -> tuple[PathStep, ...]:
        """Not known."""
        return ()

    def keep_data(self, what: StatementsEffects) -> None:
        """In tables beside them, copied by the server, so that every type of value is."""
        self._kept = what
        self._watched = tuple(
            name
            for name in self.tables()
            if what.written is None or name.lower() in {one.lower() for one in what.written}
        )
        with self._translated():
            for name in self._watched:
                if name not in self._copies:
                    self._copies[name] = f"catenum_kept_{len(self._copies)}"
                    copy, table = self._copies[name], self.quoted(name)
                    for text in (self.profile.scratch.copy_table, self.profile.scratch.copy_rows):
                        if text:
                            self.write(text.replace("{copy}", copy).replace("{table}", table))
            self.writer.commit()
        self._stood = {name: self._read(name) for name in self._watched}

    def _read(self, name: str, order: str = "") -> tuple[tuple[str, ...], list[Row]]:
        with self._translated():
            cursor = self.writer.cursor()
            cursor.execute(f"select * from {self.quoted(name)}{order}")
            columns = tuple(self.profile.sql.folded(str(one[0])) for one in cursor.description)
            rows = [tuple(text_of(one) for one in row) for row in cursor.fetchmany(MOST_ROWS)]
            cursor.close()
            self.writer.commit()
        if len(rows) == MOST_ROWS:
            raise TargetError(
                f"the table {name} has {MOST_ROWS:,} rows or more, and what changed in it can be"
                " told by reading all only",
                advice="Give 'data' fewer rows: by a profile no server compares them itself.",
            )
        return columns, rows

    def _compared(self, name: str, columns: tuple[str, ...], rows: list[Row]) -> list[Row]:
        ignored = (
            {
                column.lower()
                for effects in (self._kept.ignored, self._kept.of_new)
                for table, listed in effects.items()
                if table.lower() == name.lower()
                for column in listed
            }
            if self._kept is not None
            else set()
        )
        places = [n for n, column in enumerate(columns) if column.lower() not in ignored]
        return sorted((tuple(row[n] for n in places) for row in rows), key=repr)

    def data_state(self) -> str:
        """A digest of all rows of the tables that can be written."""
        digest = sha1(usedforsecurity=False)
        self._now = {}
        for name in self._watched:
            columns, rows = self._now[name] = self._read(name)
            digest.update(repr((name, columns, self._compared(name, columns, rows))).encode())
        return digest.hexdigest()

    def restore_data(self) -> Callable[[], None]:
        """Rows that are there still are updated in their places, since the order in which a scan
        meets rows counts; a table in which others came or went is filled anew.
        """
        if self._kept is None or self._kept.shape:
            raise NeedsReload
        changed = [name for name in self._watched if self._now.get(name) != self._stood[name]]
        if any(self._known_keys(name).made and not self._in_place(name) for name in changed):
            raise NeedsReload  # numbers that the server makes up would go on
        if changed:
            self._put_back(changed)
        return lambda: None

    def _known_keys(self, name: str) -> TableKeys:
        return self.tables()[name]

    def _in_place(self, name: str) -> bool:
        """Whether the same keys stand there in the same order."""
        keys = self._known_keys(name).primary
        columns, rows = self._now[name]
        places = [n for n, column in enumerate(columns) if column in keys]
        before = self._stood[name][1]
        return bool(keys) and [[row[n] for n in places] for row in rows] == [
            [row[n] for n in places] for row in before
        ]

    def _put_back(self, changed: Collection[str]) -> None:
        anew = [name for name in changed if not self._in_place(name)]
        tables = self.tables()
        refilled = set(anew)
        # who refers to a table that is emptied is emptied before it, and filled behind it
        while more := {
            name
            for name in self._watched
            if name not in refilled and refilled & set(tables[name].references) - {name}
        }:
            refilled |= more
        order = _parents_first(refilled, tables)
        if order:
            self.moved_rows()
        with self._translated():
            for name in changed:
                if name not in refilled:
                    self._update(name)
            for name in reversed(order):
                self._clear_table(self.quoted(name))
            for name in order:
                text = self.profile.scratch.copy_rows
                text = text.replace("{copy}", self.quoted(name))
                self.write(text.replace("{table}", self._copies[name]))
            self.writer.commit()
        for name in dict.fromkeys((*changed, *order)):
            if sorted(self._read(name)[1], key=repr) != sorted(self._stood[name][1], key=repr):
                raise NotRestored("after the data was put back", [name])

    def _clear_table(self, table: str) -> None:
        plain = f"delete from {table}"
        own = self.profile.scratch.empty_table.replace("{table}", table)
        try:
            self.write(own)
        except Exception:  # as where a foreign key refers to it
            if own == plain:
                raise
            self.writer.rollback()
            self.write(plain)

    def _update(self, name: str) -> None:
        """The rows that differ, by their keys, from the copy: many in one statement, since a server
        may plan each text anew.
        """
        keys = self._known_keys(name).primary
        columns, rows = self._now[name]
        table, copy = self.quoted(name), self._copies[name]
        same = " and ".join(
            f"catenum_was.{self.quoted(key)} = {table}.{self.quoted(key)}" for key in keys
        )
        by_columns: dict[tuple[str, ...], list[Row]] = {}
        for now, was in zip(rows, self._stood[name][1], strict=True):
            differ = tuple(c for n, c in enumerate(columns) if now[n] != was[n] and c not in keys)
            if differ:
                by_columns.setdefault(differ, []).append(was)
        for differ, stood in by_columns.items():
            sets = ", ".join(
                f"{self.quoted(column)} = (select catenum_was.{self.quoted(column)} from {copy}"
                f" catenum_was where {same})"
                for column in differ
            )
            for first in range(0, len(stood), ROWS_AT_ONCE):
                some = stood[first : first + ROWS_AT_ONCE]
                self.write(f"update {table} set {sets} where {self._where(name, columns, some)}")

    def _where(self, name: str, columns: Sequence[str], rows: Sequence[Row]) -> str:
        """The condition that names these rows by their keys."""
        keys = self._known_keys(name).primary
        literals = [
            [self._literal(name, key, row[columns.index(key)]) for key in keys] for row in rows
        ]
        if len(keys) == 1:
            return f"{self.quoted(keys[0])} in ({', '.join(one for (one,) in literals)})"
        return " or ".join(
            " and ".join(f"{self.quoted(k)} = {one}" for k, one in zip(keys, row, strict=True))
            for row in literals
        )

    def _literal(self, table: str, column: str, text: str | None) -> str:
        number = self._known_keys(table).kinds.get(column) == "integer"
        return text or "" if number else "'" + (text or "").replace("'", "''") + "'"

    def rows(
        self, limit: int, tables: Mapping[str, TableKeys] | None = None
    ) -> dict[str, TableRows]:
        """The first rows of each table by its key. Beside open transactions, where a plain read
        would wait for them, none.
        """
        level = self.profile.levels.reads[self.profile.levels.default]
        if tables is not None and level in ("waits", "locks"):
            return {}
        found = {}
        for name, keys in (self.tables() if tables is None else tables).items():
            order = ", ".join(map(self.quoted, keys.primary))
            columns, rows = self._read(name, f" order by {order}" if order else "")
            if not order:
                rows = sorted(rows, key=lambda row: tuple((one is None, one or "") for one in row))
            found[name] = TableRows(columns=columns, rows=tuple(rows[:limit]), total=len(rows))
        return found

    def values_of(self, table: str, column: str, most: int) -> tuple[Value, ...]:
        """By a plain query."""
        name = self.quoted(column)
        query = (
            f"select distinct {name} from {self.quoted(table)} where {name} is not null order by 1"
        )
        try:
            rows = self.write(query)
            self.writer.commit()
        except Exception as error:
            self.writer.rollback()
            raise DataError(self.database.error_of(error), query) from error
        return tuple(value_of(row[0]) for row in rows[:most])

    def truth(self, sql: str) -> bool:
        """Whether a query gives one row with one value that is true."""
        try:
            rows = self.write(sql)
        except Exception as error:
            raise DataError(self.database.error_of(error), sql) from error
        finally:
            with contextlib.suppress(Exception):
                self.writer.rollback()
        value = text_of(rows[0][0]) if len(rows) == 1 and len(rows[0]) == 1 else None
        if value not in ("0", "1", "true", "false"):
            got = f"{len(rows)} rows" if value is None else repr(value)
            message = f"it must return one row with true or false; it returned {got}"
            raise DataError(ServerError(code="", kind="rejected", message=message), sql)
        return value in ("1", "true")

    def _drop(self, space: str, sql: str) -> None:
        self.look(sql.replace("{space}", space).replace("{login}", self._place.theirs.user))

    def close(self) -> None:
        """Drop the scratch space and disconnect; whatever fails here is left to a private server's
        next run.
        """
        with contextlib.suppress(Exception):
            if self._made:
                with contextlib.suppress(Exception):
                    self.writer.rollback()
                    self._empty()
                if self._writer is not None:
                    self._writer.close()
                for sql in self.profile.scratch.drop:
                    with contextlib.suppress(Exception):
                        self._drop(self.schema, sql)
        with contextlib.suppress(Exception):
            self._looker.close()


def _is_alive(space: str) -> bool:
    """Whether the process that made a space is at work still: a private server is on its
    machine.
    """
    number = space.rpartition("_")[2]
    if not number.isdecimal() or space.count("_") < 2:
        return False
    try:
        os.kill(int(number), 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True  # it is another user's
    return True


def _parents_first(names: Collection[str], tables: Mapping[str, TableKeys]) -> list[str]:
    """Tables in an order in which each stands behind those that it refers to; rings as they are."""
    found: list[str] = []
    left = sorted(names)
    while left:
        free = [
            name for name in left if not (set(tables[name].references) - {name}) & set(left)
        ] or left[:1]
        found += free
        left = [name for name in left if name not in free]
    return found
