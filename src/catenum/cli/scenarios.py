"""What commands share that run a scenario: options, reading it, and an engine for the length of a
block.
"""

from __future__ import annotations

import argparse
import contextlib
import sys
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from pathlib import Path

from catenum import samples
from catenum.cli.common import SAMPLE_NAMES, duration_argument, read_file
from catenum.core.errors import InputError, Place, Problem, ScenarioFault, TargetError
from catenum.core.record.recording_file import from_json
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import ScenarioFile, read_scenario
from catenum.core.scenario.writing import as_text
from catenum.core.servers import LEVELS, rules_of
from catenum.core.text import suggestion
from catenum.engines.ports import Engine
from catenum.engines.targets import Connector, Target, open_engine
from catenum.lab.run.safety import uncontained_statements, unsafe_statements


def add_run_options(parser: argparse.ArgumentParser) -> None:
    """What every command that runs a scenario takes."""
    parser.add_argument(
        "scenario", metavar="SCENARIO", help="a scenario file, or the name of a sample"
    )
    parser.add_argument(
        "--target",
        metavar="TARGET",
        help=(
            "local:postgresql (default), a URL, or a short name from catenum.toml; CATENUM_TARGET"
            " sets the default"
        ),
    )
    add_limit_option(parser)
    add_outside_option(parser)


def add_limit_option(parser: argparse.ArgumentParser) -> None:
    """How long a statement may work."""
    parser.add_argument(
        "--statement-limit",
        type=duration_argument,
        default=60_000,
        metavar="TIME",
        help="end a statement that works longer than this, such as 10s (default 60s)",
    )


def add_outside_option(parser: argparse.ArgumentParser) -> None:
    """Whether statements may reach beyond the scratch space."""
    parser.add_argument(
        "--outside",
        action="store_true",
        help=(
            "let statements reach beyond the run's scratch space: YOUR tables are then read and"
            " changed"
        ),
    )


def add_play_options(
    parser: argparse.ArgumentParser, *, schedule: bool = True, each: bool = False
) -> None:
    """What changes the transactions, and the schedule where there is one."""
    parser.set_defaults(order=None, victim=None)
    _add_isolation(parser, each=each)
    parser.add_argument(
        "--timeouts",
        choices=["at-once", "by-order"],
        help=(
            "when lock timeouts run out: before the next move (the default), or where the order"
            " names the transaction again while it waits"
        ),
    )
    if not schedule:
        return
    parser.add_argument(
        "--order",
        metavar="MOVES",
        help="the order of moves, such as 'early late early late', instead of the scenario's",
    )
    parser.add_argument(
        "--victim",
        metavar="NAME",
        help="the transaction to become the deadlock victim, if the server allows it",
    )


def _add_isolation(parser: argparse.ArgumentParser, *, each: bool) -> None:
    every = "; 'each': every level of the server in turn" if each else ""
    parser.add_argument(
        "--isolation",
        action="append",
        default=[],
        metavar="[NAME=]LEVEL",
        help="an isolation level for all transactions, or for one; may be repeated" + every,
    )


def load_scenario(word: str) -> ScenarioFile:
    """The scenario in a file or within a recording, or the sample of that name. Raises
    InputError.
    """
    return scenario_with_text(word)[0]


def scenario_with_text(word: str) -> tuple[ScenarioFile, str]:
    """The same, and its text. ``-`` is standard input."""
    path = Path(word)
    if word == "-":
        data, word = sys.stdin.buffer.read(), "standard input"
    elif not path.exists() and word in SAMPLE_NAMES:
        data, word = samples.text(word).encode(), f"sample:{word}"
    else:
        data = read_file(path)
    if data[:1] == b"{" and b'"catenum-recording/' in data[:4_000]:
        return _recorded(data, word)
    return read_scenario(data, word), data.decode("utf-8", "backslashreplace")


def _recorded(data: bytes, word: str) -> tuple[ScenarioFile, str]:
    """The scenario that a recording carries."""
    recording = from_json(data, word)
    if recording.definition is None:
        advice = f"'catenum restage {word}' makes a scenario of its deadlock."
        raise InputError("this recording carries no scenario", place=Place(word), advice=advice)
    text = as_text(recording.definition)
    return replace(read_scenario(text.encode(), word), recorded_on=recording.target.server), text


def changed_by_options(
    file: ScenarioFile, args: argparse.Namespace
) -> tuple[Scenario, tuple[str, ...] | None]:
    """The scenario with ``--isolation`` applied, and the order asked for. Raises InputError for
    unknown names.
    """
    scenario = file.scenario
    names = list(scenario.transactions)
    transactions = dict(scenario.transactions)
    for word in args.isolation:
        name, separator, level = word.rpartition("=")
        if separator and name not in transactions:
            raise InputError(
                f"--isolation names {name!r}, which is not a transaction",
                advice=suggestion(name, names),
            )
        level = level.strip().lower().replace("-", " ")
        if level not in LEVELS:
            raise InputError(
                f"--isolation: {level!r} is not a level", advice=suggestion(level, list(LEVELS))
            )
        for which in [name] if separator else names:
            transactions[which] = transactions[which].at_level(level)
    order = tuple(args.order.split()) if args.order else None
    for name in order or ():
        if name not in transactions:
            raise InputError(
                f"--order names {name!r}, which is not a transaction",
                advice=suggestion(name, names),
            )
    if args.timeouts is not None:
        orders = {  # the option applies to each order of the file, too
            name: expected.model_copy(update={"timeouts": None})
            for name, expected in scenario.orders.items()
        }
        timeouts = args.timeouts.replace("-", " ")
        scenario = scenario.model_copy(update={"timeouts": timeouts, "orders": orders})
    for name in names if scenario.timeouts == "at once" else ():
        retry = transactions[name].retry
        most = transactions[name].moves * (1 + (retry.times if retry else 0))
        if (order or ()).count(name) > most:
            raise InputError(f"--order names {name!r} more often than its {most} moves")
    if args.victim and args.victim not in transactions:
        raise InputError(
            f"--victim names {args.victim!r}, which is not a transaction",
            advice=suggestion(args.victim, names),
        )
    return scenario.model_copy(update={"transactions": transactions}), order


def unsafe(file: ScenarioFile, server: str, *, outside: bool, advice: str) -> list[Problem]:
    """Statements that end their transaction by themselves, and those that reach beyond the scratch
    space.

    ``outside`` allows the latter; ``advice`` says what to do about them.
    """
    return [
        Problem(found.words, file.place(*found.path), advice if found.beyond else None)
        for found in unsafe_statements(file.scenario, server)
        if not (found.beyond and outside)
    ]


def refuse_unsafe(file: ScenarioFile, server: str, *, outside: bool) -> None:
    """Raises InputError where a statement must not be run."""
    advice = (
        "Without a schema a name means the run's own table; --outside allows what this does to YOUR"
        " server."
    )
    problems = unsafe(file, server, outside=outside, advice=advice)
    if problems:
        raise InputError.from_problems(problems)


def refuse_uncontained(file: ScenarioFile, target: Target) -> None:
    """Raises InputError for statements that only a wall would let run: it is not certain what they
    reach.
    """
    advice = (
        f"Here they have all the rights of your login. Use local:{target.server}, or allow it with"
        f" --outside{rules_of(target.server).advice.wall_advice}."
    )
    found = uncontained_statements(file.scenario, target.server)
    problems = [Problem(one.words, file.place(*one.path), advice) for one in found]
    if problems:
        raise InputError.from_problems(problems)


def recorded_target(file: ScenarioFile) -> str | None:
    """A private server of the kind on which a recording was made, since it carries the SQL of that
    kind only.
    """
    return f"local:{file.recorded_on}" if file.recorded_on is not None else None


def refuse_crowd(file: ScenarioFile, engine: Engine) -> None:
    """Raises TargetError where the server does not let so many sessions in: before the first of
    them begins.
    """
    count, left = (len(file.scenario.connections), engine.connections_left())
    if count > left:
        raise TargetError(
            f"{engine.info.url}: the scenario's transactions take {count} connections, and the"
            f" server has {left} left (max_connections)",
            advice="Give the scenario fewer transactions, or the server more connections.",
        )


@contextlib.contextmanager
def server_for(
    target: Target,
    tell: Callable[[str], None],
    file: ScenarioFile | None = None,
    *,
    outside: bool = False,
    more: Mapping[str, str] | None = None,
) -> Iterator[tuple[Connector, Engine]]:
    """What connects to the target, and one engine with scratch space made, which is gone when the
    block ends.

    Raises InputError where the server keeps no wall around that space, and ``file`` has statements
    of which it is not certain that they stay within; ``outside`` allows those. ``more``: settings
    that a private server must have besides those of the scenario.
    """
    own = file.scenario.settings_on(target.server) if file is not None else {}
    own = {**own, **(more or {})}
    with open_engine(target, tell, sandboxed=not outside, own=own) as connect:
        engine: Engine = connect()
        try:
            if file is not None and not outside and not engine.sandboxed:
                refuse_uncontained(file, target)
            for name in engine.make_scratch():
                tell(f"Dropped the scratch space {name}, left by a killed run.")
            if file is not None:
                refuse_crowd(file, engine)
            try:
                yield connect, engine
            except ScenarioFault as fault:
                if file is None:
                    raise
                raise InputError(fault.problems[0].message, place=file.place("data")) from fault
        finally:
            engine.close()


@contextlib.contextmanager
def engine_for(
    target: Target,
    tell: Callable[[str], None],
    file: ScenarioFile | None = None,
    *,
    outside: bool = False,
    more: Mapping[str, str] | None = None,
) -> Iterator[Engine]:
    """An engine with scratch space made; both are gone when the block ends, however it ends. Raises
    as server_for.
    """
    with server_for(target, tell, file, outside=outside, more=more) as (_, engine):
        yield engine
