"""New scenarios: of files of statements, of a server's schema, or as an example to fill in."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from catenum.api.files import read_file
from catenum.api.intake import definitions_of, schema_in
from catenum.api.listener import SILENT, Listener
from catenum.api.servers import find_target, refuse_profile
from catenum.core.errors import InputError, Place
from catenum.core.logs.conflicts import Conflict, Member
from catenum.core.logs.restage import restaged
from catenum.core.logs.tables import Schema, read_schema
from catenum.core.scenario.template import EXAMPLE, Template
from catenum.core.servers import rules_of
from catenum.core.sql.beginning import begins
from catenum.core.sql.scripts import split_script

_ENDS = re.compile(r"\s*(?:commit|rollback|end)\b", re.IGNORECASE)


def new_of_files(
    paths: Sequence[str | Path],
    *,
    server: str,
    name: str | None = None,
    schema: str | Path | None = None,
) -> str:
    """A scenario of files of SQL statements, a transaction each, called by the file's name.

    ``schema``: a file with the definitions of the tables; without it they are made up from what the
    statements say, and marked as assumed. Raises InputError.
    """
    dialect = rules_of(server).sql.dialect
    transactions: dict[str, list[str]] = {}
    for path in map(Path, paths):
        label = re.sub(r"[^\w-]+", "-", path.stem)
        if label in transactions:
            raise InputError(f"two files are called {label}", advice="A transaction has one name.")
        text = read_file(path).decode("utf-8", "backslashreplace")
        statements = [one.strip().rstrip(";") for _, one in split_script(text, dialect)]
        found = [one for one in statements if one and not begins(one) and not _ENDS.match(one)]
        if not found:
            raise InputError("has no statement", place=Place(str(path)))
        transactions[label] = found
    if len(transactions) < 2:
        raise InputError(
            "one transaction waits for nobody", advice="Give --sql once for each transaction."
        )
    return _of_statements(
        transactions, server, name, schema_in(Path(schema), server) if schema is not None else None
    )


def new_of_statements(
    transactions: dict[str, list[str]], *, server: str, name: str | None = None, data: str = ""
) -> str:
    """The same of statements; ``data``: SQL that makes the tables and their rows. Raises
    InputError.
    """
    if data.strip():
        return Template(
            name=name or "my-case",
            about="What these transactions do, in a sentence.",
            data=data,
            transactions=transactions,
        ).text()
    return _of_statements(transactions, server, name, None)


def new_of_tables(
    url: str, tables: Sequence[str], *, name: str | None = None, listener: Listener = SILENT
) -> str:
    """A scenario with the definitions of some of a server's tables, which are only read. Raises
    InputError, TargetError.
    """
    target = find_target(url, listener)
    if target.url is None:
        raise InputError(f"--tables {target.shown}: this must be the URL of a server of yours")
    if not tables:
        raise InputError("which tables?", advice=f"catenum new TABLE… --tables {target.shown}")
    refuse_profile(target, "new --tables")
    rules = rules_of(target.server)
    with definitions_of(url, target.server, listener) as found:
        schema = read_schema(found.script(tables), rules)
    known = {table.lower() for table in schema.tables}
    for table in tables:
        if table.lower() not in known:
            raise InputError(f"{target.shown} has no table {table}")
    first = tables[0]
    statements = {
        one: [f"select * from {first} where false", f"select count(*) from {first}"]
        for one in ("first", "second")
    }
    conflict = _conflict(statements, target.server)
    staged = restaged(conflict, schema, name=name)
    return Template(
        name=name or f"{first}-case",
        about=f"Transactions on {', '.join(tables)}.",
        data=staged.data,
        transactions=statements,
        notes=(
            f"The tables are those of {target.shown}, where they were only read; add rows.",
            "The statements are placeholders: put yours there.",
        ),
    ).text()


def new_example(name: str | None = None) -> str:
    """An example to fill in."""
    return (replace(EXAMPLE, name=name) if name else EXAMPLE).text()


def _of_statements(
    transactions: dict[str, list[str]], server: str, name: str | None, schema: Schema | None
) -> str:
    """With the tables and rows that the statements need."""
    staged = restaged(_conflict(transactions, server), schema, name=name)
    notes = [note for note in staged.notes if note.startswith("ASSUMED")]
    return Template(
        name=name or "my-case",
        about="What these transactions do, in a sentence.",
        data=staged.data,
        transactions=transactions,
        notes=notes,
        fill=staged.fill,
    ).text()


def _conflict(transactions: dict[str, list[str]], server: str) -> Conflict:
    """The transactions as if a log had reported that they met."""
    rules = rules_of(server).sql
    tables = {
        table
        for statements in transactions.values()
        for sql in statements
        for table, _ in rules.tables_of(sql)
    }
    return Conflict(
        kind="wait",
        server=server,
        at=None,
        members=tuple(
            Member(
                session=name,
                application=name,
                statement=statements[-1],
                history=tuple(statements),
                whole=True,
            )
            for name, statements in transactions.items()
        ),
        waits=(),
        victim=None,
        relations=tuple(sorted(tables)),
        report="",
    )
