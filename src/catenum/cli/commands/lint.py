"""``catenum lint``: what is wrong with scenarios, without running them."""

from __future__ import annotations

import argparse
import json
import shlex
from pathlib import Path
from typing import IO

from catenum.api.scenarios import load, unsafe
from catenum.api.servers import refuse_uncontained
from catenum.cli import common
from catenum.cli.exits import ExitCode
from catenum.core.errors import InputError, Problem, TargetError
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.servers import NAMES
from catenum.engines.targets import DEFAULT, Target, open_engine
from catenum.lab.run.parsing import refused_by

FORMAT = "catenum-lint/1"


def configure(parser: argparse.ArgumentParser) -> None:
    """Options of ``lint``."""
    parser.set_defaults(several="scenarios")
    parser.add_argument(
        "scenarios", metavar="SCENARIO", nargs="+", help="scenario files, or names of samples"
    )
    parser.add_argument(
        "--server",
        choices=list(NAMES),
        default=DEFAULT.removeprefix("local:"),
        help="whose SQL the statements are in",
    )
    parser.add_argument(
        "--target",
        metavar="TARGET",
        help="the server that reads the SQL, in scratch space (default: a private one)",
    )
    parser.add_argument(
        "--text-only", action="store_true", help="do not have a server read the statements"
    )
    common.add_output_options(parser)


def run(args: argparse.Namespace, out: IO[str], err: IO[str]) -> ExitCode:
    """Read each, print every problem. Exit 2 if there is one."""
    files = {word: _read(word) for word in args.scenarios}
    target = _target(args, err)
    server = target.server if target is not None else args.server
    found: list[tuple[str, Problem]] = []
    sound: list[tuple[str, ScenarioFile]] = []
    for word, file in files.items():
        problems = (
            unsafe(file, server, outside=False, advice="Running it needs --outside.")
            if isinstance(file, ScenarioFile)
            else file
        )
        found.extend((word, problem) for problem in problems)
        if not problems and isinstance(file, ScenarioFile):
            sound.append((word, file))
    readers = _read_by_server(sound, target, found, args, err) if target is not None else {}
    refused = {word for word, _ in found}
    for word, _ in sound if not (args.json or args.quiet) else ():
        if word not in refused:
            by = f" (read by {readers[word]})" if word in readers else ""
            out.write(f"{word}: fine{by}\n")
    if sound and not found and not (args.json or args.quiet):
        out.write(f"next: catenum play {shlex.quote(sound[0][0])}\n")
    if args.json:
        value = {
            "format": FORMAT,
            "read_by": readers,
            "problems": [_plain(word, problem) for word, problem in found],
        }
        out.write(json.dumps(value, indent=2, ensure_ascii=False) + "\n")
    else:
        for _, problem in found:
            out.write(f"{problem}\n")
    return ExitCode.USAGE if found else ExitCode.OK


def _read(word: str) -> ScenarioFile | list[Problem]:
    try:
        return load(word)
    except InputError as error:
        return list(error.problems)


def _target(args: argparse.Namespace, err: IO[str]) -> Target | None:
    """The server that is to read the statements: the one asked for, or a private one."""
    if args.text_only:
        return None
    return common.target_of(args.target or f"local:{args.server}", err)


def _read_by_server(
    sound: list[tuple[str, ScenarioFile]],
    target: Target,
    found: list[tuple[str, Problem]],
    args: argparse.Namespace,
    err: IO[str],
) -> dict[str, str]:
    """By scenario, the server that read it; what that refuses is added to ``found``. Where there is
    no private server, that is said, and is no fault of the scenarios.
    """
    readers: dict[str, str] = {}
    tell = common.teller(err, args.quiet)
    for own, group in _by_settings(sound, target.server).items():
        try:
            with open_engine(target, tell, own=dict(own)) as connect:
                for word, file in group:
                    engine = connect()
                    try:
                        if not engine.sandboxed:
                            refuse_uncontained(file, target)
                        engine.make_scratch()
                        found.extend((word, one) for one in refused_by(engine, file))
                        readers[word] = f"{engine.info.server} {engine.info.version}"
                    except InputError as error:
                        found.extend((word, one) for one in error.problems)
                    finally:
                        engine.close()
        except TargetError as error:
            if args.target is not None:
                raise
            tell(f"Not read by a server: {error.problems[0].message}")
    return readers


def _by_settings(
    sound: list[tuple[str, ScenarioFile]], server: str
) -> dict[tuple[tuple[str, str], ...], list[tuple[str, ScenarioFile]]]:
    """The scenarios by what they ask of their private server, without those that have nothing for
    this kind of server.
    """
    groups: dict[tuple[tuple[str, str], ...], list[tuple[str, ScenarioFile]]] = {}
    for word, file in sound:
        if file.scenario.data.script_for(server).strip():
            own = tuple(sorted(file.scenario.settings_on(server).items()))
            groups.setdefault(own, []).append((word, file))
    return groups


def _plain(word: str, problem: Problem) -> dict[str, object]:
    place = problem.place
    return {
        "scenario": str(Path(word)),
        "line": place.line if place else 0,
        "column": place.column if place else 0,
        "message": problem.message,
        "advice": problem.advice,
    }
