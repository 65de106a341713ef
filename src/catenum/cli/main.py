"""The entry point: finds the command, loads its module only, and turns errors into exit codes.

``catenum --help`` imports none of the commands, so that it stays as quick as Python itself.
"""

from __future__ import annotations

import argparse
import errno
import os
import signal
import sys
from functools import partial
from importlib import import_module

from catenum.core.version import __version__

TYPE_CHECKING = False  # typing itself takes longer to load than all the rest of the help page
if TYPE_CHECKING:
    from collections.abc import Sequence
    from types import FrameType
    from typing import IO, NoReturn

#: What writing to a full disk, or to a device that is gone, ends with.
_NO_ROOM = (errno.ENOSPC, errno.EIO, errno.EDQUOT, errno.EFBIG)
#: Command to its line in the help; its module has the same name (``schema`` in ``cli/schema.py``).
COMMANDS = {
    "demo": "run the full example: conflict, picture, explanation, fix, proof",
    "sample": "list the scenarios that ship, or write one out to edit",
    "new": "write an annotated scenario to fill in: of files of statements, or of a schema",
    "lint": "read scenarios and say what is wrong with them",
    "play": "run one schedule and show the timeline, the locks, the story",
    "explore": (
        "run every schedule that can differ; the outcomes, and the shortest schedule to each"
    ),
    "churn": "run the transactions in loops, uncontrolled, until timing does it",
    "trial": "run the baseline and each remedy, side by side",
    "propose": "derive changes from what is seen, try each on every schedule, and rank them",
    "sweep": "every way in which the transactions' parameters can coincide, and what it comes to",
    "levels": "what each isolation level prevents on a server; which level a scenario needs",
    "pace": "what isolation levels cost under load, from one client to many hundreds",
    "check": "hold scenarios to what they expect, for builds: table, exit code, JUnit, SARIF",
    "report": "a page to hand over: what happened, move by move, what is proven, how to repeat it",
    "explain": "print the story of a recording",
    "draw": "draw a recording's timeline and wait graph as PNG or SVG",
    "now": "check a running server: who waits for whom, under which head blocker, for how long",
    "watch": "sample running servers for hours; keep what happened, say what happens",
    "history": "what a watch has seen: by statement, object, application, time; charts",
    "release": "end a blocker, safely: shows what it blocks, asks, the gentler way first",
    "preflight": "what the server and this login allow, what is off, and what watching costs there",
    "intake": "read servers' own logs: the conflicts that they captured, and their story",
    "restage": "make a scenario of a captured conflict, play it, and say whether the same came",
    "schema": "print the JSON Schema of a scenario or a recording, for editors",
    "local": "keep a private server running between commands, or stop it",
    "completion": "print what makes bash, zsh or fish complete commands, samples and targets",
    "help": "the help of a command, or all of it as a man page",
}
_FIRST_STEPS = """first steps:
  catenum demo                                a deadlock, explained and fixed, on a private server
  catenum sample berth-swap > berths.yaml     a scenario to edit
  catenum play berths.yaml                    one schedule: who ran, who waited, who was the victim
  catenum explore berths.yaml                 every schedule that can differ, and its outcome
  catenum propose berths.yaml                 changes that would cure it, tried and ranked
  catenum trial berths.yaml                   its remedies, side by side
  catenum report run.json -o run.html         a page to hand over
  catenum now --target postgresql://…         a running server: who waits for whom

exit codes:
"""
#: What the exit status says.
EXIT_CODES = (
    (0, "all well"),
    (1, "a conflict was found, or it is not as expected"),
    (2, "the call or the file is wrong"),
    (3, "the server cannot be reached or does not allow it"),
    (70, "a fault of Catenum itself"),
    (130, "interrupted"),
)


class _Formatter(argparse.RawDescriptionHelpFormatter):
    """Asks the terminal for its width without the archive modules that ``shutil`` would load for
    it.
    """

    def __init__(self, prog: str) -> None:
        try:
            width = int(os.environ.get("COLUMNS") or os.get_terminal_size().columns)
        except (OSError, ValueError):
            width = 80
        super().__init__(prog, width=max(40, min(width, 110) - 2))


def build_parser(chosen: str | None) -> argparse.ArgumentParser:
    """The parser; only the chosen command's options are filled in."""
    parser = argparse.ArgumentParser(
        prog="catenum",
        description=(
            "Reproduce blocking and deadlocks, collect who waits for whom, and prove the fix."
        ),
        epilog=_FIRST_STEPS + "\n".join(f"  {code:<4} {what}" for code, what in EXIT_CODES),
        formatter_class=_Formatter,
    )
    parser.add_argument("--version", action="version", version=f"catenum {__version__}")
    commands = parser.add_subparsers(
        dest="command", metavar="COMMAND", title="commands", required=True
    )
    for name, line in COMMANDS.items():
        sub = commands.add_parser(
            name,
            help=line,
            description=line[0].upper() + line[1:] + ".",
            formatter_class=_Formatter,
        )
        if name == chosen:
            fill(sub, name)
    return parser


def fill(parser: argparse.ArgumentParser, name: str) -> None:
    """A command's own options, and its examples."""
    from catenum.cli.examples import EXAMPLES

    module = import_module(f"catenum.cli.commands.{name}")
    module.configure(parser)
    width = max(len(line) for line, _ in EXAMPLES[name])
    lines = "\n".join(f"  {line:<{width}}   {what}" for line, what in EXAMPLES[name])
    parser.epilog = f"examples:\n{lines}"
    parser.set_defaults(run=module.run, refuse=parser.error, known=option_names(parser))


def option_names(parser: argparse.ArgumentParser) -> list[str]:
    """The options that a command takes."""
    actions = parser._actions  # argparse has no public list of them
    return [name for action in actions for name in action.option_strings]


def _use_profiles(args: argparse.Namespace) -> None:
    """Raises InputError."""
    for file in getattr(args, "profile", ()):
        from catenum.engines.profiles import use_profile

        use_profile(file, trust=args.trust_profile)


def main(
    argv: list[str] | None = None, stdout: IO[str] | None = None, stderr: IO[str] | None = None
) -> int:
    """Run one command. Returns the exit code; argparse alone may raise SystemExit (2 for a wrong
    call, 0 for help).
    """
    argv = sys.argv[1:] if argv is None else argv
    out, err = stdout or sys.stdout, stderr or sys.stderr
    if "_ARGCOMPLETE" in os.environ:
        from catenum.cli.completing import complete

        complete(build_parser)
    first = next((word for word in argv if not word.startswith("-")), None)
    if first is not None and first not in COMMANDS:
        build_parser(None).error(_no_command(first))
    args, unknown = build_parser(first).parse_known_args(argv)
    words = getattr(args, getattr(args, "several", ""), None)
    if isinstance(words, list) and not any(word.startswith("-") for word in unknown):
        words += unknown  # argparse takes files before an option or behind it, not both
    elif unknown:
        # with the command's own usage, not the first page's
        args.refuse(f"unknown arguments: {' '.join(unknown)}{_no_option(unknown, args.known)}")

    from catenum.cli.exits import ExitCode, code_for
    from catenum.core.errors import CatenumError

    try:
        _use_profiles(args)
        return int(args.run(args, out, err))
    except CatenumError as error:
        from catenum.cli.secrets import without_secrets

        for problem in error.problems:
            print(f"catenum: {without_secrets(str(problem), argv)}", file=err)
        return code_for(error)
    except KeyboardInterrupt:
        print("catenum: interrupted", file=err)
        return ExitCode.INTERRUPTED
    except BrokenPipeError:
        # Whoever read our output has gone (``catenum play … | head``); nothing is left to say to
        # them.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return ExitCode.OK
    except OSError as error:
        if error.errno not in _NO_ROOM or error.filename is not None:
            return _fault(argv, err)
        print(f"catenum: the output cannot be written: {error.strerror}", file=err)
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return ExitCode.USAGE
    except Exception:
        return _fault(argv, err)


def _no_command(word: str) -> str:
    """What to say of a word that is no command."""
    from difflib import get_close_matches

    from catenum.cli.examples import GUESSED

    near = GUESSED.get(word.lower()) or next(iter(get_close_matches(word, COMMANDS, 1)), None)
    if near is None:
        return f"there is no command {word!r}; 'catenum --help' lists them"
    meant = f"did you mean 'catenum {near}'? It is there to {COMMANDS[near]}"
    return f"there is no command {word!r}; {meant}"


def _no_option(words: Sequence[str], known: Sequence[str]) -> str:
    """Which options may be meant instead of those that are unknown."""
    from difflib import get_close_matches

    from catenum.cli.examples import GUESSED_OPTIONS

    found = []
    for word in (word.partition("=")[0] for word in words if word.startswith("-")):
        guess = GUESSED_OPTIONS.get(word)
        near = [guess] if guess in known else get_close_matches(word, known, 1, 0.7)
        found += [f"{near[0]} instead of {word}"] if near else []
    return f"; did you mean {', '.join(found)}?" if found else ""


def _fault(argv: Sequence[str], err: IO[str]) -> int:
    """Say what went wrong in Catenum itself."""
    # Python would end with 1, which says that a conflict was found.
    import traceback

    from catenum.cli.exits import ExitCode
    from catenum.cli.secrets import without_secrets

    err.write(without_secrets(traceback.format_exc(), argv))
    print(
        "catenum: a fault of Catenum itself, not a result; please report it with the lines above",
        file=err,
    )
    return ExitCode.FAULT


def _interrupt(number: int, frame: FrameType | None) -> None:
    """The first signal interrupts, at once or as soon as what is held together is done.

    While its clean-up runs, further ones are ignored, so that nothing is left behind.
    """
    hold = sys.modules.get("catenum.lab.explore.hold")  # only a command that explores has loaded it
    if hold is not None and hold.held.defers_interrupt(partial(_interrupt, number, frame)):
        return
    for signal_number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(signal_number, signal.SIG_IGN)
    raise KeyboardInterrupt


def entry() -> NoReturn:
    """The console script."""
    for signal_number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(signal_number, _interrupt)
    try:
        code = main()
    except KeyboardInterrupt:  # before the command itself, or after it
        sys.stderr.write("catenum: interrupted\n")
        code = 130
    try:
        sys.stdout.flush()
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    except OSError as error:
        sys.stderr.write(f"catenum: the output cannot be written: {error.strerror}\n")
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        code = 2
    sys.exit(code)
