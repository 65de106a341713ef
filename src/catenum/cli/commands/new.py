"""``catenum new``: an annotated scenario to fill in."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import IO

from catenum.api import files
from catenum.api.new import new_example, new_of_files, new_of_statements, new_of_tables
from catenum.cli.exits import ExitCode
from catenum.cli.progress import Reporter
from catenum.core.errors import InputError
from catenum.core.servers import NAMES
from catenum.engines.targets import DEFAULT


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``new``."""
    parser.add_argument(
        "tables", metavar="TABLE", nargs="*", help="with --tables: the tables that take part"
    )
    parser.add_argument(
        "--sql",
        metavar="FILE",
        action="append",
        help="a file of statements, which becomes a transaction; give one for each",
    )
    parser.add_argument(
        "--schema", metavar="FILE", help="with --sql: the definitions of the tables, such as a dump"
    )
    parser.add_argument(
        "--tables",
        dest="url",
        metavar="URL",
        help="a server whose definitions of the tables are taken; it is only read",
    )
    parser.add_argument(
        "--ask", action="store_true", help="ask for names and statements, one after another"
    )
    parser.add_argument("--name", metavar="NAME", help="the scenario's name")
    parser.add_argument(
        "--server",
        choices=list(NAMES),
        default=DEFAULT.removeprefix("local:"),
        help="whose SQL the statements are in",
    )
    parser.add_argument("--force", action="store_true", help="over a file that is there")
    parser.add_argument(
        "-o", "--save", metavar="FILE", type=Path, help="where to write (default: standard output)"
    )
    parser.add_argument("--quiet", action="store_true", help="do not say what to do next")


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Make it, write it."""
    path: Path | None = args.save
    if path is not None:
        files.check_writable(path)
        if path.exists() and not args.force:
            raise InputError(f"{path}: the file is there", advice="Use --force to overwrite it.")
    if args.tables and args.url is None:
        raise InputError("tables are taken from a server: give --tables URL")
    text = _text(args, err)
    if path is None:
        out.write(text)
        return ExitCode.OK
    files.save_atomically(path, text.encode(), shared=True)
    if not args.quiet:
        out.write(f"Written: {path}\nnext: catenum lint {path}\n      catenum play {path}\n")
    return ExitCode.OK


def _text(args: argparse.Namespace, err: IO[str]) -> str:
    if args.sql:
        return new_of_files(args.sql, server=args.server, name=args.name, schema=args.schema)
    if args.url is not None:
        reporter = Reporter(err, quiet=args.quiet)
        return new_of_tables(args.url, args.tables, name=args.name, listener=reporter)
    return _asked(args, err) if args.ask else new_example(args.name)


def _asked(args: argparse.Namespace, err: IO[str]) -> str:
    """By answers; what nobody answers ends it."""
    name = args.name or _answer(err, "Name of the scenario", "my-case")
    transactions: dict[str, list[str]] = {}
    while True:
        number = len(transactions) + 1
        label = _answer(err, f"Name of transaction {number} (empty: no more)", "")
        if not label:
            break
        err.write(f"Its statements, one on a line (empty: no more):\n  {label}> ")
        transactions[label] = list(_lines(err, f"  {label}> "))
        if not transactions[label]:
            del transactions[label]
    if len(transactions) < 2:
        raise InputError("one transaction waits for nobody: a scenario has at least two")
    err.write("SQL that makes tables and rows (empty: they are made up):\n  data> ")
    data = "\n".join(_lines(err, "  data> "))
    return new_of_statements(transactions, server=args.server, name=name, data=data)


def _answer(err: IO[str], question: str, usual: str) -> str:
    err.write(f"{question}{f' [{usual}]' if usual else ''}: ")
    err.flush()
    return sys.stdin.readline().strip() or usual


def _lines(err: IO[str], prompt: str) -> Iterator[str]:
    while True:
        err.flush()
        line = sys.stdin.readline().strip()
        if not line:
            return
        yield line.rstrip(";") if prompt != "  data> " else line
        err.write(prompt)
