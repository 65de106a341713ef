"""``catenum help``: the help of a command; all of it as a man page."""

from __future__ import annotations

import argparse
import re
from collections.abc import Iterator
from typing import IO

from catenum.cli.exits import ExitCode
from catenum.cli.main import COMMANDS, EXIT_CODES, build_parser
from catenum.core.errors import InputError
from catenum.core.text import suggestion
from catenum.core.version import __version__


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``help``."""
    parser.add_argument("about", metavar="COMMAND", nargs="?", help="which command")
    parser.add_argument("--man", action="store_true", help="all commands, as a man page (roff)")


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Print it."""
    if args.man:
        out.write("\n".join(_man()) + "\n")
        return ExitCode.OK
    if args.about is None:
        out.write(build_parser(None).format_help())
        return ExitCode.OK
    if args.about not in COMMANDS:
        raise InputError(
            f"there is no command {args.about!r}", advice=suggestion(args.about, list(COMMANDS))
        )
    out.write(parser_of(args.about).format_help())
    return ExitCode.OK


def parser_of(name: str) -> argparse.ArgumentParser:
    """A command's parser, with its options."""
    commands = next(
        one for one in build_parser(name)._actions if isinstance(one, argparse._SubParsersAction)
    )
    found: argparse.ArgumentParser = commands.choices[name]
    return found


# -- the man page ----------------------------------------------------------------------------------


def _man() -> Iterator[str]:
    """As man(7) has it."""
    yield f'.TH CATENUM 1 "" "catenum {__version__}" "User Commands"'
    yield from (".SH NAME", "catenum \\- reproduce blocking and deadlocks, and prove the fix")
    yield from (".SH SYNOPSIS", ".B catenum", ".I COMMAND", "[options]")
    yield from (".SH DESCRIPTION", _escaped(str(build_parser(None).description)))
    yield ".SH COMMANDS"
    for name in COMMANDS:
        parser = parser_of(name)
        yield f".SS {_escaped(name)}"
        yield _escaped(str(parser.description))
        for action in parser._actions:
            if action.help and action.help != argparse.SUPPRESS and action.dest != "help":
                yield from (".TP", f".B {_escaped(_called(action))}", _escaped(action.help))
        yield from (".PP", "Examples:", ".nf")
        yield from (_escaped(line) for line in str(parser.epilog).splitlines()[1:])
        yield ".fi"
    yield ".SH EXIT STATUS"
    for code, what in EXIT_CODES:
        yield from (".TP", f".B {code}", _escaped(what))
    yield ".SH ENVIRONMENT"
    for name, what in (
        ("CATENUM_TARGET", "the target where no --target is given"),
        ("NO_COLOR, FORCE_COLOR", "no colour; colour also in a pipe"),
        ("PGPASSWORD, MYSQL_PWD", "passwords, which never stand on a command line then"),
    ):
        yield from (".TP", f".B {name}", what)
    yield from (".SH FILES", ".TP", ".B catenum.toml", "short names of targets, the default one")


def _called(action: argparse.Action) -> str:
    names = ", ".join(action.option_strings)
    value = "" if action.nargs == 0 else str(action.metavar or "")
    if not names:
        return value or action.dest
    if not value and action.choices is not None and action.nargs != 0:
        value = "|".join(map(str, action.choices))
    return f"{names} {value}".strip()


def _escaped(text: str) -> str:
    """A text that means nothing to roff."""
    plain = " ".join(re.sub(r"%%", "%", text).split()) if "\n" not in text else text
    plain = plain.replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{plain}" if plain.startswith((".", "'")) else plain
