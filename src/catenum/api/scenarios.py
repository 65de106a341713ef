"""Scenarios: read, changed by options, and checked before anything runs."""

from __future__ import annotations

import sys
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal, TypedDict

from catenum import samples
from catenum.api.files import SAMPLE_NAMES, read_file
from catenum.api.lengths import Duration, milliseconds
from catenum.api.listener import SILENT, Listener
from catenum.api.servers import Server, TargetSource, find_target
from catenum.core.errors import InputError, Place, Problem
from catenum.core.record.recording_file import from_json
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import ScenarioFile, read_scenario
from catenum.core.scenario.remedies import apply_remedies
from catenum.core.scenario.writing import as_text
from catenum.core.servers import LEVELS
from catenum.core.text import suggestion
from catenum.engines.targets import Target
from catenum.lab.run.safety import unsafe_statements

ScenarioSource = str | Path | ScenarioFile
Isolation = str | Sequence[str] | Mapping[str, str]
Timeouts = Literal["at once", "by order"]


class RunOptions(TypedDict, total=False):
    """What every function takes that runs a scenario.

    ``target``: as ``--target`` has it, or a server that ``connect`` holds; ``isolation``: a level
    for all transactions, or levels by their names; ``victim``: the transaction to become the
    deadlock victim, where the server allows it; ``timeouts``: when lock timeouts run out;
    ``statement_limit``: ends a statement that works longer than this (default 60 s); ``outside``:
    statements may reach beyond the scratch space; ``listener``: hears what goes on meanwhile.
    """

    target: TargetSource
    isolation: Isolation
    victim: str | None
    timeouts: Timeouts | None
    statement_limit: Duration
    outside: bool
    listener: Listener


@dataclass(frozen=True, kw_only=True)
class RunRequest:
    """A scenario that is ready to run: changed as the options say, checked, and where it runs.

    ``scenario`` is that of the target's server, ``ddl`` what a remedy adds to the data;
    ``changed``: by which option the scenario is another one than the file's, whose expectations
    then say nothing of it.
    """

    file: ScenarioFile
    scenario: Scenario
    ddl: tuple[str, ...]
    where: Target | Server
    target: Target
    order: tuple[str, ...] | None
    victim: str | None
    limit_ms: float
    outside: bool
    changed: str | None
    listener: Listener


def load(source: ScenarioSource) -> ScenarioFile:
    """The scenario in a file or within a recording, or the sample of that name. Raises
    InputError.
    """
    return source if isinstance(source, ScenarioFile) else scenario_with_text(source)[0]


def loads(text: str, name: str = "scenario") -> ScenarioFile:
    """The scenario in a text; errors call it by ``name``. Raises InputError."""
    return read_scenario(text.encode(), name)


def scenario_with_text(source: str | Path) -> tuple[ScenarioFile, str]:
    """The scenario that ``load`` gives, and its text. ``-`` is standard input."""
    path, word = Path(source), str(source)
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


def moves_of(order: str | Sequence[str] | None) -> tuple[str, ...] | None:
    """An order of moves, written as a text or as names."""
    return tuple(order.split() if isinstance(order, str) else order) if order else None


def request(
    source: ScenarioSource,
    options: RunOptions,
    *,
    order: str | Sequence[str] | None = None,
    remedy: str | None = None,
) -> RunRequest:
    """What is to be run, and where. Raises InputError for names that the scenario does not have and
    for statements that must not be run, TargetError where no server answers.
    """
    file = load(source)
    listener = options.get("listener", SILENT)
    asked = options.get("isolation", ())
    timeouts, victim = options.get("timeouts"), options.get("victim")
    moves = moves_of(order)
    scenario = _changed(file.scenario, asked, moves, timeouts, victim)
    where = where_of(file, options)
    target = target_of(file, {"target": where})
    outside = options.get("outside", False)
    refuse_unsafe(file, target.server, outside=outside)
    scenario, ddl = apply_remedies(scenario.for_server(target.server), remedy)
    given = {"--isolation": asked, "--remedy": remedy, "--victim": victim, "--timeouts": timeouts}
    return RunRequest(
        file=file,
        scenario=scenario,
        ddl=tuple(ddl),
        where=where,
        target=target,
        order=moves,
        victim=victim,
        limit_ms=milliseconds(options.get("statement_limit", 60_000.0)),
        outside=outside,
        changed=next((option for option, value in given.items() if value), None),
        listener=listener,
    )


def where_of(file: ScenarioFile, options: RunOptions) -> Target | Server:
    """Where the scenario runs. A recording carries the SQL of one kind of server only: without a
    target it runs on a private one of that kind.
    """
    asked = options.get("target")
    if isinstance(asked, Server):
        return asked
    if asked is None and file.recorded_on is not None:
        asked = f"local:{file.recorded_on}"
    return find_target(asked, options.get("listener", SILENT))


def target_of(file: ScenarioFile, options: RunOptions) -> Target:
    """The target of ``where_of``, also of a server that is held ready."""
    where = where_of(file, options)
    return where.target if isinstance(where, Server) else where


def _changed(
    scenario: Scenario,
    isolation: Isolation,
    order: tuple[str, ...] | None,
    timeouts: Timeouts | None,
    victim: str | None,
) -> Scenario:
    names = list(scenario.transactions)
    transactions = dict(scenario.transactions)
    for name, level in _levels_in(isolation):
        if name is not None and name not in transactions:
            raise _unknown("--isolation", name, names)
        if level not in LEVELS:
            raise InputError(
                f"--isolation: {level!r} is not a level", advice=suggestion(level, list(LEVELS))
            )
        for which in [name] if name is not None else names:
            transactions[which] = transactions[which].at_level(level)
    for name in order or ():
        if name not in transactions:
            raise _unknown("--order", name, names)
    if timeouts is not None:
        orders = {  # the option applies to each order of the file, too
            name: expected.model_copy(update={"timeouts": None})
            for name, expected in scenario.orders.items()
        }
        scenario = scenario.model_copy(update={"timeouts": timeouts, "orders": orders})
    for name in names if scenario.timeouts == "at once" else ():
        retry = transactions[name].retry
        most = transactions[name].moves * (1 + (retry.times if retry else 0))
        if (order or ()).count(name) > most:
            raise InputError(f"--order names {name!r} more often than its {most} moves")
    if victim and victim not in transactions:
        raise _unknown("--victim", victim, names)
    return scenario.model_copy(update={"transactions": transactions})


def _unknown(option: str, name: str, names: list[str]) -> InputError:
    return InputError(
        f"{option} names {name!r}, which is not a transaction", advice=suggestion(name, names)
    )


def _levels_in(isolation: Isolation) -> list[tuple[str | None, str]]:
    """Levels as they are given, one after another: for a transaction, or (None) for all."""
    if isinstance(isolation, Mapping):
        found: list[tuple[str | None, str]] = [(name, level) for name, level in isolation.items()]
    else:
        words = [isolation] if isinstance(isolation, str) else isolation
        found = [
            (name if sign else None, level)
            for name, sign, level in (word.rpartition("=") for word in words)
        ]
    return [(name, level.strip().lower().replace("-", " ")) for name, level in found]


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
