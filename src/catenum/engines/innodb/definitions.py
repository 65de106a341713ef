"""Definitions of tables on a user's MariaDB or MySQL, and rows by their keys: read, and nothing
else.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator, Mapping
from typing import Any, ClassVar
from urllib.parse import unquote, urlsplit

import pymysql

from catenum.core.errors import TargetError
from catenum.engines.definitions import MOST_TABLES, Definitions
from catenum.engines.innodb import errors
from catenum.engines.innodb.control import arguments_of, quoted
from catenum.engines.innodb.session import AS_TEXT, text_of

_SCHEMAS = """
select distinct table_schema from information_schema.tables where table_name in ({})
  and table_type = 'BASE TABLE'
and table_schema not in ('mysql', 'information_schema', 'performance_schema', 'sys')
and table_schema not like 'catenum%%'
"""
_TABLES = f"""
select table_schema, table_name from information_schema.tables
where table_schema in ({{}}) and table_type = 'BASE TABLE' order by 1, 2 limit {MOST_TABLES}
"""


class InnodbDefinitions(Definitions):
    """One connection that reads only."""

    #: Ends what takes long, and lets nothing be written.
    settings: ClassVar[tuple[str, ...]]

    def __init__(self, where: str, shown: str) -> None:
        """Raises TargetError."""
        self.shown, self._database = shown, unquote(urlsplit(where).path.strip("/"))
        self._found: list[str] | None = None
        options: dict[str, Any] = {
            **arguments_of(where),
            "charset": "utf8mb4",
            "conv": AS_TEXT,
            "connect_timeout": 5,
            "read_timeout": 15,
            "autocommit": True,
            "program_name": "catenum restage",
        }
        options["ssl_disabled"] = "unix_socket" in options
        try:
            self.connection = pymysql.connect(**options)
            for setting in (
                "set session transaction read only",
                "set session lock_wait_timeout = 2",
                *self.settings,
            ):
                self.connection.cursor().execute(setting)
        except (pymysql.Error, OSError) as error:
            raise errors.unreachable(error, shown) from error

    def script(self, tables: Iterable[str]) -> str:
        """See ``Definitions``."""
        parts = ["set foreign_key_checks = 0"]
        for schema, table in self._places(tables):
            parts.append(
                str(self._rows(f"show create table {quoted(schema)}.{quoted(table)}")[0][1])
            )
        return ";\n".join(parts) + ";"

    def _places(self, tables: Iterable[str]) -> list[tuple[str, str]]:
        schemas = self._schemas(tables)
        if not schemas:
            return []
        listed = ", ".join(["%s"] * len(schemas))
        return [(str(a), str(b)) for a, b in self._rows(_TABLES.format(listed), tuple(schemas))]

    def _schemas(self, tables: Iterable[str]) -> list[str]:
        """Where these tables are: in the URL's database, where it names one, otherwise wherever
        they are.
        """
        if self._found is None:
            wanted = tuple(tables)
            query = _SCHEMAS.format(", ".join(["%s"] * len(wanted)) or "''")
            found = [str(row[0]) for row in self._rows(query, wanted)]
            self._found = [self._database] if self._database in found else found
            if len(self._found) > 1:
                raise TargetError(
                    f"{self.shown}: tables of these names are in several databases:"
                    f" {', '.join(self._found)}",
                    advice="Name one in the URL: mysql://host/DATABASE",
                )
        return self._found

    def rows(self, table: str, keys: Iterable[Mapping[str, str]]) -> Iterator[dict[str, str]]:
        """See ``Definitions``."""
        schemas = self._schemas([table])
        for key in keys:
            condition = " and ".join(f"{quoted(column)} = %s" for column in key)
            cursor = self.connection.cursor()
            with contextlib.suppress(pymysql.Error):
                cursor.execute(
                    f"select * from {quoted(schemas[0])}.{quoted(table)} where {condition}",
                    tuple(key.values()),
                )
                row = cursor.fetchone()
                if row is not None:
                    reported = zip(
                        (str(column[0]) for column in cursor.description or ()), row, strict=True
                    )
                    yield {
                        name: str(text_of(value)) for name, value in reported if value is not None
                    }

    def names(self, numbers: Iterable[str]) -> dict[str, str]:
        """See ``Definitions``: InnoDB's reports have names."""
        return {}

    def close(self) -> None:
        """See ``Definitions``."""
        with contextlib.suppress(pymysql.Error):
            self.connection.close()

    def _rows(self, query: str, values: tuple[object, ...] = ()) -> list[tuple[Any, ...]]:
        try:
            cursor = self.connection.cursor()
            cursor.execute(query, values or None)
            return [tuple(map(text_of, row)) for row in cursor.fetchall()]
        except (pymysql.Error, OSError) as error:
            raise errors.went_away(error, self.shown) from error
